// SPDX-License-Identifier: Apache-2.0
// The table of runs: sorted by a click on a heading, a page at a time, so that ten thousand of them stay light.
const onPage = 40;
let order = [...runs.keys()], sortedBy = null, falling = false, page = 0;
function sortBy(values) {
    const at = i => values[i];
    order.sort((a, b) => {
        const x = at(a), y = at(b);
        if (x === null || y === null) return (x === null) - (y === null) || a - b;
        return (x < y ? -1 : x > y ? 1 : 0) * (falling ? -1 : 1) || a - b;
    });
}
const headings = [{ name: "run", values: runs.map(r => r.run) }, ...columns];
for (const c of headings) {
    const mark = make("span", {}), number = !c.levels;
    const th = make("th", { class: number ? "number" : "", title: "sort", onclick: () => {
        falling = sortedBy === c ? !falling : false;
        sortedBy = c;
        page = 0;
        sortBy(c.values);
        for (const o of headings) o.mark.textContent = o === c ? (falling ? " \u25be" : " \u25b4") : "";
        redraw();
    } }, c.name === "run" ? "run" : named(c), mark);
    c.mark = mark;
    byId("head").append(th);
}
byId("head").prepend(make("th", {}, ""));
byId("head").append(make("th", {}, "what happened"));
function drawTable() {
    const words = byId("words").value.toLowerCase().split(/\s+/).filter(w => w);
    const text = i => (columns.map(c => c.levels && c.values[i] !== null ? c.levels[c.values[i]] : "").join(" ") + " " + runs[i].status + " " + runs[i].reason).toLowerCase();
    const list = order.filter(i => looked[i] && (words.length === 0 || words.every(w => text(i).includes(w))));
    page = Math.min(page, Math.max(0, Math.ceil(list.length / onPage) - 1));
    const body = byId("body");
    body.textContent = "";
    for (const i of list.slice(page * onPage, (page + 1) * onPage)) {
        const box = make("input", { type: "checkbox", "aria-label": "choose run " + runs[i].run, onchange: e => choose(i, e.target.checked) });
        box.checked = chosen.includes(i);
        const tr = make("tr", { class: box.checked ? "chosen" : "" }, make("td", {}, box, box.checked ? make("span", { class: "key", style: "background:" + colourOf(i) }) : ""));
        tr.append(make("td", { class: "number" }, String(runs[i].run)));
        for (const c of columns) {
            const demand = c.role === "demand" && c.values[i] !== null;
            tr.append(make("td", { class: (c.levels ? "" : "number") + (demand ? (c.values[i] ? " holds" : " fails") : "") }, shown(c, c.values[i])));
        }
        tr.append(make("td", { class: runs[i].status === "done" ? "soft" : "fails" }, runs[i].status === "done" ? "" : runs[i].status + ": " + runs[i].reason));
        body.append(tr);
    }
    byId("count").textContent = list.length === n ? n + " runs" : list.length + " of " + n + " runs";
    byId("page").textContent = list.length === 0 ? "" : (page * onPage + 1) + " to " + Math.min(list.length, (page + 1) * onPage);
}
byId("words").addEventListener("input", () => { page = 0; redraw(); });
byId("back").addEventListener("click", () => { page = Math.max(0, page - 1); redraw(); });
byId("on").addEventListener("click", () => { ++page; redraw(); });
byId("none").addEventListener("click", () => { chosen = []; redraw(); });
byId("clear").addEventListener("click", () => { ranges.clear(); lookAgain(); });
views.push(drawTable);
