// @ts-check
// The weave from attack strengths, as the server makes it (combpace/drawing/weave.py): for maps that are only
// tried.
import { OVER } from "./comb_geometry.js";

const PER_S = 100,
  MOST_ROWS = 2000;

/**
 * @param {import("./map.js").TempoMap} map
 * @param {Uint8Array} strength a byte each hundredth of a second of the lead
 * @param {number} offset session time of its start
 * @param {number} [columns]
 * @returns {import("./weave.js").Weave}
 */
export function weaveFrom(map, strength, offset, columns = 480) {
  const end = offset + strength.length / PER_S,
    first = map.barOf(map.toQuarters(Math.max(0, offset)));
  const rows = Math.max(1, Math.min(MOST_ROWS, map.barOf(map.toQuarters(end)) - first + 1)),
    dark = new Uint8Array(rows * columns);
  const at = (/** @type {number} */ frame) => (frame < 0 || frame >= strength.length ? 0 : strength[frame]);
  for (let row = 0; row < rows; row++) {
    const start = map.toSeconds(map.barLine(first + row)),
      length = map.toSeconds(map.barLine(first + row + 1)) - start;
    const edge = (/** @type {number} */ k) =>
      Math.floor((start + length * (-OVER + ((1 + 2 * OVER) * k) / columns) - offset) * PER_S);
    let low = edge(0);
    for (let k = 0; k < columns; k++) {
      const next = edge(k + 1);
      dark[row * columns + k] = Math.max(at(low), at(Math.max(next, low + 1) - 1));
      low = next;
    }
  }
  return { rows, columns, first, dark, map };
}

/**
 * A steady map turned about its bar 1 to another tempo.
 * @param {import("./map.js").MapTable} table
 * @param {number} factor new tempo over the old
 */
export function turned(table, factor) {
  const [t0, t1] = table.times,
    [q0, q1] = table.quarters,
    bar1 = t0 - (q0 * (t1 - t0)) / (q1 - q0);
  return { ...table, times: table.times.map((time) => bar1 + (time - bar1) / factor) };
}

/**
 * @param {number} quarters a minute
 * @param {number} bar1 session time
 * @param {number[][]} meters as a map's table has them
 */
export const steadyTable = (quarters, bar1, meters) => ({
  times: [bar1, bar1 + 60 / quarters],
  quarters: [0, 1],
  meters,
});
