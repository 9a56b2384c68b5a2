// SPDX-License-Identifier: Apache-2.0
// Parallel axes: an axis a column, a line a run. A stretch pulled along an axis keeps the runs that pass through it.
const axesCanvas = byId("axes"), axesTop = 46, axesBottom = 26, axesSide = 64;
// what is the same everywhere says nothing
const axesColumns = columns.filter(c => { const [a, b] = ends(c.values); return c.values.some(v => v !== null && v !== c.values.find(x => x !== null)) && b > a; }).slice(0, 16);
for (const c of axesColumns) c.ends = c.levels ? [-.3, c.levels.length - .7] : ends(c.values);
const axisX = (k, w) => axesSide + k * (w - 2 * axesSide) / Math.max(1, axesColumns.length - 1);
const axisY = (c, v, h) => h - axesBottom - (v - c.ends[0]) / (c.ends[1] - c.ends[0]) * (h - axesTop - axesBottom);
function line(g, i, w, h) {
    let down = false;
    for (let k = 0; k < axesColumns.length; ++k) {
        const v = axesColumns[k].values[i];
        if (v === null) { down = false; continue; }
        if (down) g.lineTo(axisX(k, w), axisY(axesColumns[k], v, h));
        else g.moveTo(axisX(k, w), axisY(axesColumns[k], v, h));
        down = true;
    }
}
function drawAxes() {
    const [g, w, h] = sharp(axesCanvas);
    const count = looked.reduce((a, b) => a + b, 0);
    const stroke = (colour, width, alpha, wanted) => {
        g.strokeStyle = colour; g.lineWidth = width; g.globalAlpha = alpha;
        g.beginPath();
        // in motion some of them are enough to be seen
        const step = moving ? Math.ceil(n / 1500) : 1;
        for (let i = 0, k = 0; i < n; i += step) {
            if (!wanted(i)) continue;
            line(g, i, w, h);
            if (++k % 500 === 0) { g.stroke(); g.beginPath(); }
        }
        g.stroke();
        g.globalAlpha = 1;
    };
    if (count < n) stroke("#d5dbe0", 1, Math.max(.05, Math.min(.6, 300 / n)), i => !looked[i]);
    stroke("#14508c", 1, Math.max(.04, Math.min(.75, 120 / count)), i => looked[i]);
    if (!moving) chosen.forEach(i => stroke(colourOf(i), 2.6, 1, k => k === i));
    axesColumns.forEach((c, k) => {
        const x = axisX(k, w);
        g.strokeStyle = "#22282e"; g.lineWidth = 1;
        g.beginPath(); g.moveTo(x, axesTop); g.lineTo(x, h - axesBottom); g.stroke();
        g.textAlign = "center";
        g.fillStyle = "#22282e"; g.font = 'bold 12px "DejaVu Sans", Helvetica, Arial, sans-serif';
        // neighbours stand at two heights, so that long names do not run into each other
        const lines = [c.name, c.unit ? "[" + c.unit + "]" : ""], room = (w - 2 * axesSide) / Math.max(1, axesColumns.length - 1) * 1.6;
        let name = lines[0];
        while (name.length > 4 && g.measureText(name).width > room) name = name.slice(0, -2) + "\u2026";
        g.fillText(name, x, k % 2 ? 28 : 12);
        g.font = '11px "DejaVu Sans", Helvetica, Arial, sans-serif'; g.fillStyle = "#5d6770";
        if (lines[1]) g.fillText(lines[1], x, k % 2 ? 41 : 25);
        g.textAlign = "left";
        const label = (v, text) => { const y = axisY(c, v, h); g.fillStyle = "#ffffffcc"; g.fillRect(x + 4, y - 7, g.measureText(text).width + 4, 14); g.fillStyle = "#22282e"; g.fillText(text, x + 6, y + 4); };
        if (c.levels) c.levels.forEach((l, v) => label(v, l));
        else if (c.role === "demand") [0, 1].forEach(v => label(v, v ? "holds" : "not met"));
        else ticksOf(...c.ends, 5).forEach(v => label(v, digits(v)));
        const r = ranges.get(c);
        if (r) { const a = axisY(c, r[1], h), b = axisY(c, r[0], h); g.fillStyle = "#a33b2055"; g.fillRect(x - 6, a, 12, b - a); g.strokeStyle = "#a33b20"; g.strokeRect(x - 6, a, 12, b - a); }
    });
}
let pulled = null;
function axisAt(e) {
    const box = axesCanvas.getBoundingClientRect(), x = e.clientX - box.left, w = axesCanvas.clientWidth;
    let best = 0;
    axesColumns.forEach((c, k) => { if (Math.abs(axisX(k, w) - x) < Math.abs(axisX(best, w) - x)) best = k; });
    const c = axesColumns[best], h = axesCanvas.clientHeight, y = e.clientY - box.top;
    return [c, c.ends[0] + (h - axesBottom - y) / (h - axesTop - axesBottom) * (c.ends[1] - c.ends[0])];
}
axesCanvas.addEventListener("pointerdown", e => { if (axesColumns.length === 0) return; const [c, v] = axisAt(e); pulled = [c, v]; moving = n > 1500; axesCanvas.setPointerCapture(e.pointerId); });
axesCanvas.addEventListener("pointermove", e => {
    if (!pulled) return;
    const box = axesCanvas.getBoundingClientRect(), h = axesCanvas.clientHeight, [c, from] = pulled;
    const v = c.ends[0] + (h - axesBottom - (e.clientY - box.top)) / (h - axesTop - axesBottom) * (c.ends[1] - c.ends[0]);
    ranges.set(c, [Math.min(from, v), Math.max(from, v)]);
    lookAgain();
});
axesCanvas.addEventListener("pointerup", e => {
    if (!pulled) return;
    const r = ranges.get(pulled[0]);
    if (r && r[1] - r[0] < (pulled[0].ends[1] - pulled[0].ends[0]) * .01) { ranges.delete(pulled[0]); lookAgain(); }  // a click: all of it again
    pulled = null;
    moving = false;
    redraw();
});
drawAxes.follows = true;
views.push(drawAxes);
window.addEventListener("resize", redraw);
