// @ts-check
// Which piece, and which cell of the grid, lies where.
import { lowerBound } from "./comb_geometry.js";

/**
 * @typedef {{number: number, start: number, stop: number, at: number, q: number, off: number | null, db:
 *   number, fadeIn: number | null, fadeOut: number | null, curve: [number, number][], own: boolean, alike:
 *   number}} Piece
 */

/**
 * The piece under a moment: of several the one that begins last, for it lies on top; null of none.
 * @param {Piece[]} pieces
 * @param {number} time
 */
export function pieceAt(pieces, time) {
  let found = null;
  for (const piece of pieces)
    if (time >= piece.at && time < piece.at + piece.stop - piece.start && (!found || piece.at >= found.at))
      found = piece;
  return found;
}

/**
 * Where a cut at a moment goes: freed, just there; else on the nearest attack of the piece that sounds, or on the
 * nearest place of the grid, as a drag would catch.
 * @param {number} time session seconds
 * @param {{pieces: Piece[], marks: number[], places: number[], map: {toQuarters: (time: number) => number,
 *   toSeconds: (q: number) => number}, free: boolean}} what  marks: take seconds; places: quarters of the session
 * @returns {{session_s: number, on_place?: boolean}}
 */
export function cutMoment(time, { pieces, marks, places, map, free }) {
  const piece = pieceAt(pieces, time);
  if (free || !piece) return { session_s: time };
  const end = piece.at + piece.stop - piece.start,
    attacks = marks.map((mark) => piece.at + mark - piece.start).filter((at) => at > piece.at && at < end);
  if (attacks.length) return { session_s: nearest(attacks, time) };
  if (!places.length) return { session_s: time };
  return { session_s: map.toSeconds(nearest(places, map.toQuarters(time))), on_place: true };
}

/** The nearest of some values. @param {number[]} values @param {number} to */
const nearest = (values, to) =>
  values.reduce((best, one) => (Math.abs(one - to) < Math.abs(best - to) ? one : best));

/**
 * The cell of the visible grid that holds a place: [from, to) in quarters.
 * @param {number} q
 * @param {{q: number, len: number}} bar
 * @param {number[]} places quarters from the bar's line, the next line included
 * @returns {[number, number]}
 */
export function cellAt(q, bar, places) {
  const all = [...new Set([0, ...places, bar.len])].sort((a, b) => a - b),
    inside = Math.min(bar.len - 1e-6, Math.max(0, q - bar.q));
  const k = Math.max(0, lowerBound(all, inside + 1e-9) - 1);
  return [bar.q + all[k], bar.q + (all[k + 1] ?? bar.len)];
}

/**
 * What a row says at its right: the largest distance of its pieces from where they were laid; null of none.
 * @param {Piece[]} pieces
 * @param {{s: number, e: number}} bar
 */
export function farthest(pieces, bar) {
  let most = null;
  for (const piece of pieces)
    if (
      piece.off !== null &&
      piece.at >= bar.s - 1e-3 &&
      piece.at < bar.e - 1e-3 &&
      (most === null || Math.abs(piece.off) > Math.abs(most))
    )
      most = piece.off;
  return most;
}
