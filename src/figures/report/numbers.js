// SPDX-License-Identifier: Apache-2.0
// What was recorded stands in the element `data`; numbers are packed (see report_data.hpp) and taken apart when they are asked for.
const data = JSON.parse(document.getElementById("data").textContent);
const runs = data.runs, several = runs.length > 1;
const colours = data.colours, dashes = [null, [14, 5], [14, 4, 4, 4], [6, 3], [22, 4, 8, 4], [4, 3], [2, 3], [12, 3, 2, 3, 2, 3]];

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
// How many of the ascending times lie at or before t.
function countUpTo(times, t) {
    let low = 0, high = times.length;
    while (low < high) { const mid = (low + high) >> 1; if (times[mid] <= t) low = mid + 1; else high = mid; }
    return low;
}
function valueAt(s, t) {
    const k = countUpTo(s.t, t);
    if (k === 0) return s.v[0];
    if (k === s.t.length) return s.v[k - 1];
    const share = (t - s.t[k - 1]) / (s.t[k] - s.t[k - 1]);
    return s.v[k - 1] + share * (s.v[k] - s.v[k - 1]);
}
// What is seen of a series between two times on so many pixels: all points where they are few, else the lowest and the highest one of each pixel, which
// stand at the same two times for every series, so that many series make no more rows than one.
function outline(s, from, to, pixels) {
    const n = s.t.length, first = Math.max(countUpTo(s.t, from) - 1, 0), last = Math.min(countUpTo(s.t, to) + 1, n);
    if (last - first <= 4 * pixels || !(to > from)) return { t: s.t.subarray(first, last), v: s.v.subarray(first, last) };
    const t = [], v = [], width = (to - from) / pixels;
    if (s.t[first] < from) { t.push(s.t[first]); v.push(s.v[first]); }
    let i = first + (s.t[first] < from ? 1 : 0);
    for (let k = 0; k < pixels && i < last; ++k) {
        const end = from + (k + 1) * width;
        let low = -1, high = -1, any = false;
        for (; i < last && (s.t[i] <= end || k === pixels - 1); ++i) {
            any = true;
            if (Number.isNaN(s.v[i])) continue;
            if (low < 0 || s.v[i] < s.v[low]) low = i;
            if (high < 0 || s.v[i] > s.v[high]) high = i;
        }
        if (!any) continue;
        t.push(from + (k + 0.25) * width, from + (k + 0.75) * width);
        if (low < 0) v.push(NaN, NaN);
        else v.push(s.v[Math.min(low, high)], s.v[Math.max(low, high)]);
    }
    return { t, v };
}

// From the unit in which a column is kept to another one: value * a + b.
function conversion(column, unit) {
    if (!unit || unit === column.unit) return [1, 0];
    const to = (data.units[column.unit] || []).find(u => u[0] === unit);
    return to ? [column.scale / to[1], (column.offset - to[2]) / to[1]] : [1, 0];
}
const anyColumn = name => { for (const run of runs) if (run.byName.has(name)) return run.byName.get(name); return null; };
const unitOf = curve => curve.unit || anyColumn(curve.path).unit;
const digits = v => {
    if (v === null || v === undefined || Number.isNaN(v)) return "-";
    return Math.abs(v) >= 1e5 || (v !== 0 && Math.abs(v) < 1e-3) ? v.toExponential(4) : String(+v.toPrecision(6));
};
// A sequence's column holds the number of the present stage, from 1; its unit is "stage of " and its path.
const stagesOf = unit => (unit.startsWith("stage of ") ? anyColumn(unit.slice(9))?.stages : null) ?? null;
const bracketed = unit => "[" + (unit === "" || unit === "1" ? "-" : stagesOf(unit) ? "stage" : unit) + "]";
const withUnit = (v, unit) => {
    const stages = stagesOf(unit);
    if (stages) return stages[Math.floor(v + 1e-6) - 1] ?? "-";
    return digits(v) + (unit === "" || unit === "1" || unit === "bool" ? "" : " " + unit);
};
