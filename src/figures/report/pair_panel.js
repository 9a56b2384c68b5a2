// SPDX-License-Identifier: Apache-2.0
// One quantity against another one, within the time frame; dots stand at the cursor's time. Drag to zoom, shift and drag to pan, double click for the whole.
class PairPanel {
    constructor(host, curves, against) {
        this.curves = curves.filter(c => anyColumn(c.path));
        this.against = against;
        this.box = make("div", { class: "panel" });
        this.head = make("div", { class: "head" });
        this.holder = make("div", { class: "pair" });
        this.canvas = make("canvas");
        this.rubber = make("div", { class: "rubber" });
        this.holder.append(this.canvas, this.rubber);
        this.box.append(this.head, this.holder);
        host.append(this.box);
        const tick = { callback: v => digits(v), includeBounds: false };
        this.chart = new Chart(this.canvas, { type: "scatter", data: { datasets: [] }, options: {
            animation: false, maintainAspectRatio: false, events: [], plugins: { legend: { display: false } },
            scales: { x: { title: { display: true }, ticks: tick }, y: { title: { display: true }, ticks: tick } } } });
        this.listen();
        this.build();
        pairPanels.push(this);
    }
    // Both quantities at every time at which one of them has a point.
    build() {
        this.pairs = [];
        this.zoomed = null;
        this.curves.forEach((curve, k) => runs.forEach((run, r) => {
            const x = series(run, this.against.path), y = series(run, curve.path);
            if (!run.shown || !x || !y) return;
            const [ax, bx] = conversion(run.byName.get(this.against.path), unitOf(this.against));
            const [ay, by] = conversion(run.byName.get(curve.path), unitOf(curve));
            const t = Float64Array.from([...x.t, ...y.t]).sort();
            const colour = colours[(curve.colour ?? k) % colours.length], dot = make("div", { class: "dot" });
            dot.style.background = colour;
            this.holder.append(dot);
            this.pairs.push({ t, dot, colour, dash: dashOf(k, r), width: widthOf(curve.colour ?? k), label: labelOf(curve.path, run), unit: unitOf(curve),
                x: t.map(at => valueAt(x, at) * ax + bx), y: t.map(at => valueAt(y, at) * ay + by),
                xAt: at => valueAt(x, at) * ax + bx, yAt: at => valueAt(y, at) * ay + by });
        }));
        for (const old of [...this.holder.querySelectorAll(".dot")]) if (!this.pairs.some(p => p.dot === old)) old.remove();
        this.chart.options.scales.x.title.text = this.against.path + " " + bracketed(unitOf(this.against));
        this.chart.options.scales.y.title.text = [...new Set(this.curves.map(c => bracketed(unitOf(c))))].join(", ");
        this.legend();
        this.follow();
    }
    legend() {
        this.head.textContent = "";
        for (const p of this.pairs) {
            p.value = make("span", { class: "value" });
            this.head.append(make("span", { class: "entry" }, sample(p.colour, p.dash, p.width), p.label, p.value));
        }
        const right = make("span", { class: "right" }), choose = change => chosen => { change(chosen); this.build(); };
        for (const unit of new Set(this.curves.map(c => unitOf(c))))
            right.append(unitChoice(unit, choose(chosen => { for (const c of this.curves) if (unitOf(c) === unit) c.unit = chosen; })) ?? "");
        right.append(unitChoice(unitOf(this.against), choose(chosen => { this.against = { ...this.against, unit: chosen }; })) ?? "");
        this.head.append(right);
    }
    // The rows of the time frame, those left out that lie within half a pixel of the one before.
    follow() {
        const ranges = this.pairs.map(p => [Math.max(countUpTo(p.t, frame[0]) - 1, 0), Math.min(countUpTo(p.t, frame[1]) + 1, p.t.length)]);
        const box = this.zoomed ?? this.extent(ranges), area = this.chart.chartArea;
        const perX = ((area ? area.width : 0) || 700) / (box.x[1] - box.x[0]), perY = ((area ? area.height : 0) || 300) / (box.y[1] - box.y[0]);
        this.chart.data.datasets = this.pairs.map((p, k) => {
            const points = [];
            let before = null;
            for (let i = ranges[k][0]; i < ranges[k][1]; ++i) {
                const near = before !== null && Math.abs(p.x[i] - before.x) * perX < 0.5 && Math.abs(p.y[i] - before.y) * perY < 0.5;
                if (near && i + 1 < ranges[k][1]) continue;
                before = { x: p.x[i], y: p.y[i] };
                points.push(before);
            }
            return { data: points, showLine: true, pointRadius: 0, borderColor: p.colour, borderWidth: p.width, borderDash: p.dash || [] };
        });
        for (const axis of ["x", "y"]) [this.chart.options.scales[axis].min, this.chart.options.scales[axis].max] = box[axis];
        this.chart.update("none");
        this.placeCursor();
    }
    extent(ranges) {
        const box = { x: [Infinity, -Infinity], y: [Infinity, -Infinity] };
        this.pairs.forEach((p, k) => {
            for (const axis of ["x", "y"])
                for (let i = ranges[k][0]; i < ranges[k][1]; ++i) {
                    const v = p[axis][i];
                    if (v < box[axis][0]) box[axis][0] = v;
                    if (v > box[axis][1]) box[axis][1] = v;
                }
        });
        for (const axis of ["x", "y"]) {
            let [low, high] = box[axis];
            if (!(high >= low)) [low, high] = [0, 1];
            const air = 0.04 * (high - low) || Math.abs(high) * 0.1 || 0.5;
            box[axis] = [low - air, high + air];
        }
        return box;
    }
    listen() {
        let start = null, box = null;
        const place = e => {
            const r = this.canvas.getBoundingClientRect();
            return { px: e.clientX - r.left, py: e.clientY - r.top };
        };
        const value = p => ({ x: this.chart.scales.x.getValueForPixel(p.px), y: this.chart.scales.y.getValueForPixel(p.py) });
        this.canvas.addEventListener("mousedown", e => {
            e.preventDefault();
            start = { ...place(e), shift: e.shiftKey };
            const scales = this.chart.scales;
            box = { x: [scales.x.min, scales.x.max], y: [scales.y.min, scales.y.max] };
        });
        window.addEventListener("mousemove", e => {
            if (start === null) return;
            const now = place(e);
            if (start.shift) {
                const area = this.chart.chartArea;
                const dx = (now.px - start.px) / area.width * (box.x[1] - box.x[0]), dy = (start.py - now.py) / area.height * (box.y[1] - box.y[0]);
                this.zoomed = { x: box.x.map(v => v - dx), y: box.y.map(v => v - dy) };
                this.follow();
                return;
            }
            const corner = { left: Math.min(start.px, now.px), top: Math.min(start.py, now.py) };
            const size = { width: Math.abs(now.px - start.px), height: Math.abs(now.py - start.py) };
            for (const [k, v] of Object.entries({ ...corner, ...size })) this.rubber.style[k] = v + "px";
            this.rubber.style.display = "block";
        });
        window.addEventListener("mouseup", e => {
            if (start === null) return;
            const now = place(e), a = value(start), b = value(now);
            this.rubber.style.display = "none";
            if (!start.shift && Math.abs(now.px - start.px) > 8 && Math.abs(now.py - start.py) > 8) {
                this.zoomed = { x: [Math.min(a.x, b.x), Math.max(a.x, b.x)], y: [Math.min(a.y, b.y), Math.max(a.y, b.y)] };
                this.follow();
            }
            start = null;
        });
        this.canvas.addEventListener("dblclick", () => { this.zoomed = null; this.follow(); });
    }
    placeCursor() {
        const area = this.chart.chartArea, scales = this.chart.scales;
        for (const p of this.pairs) {
            const x = cursor === null ? NaN : scales.x.getPixelForValue(p.xAt(cursor)), y = cursor === null ? NaN : scales.y.getPixelForValue(p.yAt(cursor));
            const inside = x >= area.left - 1 && x <= area.right + 1 && y >= area.top - 1 && y <= area.bottom + 1;
            p.dot.style.display = inside ? "block" : "none";
            p.dot.style.left = x + "px";
            p.dot.style.top = y + "px";
            p.value.textContent = cursor === null ? "" : withUnit(p.yAt(cursor), p.unit) + " at " + withUnit(p.xAt(cursor), unitOf(this.against));
        }
    }
}
