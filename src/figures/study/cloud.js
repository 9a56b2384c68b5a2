// SPDX-License-Identifier: Apache-2.0
// Any two columns against each other, with the front of those that no other run beats in both.
const cloud = byId("cloud"), better = (label, first) => { const s = make("select", { "aria-label": label, onchange: redraw }); for (const w of ["less is better", "more is better"]) s.append(make("option", { value: w[0] }, w)); s.value = first; return s; };
const cloudX = chooser(columns.filter(c => !c.levels || true), "across", redraw, columns.indexOf(measures[0] || columns[0])), cloudY = chooser(columns, "up", redraw, columns.indexOf(measures[1] || measures[0] || columns[0]));
const betterX = better("across", "l"), betterY = better("up", "l"), cloudColour = make("select", { "aria-label": "colour", onchange: redraw }, make("option", { value: "" }, "one colour"));
for (const c of varied) cloudColour.append(make("option", { value: String(columns.indexOf(c)) }, "by " + c.name));
const firstWords = varied.find(c => c.levels);
if (firstWords) cloudColour.value = String(columns.indexOf(firstWords));
byId("cloud-tools").append(make("label", {}, "across ", cloudX), betterX, make("label", {}, "up ", cloudY), betterY, make("label", {}, "colour ", cloudColour));
let cloudPoints = [];
const cloudKey = byId("cloud-key");
function mix(share) {  // from light to dark
    const a = [206, 217, 228], b = [112, 1, 44];
    return "rgb(" + a.map((v, k) => Math.round(v + (b[k] - v) * share)).join(",") + ")";
}
function drawCloud() {
    const [g, w, h] = sharp(cloud), left = 78, right = 20, top = 14, bottom = 46, x = columnOf(cloudX), y = columnOf(cloudY), by = cloudColour.value === "" ? null : columns[Number(cloudColour.value)];
    const spread = c => { if (c.levels) return [-.5, c.levels.length - .5]; const [a, b] = ends(c.values), d = (b - a) * .04; return [a - d, b + d]; };
    const ex = spread(x), ey = spread(y), px = v => left + (v - ex[0]) / (ex[1] - ex[0]) * (w - left - right), py = v => h - bottom - (v - ey[0]) / (ey[1] - ey[0]) * (h - top - bottom);
    g.strokeStyle = "#d5dbe0"; g.fillStyle = "#5d6770"; g.lineWidth = 1;
    const ticks = (c, e, count) => c.levels ? c.levels.map((l, v) => [v, l]) : ticksOf(...e, count).map(v => [v, digits(v)]);
    g.textAlign = "center";
    for (const [v, text] of ticks(x, ex, 8)) { g.beginPath(); g.moveTo(px(v), top); g.lineTo(px(v), h - bottom); g.stroke(); g.fillText(text, px(v), h - bottom + 16); }
    g.textAlign = "right";
    for (const [v, text] of ticks(y, ey, 7)) { g.beginPath(); g.moveTo(left, py(v)); g.lineTo(w - right, py(v)); g.stroke(); g.fillText(text, left - 6, py(v) + 4); }
    g.fillStyle = "#22282e"; g.textAlign = "center";
    g.fillText(named(x), (left + w - right) / 2, h - 8);
    g.save(); g.translate(14, (top + h - bottom) / 2); g.rotate(-Math.PI / 2); g.fillText(named(y), 0, 0); g.restore();
    const byEnds = by && !by.levels ? ends(by.values) : null;
    const tint = i => !by || by.values[i] === null ? "#14508c" : by.levels ? colours[by.values[i] % colours.length] : mix((by.values[i] - byEnds[0]) / (byEnds[1] - byEnds[0]));
    const size = n > 3000 ? 2 : n > 500 ? 3 : 4.5;
    cloudPoints = [];
    for (const away of [true, false])
        for (let i = 0; i < n; ++i) {
            if (!looked[i] !== away || x.values[i] === null || y.values[i] === null) continue;
            const a = px(x.values[i]), b = py(y.values[i]);
            g.fillStyle = away ? "#e4e8eb" : tint(i);
            g.beginPath(); g.arc(a, b, size, 0, 7); g.fill();
            if (!away) cloudPoints.push([a, b, i]);
        }
    // the front
    const sx = betterX.value === "m" ? -1 : 1, sy = betterY.value === "m" ? -1 : 1;
    const sorted = cloudPoints.map(p => p[2]).sort((i, j) => sx * (x.values[i] - x.values[j]) || sy * (y.values[i] - y.values[j]));
    let best = Infinity;
    const front = sorted.filter(i => { const v = sy * y.values[i]; if (v >= best) return false; best = v; return true; });
    if (!x.levels && !y.levels && x !== y) {
        g.strokeStyle = "#22282e"; g.lineWidth = 1.6; g.beginPath();
        front.forEach((i, k) => {
            if (k) { g.lineTo(px(x.values[i]), py(y.values[front[k - 1]])); g.lineTo(px(x.values[i]), py(y.values[i])); }
            else g.moveTo(px(x.values[i]), py(y.values[i]));
        });
        g.stroke();
        for (const i of front) { g.beginPath(); g.arc(px(x.values[i]), py(y.values[i]), size + 2, 0, 7); g.stroke(); }
    }
    for (const i of chosen) if (x.values[i] !== null && y.values[i] !== null) {
        g.strokeStyle = colourOf(i); g.lineWidth = 3;
        g.strokeRect(px(x.values[i]) - size - 4, py(y.values[i]) - size - 4, 2 * size + 8, 2 * size + 8);
    }
    byId("front").textContent = x.levels || y.levels || x === y ? "" : (front.length === 1 ? "1 run" : front.length + " runs") + " that no other beats in both: " + front.slice(0, 12).map(i => runs[i].run).join(", ") + (front.length > 12 ? " \u2026" : "");
    cloudKey.textContent = "";
    if (by && by.levels) by.levels.forEach((l, k) => cloudKey.append(make("span", { class: "entry" }, make("span", { class: "key", style: "background:" + colours[k % colours.length] }), l + (by.titles ? ": " + by.titles[k] : ""))));
    else if (by) cloudKey.append(make("span", { class: "entry" }, make("span", { class: "key", style: "background:" + mix(0) }), digits(byEnds[0]), " to ", make("span", { class: "key", style: "background:" + mix(1) }), digits(byEnds[1]) + " " + by.unit));
}
cloud.addEventListener("click", e => {
    const box = cloud.getBoundingClientRect(), x = e.clientX - box.left, y = e.clientY - box.top;
    let best = null, far = 12 * 12;
    for (const [a, b, i] of cloudPoints) { const d = (a - x) ** 2 + (b - y) ** 2; if (d < far) { far = d; best = i; } }
    if (best !== null) choose(best, !chosen.includes(best));
});
views.push(drawCloud);
