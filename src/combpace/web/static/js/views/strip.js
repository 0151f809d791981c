// @ts-check
// The strip: linear time, from the whole take to single samples, the takes of a bundle above each other; and
// the sheet under it: every attack around its mark, doubtful ones first.
import { lowerBound } from "./comb_geometry.js";
import { gridPlaces, placeWords, signed } from "./map.js";
import { drawStack, noteAt, stackCells } from "./stack.js";
import { CELL_H, CELL_W, cellsIn, drawSheet, sheetOrder } from "./sheet.js";
import { drawRuler, drawSamples } from "./samples.js";
import { DOUBTFUL, colours, gainOf, once, prepared, type, wave } from "./paint.js";

const NAME_PX = 96,
  HEAD_PX = 20,
  RULER_PX = 18;

// So little time at least is in sight: some dozens of samples. A mark lights up for so long when it is
// played.
const LEAST_S = 0.001,
  FLASH_S = 0.09;

/**
 * Pure: seconds to pixels of a strip.
 * @param {{startS: number, endS: number, x0: number, width: number}} view
 */
export function makeStrip({ startS, endS, x0, width }) {
  const perS = (width - x0 - 10) / (endS - startS);
  return {
    perS,
    x0,
    toPx: (/** @type {number} */ s) => x0 + (s - startS) * perS,
    toTime: (/** @type {number} */ px) => startS + (px - x0) / perS,
  };
}

