// SPDX-License-Identifier: Apache-2.0
// The page's sections: figures, everything to choose from, runs, measures, events, parameters, the moving picture.

// --- figures of the scenario
for (const figure of data.figures) {
    const host = byId("figures");
    host.append(make("h3", {}, figure.title));
    let colour = 0;
    for (const panel of figure.panels) {
        const curves = panel.curves.map(c => ({ path: c.path, unit: c.unit, colour: colour++ }));
        const against = panel.against.path && panel.against.path !== "time" ? panel.against : null;
        const missing = [...curves, ...(against ? [against] : [])].filter(c => !anyColumn(c.path)).map(c => c.path);
        if (missing.length > 0) host.append(make("p", { class: "soft" }, "not recorded: " + missing.join(", ")));
        if (!curves.some(c => anyColumn(c.path)) || (against && !anyColumn(against.path))) continue;
        if (against) new PairPanel(host, curves, against);
        else new Panel(host, curves);
    }
}

// --- everything that was recorded, to choose from
const names = [];
for (const run of runs) for (const c of run.columns) if (c.name !== "time" && !names.includes(c.name)) names.push(c.name);
names.sort();
let chosen = null;  // the panel that choices go to
function pickList() {
    const words = byId("search").value.toLowerCase().split(/\s+/).filter(w => w);
    const list = byId("list");
    list.textContent = "";
    let n = 0;
    for (const name of names) {
        const column = anyColumn(name), text = (name + " " + column.doc + " " + column.unit).toLowerCase();
        if (!words.every(w => text.includes(w))) continue;
        if (++n > 2000) continue;
        const box = make("input", { type: "checkbox", onchange: e => pick(name, e.target.checked) });
        box.checked = chosen !== null && chosen.curves.some(c => c.path === name);
        const title = [column.doc, column.origin].filter(t => t).join("\n");
        list.append(make("label", { title, "data-name": name }, box, name, make("span", { class: "unit" }, bracketed(column.unit))));
    }
    byId("found").textContent = n + " of " + names.length + (n > 2000 ? ", the first 2000 shown" : "");
}
function pick(name, on) {
    if (chosen === null) {
        if (!on) return;
        const panel = new Panel(byId("own"), [{ path: name, colour: 0 }], () => {
            panel.remove();
            if (chosen === panel) chosen = null;
            pickList();
        });
        chosen = panel;
    } else {
        chosen.curves = chosen.curves.filter(c => c.path !== name);
        if (on) chosen.curves.push({ path: name, colour: 1 + Math.max(-1, ...chosen.curves.map(c => c.colour)) });
        if (chosen.curves.length === 0) {
            chosen.remove();
            chosen = null;
        } else {
            chosen.build();
        }
    }
    placeCursor();
}
byId("search").addEventListener("input", pickList);
byId("fresh").addEventListener("click", () => { chosen = null; pickList(); });
pickList();

// --- runs on and off
if (several)
    runs.forEach((run, r) => {
        const turn = e => {
            run.shown = e.target.checked;
            for (const p of [...panels, ...pairPanels]) p.build();
        };
        const box = make("input", { type: "checkbox", checked: true, onchange: turn });
        byId("runs").append(make("label", { class: "entry" }, box, sample("#333333", dashOf(0, r)), run.name));
    });

// --- measures over variants
if (several && data.measures.length > 0) {
    const select = byId("measure"), ink = "#333333", plain = { animation: false, maintainAspectRatio: false };
    for (const m of data.measures) select.append(make("option", { value: m.name }, m.name));
    const bars = new Chart(byId("bars"), {
        type: "bar", data: { labels: runs.map(r => r.name), datasets: [{ data: [], backgroundColor: "#7c8a96" }] },
        options: { ...plain, plugins: { legend: { display: false } }, scales: { y: { beginAtZero: true, title: { display: true, text: "" } } } } });
    const draw = () => {
        const m = data.measures.find(x => x.name === select.value);
        bars.data.datasets[0].data = m.values;
        bars.options.scales.y.title.text = m.name + " " + bracketed(m.unit);
        bars.update();
    };
    select.addEventListener("change", draw);
    draw();
    const largest = m => Math.max(...m.values.map(Math.abs)), usable = data.measures.filter(m => m.values.every(v => v !== null) && largest(m) > 0);
    if (usable.length > 2) {
        const label = i => i.dataset.label + ": " + withUnit(usable[i.dataIndex].values[i.datasetIndex], usable[i.dataIndex].unit);
        const ticks = { stepSize: 0.25, callback: v => Math.round(100 * v) + " %", backdropColor: "transparent" };
        new Chart(byId("radar"), {
            type: "radar",
            data: { labels: usable.map(m => m.name), datasets: runs.map((run, r) => ({
                label: run.name, data: usable.map(m => m.values[r] / largest(m)), borderColor: ink, backgroundColor: "#7c8a9622",
                borderDash: dashOf(0, r) || [], pointRadius: 3 })) },
            options: { ...plain, scales: { r: { suggestedMin: 0, suggestedMax: 1, ticks } },
                plugins: { legend: { labels: { usePointStyle: true, pointStyle: "line", pointStyleWidth: 40 } }, tooltip: { callbacks: { label } } } } });
    }
}

// --- events to mark, parameters to show
for (const box of document.querySelectorAll("input[data-event]"))
    box.addEventListener("change", () => {
        const [r, k] = box.dataset.event.split(":").map(Number);
        if (box.checked) marked.set(box.dataset.event, runs[r].events[k]);
        else marked.delete(box.dataset.event);
        for (const p of panels) p.redraw();
    });
byId("all-params")?.addEventListener("change", e => { for (const row of document.querySelectorAll("tr.kept")) row.hidden = !e.target.checked; });

// --- the moving picture
const moving = runs.filter(r => r.shapes.length > 0);
if (moving.length > 0) {
    motion = new Motion(moving[0]);
    const select = byId("which");
    for (const run of moving) select.append(make("option", { value: run.name }, run.name));
    select.hidden = moving.length < 2;
    select.addEventListener("change", () => {
        const t = motion.t;
        motion.take(moving.find(r => r.name === select.value));
        motion.at(t);
    });
    motion.at(motion.begin);
}

const buttons = { whole: showAll, closer: () => zoom(0.5), wider: () => zoom(2), earlier: () => pan(-0.4), later: () => pan(0.4) };
for (const [id, work] of Object.entries(buttons)) byId(id).addEventListener("click", work);
showAll();
document.body.dataset.ready = "yes";
