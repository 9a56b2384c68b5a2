// SPDX-License-Identifier: Apache-2.0
// What moves a result: means at each level, indices, and how a result is spread.
const effectOf = chooser(measures.length ? measures : columns, "result", drawEffects);
byId("effects-tools").append(make("label", {}, "result ", effectOf));
function drawEffects() {
    const result = columnOf(effectOf), host = byId("effects"), all = data.effects[columns.indexOf(result)] || [];
    host.textContent = "";
    let low = Infinity, high = -Infinity;
    for (const e of all) { low = Math.min(low, ...e.low); high = Math.max(high, ...e.high); }
    if (!(low <= high)) return host.append(make("p", { class: "soft" }, "no run gave a value"));
    if (low === high) { low -= 1; high += 1; }
    const w = 300, h = 190, left = 62, right = 14, top = 26, bottom = 40, y = v => h - bottom - (v - low) / (high - low) * (h - top - bottom);
    for (const e of [...all].sort((a, b) => b.swing - a.swing)) {
        const c = columns.find(k => k.name === e.name && k.role !== "measure" && k.role !== "demand"), count = e.at.length;
        const [p, q] = c.levels ? [-.4, c.levels.length - .6] : ends(e.at), [a, b] = c.levels ? [p, q] : [p - (q - p) * .06, q + (q - p) * .06], x = v => left + (v - a) / (b - a || 1) * (w - left - right);
        const view = svg("svg", { class: "view", width: w, height: h, viewBox: "0 0 " + w + " " + h, role: "img", "aria-label": "effect of " + e.name });
        view.append(svg("text", { x: left, y: 14, class: "strong" }, named(c)));
        for (const v of ticksOf(low, high, 4)) view.append(svg("line", { x1: left, x2: w - right, y1: y(v), y2: y(v), stroke: "#d5dbe0" }), svg("text", { x: left - 6, y: y(v) + 4, "text-anchor": "end" }, digits(v)));
        for (let k = 0; k < count; ++k) view.append(svg("line", { x1: x(e.at[k]), x2: x(e.at[k]), y1: y(e.low[k]), y2: y(e.high[k]), stroke: "#14508c", "stroke-width": 2, opacity: .5 }));
        view.append(svg("polyline", { points: e.at.map((v, k) => x(v) + "," + y(e.mean[k])).join(" "), fill: "none", stroke: "#14508c", "stroke-width": c.levels ? 1 : 2, "stroke-dasharray": c.levels ? "2 4" : "" }));
        for (let k = 0; k < count; ++k) view.append(svg("circle", { cx: x(e.at[k]), cy: y(e.mean[k]), r: 3.5, fill: "#14508c" }));
        const labels = c.levels ? e.at.map(v => [v, c.levels[v]]) : ticksOf(a, b, 4).map(v => [v, digits(v)]);
        labels.forEach(([v, text], k) => view.append(svg("text", { x: x(v), y: h - bottom + (c.levels && k % 2 ? 29 : 16), "text-anchor": "middle" }, text)));
        host.append(view);
    }
    drawIndices(result);
}
function drawIndices(result) {
    const host = byId("indices"), found = data.indices[columns.indexOf(result)];
    host.textContent = "";
    if (!found) return;
    const sobol = found.kind === "sobol", list = found.list, key = e => sobol ? e.total : e.size;
    list.sort((a, b) => key(b) - key(a));
    const w = 760, left = 220, right = 120, row = 34, h = 30 + row * list.length + 24, most = Math.max(1e-300, ...list.map(e => sobol ? Math.max(1, e.total_high, e.first_high) : e.size_high)), x = v => left + Math.max(0, v) / most * (w - left - right);
    const view = svg("svg", { class: "view", width: w, height: h, viewBox: "0 0 " + w + " " + h });
    const bar = (y, v, a, b, colour) => view.append(svg("rect", { x: left, y, width: Math.max(0, x(v) - left), height: 10, fill: colour }), svg("line", { x1: x(a), x2: x(b), y1: y + 5, y2: y + 5, stroke: "#22282e", "stroke-width": 2 }),
        svg("text", { x: w - right + 8, y: y + 9 }, digits(v)));
    list.forEach((e, k) => {
        const y = 24 + k * row;
        view.append(svg("text", { x: left - 8, y: y + 14, "text-anchor": "end", class: "strong" }, e.name));
        if (sobol) { bar(y, e.first, e.first_low, e.first_high, "#11b0a7"); bar(y + 12, e.total, e.total_low, e.total_high, "#14508c"); }
        else { bar(y, e.size, e.size_low, e.size_high, "#14508c"); view.append(svg("text", { x: left, y: y + 23 }, "mean " + digits(e.mean) + ", spread " + digits(e.spread))); }
    });
    for (const v of ticksOf(0, most, 5)) view.append(svg("line", { x1: x(v), x2: x(v), y1: 18, y2: h - 22, stroke: "#d5dbe0" }), svg("text", { x: x(v), y: h - 8, "text-anchor": "middle" }, digits(v)));
    host.append(make("h3", {}, sobol ? "Sobol indices: the share of the variance" : "Elementary effects (Morris), in " + (result.unit || "1") + " over the whole range"),
        make("p", { class: "soft" }, sobol ? "Light: alone; dark: with all that it has together with others. Lines: 95 %." : "Mean of sizes with its 95 % line. A spread as large as the size says that it depends on the others, or bends."), view);
}
drawEffects();

