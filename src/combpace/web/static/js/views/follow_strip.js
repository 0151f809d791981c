// @ts-check
// A loop over the bars of the session: where it begins, how long one round is, where the last one ends. All
// three are pulled to bar lines.
import { colours, prepared, type } from "./paint.js";

// Grips are caught this near, and numbers stand this far apart, px.
const GRIP_PX = 7,
  NUMBER_PX = 34,
  RULER = 15;
// So many bars are seen beyond the end, so that there is room to pull it to.
const BEYOND = 2;

/**
 * Geometry of the strip.
 * @param {{width: number, lines: number[], rounds: number[]}} what lines: seconds of bar lines, of bar
 *   indices `first` on; rounds: starts and the last end, s
 */
export function makeFollowStrip({ width, lines, rounds }) {
  const from = lines[0],
    span = Math.max(1e-3, lines[lines.length - 1] - from);
  const xOf = (/** @type {number} */ time) => ((time - from) / span) * width;
  /** Index into `lines` nearest to a pixel. @param {number} x */
  const lineAt = (x) =>
    lines.reduce((best, time, k) => (Math.abs(xOf(time) - x) < Math.abs(xOf(lines[best]) - x) ? k : best), 0);
  return {
    xOf,
    lineAt,
    /** What lies under a pixel. @param {number} x @returns {"length" | "end" | "body" | null} */
    hit(x) {
      const last = rounds[rounds.length - 1],
        first = rounds[1];
      // Where both ends are one, its left half is the length and its right half where it goes on to.
      if (rounds.length === 2 && Math.abs(x - xOf(first)) <= GRIP_PX)
        return x <= xOf(first) ? "length" : "end";
      if (Math.abs(x - xOf(first)) <= GRIP_PX) return "length";
      if (Math.abs(x - xOf(last)) <= GRIP_PX) return "end";
      return x >= xOf(rounds[0]) - GRIP_PX && x <= xOf(last) ? "body" : null;
    },
  };
}

/**
 * What a pull does, in whole bars of the session.
 * @param {"length" | "end" | "body"} what
 * @param {number} from index of the bar line it was caught at
 * @param {number} to index of the line it is pulled to
 * @param {number} first index of the bar on which the loop begins
 * @returns {{kind: "first" | "length" | "until", bar: number} | null} bar: an index, of "length" a number of
 *   bars; null where that is no place for it
 */
export function pulledTo(what, from, to, first) {
  if (what === "body") return { kind: "first", bar: first + to - from };
  if (to <= first) return null;
  return what === "length" ? { kind: "length", bar: to - first } : { kind: "until", bar: to };
}

/**
 * Indices and seconds of the bar lines that a strip shows.
 * @param {import("../views/map.js").TempoMap} map
 * @param {number[]} rounds
 * @param {number} end_s
 */
export function linesOf(map, rounds, end_s) {
  const end = Math.max(end_s, rounds[rounds.length - 1]),
    first = Math.min(0, map.barOf(map.toQuarters(rounds[0]) + 1e-6));
  const last = map.barOf(map.toQuarters(end) - 1e-3) + 1 + BEYOND;
  const indices = Array.from({ length: last - first + 1 }, (_, k) => first + k);
  return { first, lines: indices.map((index) => map.toSeconds(map.barLine(index))) };
}

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{first: number, lines: number[], rounds: number[], columns: {low: number, high: number}[], gain:
 *   number}} what
 * @param {{x: number, kind: string} | null} pull where it is being pulled to
 */
export function drawFollowStrip(canvas, what, pull) {
  const { g, width, height } = prepared(canvas),
    ink = colours(),
    { lines, rounds, first } = what,
    strip = makeFollowStrip({ width, lines, rounds });
  const top = RULER + 2,
    mid = (top + height) / 2,
    half = (height - top) / 2 - 3;
  g.strokeStyle = ink.line;
  g.lineWidth = 1;
  type(g, 11, 500);
  let beyond = -Infinity;
  for (let k = 0; k < lines.length; k++) {
    const x = Math.round(strip.xOf(lines[k])) + 0.5,
      index = first + k;
    g.beginPath();
    g.moveTo(x, RULER - 4);
    g.lineTo(x, height);
    g.stroke();
    if (x - beyond < NUMBER_PX || x > width - 14) continue;
    g.fillStyle = ink.quiet;
    g.fillText(String(index >= 0 ? index + 1 : `−${-index}`), x + 3, RULER - 4);
    beyond = x;
  }
  for (let turn = 0; turn + 1 < rounds.length; turn++) {
    const x0 = strip.xOf(rounds[turn]),
      x1 = strip.xOf(rounds[turn + 1]),
      whole = strip.xOf(rounds[1]) - strip.xOf(rounds[0]);
    g.fillStyle = ink.panel;
    g.fillRect(x0, top, x1 - x0 - 1, height - top);
    g.fillStyle = ink.wave;
    g.globalAlpha = turn === 0 ? 1 : 0.45;
    const count = what.columns.length;
    for (let k = 0; k < count; k++) {
      const x = x0 + (k / count) * whole;
      if (x >= x1 - 1) break;
      const one = what.columns[k],
        high = Math.min(1, one.high * what.gain) * half,
        low = Math.max(-1, one.low * what.gain) * half;
      g.fillRect(x, mid - high, Math.max(0.7, whole / count), Math.max(0.8, high - low));
    }
    g.globalAlpha = 1;
  }
  // Its first attack, and both ends that can be pulled.
  g.fillStyle = ink.ink;
  g.fillRect(strip.xOf(rounds[0]) - 1, top, 2, height - top);
  for (const time of [rounds[1], rounds[rounds.length - 1]]) g.fillRect(strip.xOf(time) - 4, mid - 8, 3, 16);
  if (pull) {
    g.fillStyle = ink.field;
    g.fillRect(pull.x - 1, 0, 2, height);
  }
}
