// @ts-check
// Notes of parts in the comb's rows: thin lines, height is pitch, thickness is velocity.
import { lowerBound } from "./comb_geometry.js";

/**
 * @typedef {[number, number, number, number, number?, number?]} Note  start and end in session seconds, key,
 *   velocity, where it is written (quarters from its part's bar 1), 1 where it is pulled by hand
 */

// A note is caught this near to its line.
const HIT_PX = 5;

/**
 * Lowest and highest key of notes, at least an octave apart.
 * @param {Note[]} notes
 * @returns {[number, number]}
 */
export function keysOf(notes) {
  let low = 127,
    high = 0;
  for (const [, , key] of notes) {
    low = Math.min(low, key);
    high = Math.max(high, key);
  }
  const lack = Math.max(0, 12 - (high - low));
  return [low - lack / 2, high + lack / 2];
}

/** How thick a note is drawn, pixels. @param {number} velocity */
export const thickness = (velocity) => 1 + 2 * (velocity / 127);

/**
 * Where a key lies in a row, pixels.
 * @param {number} key
 * @param {number} low
 * @param {number} high
 * @param {number} y
 * @param {number} tall
 */
const heightOf = (key, low, high, y, tall) => y + 5 + (1 - (key - low) / (high - low)) * (tall - 22);

/**
 * The note whose line lies under a point of a row; null for none. Of several the one that begins nearest.
 * @param {import("./comb_geometry.js").Comb} comb
 * @param {import("../pages/host.js").Host} host
 * @param {import("../wire.js").BarRow} bar
 * @param {number} row
 * @param {{x: number, y: number}} where
 * @returns {{part: any, note: Note} | null}
 */
export function noteAt(comb, host, bar, row, where) {
  const map = host.state.map,
    y = comb.yOf(row),
    tall = comb.rowPx;
  if (!map || tall < 16) return null;
  let found = null,
    nearest = Infinity;
  for (const part of host.state.picture.parts ?? []) {
    if (host.state.sound.mix[part.id]?.mute || part.keeps === "time") continue;
    const notes = part.notes,
      [low, high] = (part.keys ??= keysOf(notes)),
      starts = (part.starts ??= notes.map((/** @type {Note} */ note) => note[0]));
    for (let k = lowerBound(starts, bar.s); k < notes.length && notes[k][0] < bar.e; k++) {
      const a = comb.xOf(map.toQuarters(notes[k][0]), bar),
        b = comb.xOf(map.toQuarters(Math.min(notes[k][1], bar.e)), bar),
        off = Math.abs(where.x - a);
      if (
        Math.abs(heightOf(notes[k][2], low, high, y, tall) - where.y) > HIT_PX ||
        where.x < a - HIT_PX ||
        where.x > Math.max(a + HIT_PX, b) ||
        off >= nearest
      )
        continue;
      nearest = off;
      found = { part, note: notes[k] };
    }
  }
  return found;
}

/**
 * All parts that are heard, in one row.
 * @param {CanvasRenderingContext2D} g
 * @param {Record<string, string>} c
 * @param {import("./comb_geometry.js").Comb} comb
 * @param {import("../pages/host.js").Host} host
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 */
export function drawNotes(g, c, comb, host, bar, y, tall) {
  const map = host.state.map,
    parts = host.state.picture.parts ?? [];
  if (!map || !parts.length || tall < 16) return;
  for (const part of parts) {
    if (host.state.sound.mix[part.id]?.mute) continue;
    /** @type {Note[]} */
    const notes = part.notes,
      [low, high] = (part.keys ??= keysOf(notes)),
      starts = (part.starts ??= notes.map((note) => note[0]));
    // What began before the row may last into it: a bar back is looked at.
    for (
      let k = lowerBound(starts, bar.s - (bar.e - bar.s) * 2);
      k < notes.length && notes[k][0] < bar.e;
      k++
    ) {
      const [start, end, key, velocity, own, pegged] = notes[k];
      if (end <= bar.s) continue;
      const a = comb.xOf(map.toQuarters(Math.max(start, bar.s)), bar),
        b = comb.xOf(map.toQuarters(Math.min(end, bar.e)), bar),
        thick = thickness(velocity),
        at = heightOf(key, low, high, y, tall);
      const chosen =
        host.state.selection?.kind === "note" &&
        host.state.selection.part === part.id &&
        Math.abs(host.state.selection.own - Number(own)) < 1e-4;
      if (chosen) {
        g.fillStyle = c.field;
        g.globalAlpha = 0.35;
        g.fillRect(a - 3, at - 5, Math.max(2, b - a - 1) + 6, 10);
      }
      g.fillStyle = c.ink;
      g.globalAlpha = 0.75;
      g.fillRect(a, at - thick / 2, Math.max(2, b - a - 1), thick);
      // Pulled by hand: an upright at its start, as a peg is a clip astride its tooth.
      if (pegged && start >= bar.s - 1e-6) {
        g.globalAlpha = 1;
        g.fillRect(a - 1.5, at - 5, 3, 10);
      }
    }
  }
  g.globalAlpha = 1;
}
