// @ts-check
// The close comb: one column a beat, 60 ms about the tooth, each cell a small waveform. Where decisions are
// made.
import { lowerBound, makeCloseComb, topFor } from "./comb_geometry.js";
import { placeWords, signed } from "./map.js";
import { DOUBTFUL, clip, colours, foot, gainOf, once, prepared, type, wave } from "./paint.js";

const ROW_PX = 58;

/** @param {HTMLElement} box @param {import("../pages/host.js").Host} host */
export function mountCloseComb(box, host) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("aria-label", "The close comb: 60 ms about every beat, bars as rows");
  box.append(canvas);
  const { state } = host;
  /**
   * @type {null | {time: number, q: number, row: number, beat: number, x: number, dx: number, moving:
   *   boolean}}
   */
  let drag = null;
  const ask = once(draw);
  const bars = () => state.picture.bars;
  const take = () => host.take(state.picture.lead);

  function geometry() {
    const height = canvas.clientHeight;
    const most = Math.max(0, bars().length - (height - 44) / ROW_PX + 0.2);
    state.view.top = Math.min(Math.max(0, state.view.top), most);
    const beats = Math.max(...bars().map((bar) => bar.beats));
    return makeCloseComb({
      width: canvas.clientWidth,
      height,
      beats,
      top: state.view.top,
      rowPx: ROW_PX,
      bars: bars().length,
    });
  }

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours(),
      shown = take(),
      map = state.map;
    if (!map || !shown || !bars().length) return;
    const comb = geometry();
    host.need(bars()[comb.first].s, bars()[comb.last].e);
    const own = host.marks(shown.id),
      gain = gainOf(shown);
    g.save();
    g.beginPath();
    g.rect(0, comb.head, width, height - comb.head);
    g.clip();
    for (let row = comb.first; row <= comb.last; row++) {
      const bar = bars()[row],
        y = comb.yOf(row);
      const place = host.placeNow();
      if (
        (place !== null && place >= bar.s - 1e-4 && place < bar.e - 1e-4) ||
        state.selection?.bar === bar.i
      ) {
        g.fillStyle = c.chosen;
        g.globalAlpha = 0.55;
        g.fillRect(0, y, width, ROW_PX);
        g.globalAlpha = 1;
      }
      g.fillStyle = c.line;
      g.fillRect(0, y + ROW_PX - 1, width, 1);
      g.fillStyle = c.ink;
      type(g, 15, 700);
      g.fillText(String(bar.n).replace("-", "−"), 14, y + 34);
      for (let beat = 0; beat < bar.beats; beat++) {
        const q = bar.q + (beat * bar.len) / bar.beats;
        const moved = drag?.moving && drag.row === row && drag.beat === beat ? drag.dx : 0;
        const tooth = map.toSeconds(q) - moved;
        const left = comb.left(beat);
        g.fillStyle = c.panel;
        g.fillRect(comb.xOf(beat, -0.01), y + 1, comb.xOf(beat, 0.01) - comb.xOf(beat, -0.01), ROW_PX - 3);
        g.fillStyle = c.wave;
        wave(g, host.peaks, shown, {
          x0: Math.round(left),
          x1: Math.round(left + comb.cell),
          mid: y + 28,
          half: 22,
          gain,
          timeAt: (x) => tooth + ((x - left) / comb.cell) * 2 * comb.reach - comb.reach,
        });
        const x = comb.xOf(beat, 0);
        g.fillStyle = c.ink;
        g.globalAlpha = beat === 0 ? 1 : 0.42;
        g.fillRect(x - (beat === 0 ? 1.1 : 0.5), y + 1, beat === 0 ? 2.2 : 1, ROW_PX - 3);
        g.globalAlpha = 1;
        let near = NaN;
        for (
          let k = lowerBound(own.times, tooth - comb.reach);
          k < own.times.length && own.times[k] <= tooth + comb.reach;
          k++
        ) {
          const offset = own.times[k] - tooth;
          foot(g, comb.xOf(beat, offset), y + ROW_PX - 2, own.sure[k] < DOUBTFUL, c.onset);
          if (Number.isNaN(near) || Math.abs(offset) < Math.abs(near)) near = offset;
        }
        const anchor = state.picture.anchors.find((/** @type {any} */ one) => Math.abs(one.q - q) < 1e-6);
        if (anchor) clip(g, x, y + 2, anchor.locked, c.ink, c.ground);
        if (!Number.isNaN(near)) {
          const far = Math.abs(near) > 0.012 && bar.i >= 0;
          const text = signed(1000 * near);
          type(g, 12, far ? 700 : 500, "right");
          const wide = g.measureText(text).width;
          g.fillStyle = c.ground;
          g.globalAlpha = 0.8;
          g.fillRect(left + comb.cell - wide - 5, y + 2, wide + 5, 15);
          g.globalAlpha = 1;
          g.fillStyle = far ? c.problem : c.quiet;
          g.fillText(text, left + comb.cell - 2, y + 14);
        }
      }
    }
    g.restore();
    g.fillStyle = c.ground;
    g.fillRect(0, 0, width, comb.head);
    const first = bars()[Math.max(0, comb.first)];
    for (let beat = 0; beat < first.beats; beat++) {
      g.fillStyle = c.ink;
      type(g, 13.5, 700, "center");
      g.fillText(`beat ${beat + 1}`, comb.xOf(beat, 0), 17);
      g.fillStyle = c.quiet;
      type(g, 11.5, 500, "center");
      if (comb.cell > 150)
        for (const ms of [-30, 30]) g.fillText(signed(ms).replace(".0", ""), comb.xOf(beat, ms / 1000), 35);
      type(g, 11.5, 500, "left");
      g.fillText("−60", comb.left(beat), 35);
      type(g, 11.5, 500, "right");
      g.fillText("+60", comb.left(beat) + comb.cell, 35);
    }
    g.fillStyle = c.quiet;
    type(g, 12.5);
    g.fillText("bar, ms", 8, 35);
    g.fillStyle = c.line;
    g.fillRect(0, comb.head - 1, width, 1);
  }

  /** @param {MouseEvent} event */
  const at = (event) => {
    const frame = canvas.getBoundingClientRect();
    return { x: event.clientX - frame.left, y: event.clientY - frame.top };
  };

  /** @param {PointerEvent} event */
  function down(event) {
    canvas.focus();
    const where = at(event),
      comb = geometry(),
      hit = comb.at(where.x, where.y),
      map = state.map,
      shown = take();
    if (!hit || !map || !shown) return;
    const bar = bars()[hit.row];
    if (hit.beat >= bar.beats) return;
    const q = bar.q + (hit.beat * bar.len) / bar.beats,
      tooth = map.toSeconds(q),
      own = host.marks(shown.id);
    let nearest = -1;
    for (
      let k = lowerBound(own.times, tooth - comb.reach);
      k < own.times.length && own.times[k] <= tooth + comb.reach;
      k++
    ) {
      if (
        Math.abs(own.times[k] - tooth - hit.offset) < 0.006 &&
        (nearest < 0 ||
          Math.abs(own.times[k] - tooth - hit.offset) < Math.abs(own.times[nearest] - tooth - hit.offset))
      )
        nearest = k;
    }
    if (nearest < 0) {
      host.select({ kind: "bar", bar: bar.i });
      host.seek(tooth + hit.offset);
      return;
    }
    host.select({ kind: "onset", take: shown.id, t: own.take[nearest], bar: bar.i });
    drag = { time: own.times[nearest], q, row: hit.row, beat: hit.beat, x: where.x, dx: 0, moving: false };
    canvas.setPointerCapture(event.pointerId);
  }

  /** @param {PointerEvent} event */
  function move(event) {
    if (!drag || !state.map) return;
    const where = at(event),
      comb = geometry();
    if (!drag.moving && Math.abs(where.x - drag.x) < 3) return;
    drag.moving = true;
    drag.dx = ((where.x - drag.x) / comb.cell) * 2 * comb.reach;
    const off = drag.time - state.map.toSeconds(drag.q);
    // Within 4 ms of the tooth it catches.
    if (!event.shiftKey && Math.abs(off + drag.dx) < 0.004) drag.dx = -off;
    host.say(`${signed(1000 * (off + drag.dx))} ms from ${placeWords(state.map, drag.q)}`);
    ask();
  }

  /** @param {PointerEvent} event */
  function up(event) {
    const done = drag;
    drag = null;
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    // The tooth goes to the moment that now lies under it.
    if (done?.moving && state.map) {
      const caught = Math.abs(done.time + done.dx - state.map.toSeconds(done.q)) < 1e-9;
      host.pull(caught ? done.time : state.map.toSeconds(done.q) - done.dx, done.q, !caught);
    }
    ask();
  }

  function cancel() {
    const was = drag !== null;
    drag = null;
    ask();
    return was;
  }

  /** @param {WheelEvent} event */
  function wheel(event) {
    event.preventDefault();
    state.view.top += (event.deltaY / ROW_PX) * (event.deltaMode === 1 ? 16 : 1);
    ask();
  }

  canvas.addEventListener("pointerdown", down);
  canvas.addEventListener("pointermove", move);
  canvas.addEventListener("pointerup", up);
  canvas.addEventListener("pointercancel", cancel);
  canvas.addEventListener("wheel", wheel, { passive: false });
  return {
    draw: ask,
    cancel,
    /** @param {number} index */
    show(index) {
      const row = bars().findIndex((bar) => bar.i === index),
        seen = (canvas.clientHeight - 44) / ROW_PX;
      if (row >= 0) state.view.top = topFor(row, state.view.top, seen);
      ask();
    },
    inSight() {
      const seen = (canvas.clientHeight - 44) / ROW_PX,
        first = Math.ceil(state.view.top - 0.05);
      return [first, Math.max(first, Math.min(bars().length - 1, Math.floor(state.view.top + seen - 1)))];
    },
    destroy() {
      ask.cancel();
      canvas.remove();
    },
    /** @param {number} q @param {number} index */
    pixelOf(q, index) {
      const row = bars().findIndex((bar) => bar.i === index),
        bar = bars()[row],
        comb = geometry(),
        frame = canvas.getBoundingClientRect();
      return {
        x: frame.left + comb.xOf(Math.round(((q - bar.q) / bar.len) * bar.beats), 0),
        y: frame.top + comb.yOf(row) + 30,
      };
    },
  };
}
