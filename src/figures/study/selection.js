// SPDX-License-Identifier: Apache-2.0
// What the page knows: columns of numbers by run; which runs are looked at (brushed), and which are chosen to be held against each other.
const data = JSON.parse(byId("data").textContent), colours = data.colours, columns = data.columns, runs = data.runs, n = runs.length;
const varied = columns.filter(c => c.role === "varied" || c.role === "uncertain"), results = columns.filter(c => c.role === "measure" || c.role === "demand");
const measures = columns.filter(c => c.role === "measure");
const ranges = new Map();  // column -> [low, high], as brushed
let looked = new Uint8Array(n).fill(1), chosen = [];
const views = [];          // what draws itself anew when either changes

const digits = v => v === null || v === undefined ? "-" : Math.abs(v) >= 1e5 || (v !== 0 && Math.abs(v) < 1e-3) ? v.toExponential(3) : String(Number(v.toPrecision(5)));
const shown = (c, v) => v === null ? "-" : c.levels ? c.levels[v] : c.role === "demand" ? (v ? "holds" : "not met") : digits(v);
const named = c => c.name + (c.unit ? " [" + c.unit + "]" : "");
const colourOf = i => { const k = chosen.indexOf(i); return k < 0 ? "#8a96a0" : colours[k % colours.length]; };
// Least and most of what is there, a little apart where all is one value.
function ends(values) {
    let low = Infinity, high = -Infinity;
    for (const v of values) if (v !== null) { if (v < low) low = v; if (v > high) high = v; }
    if (!(low <= high)) return [0, 1];
    return low === high ? [low - (Math.abs(low) || 1) * .05, high + (Math.abs(high) || 1) * .05] : [low, high];
}
// Round numbers between two ends.
function ticksOf(low, high, wanted) {
    const raw = (high - low) / wanted, power = 10 ** Math.floor(Math.log10(raw)), step = power * [1, 2, 5, 10].find(s => s * power >= raw), list = [];
    for (let v = Math.ceil(low / step) * step; v <= high + step * 1e-9; v += step) list.push(Math.abs(v) < step * 1e-9 ? 0 : v);
    return list;
}
function lookAgain() {
    looked.fill(1);
    for (const [c, [low, high]] of ranges)
        for (let i = 0; i < n; ++i) { const v = c.values[i]; if (v === null || v < low || v > high) looked[i] = 0; }
    redraw();
}
let waiting = false, moving = false;  // moving: an axis is being pulled along
// Once for each picture that the browser shows, however many changes come before it. While something moves, only what follows the hand.
function redraw() {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; for (const v of views) if (!moving || v.follows) v(); });
}
function choose(i, on) {
    chosen = chosen.filter(k => k !== i);
    if (on) chosen.push(i);
    if (chosen.length > colours.length) chosen.shift();
    redraw();
}
// A canvas as sharp as the screen; gives its context and its size in pixels of the page.
function sharp(canvas) {
    const scale = window.devicePixelRatio || 1, w = canvas.clientWidth, h = canvas.clientHeight;
    if (canvas.width !== Math.round(w * scale)) { canvas.width = Math.round(w * scale); canvas.height = Math.round(h * scale); }
    const g = canvas.getContext("2d");
    g.setTransform(scale, 0, 0, scale, 0, 0);
    g.clearRect(0, 0, w, h);
    g.font = '12px "DejaVu Sans", Helvetica, Arial, sans-serif';
    return [g, w, h];
}
function svg(tag, attributes, ...children) {
    const e = document.createElementNS("http://www.w3.org/2000/svg", tag);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    for (const c of children) e.append(c);
    return e;
}
function chooser(list, label, work, first = 0) {
    const select = make("select", { "aria-label": label, onchange: work });
    list.forEach((c, k) => select.append(make("option", { value: String(columns.indexOf(c)), selected: k === first }, named(c))));
    return select;
}
const columnOf = select => columns[Number(select.value)];
