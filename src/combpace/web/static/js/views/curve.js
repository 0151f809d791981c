// @ts-check
// The pace curve: BPM per bar as steps, anchors as clips; the bars in sight are tinted.
import { clip, colours, once, prepared, type } from "./paint.js";

/** @param {HTMLElement} box @param {import("../pages/host.js").Host} host @param {() => number[]} inSight rows */
export function mountCurve(box, host, inSight) {
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-label", "The pace curve: tempo of every bar");
  box.append(canvas);
  const { state } = host;
  const ask = once(draw);
  const x0 = 78, right = 66;

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours(), rows = state.picture.bars;
    if (rows.length < 2) return;
    const played = rows.filter((bar) => bar.i >= 0);
    // Beats a minute as the first meter counts them: where another begins, what is counted changes, and the tempo need not.
    const unit = (played[0] ?? rows[0]).len / (played[0] ?? rows[0]).beats;
    const tempo = (/** @type {import("./comb_geometry.js").Bar} */ bar) => (bar.bpm * bar.len) / bar.beats / unit;
    const values = (played.length > 1 ? played : rows).map(tempo);
    let low = Math.min(...values), high = Math.max(...values);
    if (high - low < 2) { const middle = (high + low) / 2; low = middle - 1; high = middle + 1; }
    const pad = (high - low) * 0.12;
    low -= pad; high += pad;
    const w = width - x0 - right, top = 8, bottom = height - 8;
    const x = (/** @type {number} */ row) => x0 + (row / rows.length) * w;
    const y = (/** @type {number} */ bpm) => Math.min(bottom, Math.max(top, bottom - ((bpm - low) / (high - low)) * (bottom - top)));
    const [first, last] = inSight();
    g.fillStyle = c.panel;
    g.fillRect(x(first), 0, x(last + 1) - x(first), height);
    const step = [0.5, 1, 2, 5, 10, 20, 50].find((value) => (high - low) / value <= 3.2) ?? 100;
    type(g, 11.5, 500, "right");
    for (let value = Math.ceil(low / step) * step; value <= high; value += step) {
      g.fillStyle = c.line;
      g.fillRect(x0, y(value), w, 1);
      g.fillStyle = c.quiet;
      g.fillText(step < 1 ? value.toFixed(1) : String(value), x0 - 8, y(value) + 4);
    }
    g.fillStyle = c.quiet;
    type(g, 11.5, 500);
    g.fillText("BPM", 14, 16);
    g.strokeStyle = c.ink;
    g.lineWidth = 1.6;
    g.beginPath();
    rows.forEach((bar, k) => { const level = y(tempo(bar)); if (k === 0) g.moveTo(x(k), level); else g.lineTo(x(k), level); g.lineTo(x(k + 1), level); });
    g.stroke();
    for (const anchor of state.picture.anchors) {
      const row = rows.findIndex((bar) => anchor.q >= bar.q - 1e-6 && anchor.q < bar.q + bar.len - 1e-6);
      if (row >= 0) clip(g, x(row + (anchor.q - rows[row].q) / rows[row].len), y(tempo(rows[row])) - 5.5, anchor.locked, c.ink, c.ground);
    }
    if (state.playhead !== null && state.map) {
      const q = state.map.toQuarters(state.playhead);
      const row = rows.findIndex((bar) => q >= bar.q && q < bar.q + bar.len);
      if (row >= 0) { g.fillStyle = c.field; g.fillRect(x(row + (q - rows[row].q) / rows[row].len) - 1, 0, 2, height); }
    }
    g.fillStyle = c.line;
    g.fillRect(0, height - 1, width, 1);
  }

  canvas.addEventListener("click", (event) => {
    const frame = canvas.getBoundingClientRect(), rows = state.picture.bars;
    const row = Math.floor(((event.clientX - frame.left - x0) / (frame.width - x0 - right)) * rows.length);
    if (row >= 0 && row < rows.length) { host.select({ kind: "bar", bar: rows[row].i }); host.seek(rows[row].s); host.show(rows[row].i); }
  });
  return { draw: ask, destroy() { ask.cancel(); canvas.remove(); } };
}