const spreadOf = chooser(measures.length ? measures : columns, "result", redraw);
byId("spread-tools").append(make("label", {}, "result ", spreadOf));
function drawSpread() {
    const c = columnOf(spreadOf), host = byId("spread"), values = c.values.filter((v, i) => looked[i] && v !== null).sort((a, b) => a - b);
    host.textContent = "";
    if (values.length < 2) return host.append(make("p", { class: "soft" }, "fewer than two runs"));
    const [a, b] = ends(values), count = Math.max(5, Math.min(40, Math.round(Math.sqrt(values.length) * 1.5))), bins = new Array(count).fill(0);
    for (const v of values) ++bins[Math.min(count - 1, Math.floor((v - a) / (b - a) * count))];
    const w = 760, h = 280, left = 60, right = 20, top = 46, bottom = 44, most = Math.max(...bins), x = v => left + (v - a) / (b - a) * (w - left - right), y = v => h - bottom - v / most * (h - top - bottom);
    const view = svg("svg", { class: "view", width: w, height: h, viewBox: "0 0 " + w + " " + h });
    for (const v of ticksOf(0, most, 4)) view.append(svg("line", { x1: left, x2: w - right, y1: y(v), y2: y(v), stroke: "#d5dbe0" }), svg("text", { x: left - 6, y: y(v) + 4, "text-anchor": "end" }, digits(v)));
    bins.forEach((v, k) => view.append(svg("rect", { x: x(a + (b - a) * k / count) + .5, y: y(v), width: (w - left - right) / count - 1, height: h - bottom - y(v), fill: "#7c8a96" })));
    for (const v of ticksOf(a, b, 7)) view.append(svg("text", { x: x(v), y: h - bottom + 16, "text-anchor": "middle" }, digits(v)));
    view.append(svg("text", { x: (left + w - right) / 2, y: h - 8, "text-anchor": "middle", class: "strong" }, named(c)));
    [5, 50, 95].forEach((p, k) => {
        const v = values[Math.min(values.length - 1, Math.floor(p / 100 * values.length))];
        view.append(svg("line", { x1: x(v), x2: x(v), y1: 18 + 14 * (k % 2), y2: h - bottom, stroke: "#a33b20", "stroke-width": 2, "stroke-dasharray": p === 50 ? "" : "5 4" }),
            svg("text", { x: x(v), y: 13 + 14 * (k % 2), "text-anchor": p === 5 ? "start" : p === 95 ? "end" : "middle", class: "strong" }, p + " %: " + digits(v)));
    });
    host.append(view);
}
views.push(drawSpread);

// what the reader sees first: the best few by the first result
if (measures.length) chosen = [...runs.keys()].filter(i => measures[0].values[i] !== null).sort((i, j) => measures[0].values[i] - measures[0].values[j]).slice(0, 3);
redraw();
document.body.dataset.ready = "yes";
