// SPDX-License-Identifier: Apache-2.0
// The time frame, the cursor and the marked events that all panels share.
const panels = [], pairPanels = [];
const from = Math.min(...runs.map(r => r.time[0])), to = Math.max(...runs.map(r => r.time[r.rows - 1]));
const marked = new Map();  // the times of the events that the reader marked, by what marks them
let frame = [from, to], cursor = null, following = false, motion = null;

function show(window) {
    if (following) return;
    let [a, b] = window;
    const least = (to - from) * 1e-9;
    if (b - a < least) b = a + least;
    frame = [Math.max(a, from), Math.min(b, to)];
    if (!(frame[1] > frame[0])) frame = [from, to];
    following = true;
    for (const p of panels) p.follow();
    following = false;
    for (const p of pairPanels) p.follow();
    byId("frame").textContent = digits(frame[0]) + " s to " + digits(frame[1]) + " s";
    placeCursor();
}
const showAll = () => show([from, to]);
function zoom(factor) {
    const middle = cursor !== null && cursor > frame[0] && cursor < frame[1] ? cursor : (frame[0] + frame[1]) / 2;
    show([middle - (middle - frame[0]) * factor, middle + (frame[1] - middle) * factor]);
}
function pan(share) {
    const width = frame[1] - frame[0];
    const a = Math.min(Math.max(frame[0] + share * width, from), to - width);
    show([a, a + width]);
}
function placeCursor() {
    for (const p of panels) p.placeCursor();
    for (const p of pairPanels) p.placeCursor();
}
function setCursor(t) {
    cursor = t;
    placeCursor();
    if (motion) motion.at(t);
    byId("cursor").textContent = t === null ? "" : "at " + digits(t) + " s";
}
