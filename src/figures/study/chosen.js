// SPDX-License-Identifier: Apache-2.0
// The chosen runs against each other: bars, radar, their curves, and how to make them again.
const plain = { animation: false, maintainAspectRatio: false };
const nameOf = i => "run " + runs[i].run, barsOf = chooser(measures.length ? measures : columns, "what the bars show", redraw);
byId("bars-tools").append(make("label", {}, "bars of ", barsOf));
const bars = new Chart(byId("bars"), { type: "bar", data: { labels: [], datasets: [{ data: [], backgroundColor: [] }] }, options: { ...plain, plugins: { legend: { display: false } }, scales: { y: { beginAtZero: true, title: { display: true, text: "" } } } } });
const ticksOfRadar = { stepSize: .25, callback: v => Math.round(100 * v) + " %", backdropColor: "transparent" };
const radar = new Chart(byId("radar"), { type: "radar", data: { labels: [], datasets: [] }, options: { ...plain, scales: { r: { suggestedMin: 0, suggestedMax: 1, ticks: ticksOfRadar } },
    plugins: { tooltip: { callbacks: { label: i => i.dataset.label + ": " + digits(i.dataset.shown[i.dataIndex]) } } } } });
const what = i => varied.map(c => c.name + " " + shown(c, c.values[i]) + (c.unit ? " " + c.unit : "")).join(", ");
function drawChosen() {
    byId("nothing").hidden = chosen.length > 0;
    byId("held").hidden = chosen.length === 0;
    if (chosen.length === 0) return;
    const c = columnOf(barsOf);
    bars.data.labels = chosen.map(nameOf);
    bars.data.datasets[0] = { data: chosen.map(i => c.values[i]), backgroundColor: chosen.map(colourOf) };
    bars.options.scales.y.title.text = named(c);
    bars.update();
    const axes = measures.filter(m => chosen.every(i => m.values[i] !== null) && chosen.some(i => m.values[i] !== 0));
    const most = m => Math.max(...chosen.map(i => Math.abs(m.values[i])));
    radar.data.labels = axes.map(m => m.name);
    radar.data.datasets = chosen.map(i => ({ label: nameOf(i), data: axes.map(m => m.values[i] / most(m)), shown: axes.map(m => m.values[i]), borderColor: colourOf(i), backgroundColor: colourOf(i) + "18", pointRadius: 3 }));
    radar.update();
    const list = byId("who");
    list.textContent = "";
    for (const i of chosen)
        list.append(make("p", {}, make("span", { class: "key", style: "background:" + colourOf(i) }), make("b", {}, nameOf(i)), ": " + what(i)),
            make("pre", {}, "netloop rerun " + data.store + " " + data.study + " " + runs[i].run + " --out run" + runs[i].run + ".h5"));
}
views.push(drawChosen);

// --- curves of runs that were recorded
const recorded = data.curves;
if (recorded.length > 0) {
    const names = [...new Set(recorded.flatMap(r => r.columns.map(c => c.name)))], which = make("select", { "aria-label": "quantity", onchange: drawCurves });
    for (const name of names) which.append(make("option", { value: name }, name));
    byId("curves-tools").append(make("label", {}, "quantity ", which));
    const chart = new Chart(byId("curves"), { type: "line", data: { datasets: [] }, options: { ...plain, parsing: false, normalized: true, elements: { point: { radius: 0 }, line: { borderWidth: 2 } },
        scales: { x: { type: "linear", title: { display: true, text: "time [s]" } }, y: { title: { display: true, text: "" } } } } });
    function drawCurves() {
        chart.data.datasets = [];
        recorded.forEach((r, k) => {
            const column = r.columns.find(c => c.name === which.value);
            if (!column) return;
            chart.options.scales.y.title.text = column.name + (column.unit ? " [" + column.unit + "]" : "");
            chart.data.datasets.push({ label: "run " + r.run, data: r.time.map((t, j) => ({ x: t, y: column.values[j] })), borderColor: colours[k % colours.length], borderDash: k < colours.length ? [] : [6, 4] });
        });
        chart.update();
    }
    drawCurves();
} else {
    byId("curves-box").replaceChildren(make("p", { class: "soft" }, "No run of this study was recorded: a line in the study, keep recordings of best 5, or netloop rerun, makes recordings."));
}
