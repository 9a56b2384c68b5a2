// SPDX-License-Identifier: Apache-2.0
// Quantities over time, one axis a unit. The graph is given no more points than can be seen in the time frame.
class Panel {
    constructor(host, curves, close) {
        this.curves = curves.filter(c => anyColumn(c.path));
        this.close = close;
        this.box = make("div", { class: "panel" });
        this.head = make("div", { class: "head" });
        this.plot = make("div", { class: "plot" });
        this.line = make("div", { class: "cursor" });
        this.box.append(this.head, this.plot, this.line);
        host.append(this.box);
        this.build();
        panels.push(this);
    }
    build() {
        this.lines = [];
        this.units = [];
        this.curves.forEach((curve, k) => {
            const unit = unitOf(curve);
            if (!this.units.includes(unit)) this.units.push(unit);
            runs.forEach((run, r) => {
                const s = run.shown ? series(run, curve.path) : null;
                if (!s) return;
                const [a, b] = conversion(run.byName.get(curve.path), unit);
                const colour = colours[(curve.colour ?? k) % colours.length];
                this.lines.push({ s, a, b, unit, colour, dash: dashOf(k, r), width: widthOf(curve.colour ?? k), label: labelOf(curve.path, run) });
            });
        });
        const labels = ["time"], options = {};
        this.lines.forEach((l, k) => {
            const key = k + ": " + l.label;
            labels.push(key);
            options[key] = { axis: this.units.indexOf(l.unit) === 1 ? "y2" : "y", color: l.colour, strokePattern: l.dash, strokeWidth: l.width };
        });
        if (this.graph) { this.graph.destroy(); this.graph = null; }
        this.graph = new Dygraph(this.plot, this.rows(), {
            labels: labels.length > 1 ? labels : ["time", "-"], series: options, dateWindow: frame.slice(),
            legend: "never", connectSeparatedPoints: true, animatedZooms: false, strokeWidth: 1.6, highlightCircleSize: 0,
            gridLineColor: "#dfe3e6", axisLineColor: "#7a7f85", rightGap: 12, yRangePad: 10, labelsKMB: false,
            ylabel: bracketed(this.units[0] || ""), y2label: this.units.length > 1 ? bracketed(this.units[1]) : null, xlabel: "time [s]", xLabelHeight: 16,
            axes: {
                x: { axisLabelFormatter: v => digits(+v), valueFormatter: v => digits(v) },
                y: this.axis(0), y2: { ...this.axis(1), drawGrid: false, independentTicks: true } },
            interactionModel: { ...Dygraph.defaultInteractionModel, dblclick: showAll },
            underlayCallback: (canvas, area, graph) => this.marks(canvas, area, graph),
            drawCallback: (graph, initial) => { if (!initial) show(graph.xAxisRange()); },
            highlightCallback: event => setCursor(this.timeAt(event)),
        });
        this.plot.graph = this.graph;
        this.legend();
        this.placeCursor();
    }
    axis(side) {
        const stages = stagesOf(this.units[side] ?? "");
        if (!stages) return { axisLabelWidth: 62 };
        return { axisLabelWidth: 84, valueRange: [0.5, stages.length + 0.5], ticker: () => stages.map((name, k) => ({ v: k + 1, label: name })) };
    }
    timeAt(event) {
        const t = this.graph.toDataXCoord(this.graph.eventToDomCoords(event)[0]);
        return Math.min(Math.max(t, from), to);
    }
    // One row a time: what has no point there is left open, and joined by a line.
    rows() {
        const pixels = Math.max(Math.round(this.plot.clientWidth), 100), rows = [];
        const seen = this.lines.map(l => outline(l.s, frame[0], frame[1], pixels)), at = seen.map(() => 0);
        for (;;) {
            let t = Infinity;
            seen.forEach((s, k) => { if (at[k] < s.t.length && s.t[at[k]] < t) t = s.t[at[k]]; });
            if (t === Infinity) return rows.length ? rows : [[from, null]];
            const row = new Array(seen.length + 1);
            row[0] = t;
            seen.forEach((s, k) => { row[k + 1] = at[k] < s.t.length && s.t[at[k]] === t ? s.v[at[k]++] * this.lines[k].a + this.lines[k].b : null; });
            rows.push(row);
        }
    }
    follow() { this.graph.updateOptions({ file: this.rows(), dateWindow: frame.slice() }); }
    legend() {
        this.head.textContent = "";
        const two = this.units.length > 1;
        for (const l of this.lines) {
            l.value = make("span", { class: "value" });
            const side = two ? (this.units.indexOf(l.unit) === 1 ? " (right)" : " (left)") : "";
            this.head.append(make("span", { class: "entry" }, sample(l.colour, l.dash, l.width), l.label + side, l.value));
        }
        const right = make("span", { class: "right" });
        for (const unit of this.units)
            right.append(unitChoice(unit, chosen => {
                for (const c of this.curves) if (unitOf(c) === unit) c.unit = chosen;
                this.build();
            }) ?? "");
        if (this.close) right.append(make("button", { onclick: this.close, title: "remove this panel" }, "remove"));
        this.head.append(right);
    }
    // Events that the reader marked.
    marks(canvas, area, graph) {
        canvas.save();
        canvas.strokeStyle = data.mark;
        canvas.lineWidth = 1;
        canvas.setLineDash([2, 3]);
        for (const times of marked.values())
            for (const t of times) {
                const x = graph.toDomXCoord(t);
                if (x < area.x || x > area.x + area.w) continue;
                canvas.beginPath();
                canvas.moveTo(x, area.y);
                canvas.lineTo(x, area.y + area.h);
                canvas.stroke();
            }
        canvas.restore();
    }
    placeCursor() {
        const inside = cursor !== null && cursor >= frame[0] && cursor <= frame[1];
        this.line.style.display = inside ? "block" : "none";
        if (inside) {
            const area = this.graph.getArea();
            this.line.style.left = this.plot.offsetLeft + this.graph.toDomXCoord(cursor) + "px";
            this.line.style.top = this.plot.offsetTop + area.y + "px";
            this.line.style.height = area.h + "px";
        }
        for (const l of this.lines) l.value.textContent = cursor === null ? "" : withUnit(valueAt(l.s, cursor) * l.a + l.b, l.unit);
    }
    redraw() { this.graph.updateOptions({}); }
    remove() {
        panels.splice(panels.indexOf(this), 1);
        this.graph.destroy();
        this.box.remove();
    }
}
