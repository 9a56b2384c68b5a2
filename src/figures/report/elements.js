// SPDX-License-Identifier: Apache-2.0
// Elements of the page, made or found.
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
// A piece of a curve's line, for legends.
function sample(colour, dash, width = 2) {
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("width", 28);
    svg.setAttribute("height", 8);
    const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
    const look = { x1: 0, y1: 4, x2: 28, y2: 4, stroke: colour, "stroke-width": width, "stroke-dasharray": dash ? dash.join(" ") : "" };
    for (const [k, v] of Object.entries(look)) line.setAttribute(k, v);
    svg.append(line);
    return svg;
}
// Colour tells quantities apart, and thickness where there are more of them than colours. Dashes: of a run alone by place in the panel; of
// several runs they tell the run and nothing else, as the key in the header says.
const dashOf = (k, r) => dashes[(several ? r : k) % dashes.length];
const widthOf = k => 1.6 * (1 + Math.floor(k / colours.length));
const labelOf = (path, run) => path + (several ? " (" + run.name + ")" : "");
// A choice among the units that can stand for this one; null if there is no other.
function unitChoice(unit, choose) {
    const others = data.units[unit] || [];
    if (others.length < 2) return null;
    const select = make("select", { title: "unit", "aria-label": "unit of " + unit, onchange: e => choose(e.target.value) });
    for (const [name] of others) select.append(make("option", { value: name, selected: name === unit }, name));
    return select;
}