/** @param {HTMLElement} box @param {import("../pages/host.js").Host} host */
export function mountStrip(box, host) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "application");
  canvas.setAttribute(
    "aria-label",
    "The strip with the marks, and the sheet of all attacks. Q and E go through the marks, arrows " +
      "move one by 1 ms, C adds one, Delete removes it.",
  );
  box.append(canvas);
  const { state } = host;
  const ask = once(draw);
  /**
   * @type {null | {take: string, from: number, time: number, x: number, moving: boolean} | {pan: number,
   *   startS: number} | {range: number, to: number} | {line: number, time: number, moving: boolean, x:
   *   number}}
   */
  let drag = null;

  const focus = () => host.take(state.focus);
  const lanes = () => {
    const shown = focus();
    if (!shown) return [];
    const mates = shown.bundle
      ? state.picture.takes.filter((take) => take.bundle === shown.bundle && take.frames)
      : [shown];
    // The take whose marks are edited stands first.
    return [shown, ...mates.filter((take) => take.id !== shown.id)].slice(0, 4);
  };
  const stripTall = () =>
    Math.min(canvas.clientHeight * 0.52, 24 + RULER_PX + Math.max(118, lanes().length * 64));
  const strip = () =>
    makeStrip({
      startS: state.view.stripStart,
      endS: state.view.stripStart + state.view.stripSpan,
      x0: NAME_PX,
      width: canvas.clientWidth,
    });

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours(),
      shown = focus();
    if (!shown || !shown.frames) return;
    clamp(shown);
    const tall = stripTall();
    drawStrip(g, c, tall, width);
    if (state.view.below === "stack") drawBelow(g, c, tall, width, height);
    else if (focus()) drawSheet(g, c, host, focus(), { tall, width, height });
  }

  /**
   * The stack in the sheet's stead.
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {number} tall
   * @param {number} width
   * @param {number} height
   */
  function drawBelow(g, c, tall, width, height) {
    const stack = host.stack(),
      top = tall + 30;
    g.save();
    g.beginPath();
    g.rect(0, tall, width, height - tall);
    g.clip();
    if (stack?.notes.length) {
      const cells = stackCells(width, stack.takes.length),
        rows = Math.ceil(stack.notes.length / cells.count);
      state.view.sheetTop = Math.min(
        Math.max(0, state.view.sheetTop),
        Math.max(0, rows - (height - top) / cells.rowTall + 0.1),
      );
      drawStack(g, c, host, stack, { top, width, height, scrolled: state.view.sheetTop });
    }
    g.fillStyle = c.ground;
    g.fillRect(0, tall, width, 24);
    g.fillStyle = c.ink;
    type(g, 13, 700);
    g.fillText("The stack: the same place of several takes, 1 px a ms, widest apart first", 14, tall + 16);
    g.fillStyle = c.quiet;
    type(g, 12.5, 500, "right");
    g.fillText(
      !stack
        ? "…"
        : stack.notes.length
          ? `${stack.notes.length} places of ${state.view.grid}`
          : "no place that two takes play",
      width - 14,
      tall + 16,
    );
    g.restore();
  }

  /** @param {any} shown */
  function clamp(shown) {
    const span = Math.min(Math.max(LEAST_S, state.view.stripSpan), Math.max(1, shown.duration_s + 0.5));
    state.view.stripSpan = span;
    state.view.stripStart = Math.min(
      Math.max(shown.offset_s - 0.25, state.view.stripStart),
      Math.max(shown.offset_s - 0.25, shown.offset_s + shown.duration_s + 0.25 - span),
    );
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {number} tall
   * @param {number} width
   */
  function drawStrip(g, c, tall, width) {
    const view = strip(),
      all = lanes(),
      head = HEAD_PX,
      laneTall = (tall - head - RULER_PX) / all.length,
      map = state.foreseen ?? state.map;
    host.need(view.toTime(NAME_PX), view.toTime(width));
    g.save();
    g.beginPath();
    g.rect(NAME_PX, 0, width - NAME_PX, tall);
    g.clip();
    if (map) {
      const from = map.barOf(map.toQuarters(view.toTime(NAME_PX))),
        to = map.barOf(map.toQuarters(view.toTime(width)));
      if (to - from < 400) {
        for (let index = from; index <= to; index++) {
          const meter = map.meterAt(index),
            line = map.barLine(index);
          const wide = view.toPx(map.toSeconds(line + meter[1])) - view.toPx(map.toSeconds(line));
          const grid = wide > 500 ? state.view.grid : wide > 90 ? "beats" : "bars";
          for (const place of gridPlaces(grid, meter[1], meter[3])) {
            if (place >= meter[1] - 1e-9) continue;
            const x = view.toPx(map.toSeconds(line + place)),
              beat = Math.abs(place / meter[3] - Math.round(place / meter[3])) < 1e-6;
            g.fillStyle = c.ink;
            g.globalAlpha = place === 0 ? 1 : beat ? 0.42 : 0.14;
            g.fillRect(x - (place === 0 ? 1 : 0.5), head, place === 0 ? 2 : 1, tall - head - RULER_PX);
            g.globalAlpha = 1;
            if ((place === 0 && (wide > 40 || index % 8 === 0)) || (beat && wide > 260)) {
              g.fillStyle = c.quiet;
              type(g, 12, place === 0 ? 700 : 500);
              // A place whose name would begin beyond the edge has none.
              if (x + 4 >= NAME_PX) g.fillText(placeWords(map, line + place), x + 4, 14);
            }
          }
        }
      }
    }
    g.restore();
    all.forEach((take, lane) => {
      const top = head + lane * laneTall,
        own = host.marks(take.id);
      g.save();
      g.beginPath();
      g.rect(NAME_PX, top, width - NAME_PX, laneTall);
      g.clip();
      g.fillStyle = c.wave;
      g.globalAlpha = lane === 0 ? 1 : 0.7;
      const within = { x0: NAME_PX, x1: width - 8, mid: top + laneTall / 2, half: laneTall * 0.4 };
      if (!drawSamples(g, host.peaks, take, { ...within, ...view, x0: NAME_PX }))
        wave(g, host.peaks, take, { ...within, gain: gainOf(take), timeAt: view.toTime });
      g.globalAlpha = 1;
      for (
        let k = lowerBound(own.times, view.toTime(NAME_PX) - 0.01);
        k < own.times.length && own.times[k] < view.toTime(width);
        k++
      ) {
        let time = own.times[k];
        if (drag && "from" in drag && drag.moving && lane === 0 && Math.abs(own.take[k] - drag.from) < 1e-6)
          time = drag.time;
        const x = view.toPx(time),
          chosen =
            lane === 0 &&
            ((state.selection?.kind === "onset" && Math.abs(state.selection.t - own.take[k]) < 1e-5) ||
              (state.selection?.kind === "marks" &&
                state.selection.ts.some((/** @type {number} */ t) => Math.abs(t - own.take[k]) < 1e-5)));
        if (chosen) {
          g.fillStyle = c.field;
          g.globalAlpha = 0.28;
          g.fillRect(x - 4, top, 8, laneTall);
          g.globalAlpha = 1;
        }
        const since = state.playhead === null ? -1 : state.playhead - time;
        if (lane === 0 && since >= 0 && since < FLASH_S) {
          g.fillStyle = c.field;
          g.globalAlpha = 0.75 * (1 - since / FLASH_S);
          g.fillRect(x - 7, top, 14, laneTall);
          g.globalAlpha = 1;
        }
        g.fillStyle = c.onset;
        g.globalAlpha = lane === 0 ? 1 : 0.5;
        const doubtful = own.sure[k] < DOUBTFUL;
        g.fillRect(x - 1, top + 1, 2, doubtful ? 4 : 9);
        g.fillRect(x - 1, top + laneTall - (doubtful ? 5 : 10), 2, doubtful ? 4 : 9);
        if (doubtful) {
          g.strokeStyle = c.onset;
          g.lineWidth = 1.3;
          g.beginPath();
          g.arc(x, top + 9, 2.5, 0, 7);
          g.stroke();
        }
        g.globalAlpha = 1;
      }
      g.restore();
      g.fillStyle = c.ink;
      type(g, 13, lane === 0 ? 700 : 500);
      const words = take.name.split(" - ").pop() ?? take.name;
      g.fillText(clipped(g, words, NAME_PX - 20), 14, top + laneTall / 2);
      g.fillStyle = c.quiet;
      type(g, 11.5);
      if (all.length > 1)
        g.fillText(lane === 0 ? "its marks move" : "same bundle", 14, top + laneTall / 2 + 15);
      g.fillStyle = c.line;
      g.fillRect(0, top + laneTall - 1, width, 1);
    });
    drawRuler(g, c, {
      ...view,
      x0: NAME_PX,
      width,
      top: tall - RULER_PX,
      tall: RULER_PX,
      rate: all[0]?.rate ?? 48000,
      offset: all[0]?.offset_s ?? 0,
    });
    if (drag && "line" in drag && drag.moving && map) {
      const x = view.toPx(drag.time);
      g.fillStyle = c.field;
      g.fillRect(x - 1.25, 0, 2.5, tall);
      g.fillStyle = c.ink;
      type(g, 13, 700);
      g.fillText(
        `${placeWords(map, drag.line)} ${signed(1000 * (drag.time - map.toSeconds(drag.line)))} ms`,
        x + 7,
        HEAD_PX + 16,
      );
    }
    const marked =
      drag && "range" in drag
        ? [drag.range, drag.to].sort((a, b) => a - b)
        : state.selection?.kind === "range"
          ? [state.selection.from, state.selection.to]
          : null;
    if (marked) {
      const from = Math.max(NAME_PX, view.toPx(marked[0])),
        to = view.toPx(marked[1]);
      g.fillStyle = c.field;
      g.globalAlpha = 0.16;
      if (to > from) g.fillRect(from, head, to - from, tall - head);
      g.globalAlpha = 1;
    }
    if (state.playhead !== null) {
      const x = view.toPx(state.playhead);
      if (x >= NAME_PX) {
        g.fillStyle = c.field;
        g.fillRect(x - 1, head, 2, tall - head);
      }
    }
    if (drag && "from" in drag && drag.moving) {
      const x = view.toPx(drag.time);
      g.fillStyle = c.ink;
      type(g, 13, 700);
      g.fillText(
        `${signed(1000 * (drag.time - (drag.from + (focus()?.offset_s ?? 0))))} ms`,
        x + 8,
        head + 16,
      );
    }
  }

  /** @param {CanvasRenderingContext2D} g @param {string} text @param {number} wide */
  function clipped(g, text, wide) {
    if (g.measureText(text).width <= wide) return text;
    let short = text;
    while (short.length > 1 && g.measureText(`${short}…`).width > wide) short = short.slice(0, -1);
    return `${short}…`;
  }

  const perRow = () => cellsIn(canvas.clientWidth);

  /** @param {MouseEvent} event */
  const at = (event) => {
    const frame = canvas.getBoundingClientRect();
    return { x: event.clientX - frame.left, y: event.clientY - frame.top };
  };

  /** Index of the mark near a pixel of the strip, or -1. @param {number} x */
  function markAt(x) {
    const shown = focus();
    if (!shown) return -1;
    const own = host.marks(shown.id),
      view = strip(),
      time = view.toTime(x);
    const k = lowerBound(own.times, time);
    let best = -1;
    for (const one of [k - 1, k])
      if (
        one >= 0 &&
        one < own.times.length &&
        Math.abs(view.toPx(own.times[one]) - x) < 6 &&
        (best < 0 || Math.abs(own.times[one] - time) < Math.abs(own.times[best] - time))
      )
        best = one;
    return best;
  }

  /** The bar or beat line near a pixel of the strip's head, in quarters, or null. @param {number} x */
  function lineAt(x) {
    const map = state.map;
    if (!map) return null;
    const view = strip(),
      q = map.toQuarters(view.toTime(x)),
      index = map.barOf(q + 1e-6),
      meter = map.meterAt(index),
      line = map.barLine(index);
    const wide = view.toPx(map.toSeconds(line + meter[1])) - view.toPx(map.toSeconds(line)),
      step = wide > 90 ? meter[3] : meter[1];
    const place = line + Math.round((q - line) / step) * step;
    return Math.abs(view.toPx(map.toSeconds(place)) - x) < 7 ? place : null;
  }

  /** @param {PointerEvent} event */
  function down(event) {
    canvas.focus();
    const where = at(event),
      shown = focus();
    if (!shown) return;
    const own = host.marks(shown.id);
    if (where.y > stripTall() && state.view.below === "stack") {
      const stack = host.stack(),
        note =
          stack &&
          noteAt(stack, canvas.clientWidth, where.x, where.y - stripTall() - 30, state.view.sheetTop);
      if (note) {
        host.select({ kind: "stacked", q: note.q });
        host.showTime(note.t);
        host.hear(note.t);
      }
      return;
    }
    if (where.y > stripTall()) {
      const count = perRow(),
        column = Math.floor((where.x - 14) / CELL_W),
        row = Math.floor((where.y - stripTall() - 26) / CELL_H + state.view.sheetTop);
      const order = sheetOrder(own.sure),
        mark = order[row * count + column];
      if (column >= 0 && column < count && mark !== undefined) {
        host.select({ kind: "onset", take: shown.id, t: own.take[mark] });
        host.showTime(own.times[mark]);
        host.hear(own.times[mark]);
      }
      return;
    }
    if (where.x < NAME_PX) return;
    const mark = markAt(where.x),
      line = where.y < HEAD_PX ? lineAt(where.x) : null;
    canvas.setPointerCapture(event.pointerId);
    if (line !== null) {
      drag = { line, time: state.map?.toSeconds(line) ?? 0, moving: false, x: where.x };
    } else if (
      event.shiftKey &&
      mark >= 0 &&
      (state.selection?.kind === "onset" || state.selection?.kind === "marks") &&
      state.selection.take === shown.id
    ) {
      // Shift and click adds a mark to those that are chosen, or takes it out.
      const ts = new Set(state.selection.kind === "marks" ? state.selection.ts : [state.selection.t]);
      if (!ts.delete(own.take[mark])) ts.add(own.take[mark]);
      host.select({ kind: "marks", take: shown.id, ts: [...ts].sort((a, b) => a - b) });
    } else if (event.shiftKey) {
      const time = strip().toTime(where.x);
      drag = { range: time, to: time };
    } else if (mark >= 0) {
      host.select({ kind: "onset", take: shown.id, t: own.take[mark] });
      drag = { take: shown.id, from: own.take[mark], time: own.times[mark], x: where.x, moving: false };
    } else {
      host.select(null);
      host.seek(strip().toTime(where.x));
      drag = { pan: where.x, startS: state.view.stripStart };
    }
  }

  /** @param {PointerEvent} event */
  function move(event) {
    const where = at(event),
      view = strip();
    host.pointAt(
      where.y < stripTall() && where.x > NAME_PX
        ? { time: view.toTime(where.x), q: state.map ? state.map.toQuarters(view.toTime(where.x)) : 0 }
        : null,
    );
    if (!drag) {
      canvas.style.cursor =
        where.y < stripTall() && (markAt(where.x) >= 0 || (where.y < HEAD_PX && lineAt(where.x) !== null))
          ? "ew-resize"
          : "default";
      return;
    }
    if ("from" in drag) {
      if (!drag.moving && Math.abs(where.x - drag.x) < 3) return;
      drag.moving = true;
      drag.time = view.toTime(where.x);
    } else if ("line" in drag) {
      if (!drag.moving && Math.abs(where.x - drag.x) < 3) return;
      drag.moving = true;
      // A line is pulled onto an attack; Shift frees it.
      const near = event.shiftKey || ["nothing", "samples"].includes(state.view.catch) ? -1 : markAt(where.x);
      drag.time = near >= 0 ? host.marks(focus()?.id ?? "").times[near] : view.toTime(where.x);
      host.foresee("pull", { time_s: drag.time, quarters: drag.line, free: true });
    } else if ("range" in drag) {
      drag.to = view.toTime(where.x);
    } else if (Math.abs(where.x - drag.pan) > 3)
      state.view.stripStart = drag.startS - (where.x - drag.pan) / view.perS;
    ask();
  }

  /** @param {PointerEvent} event */
  function up(event) {
    const done = drag;
    drag = null;
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    if (done && "from" in done && done.moving)
      host.moveMark(done.take, done.from, done.time - (focus()?.offset_s ?? 0), event.shiftKey);
    if (done && "line" in done && done.moving) host.pull(done.time, done.line, true);
    if (done && "range" in done && Math.abs(done.to - done.range) * strip().perS > 6)
      host.select({ kind: "range", from: Math.min(done.range, done.to), to: Math.max(done.range, done.to) });
    ask();
  }

  function cancel() {
    const was = drag !== null;
    host.foreseen();
    drag = null;
    ask();
    return was;
  }

  /** @param {WheelEvent} event */
  function wheel(event) {
    event.preventDefault();
    const where = at(event);
    if (where.y > stripTall()) {
      state.view.sheetTop += event.deltaY / CELL_H;
      ask();
      return;
    }
    const view = strip();
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey) {
      state.view.stripStart += (event.deltaX || event.deltaY) / view.perS;
      ask();
      return;
    }
    const time = view.toTime(where.x),
      factor = Math.exp(event.deltaY * 0.0015);
    state.view.stripSpan *= factor;
    state.view.stripStart =
      time - (where.x - NAME_PX) / ((canvas.clientWidth - NAME_PX - 10) / state.view.stripSpan);
    ask();
  }

  canvas.addEventListener("pointerdown", down);
  canvas.addEventListener("pointermove", move);
  canvas.addEventListener("pointerup", up);
  canvas.addEventListener("pointercancel", cancel);
  canvas.addEventListener("pointerleave", () => host.pointAt(null));
  canvas.addEventListener("wheel", wheel, { passive: false });
  return {
    draw: ask,
    cancel,
    /** @param {number} index */
    show(index) {
      if (state.map) host.showTime(state.map.toSeconds(state.map.barLine(index)));
      ask();
    },
    inSight() {
      const map = state.map,
        bars = state.picture.bars;
      if (!map || !bars.length) return [0, 0];
      const first = bars.findIndex((bar) => bar.e > state.view.stripStart + 0.01),
        end = state.view.stripStart + state.view.stripSpan;
      let last = first;
      while (last + 1 < bars.length && bars[last + 1].s < end - 0.01) last++;
      return [Math.max(0, first), Math.max(0, last)];
    },
    destroy() {
      ask.cancel();
      canvas.remove();
    },
    pixelOf: null,
    /** Client pixels of the middle of the k-th place of the stack, for tests. @param {number} k */
    pixelOfNote(k) {
      const frame = canvas.getBoundingClientRect(),
        cells = stackCells(canvas.clientWidth, host.stack()?.takes.length ?? 1);
      return {
        x: frame.left + cells.left(k) + cells.w / 2,
        y:
          frame.top +
          stripTall() +
          30 +
          (Math.floor(k / cells.count) - state.view.sheetTop) * cells.rowTall +
          cells.h / 2,
      };
    },
    /** Client pixels of a moment on the strip, for tests. @param {number} time */
    pixelOfTime(time) {
      const frame = canvas.getBoundingClientRect();
      return { x: frame.left + strip().toPx(time), y: frame.top + stripTall() * 0.4 };
    },
  };
}
