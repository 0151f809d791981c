// @ts-check
// Notes of parts in the comb's rows: thin lines, height is pitch, thickness is velocity.
import { lowerBound } from "./comb_geometry.js";

/** @typedef {[number, number, number, number]} Note  start and end in session seconds, key, velocity */

/** Lowest and highest key of notes, at least an octave apart. @param {Note[]} notes @returns {[number, number]} */
export function keysOf(notes) {
  let low = 127, high = 0;
  for (const [, , key] of notes) { low = Math.min(low, key); high = Math.max(high, key); }
  const lack = Math.max(0, 12 - (high - low));
  return [low - lack / 2, high + lack / 2];
}

/** How thick a note is drawn, pixels. @param {number} velocity */
export const thickness = (velocity) => 1 + 2 * (velocity / 127);

/**
 * All parts that are heard, in one row.
 * @param {CanvasRenderingContext2D} g @param {Record<string, string>} c @param {import("./comb_geometry.js").Comb} comb @param {import("../pages/host.js").Host} host @param {any} bar @param {number} y @param {number} tall
 */
export function drawNotes(g, c, comb, host, bar, y, tall) {
  const map = host.state.map, parts = host.state.picture.parts ?? [];
  if (!map || !parts.length || tall < 16) return;
  for (const part of parts) {
    if (host.state.sound.mix[part.id]?.mute) continue;
    /** @type {Note[]} */
    const notes = part.notes, [low, high] = (part.keys ??= keysOf(notes)), starts = (part.starts ??= notes.map((note) => note[0]));
    // What began before the row may last into it: a bar back is looked at.
    for (let k = lowerBound(starts, bar.s - (bar.e - bar.s) * 2); k < notes.length && notes[k][0] < bar.e; k++) {
      const [start, end, key, velocity] = notes[k];
      if (end <= bar.s) continue;
      const a = comb.xOf(map.toQuarters(Math.max(start, bar.s)), bar), b = comb.xOf(map.toQuarters(Math.min(end, bar.e)), bar), thick = thickness(velocity);
      g.fillStyle = c.ink;
      g.globalAlpha = 0.75;
      g.fillRect(a, y + 5 + (1 - (key - low) / (high - low)) * (tall - 22) - thick / 2, Math.max(2, b - a - 1), thick);
    }
  }
  g.globalAlpha = 1;
}
