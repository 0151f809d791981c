// @ts-check
// The pace curve: BPM per bar as steps, anchors as clips; the bars in sight are tinted.
import { clip, colours, once, prepared, type } from "./paint.js";

/**
 * @param {HTMLElement} box
 * @param {import("../pages/host.js").Host} host
 * @param {() => number[]} inSight rows
 */
export function mountCurve(box, host, inSight) {
  const canvas = document.createElement("canvas");
  canvas.setAttribute("aria-label", "The pace curve: tempo of every bar");
  box.append(canvas);
  const { state } = host;
  const ask = once(draw);
  const x0 = 78,
    right = 66;
  /**
   * Where rows and tempi lie, as they were drawn last.
   * @type {{x: (row: number) => number, y: (bpm: number) => number, bpmAt: (y: number) => number, tempo:
   *   (bar: any) => number} | null}
   */
  let scale = null;
  /**
   * A step that is dragged up or down: these rows get this tempo.
   * @type {{from: number, to: number, bpm: number, moved: boolean, y: number} | null}
   */
  let drag = null;

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours(),
      rows = state.picture.bars;
    if (rows.length < 2) return;
    const played = rows.filter((bar) => bar.i >= 0);
    // Beats a minute as the first meter counts them: where another begins, what is counted changes, and the
    // tempo need not.
    const unit = (played[0] ?? rows[0]).len / (played[0] ?? rows[0]).beats;
    const tempo = (/** @type {import("./comb_geometry.js").Bar} */ bar) =>
      (bar.bpm * bar.len) / bar.beats / unit;
    const values = (played.length > 1 ? played : rows).map(tempo);
    let low = Math.min(...values),
      high = Math.max(...values);
    if (high - low < 2) {
      const middle = (high + low) / 2;
      low = middle - 1;
      high = middle + 1;
    }
    const pad = (high - low) * 0.12;
    low -= pad;
    high += pad;
    const w = width - x0 - right,
      top = 8,
      bottom = height - 8;
    const x = (/** @type {number} */ row) => x0 + (row / rows.length) * w;
    const y = (/** @type {number} */ bpm) =>
      Math.min(bottom, Math.max(top, bottom - ((bpm - low) / (high - low)) * (bottom - top)));
    scale = { x, y, bpmAt: (py) => low + ((bottom - py) / (bottom - top)) * (high - low), tempo };
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
    drawRaw(g, c, rows, x, y, unit);
    g.strokeStyle = c.ink;
    g.lineWidth = 1.6;
    g.beginPath();
    const bends = state.map?.table.bends,
      map = state.map;
    /** @param {import("./comb_geometry.js").Bar} bar @param {import("./map.js").TempoMap} by */
    const foreseen = (bar, by) =>
      (60 * bar.len) / (by.toSeconds(bar.q + bar.len) - by.toSeconds(bar.q)) / unit;
    rows.forEach((bar, k) => {
      const would = drag?.moved && state.foreseen ? foreseen(bar, state.foreseen) : tempo(bar),
        shown = drag?.moved && k >= drag.from && k <= drag.to ? drag.bpm : would;
      let [begin, end] = [shown, shown];
      if (bends && map && !drag?.moved) {
        // Along a ramp the tempo runs in a straight line from what it is just after the bar's line to what it
        // is just before the next.
        const step = bar.len * 1e-4,
          at = (/** @type {number} */ q) => (60 * step) / (map.toSeconds(q + step) - map.toSeconds(q)) / unit;
        if (ramped(bar.q)) [begin, end] = [at(bar.q), at(bar.q + bar.len - 2 * step)];
      }
      if (k === 0) g.moveTo(x(k), y(begin));
      else g.lineTo(x(k), y(begin));
      g.lineTo(x(k + 1), y(end));
    });
    g.stroke();
    if (drag?.moved) {
      type(g, 13, 700);
      g.fillStyle = c.ink;
      g.fillText(
        `${drag.bpm.toFixed(2)} BPM`,
        Math.min(x(drag.to + 1) + 6, width - 96),
        Math.max(14, y(drag.bpm) - 6),
      );
    }
    for (const anchor of state.picture.anchors) {
      const row = rows.findIndex((bar) => anchor.q >= bar.q - 1e-6 && anchor.q < bar.q + bar.len - 1e-6);
      if (row >= 0)
        clip(
          g,
          x(row + (anchor.q - rows[row].q) / rows[row].len),
          y(tempo(rows[row])) - 5.5,
          anchor.locked,
          c.ink,
          c.ground,
        );
    }
    if (state.playhead !== null && state.map) {
      const q = state.map.toQuarters(state.playhead);
      const row = rows.findIndex((bar) => q >= bar.q && q < bar.q + bar.len);
      if (row >= 0) {
        g.fillStyle = c.field;
        g.fillRect(x(row + (q - rows[row].q) / rows[row].len) - 1, 0, 2, height);
      }
    }
    g.fillStyle = c.line;
    g.fillRect(0, height - 1, width, 1);
  }

  /** Whether a bar begins in a ramp. @param {number} q */
  function ramped(q) {
    const table = state.map?.table;
    if (!table?.bends) return false;
    let k = 0;
    while (k + 1 < table.bends.length && table.quarters[k + 1] <= q + 1e-9) k++;
    return table.bends[k] !== 0;
  }

  /**
   * As it was played from beat to beat, faint, behind the map.
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {any[]} rows
   * @param {(row: number) => number} x
   * @param {(bpm: number) => number} y
   * @param {number} unit
   */
  function drawRaw(g, c, rows, x, y, unit) {
    const raw = state.picture.raw,
      map = state.map;
    if (!raw?.length || !map) return;
    g.strokeStyle = c.quiet;
    g.globalAlpha = 0.45;
    g.lineWidth = 1;
    g.beginPath();
    let row = 0,
      begun = false;
    for (const [time, bpm] of raw) {
      const q = map.toQuarters(time);
      while (row < rows.length && q >= rows[row].q + rows[row].len) row++;
      if (row >= rows.length) break;
      if (q < rows[row].q) continue;
      const px = x(row + (q - rows[row].q) / rows[row].len),
        py = y(bpm / unit);
      if (begun) g.lineTo(px, py);
      else g.moveTo(px, py);
      begun = true;
    }
    g.stroke();
    g.globalAlpha = 1;
  }

  canvas.addEventListener("pointerdown", (event) => {
    const frame = canvas.getBoundingClientRect(),
      rows = state.picture.bars,
      py = event.clientY - frame.top;
    const row = Math.floor(((event.clientX - frame.left - x0) / (frame.width - x0 - right)) * rows.length);
    if (!scale || row < 0 || row >= rows.length || Math.abs(scale.y(scale.tempo(rows[row])) - py) > 7) return;
    const many =
      state.selection?.kind === "bars" &&
      rows[row].i >= state.selection.bar &&
      rows[row].i <= state.selection.to
        ? state.selection
        : null;
    const from = many ? rows.findIndex((bar) => bar.i === many.bar) : row,
      to = many ? rows.findIndex((bar) => bar.i === many.to) : row;
    drag = { from, to, bpm: scale.tempo(rows[row]), moved: false, y: py };
    canvas.setPointerCapture(event.pointerId);
  });
  canvas.addEventListener("pointermove", (event) => {
    const frame = canvas.getBoundingClientRect(),
      py = event.clientY - frame.top;
    if (!drag || !scale) return;
    if (!drag.moved && Math.abs(py - drag.y) < 3) return;
    drag.moved = true;
    drag.bpm = Math.round(scale.bpmAt(py) * (event.shiftKey ? 100 : 10)) / (event.shiftKey ? 100 : 10);
    host.foreseeTempo(...wanted(drag));
    ask();
  });
  /**
   * First and last bar of a step that is dragged, and their tempo in beats as they count them.
   * @param {{from: number, to: number, bpm: number}} step
   * @returns {[number, number, number]}
   */
  function wanted({ from, to, bpm }) {
    const rows = state.picture.bars;
    return [
      rows[from].n,
      rows[to].n,
      (bpm * (rows[0].len / rows[0].beats)) / (rows[from].len / rows[from].beats),
    ];
  }
  let dragged = false;
  canvas.addEventListener("pointerup", (event) => {
    const done = drag;
    drag = null;
    dragged = !!done?.moved;
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    if (done?.moved) host.tempo(...wanted(done));
    ask();
  });
  canvas.addEventListener("pointercancel", () => {
    host.foreseen();
    drag = null;
    ask();
  });

  canvas.addEventListener("click", (event) => {
    // What was dragged is no click.
    if (dragged) {
      dragged = false;
      return;
    }
    const frame = canvas.getBoundingClientRect(),
      rows = state.picture.bars;
    const row = Math.floor(((event.clientX - frame.left - x0) / (frame.width - x0 - right)) * rows.length);
    if (row >= 0 && row < rows.length) {
      host.select({ kind: "bar", bar: rows[row].i });
      host.seek(rows[row].s);
      host.show(rows[row].i);
    }
  });
  return {
    draw: ask,
    destroy() {
      ask.cancel();
      canvas.remove();
    },
  };
}
