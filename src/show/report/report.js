// The page's own behaviour. What was recorded stands in the element `data`; numbers are packed (see report_data.hpp) and taken apart when they are asked for.
"use strict";
(async function () {
const data = JSON.parse(document.getElementById("data").textContent);
const runs = data.runs, several = runs.length > 1;
const colours = data.colours, dashes = [null, [14, 5], [14, 4, 4, 4], [6, 3], [22, 4, 8, 4], [4, 3]];
const byId = id => document.getElementById(id);
function make(tag, attributes, ...children) {
    const e = document.createElement(tag);
    for (const [k, v] of Object.entries(attributes || {})) {
        if (k === "class") e.className = v;
        else if (k.startsWith("on")) e.addEventListener(k.slice(2), v);
        else if (v !== false && v !== null && v !== undefined) e.setAttribute(k, v === true ? "" : v);
    }
    for (const c of children) if (c !== null && c !== undefined) e.append(c);
    return e;
}
const digits = v => v === null || v === undefined || Number.isNaN(v) ? "-" : Math.abs(v) >= 1e5 || (v !== 0 && Math.abs(v) < 1e-3) ? v.toExponential(4) : String(+v.toPrecision(6));

// --- numbers
async function unpack(text) {
    const bytes = Uint8Array.from(atob(text), c => c.charCodeAt(0));
    const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate"));
    return new Uint8Array(await new Response(stream).arrayBuffer());
}
function planes(bytes, at, n, width) {
    const out = new Uint8Array(n * width);
    for (let b = 0; b < width; ++b) for (let i = 0; i < n; ++i) out[i * width + b] = bytes[at + b * n + i];
    return out.buffer;
}
for (const run of runs) {
    run.bytes = await unpack(run.packed);
    run.packed = null;
    run.time = new Float64Array(planes(run.bytes, 0, run.rows, 8));
    run.byName = new Map(run.columns.map(c => [c.name, c]));
    run.cache = new Map();
    run.shown = true;
}
// Points of a quantity: times and values in the unit it was declared in.
function series(run, name) {
    const column = run.byName.get(name);
    if (!column) return null;
    if (run.cache.has(column.store)) return run.cache.get(column.store);
    const store = run.stores[column.store], n = store.n;
    const t = new Float64Array(n);
    let at = store.rows, row = 0;
    for (let i = 0; i < n; ++i) {
        let step = 0, shift = 0, byte;
        do { byte = run.bytes[at++]; step |= (byte & 127) << shift; shift += 7; } while (byte & 128);
        row += step;
        t[i] = run.time[row];
    }
    const s = { t, v: new Float32Array(planes(run.bytes, store.values, n, 4)) };
    run.cache.set(column.store, s);
    return s;
}
function valueAt(s, t) {
    let low = 0, high = s.t.length;
    while (low < high) { const mid = (low + high) >> 1; if (s.t[mid] <= t) low = mid + 1; else high = mid; }
    if (low === 0) return s.v[0];
    if (low === s.t.length) return s.v[low - 1];
    const share = (t - s.t[low - 1]) / (s.t[low] - s.t[low - 1]);
    return s.v[low - 1] + share * (s.v[low] - s.v[low - 1]);
}
// From the unit in which a column is kept to another one: value * a + b.
function conversion(column, unit) {
    if (!unit || unit === column.unit) return [1, 0];
    const to = (data.units[column.unit] || []).find(u => u[0] === unit);
    return to ? [column.scale / to[1], (column.offset - to[2]) / to[1]] : [1, 0];
}
const bracketed = unit => "[" + (unit === "" || unit === "1" ? "-" : unit) + "]";
const anyColumn = name => { for (const run of runs) if (run.byName.has(name)) return run.byName.get(name); return null; };

// --- linked time axes, the cursor, marks of events
const panels = [], xyPanels = [];
const from = Math.min(...runs.map(r => r.time[0])), to = Math.max(...runs.map(r => r.time[r.rows - 1]));
let frame = [from, to], cursor = null, following = false;
const marked = new Map();
function show(window) {
    let [a, b] = window;
    const least = (to - from) * 1e-9;
    if (b - a < least) b = a + least;
    frame = [Math.max(a, from), Math.min(b, to)];
    if (!(frame[1] > frame[0])) frame = [from, to];
    if (following) return;
    following = true;
    for (const p of panels) p.graph.updateOptions({ dateWindow: frame.slice() });
    following = false;
    byId("frame").textContent = digits(frame[0]) + " s to " + digits(frame[1]) + " s";
    placeCursor();
}
function zoom(factor) {
    const middle = cursor !== null && cursor > frame[0] && cursor < frame[1] ? cursor : (frame[0] + frame[1]) / 2;
    show([middle - (middle - frame[0]) * factor, middle + (frame[1] - middle) * factor]);
}
function pan(share) {
    const width = frame[1] - frame[0];
    const a = Math.min(Math.max(frame[0] + share * width, from), to - width);
    show([a, a + width]);
}
function placeCursor() {
    for (const p of panels) p.placeCursor();
    for (const p of xyPanels) p.placeCursor();
}
function setCursor(t) {
    cursor = t;
    placeCursor();
    if (motion) motion.at(t, true);
    byId("cursor").textContent = t === null ? "" : "at " + digits(t) + " s";
}
let motion = null;

// --- panels
const dashOf = (k, r) => dashes[(several ? r : k) % dashes.length];
function sample(colour, dash) {
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("width", 28);
    svg.setAttribute("height", 8);
    const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
    for (const [k, v] of Object.entries({ x1: 0, y1: 4, x2: 28, y2: 4, stroke: colour, "stroke-width": 2, "stroke-dasharray": dash ? dash.join(" ") : "" })) line.setAttribute(k, v);
    svg.append(line);
    return svg;
}
class Panel {
    constructor(host, curves, close) {
        this.curves = curves.filter(c => anyColumn(c.path));
        this.close = close;
        this.box = make("div", { class: "panel" });
        this.head = make("div", { class: "head" });
        this.plot = make("div", { class: "plot" });
        this.line = make("div", { class: "cursor" });
        this.box.append(this.head, this.plot, this.line);
        host.append(this.box);
        this.build();
        panels.push(this);
    }
    unitOf(curve) { return curve.unit || anyColumn(curve.path).unit; }
    build() {
        this.lines = [];
        this.units = [];
        this.curves.forEach((curve, k) => {
            const unit = this.unitOf(curve);
            if (!this.units.includes(unit)) this.units.push(unit);
            runs.forEach((run, r) => {
                const s = run.shown ? series(run, curve.path) : null;
                if (!s) return;
                const column = run.byName.get(curve.path), [a, b] = conversion(column, unit);
                this.lines.push({ s, a, b, unit, colour: colours[(curve.colour ?? k) % colours.length], dash: dashOf(k, r), label: curve.path + (several ? " (" + run.name + ")" : ""), curve });
            });
        });
        const rows = this.merged();
        const labels = ["time"], options = {};
        this.lines.forEach((l, k) => {
            const key = k + ": " + l.label;
            labels.push(key);
            options[key] = { axis: this.units.indexOf(l.unit) === 1 ? "y2" : "y", color: l.colour, strokePattern: l.dash };
        });
        if (this.graph) { this.graph.destroy(); this.graph = null; }
        this.graph = new Dygraph(this.plot, rows.length ? rows : [[from, null]], {
            labels: labels.length > 1 ? labels : ["time", "-"], series: options, dateWindow: frame.slice(), legend: "never", connectSeparatedPoints: true, animatedZooms: false,
            strokeWidth: 1.6, highlightCircleSize: 0, gridLineColor: "#dfe3e6", axisLineColor: "#7a7f85", rightGap: 12, yRangePad: 10, labelsKMB: false,
            ylabel: bracketed(this.units[0] || ""), y2label: this.units.length > 1 ? bracketed(this.units[1]) : null, xlabel: "time [s]", xLabelHeight: 16,
            axes: { x: { axisLabelFormatter: v => digits(+v), valueFormatter: v => digits(v) }, y: { axisLabelWidth: 62 }, y2: { axisLabelWidth: 62, drawGrid: false } },
            underlayCallback: (canvas, area, graph) => this.marks(canvas, area, graph),
            drawCallback: (graph, initial) => { if (!initial && !following) show(graph.xAxisRange()); },
            highlightCallback: (event, x) => setCursor(graphTime(this.graph, event, x)),
        });
        this.legend();
        this.placeCursor();
    }
    // One row a time: what has no point there is left open, and joined by a line.
    merged() {
        const at = this.lines.map(() => 0), rows = [];
        for (;;) {
            let t = Infinity;
            this.lines.forEach((l, k) => { if (at[k] < l.s.t.length && l.s.t[at[k]] < t) t = l.s.t[at[k]]; });
            if (t === Infinity) return rows;
            const row = new Array(this.lines.length + 1);
            row[0] = t;
            this.lines.forEach((l, k) => { row[k + 1] = at[k] < l.s.t.length && l.s.t[at[k]] === t ? l.s.v[at[k]++] * l.a + l.b : null; });
            rows.push(row);
        }
    }
    legend() {
        this.head.textContent = "";
        const two = this.units.length > 1;
        for (const l of this.lines) {
            l.value = make("span", { class: "value" });
            const side = two ? (this.units.indexOf(l.unit) === 1 ? " (right)" : " (left)") : "";
            this.head.append(make("span", { class: "entry" }, sample(l.colour, l.dash), l.label + side, l.value));
        }
        const right = make("span", { class: "right" });
        for (const unit of this.units) {
            const others = data.units[unit] || [];
            if (others.length < 2) continue;
            const select = make("select", { title: "unit", "aria-label": "unit of " + unit, onchange: e => {
                for (const c of this.curves) if (this.unitOf(c) === unit) c.unit = e.target.value;
                this.build();
            } });
            for (const [name] of others) select.append(make("option", { value: name, selected: name === unit }, name));
            right.append(select);
        }
        if (this.close) right.append(make("button", { onclick: this.close, title: "remove this panel" }, "remove"));
        this.head.append(right);
    }
    marks(canvas, area, graph) {
        canvas.save();
        canvas.strokeStyle = data.mark;
        canvas.lineWidth = 1;
        canvas.setLineDash([2, 3]);
        for (const times of marked.values())
            for (const t of times) {
                const x = graph.toDomXCoord(t);
                if (x < area.x || x > area.x + area.w) continue;
                canvas.beginPath();
                canvas.moveTo(x, area.y);
                canvas.lineTo(x, area.y + area.h);
                canvas.stroke();
            }
        canvas.restore();
    }
    placeCursor() {
        const inside = cursor !== null && cursor >= frame[0] && cursor <= frame[1];
        this.line.style.display = inside ? "block" : "none";
        if (inside) {
            const area = this.graph.getArea();
            this.line.style.left = this.plot.offsetLeft + this.graph.toDomXCoord(cursor) + "px";
            this.line.style.top = this.plot.offsetTop + area.y + "px";
            this.line.style.height = area.h + "px";
        }
        for (const l of this.lines) l.value.textContent = cursor === null ? "" : digits(valueAt(l.s, cursor) * l.a + l.b) + " " + (l.unit === "1" || l.unit === "bool" ? "" : l.unit);
    }
    redraw() { this.graph.updateOptions({}); }
    remove() {
        panels.splice(panels.indexOf(this), 1);
        this.graph.destroy();
        this.box.remove();
    }
}
function graphTime(graph, event, x) {
    const t = graph.toDataXCoord(graph.eventToDomCoords(event)[0]);
    return Number.isFinite(t) ? Math.min(Math.max(t, from), to) : x;
}
// One quantity against another one, the place at the cursor's time as a dot; drag to zoom, double click for the whole.
class XYPanel {
    constructor(host, curves, against) {
        this.box = make("div", { class: "panel" });
        const holder = make("div", { class: "xy" }), canvas = make("canvas");
        holder.append(canvas);
        const head = make("div", { class: "head" });
        this.box.append(head, holder);
        host.append(this.box);
        const datasets = [];
        this.pairs = [];
        curves.filter(c => anyColumn(c.path)).forEach((c, k) => runs.forEach((run, r) => {
            const x = series(run, against.path), y = series(run, c.path);
            if (!x || !y) return;
            const cx = conversion(run.byName.get(against.path), against.unit), cy = conversion(run.byName.get(c.path), c.unit);
            const times = Array.from(new Set([...x.t, ...y.t])).sort((a, b) => a - b);
            const colour = colours[k % colours.length];
            const label = c.path + (several ? " (" + run.name + ")" : "");
            head.append(make("span", { class: "entry" }, sample(colour, dashOf(k, r)), label));
            datasets.push({ label, data: times.map(t => ({ x: valueAt(x, t) * cx[0] + cx[1], y: valueAt(y, t) * cy[0] + cy[1] })),
                showLine: true, pointRadius: 0, borderColor: colour, backgroundColor: colour, borderWidth: 1.6, borderDash: dashOf(k, r) || [] });
            this.pairs.push({ x, y, cx, cy, colour });
        }));
        const unit = c => bracketed(c.unit || anyColumn(c.path).unit);
        datasets.push({ label: "", data: [], pointRadius: 5, backgroundColor: data.mark, borderColor: data.mark });
        this.chart = new Chart(canvas, { type: "scatter", data: { datasets }, options: { animation: false, maintainAspectRatio: false, interaction: { mode: "nearest", intersect: false },
            scales: { x: { bounds: "data", title: { display: true, text: against.path + " " + unit(against) } }, y: { title: { display: true, text: unit(curves[0]) } } },
            plugins: { legend: { display: false } } } });
        let start = null;
        const value = e => ({ x: this.chart.scales.x.getValueForPixel(e.offsetX), y: this.chart.scales.y.getValueForPixel(e.offsetY) });
        canvas.addEventListener("mousedown", e => { start = e; });
        canvas.addEventListener("mouseup", e => {
            if (start && Math.abs(e.offsetX - start.offsetX) > 8 && Math.abs(e.offsetY - start.offsetY) > 8) {
                const a = value(start), b = value(e), scales = this.chart.options.scales;
                [scales.x.min, scales.x.max] = [Math.min(a.x, b.x), Math.max(a.x, b.x)];
                [scales.y.min, scales.y.max] = [Math.min(a.y, b.y), Math.max(a.y, b.y)];
                this.chart.update();
            }
            start = null;
        });
        canvas.addEventListener("dblclick", () => {
            for (const axis of ["x", "y"]) { delete this.chart.options.scales[axis].min; delete this.chart.options.scales[axis].max; }
            this.chart.update();
        });
        xyPanels.push(this);
    }
    placeCursor() {
        const dot = this.chart.data.datasets[this.chart.data.datasets.length - 1];
        dot.data = cursor === null ? [] : this.pairs.map(p => ({ x: valueAt(p.x, cursor) * p.cx[0] + p.cx[1], y: valueAt(p.y, cursor) * p.cy[0] + p.cy[1] }));
        this.chart.update("none");
    }
}

// --- figures of the scenario
for (const figure of data.figures) {
    const host = byId("figures");
    host.append(make("h3", {}, figure.title));
    let colour = 0;
    for (const panel of figure.panels) {
        const curves = panel.curves.map(c => ({ path: c.path, unit: c.unit, colour: colour++ }));
        if (!curves.some(c => anyColumn(c.path))) host.append(make("p", { class: "soft" }, "not recorded: " + curves.map(c => c.path).join(", ")));
        else if (panel.against.path && panel.against.path !== "time") new XYPanel(host, curves, panel.against);
        else new Panel(host, curves);
    }
}

// --- everything that was recorded, to choose from
const names = [];
for (const run of runs) for (const c of run.columns) if (c.name !== "time" && !names.includes(c.name)) names.push(c.name);
names.sort();
const own = byId("own");
let chosen = null;
function pickList() {
    const words = byId("search").value.toLowerCase().split(/\s+/).filter(w => w);
    const list = byId("list");
    list.textContent = "";
    let n = 0;
    for (const name of names) {
        const column = anyColumn(name), text = (name + " " + column.doc + " " + column.unit).toLowerCase();
        if (!words.every(w => text.includes(w))) continue;
        if (++n > 2000) break;
        const box = make("input", { type: "checkbox", onchange: e => pick(name, e.target.checked) });
        box.checked = chosen !== null && chosen.curves.some(c => c.path === name);
        list.append(make("label", { title: [column.doc, column.origin].filter(t => t).join("\n"), "data-name": name }, box, name, make("span", { class: "unit" }, bracketed(column.unit))));
    }
    byId("found").textContent = n + " of " + names.length;
}
function pick(name, on) {
    if (chosen === null) {
        if (!on) return;
        const panel = new Panel(own, [{ path: name, colour: 0 }], () => { panel.remove(); if (chosen === panel) chosen = null; pickList(); });
        chosen = panel;
    } else {
        chosen.curves = chosen.curves.filter(c => c.path !== name);
        if (on) chosen.curves.push({ path: name, colour: 1 + Math.max(-1, ...chosen.curves.map(c => c.colour)) });
        if (chosen.curves.length === 0) { chosen.remove(); chosen = null; } else chosen.build();
    }
    placeCursor();
}
byId("search").addEventListener("input", pickList);
byId("fresh").addEventListener("click", () => { chosen = null; pickList(); });
pickList();

// --- runs on and off
if (several) {
    runs.forEach((run, r) => {
        const box = make("input", { type: "checkbox", checked: true, onchange: e => { run.shown = e.target.checked; for (const p of panels) p.build(); placeCursor(); } });
        byId("runs").append(make("label", { class: "entry" }, box, sample("#333333", dashes[r % dashes.length]), run.name));
    });
}

// --- measures over variants
if (several && data.measures.length > 0) {
    const select = byId("measure"), palette = runs.map((_, r) => colours[r % colours.length]);
    for (const m of data.measures) select.append(make("option", { value: m.name }, m.name));
    const bars = new Chart(byId("bars"), { type: "bar", data: { labels: runs.map(r => r.name), datasets: [{ data: [], backgroundColor: palette }] }, options: { animation: false, maintainAspectRatio: false,
        plugins: { legend: { display: false } }, scales: { y: { beginAtZero: true, title: { display: true, text: "" } } } } });
    const draw = () => {
        const m = data.measures.find(x => x.name === select.value);
        bars.data.datasets[0].data = m.values;
        bars.options.scales.y.title.text = m.name + " " + bracketed(m.unit);
        bars.update();
    };
    select.addEventListener("change", draw);
    draw();
    const usable = data.measures.filter(m => m.values.every(v => v !== null) && Math.max(...m.values.map(Math.abs)) > 0);
    if (usable.length > 2)
        new Chart(byId("radar"), { type: "radar", data: { labels: usable.map(m => m.name), datasets: runs.map((run, r) => ({ label: run.name, data: usable.map(m => m.values[r] / Math.max(...m.values.map(Math.abs))),
            borderColor: palette[r], backgroundColor: palette[r] + "22", borderDash: dashes[r % dashes.length] || [], pointRadius: 3 })) }, options: { animation: false, maintainAspectRatio: false,
            plugins: { legend: { labels: { usePointStyle: true, pointStyle: "line", pointStyleWidth: 40 } }, tooltip: { callbacks: { label: i => i.dataset.label + ": " + digits(usable[i.dataIndex].values[i.datasetIndex]) + " " + usable[i.dataIndex].unit } } },
            scales: { r: { suggestedMin: 0, suggestedMax: 1, ticks: { stepSize: 0.25, callback: v => Math.round(100 * v) + " %", backdropColor: "transparent" } } } } });
}

// --- events
for (const box of document.querySelectorAll("input[data-event]"))
    box.addEventListener("change", () => {
        const [r, k] = box.dataset.event.split(":").map(Number);
        if (box.checked) marked.set(box.dataset.event, runs[r].events[k]);
        else marked.delete(box.dataset.event);
        for (const p of panels) p.redraw();
    });
byId("all-params")?.addEventListener("change", e => { for (const row of document.querySelectorAll("tr.kept")) row.hidden = !e.target.checked; });

// --- the moving picture
class Motion {
    constructor(run) {
        this.canvas = byId("picture");
        this.slider = byId("moment");
        this.clock = byId("clock");
        this.take(run);
        this.slider.addEventListener("input", () => setCursor(this.time0() + this.slider.value / 1000 * (this.time1() - this.time0())));
        byId("play").addEventListener("click", () => this.play());
        window.addEventListener("resize", () => this.draw());
    }
    time0() { return this.run.time[0]; }
    time1() { return this.run.time[this.run.rows - 1]; }
    take(run) {
        this.run = run;
        this.t = this.time0();
        const read = q => { if (typeof q === "number") return () => q; const s = series(run, q), c = run.byName.get(q); return t => valueAt(s, t) * c.scale + c.offset; };
        this.shapes = run.shapes.map(s => ({ ...s, at: s.points.map(p => p.map(read)) }));
        const box = [Infinity, Infinity, -Infinity, -Infinity];
        this.highest = 0;
        for (const s of this.shapes)
            for (let k = 0; k <= 200; ++k) {
                const t = this.time0() + k / 200 * (this.time1() - this.time0());
                if (s.shape === "level") { this.highest = Math.max(this.highest, s.at[0][0](t)); continue; }
                for (const p of s.at) {
                    const x = p[0](t), y = p[1](t);
                    box[0] = Math.min(box[0], x); box[1] = Math.min(box[1], y); box[2] = Math.max(box[2], x); box[3] = Math.max(box[3], y);
                }
            }
        this.box = box;
    }
    at(t, quiet) {
        this.t = Math.min(Math.max(t ?? this.time0(), this.time0()), this.time1());
        if (quiet) this.slider.value = 1000 * (this.t - this.time0()) / (this.time1() - this.time0());
        this.draw();
    }
    play() {
        if (this.timer) { clearInterval(this.timer); this.timer = null; byId("play").textContent = "play"; return; }
        byId("play").textContent = "pause";
        let last = performance.now();
        if (this.t >= this.time1()) this.t = this.time0();
        this.timer = setInterval(() => {
            const now = performance.now(), speed = Number(byId("speed").value);
            const t = this.t + (now - last) / 1000 * speed;
            last = now;
            setCursor(Math.min(t, this.time1()));
            if (t >= this.time1()) this.play();
        }, 33);
    }
    draw() {
        const canvas = this.canvas, width = canvas.clientWidth, height = canvas.clientHeight, ratio = window.devicePixelRatio || 1;
        if (canvas.width !== width * ratio) { canvas.width = width * ratio; canvas.height = height * ratio; }
        const c = canvas.getContext("2d");
        c.setTransform(ratio, 0, 0, ratio, 0, 0);
        c.clearRect(0, 0, width, height);
        const levels = this.shapes.filter(s => s.shape === "level"), room = 74 * levels.length, planar = this.shapes.some(s => s.shape !== "level");
        const wide = Math.max(this.box[2] - this.box[0], 1e-9), tall = Math.max(this.box[3] - this.box[1], 1e-9);
        const scale = Math.min((width - 70 - room) / wide, (height - 70) / tall);
        const x0 = 35 + (width - 70 - room - scale * wide) / 2 - scale * this.box[0], y0 = height - 35 - (height - 70 - scale * tall) / 2 + scale * this.box[1];
        const place = p => [x0 + scale * p[0](this.t), y0 - scale * p[1](this.t)];
        const line = (a, b, w, colour) => { c.strokeStyle = colour; c.lineWidth = w; c.lineCap = "round"; c.beginPath(); c.moveTo(...a); c.lineTo(...b); c.stroke(); };
        const draws = {
            link: s => line(place(s.at[0]), place(s.at[1]), 5, "#9fb2c4"),
            bar: s => line(place(s.at[0]), place(s.at[1]), 9, "#6d8fb0"),
            cylinder: s => {
                const a = place(s.at[0]), b = place(s.at[1]), n = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1, least = s.shortest * scale * 0.92;
                const u = [(b[0] - a[0]) / n, (b[1] - a[1]) / n];
                line(a, b, 4, "#8b949c");
                c.lineCap = "butt";
                c.strokeStyle = "#d9772b"; c.lineWidth = 12; c.beginPath(); c.moveTo(...a); c.lineTo(a[0] + u[0] * least, a[1] + u[1] * least); c.stroke();
            },
            spring: s => {
                const a = place(s.at[0]), b = place(s.at[1]), n = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1, u = [(b[0] - a[0]) / n, (b[1] - a[1]) / n];
                c.strokeStyle = "#2f8f5b"; c.lineWidth = 2; c.beginPath(); c.moveTo(...a);
                for (let k = 1; k < 12; ++k) { const side = (k % 2 ? 7 : -7), d = n * k / 12; c.lineTo(a[0] + u[0] * d - u[1] * side, a[1] + u[1] * d + u[0] * side); }
                c.lineTo(...b); c.stroke();
            },
            body: s => { const [x, y] = place(s.at[0]); c.fillStyle = "#14508c"; c.beginPath(); c.arc(x, y, 9, 0, 7); c.fill(); },
            pivot: s => { const [x, y] = place(s.at[0]); c.fillStyle = "#ffffff"; c.strokeStyle = "#22282e"; c.lineWidth = 2; c.beginPath(); c.arc(x, y, 5, 0, 7); c.fill(); c.stroke(); },
            slider: s => { const [x, y] = place(s.at[0]); c.fillStyle = "#b8930f"; c.fillRect(x - 10, y - 6, 20, 12); },
            ground: s => { const [x, y] = place(s.at[0]); c.strokeStyle = "#7a7f85"; c.lineWidth = 1.5; c.beginPath(); for (let k = -2; k <= 2; ++k) { c.moveTo(x + 6 * k, y + 7); c.lineTo(x + 6 * k - 5, y + 14); } c.moveTo(x - 15, y + 7); c.lineTo(x + 15, y + 7); c.stroke(); },
        };
        for (const shape of ["ground", "link", "bar", "cylinder", "spring", "body", "slider", "pivot"])
            for (const s of this.shapes) if (s.shape === shape) draws[shape](s);
        c.font = "12px sans-serif";
        levels.forEach((s, k) => {
            const left = planar ? width - room + 74 * k + 8 : 35 + 110 * k, h = height - 70, level = s.at[0][0](this.t);
            c.strokeStyle = "#7a7f85"; c.lineWidth = 1; c.strokeRect(left, 30, 44, h);
            const full = Math.min(Math.max(level / (this.highest * 1.1 || 1), 0), 1) * h;
            c.fillStyle = "#9cc7d8"; c.fillRect(left, 30 + h - full, 44, full);
            c.fillStyle = "#22282e"; c.fillText(digits(level) + " m", left, 24); c.fillText(s.part.split(".").pop(), left, height - 22);
        });
        this.clock.textContent = digits(this.t) + " s";
    }
}
const moving = runs.filter(r => r.shapes.length > 0);
if (moving.length > 0) {
    motion = new Motion(moving[0]);
    const select = byId("which");
    for (const run of moving) select.append(make("option", { value: run.name }, run.name));
    select.hidden = moving.length < 2;
    select.addEventListener("change", () => { motion.take(moving.find(r => r.name === select.value)); motion.at(motion.t, true); });
    motion.at(motion.time0(), true);
}

for (const [id, work] of Object.entries({ whole: () => show([from, to]), closer: () => zoom(0.5), wider: () => zoom(2), earlier: () => pan(-0.4), later: () => pan(0.4) })) byId(id).addEventListener("click", work);
show([from, to]);
document.body.dataset.ready = "yes";
})();
