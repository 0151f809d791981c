// @ts-check
// The stack: the same place of several takes above each other, one pixel a millisecond, the grid line through
// all; widest apart first.
import { placeWords, signed } from "./map.js";
import { type, wave } from "./paint.js";

/**
 * @typedef {{q: number, t: number, spread_ms: number, of: ([number, number] | null)[]}} Note  of: of each
 *   take [its moment, ms after the line] or null
 */
/** @typedef {{takes: {id: string, name: string}[], notes: Note[]}} Stack */

// Milliseconds on either side of the line, and pixels for each; gap between cells, a lane's height, what
// stands under a cell.
const REACH_MS = 85,
  PX_PER_MS = 1,
  GAP = 16,
  LANE = 30,
  FOOT = 22,
  NAMES = 96;

/** Where cells lie. @param {number} width @param {number} lanes */
export function stackCells(width, lanes) {
  const w = 2 * REACH_MS * PX_PER_MS,
    count = Math.max(1, Math.floor((width - NAMES - 14 + GAP) / (w + GAP)));
  return {
    w,
    h: lanes * LANE,
    count,
    rowTall: lanes * LANE + FOOT + 8,
    left: (/** @type {number} */ k) => NAMES + (k % count) * (w + GAP),
  };
}

/** Notes as they are shown: widest apart first. @param {Note[]} notes */
export const widestFirst = (notes) => [...notes].sort((a, b) => b.spread_ms - a.spread_ms || a.q - b.q);

/**
 * @param {CanvasRenderingContext2D} g
 * @param {any} c
 * @param {import("../pages/host.js").Host} host
 * @param {Stack} stack
 * @param {{top: number, width: number, height: number, scrolled: number}} where scrolled: rows of cells
 */
export function drawStack(g, c, host, stack, { top, width, height, scrolled }) {
  const cells = stackCells(width, stack.takes.length),
    notes = widestFirst(stack.notes),
    map = host.state.map;
  const chosen = host.state.selection?.kind === "stacked" ? host.state.selection.q : null,
    focus = host.state.focus;
  for (let k = Math.floor(scrolled) * cells.count; k < notes.length; k++) {
    const note = notes[k],
      x = cells.left(k),
      y = top + (Math.floor(k / cells.count) - scrolled) * cells.rowTall;
    if (y > height) break;
    const middle = x + cells.w / 2;
    if (k % cells.count === 0) {
      type(g, 11.5);
      stack.takes.forEach((take, lane) => {
        g.fillStyle = take.id === focus ? c.ink : c.quiet;
        g.fillText(short(g, take.name, NAMES - 22), 14, y + lane * LANE + LANE * 0.62);
      });
    }
    if (chosen !== null && Math.abs(chosen - note.q) < 1e-6) {
      g.fillStyle = c.chosen;
      g.fillRect(x - 5, y - 4, cells.w + 10, cells.h + FOOT + 2);
    }
    g.fillStyle = c.panel;
    g.fillRect(x, y, cells.w, cells.h);
    stack.takes.forEach((one, lane) => {
      const own = note.of[lane],
        take = host.take(one.id),
        up = y + lane * LANE;
      g.fillStyle = c.line;
      if (lane) g.fillRect(x, up, cells.w, 1);
      if (!own || !take) return;
      const [moment, off] = own,
        markX = middle + off * PX_PER_MS;
      g.fillStyle = c.wave;
      wave(g, host.peaks, take, {
        x0: Math.round(x),
        x1: Math.round(x + cells.w),
        mid: up + LANE / 2,
        half: LANE * 0.44,
        gain: localGain(host, take, moment),
        timeAt: (px) => take.offset_s + moment + (px - markX) / PX_PER_MS / 1000,
      });
      g.fillStyle = c.onset;
      g.fillRect(markX - 1, up + 1, 2, LANE - 2);
      type(g, 11.5, 500, off > 0 ? "left" : "right");
      // On the side where it is silent: before an early one there is nothing yet, behind a late one the line
      // is far.
      const text = signed(off),
        wide = g.measureText(text).width,
        at = off > 0 ? x + 3 : x + cells.w - 3;
      g.fillStyle = c.panel;
      g.globalAlpha = 0.85;
      g.fillRect(off > 0 ? at - 1 : at - wide - 1, up + 3, wide + 2, 13);
      g.globalAlpha = 1;
      g.fillStyle = c.ink;
      g.fillText(text, at, up + 13);
    });
    g.fillStyle = c.ink;
    g.fillRect(middle - 0.75, y, 1.5, cells.h);
    type(g, 12, 700);
    g.fillText(`${note.spread_ms.toFixed(0)} ms`, x, y + cells.h + 15);
    g.fillStyle = c.quiet;
    type(g, 12, 500, "right");
    if (map) g.fillText(placeWords(map, note.q), x + cells.w, y + cells.h + 15);
  }
  return Math.ceil(notes.length / cells.count);
}

/**
 * The note under a point, or null.
 * @param {Stack} stack
 * @param {number} width
 * @param {number} x
 * @param {number} y below the cells' top
 * @param {number} scrolled
 */
export function noteAt(stack, width, x, y, scrolled) {
  const cells = stackCells(width, stack.takes.length),
    row = Math.floor(y / cells.rowTall + scrolled),
    column = Math.floor((x - NAMES) / (cells.w + GAP));
  if (x < NAMES || column >= cells.count || x - cells.left(column) > cells.w) return null;
  return widestFirst(stack.notes)[row * cells.count + column] ?? null;
}

/**
 * An attack fills its lane, however soft.
 * @param {import("../pages/host.js").Host} host
 * @param {import("../store.js").ReadyTake} take
 * @param {number} moment
 */
function localGain(host, take, moment) {
  const out = [0, 0],
    at = moment * take.rate;
  if (!host.peaks.range(take.id, 32, at - 0.02 * take.rate, at + 0.05 * take.rate, out)) return 1;
  return Math.min(200, 0.95 / Math.max(0.002, Math.abs(out[0]), Math.abs(out[1])));
}

/** @param {CanvasRenderingContext2D} g @param {string} text @param {number} wide */
function short(g, text, wide) {
  let made = text.split(" - ").pop() ?? text;
  if (g.measureText(made).width <= wide) return made;
  while (made.length > 1 && g.measureText(`${made}…`).width > wide) made = made.slice(0, -1);
  return `${made}…`;
}
