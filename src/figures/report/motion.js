// SPDX-License-Identifier: Apache-2.0
// The moving picture: bodies, cylinders and levels drawn from the recording at a time.
const painted = ["ground", "link", "bar", "cylinder", "spring", "body", "slider", "pivot"];  // what lies below comes first

// How each shape is painted: `at` are its places in pixels, `s` the shape.
const brushes = {
    line(c, a, b, width, colour, cap = "round") {
        c.strokeStyle = colour;
        c.lineWidth = width;
        c.lineCap = cap;
        c.beginPath();
        c.moveTo(...a);
        c.lineTo(...b);
        c.stroke();
    },
    link(c, at) { this.line(c, at[0], at[1], 5, "#9fb2c4"); },
    bar(c, at) { this.line(c, at[0], at[1], 9, "#6d8fb0"); },
    cylinder(c, [a, b], s, scale) {
        const n = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1, barrel = s.shortest * scale * 0.92;
        this.line(c, a, b, 4, "#8b949c");
        this.line(c, a, [a[0] + (b[0] - a[0]) / n * barrel, a[1] + (b[1] - a[1]) / n * barrel], 12, "#d9772b", "butt");
    },
    spring(c, [a, b]) {
        const n = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1, u = [(b[0] - a[0]) / n, (b[1] - a[1]) / n];
        c.strokeStyle = "#2f8f5b";
        c.lineWidth = 2;
        c.beginPath();
        c.moveTo(...a);
        for (let k = 1; k < 12; ++k) {
            const side = k % 2 ? 7 : -7, d = n * k / 12;
            c.lineTo(a[0] + u[0] * d - u[1] * side, a[1] + u[1] * d + u[0] * side);
        }
        c.lineTo(...b);
        c.stroke();
    },
    body(c, [[x, y]]) {
        c.fillStyle = "#14508c";
        c.beginPath();
        c.arc(x, y, 9, 0, 7);
        c.fill();
    },
    pivot(c, [[x, y]]) {
        c.fillStyle = "#ffffff";
        c.strokeStyle = "#22282e";
        c.lineWidth = 2;
        c.beginPath();
        c.arc(x, y, 5, 0, 7);
        c.fill();
        c.stroke();
    },
    slider(c, [[x, y]]) {
        c.fillStyle = "#b8930f";
        c.fillRect(x - 10, y - 6, 20, 12);
    },
    ground(c, [[x, y]]) {
        c.strokeStyle = "#7a7f85";
        c.lineWidth = 1.5;
        c.beginPath();
        for (let k = -2; k <= 2; ++k) {
            c.moveTo(x + 6 * k, y + 7);
            c.lineTo(x + 6 * k - 5, y + 14);
        }
        c.moveTo(x - 15, y + 7);
        c.lineTo(x + 15, y + 7);
        c.stroke();
    },
};

class Motion {
    constructor(run) {
        this.canvas = byId("picture");
        this.slider = byId("moment");
        this.clock = byId("clock");
        this.take(run);
        this.slider.addEventListener("input", () => setCursor(this.begin + this.slider.value / 1000 * (this.end - this.begin)));
        byId("play").addEventListener("click", () => this.play());
        window.addEventListener("resize", () => this.draw());
    }
    take(run) {
        this.begin = run.time[0];
        this.end = run.time[run.rows - 1];
        this.t = this.begin;
        const read = q => {
            if (typeof q === "number") return () => q;
            const s = series(run, q), c = run.byName.get(q);
            return t => valueAt(s, t) * c.scale + c.offset;
        };
        const shapes = run.shapes.map(s => ({ ...s, at: s.points.map(p => p.map(read)) }));
        this.planar = shapes.filter(s => s.shape !== "level");
        this.levels = shapes.filter(s => s.shape === "level");
        // what the picture must have room for, over the whole run
        this.box = [Infinity, Infinity, -Infinity, -Infinity];
        this.highest = 0;
        for (let k = 0; k <= 200; ++k) {
            const t = this.begin + k / 200 * (this.end - this.begin);
            for (const s of this.levels) this.highest = Math.max(this.highest, s.at[0][0](t));
            for (const s of this.planar)
                for (const p of s.at) {
                    const x = p[0](t), y = p[1](t);
                    this.box = [Math.min(this.box[0], x), Math.min(this.box[1], y), Math.max(this.box[2], x), Math.max(this.box[3], y)];
                }
        }
    }
    at(t) {
        this.t = Math.min(Math.max(t ?? this.begin, this.begin), this.end);
        this.slider.value = 1000 * (this.t - this.begin) / (this.end - this.begin);
        this.draw();
    }
    play() {
        if (this.timer) {
            clearInterval(this.timer);
            this.timer = null;
            byId("play").textContent = "play";
            return;
        }
        byId("play").textContent = "pause";
        let last = performance.now();
        if (this.t >= this.end) this.t = this.begin;
        this.timer = setInterval(() => {
            const now = performance.now(), t = this.t + (now - last) / 1000 * Number(byId("speed").value);
            last = now;
            setCursor(Math.min(t, this.end));
            if (t >= this.end) this.play();
        }, 33);
    }
    draw() {
        const width = this.canvas.clientWidth, height = this.canvas.clientHeight, ratio = window.devicePixelRatio || 1;
        if (this.canvas.width !== width * ratio) {
            this.canvas.width = width * ratio;
            this.canvas.height = height * ratio;
        }
        const c = this.canvas.getContext("2d");
        c.setTransform(ratio, 0, 0, ratio, 0, 0);
        c.clearRect(0, 0, width, height);
        const room = 74 * this.levels.length;
        if (this.planar.length > 0) this.drawPlane(c, width - room, height);
        this.levels.forEach((s, k) => this.drawLevel(c, s, this.planar.length > 0 ? width - room + 74 * k + 8 : 35 + 110 * k, height));
        this.clock.textContent = digits(this.t) + " s";
    }
    drawPlane(c, width, height) {
        const [left, low, right, high] = this.box, wide = Math.max(right - left, 1e-9), tall = Math.max(high - low, 1e-9);
        const scale = Math.min((width - 70) / wide, (height - 70) / tall);
        const x0 = 35 + (width - 70 - scale * wide) / 2 - scale * left, y0 = height - 35 - (height - 70 - scale * tall) / 2 + scale * low;
        for (const shape of painted)
            for (const s of this.planar)
                if (s.shape === shape) brushes[shape](c, s.at.map(p => [x0 + scale * p[0](this.t), y0 - scale * p[1](this.t)]), s, scale);
    }
    drawLevel(c, s, left, height) {
        const h = height - 70, level = s.at[0][0](this.t), full = Math.min(Math.max(level / (this.highest * 1.1 || 1), 0), 1) * h;
        c.font = "12px sans-serif";
        c.strokeStyle = "#7a7f85";
        c.lineWidth = 1;
        c.strokeRect(left, 30, 44, h);
        c.fillStyle = "#9cc7d8";
        c.fillRect(left, 30 + h - full, 44, full);
        c.fillStyle = "#22282e";
        c.fillText(digits(level) + " m", left, 24);
        c.fillText(s.part.split(".").pop(), left, height - 22);
    }
}
