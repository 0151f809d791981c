// @ts-check
// The comb's geometry: pure, run by node --test as it is.

/**
 * @typedef {{i: number, n: number, q: number, len: number, beats: number, meter: string, s: number, e:
 *   number, bpm: number, drift: number|null, sure: number}} Bar
 */
/** @typedef {ReturnType<typeof makeComb>} Comb */

export const LEFT_PX = 78,
  RIGHT_PX = 66,
  HEAD_PX = 24;
// A row reaches this share of a bar over both of its ends.
export const OVER = 1 / 8;

/**
 * @param {{width: number, height: number, bars: Bar[], top: number, rowPx: number}} view top: row at the
 *   upper edge, may be fractional
 */
export function makeComb({ width, height, bars, top, rowPx }) {
  const x0 = LEFT_PX,
    w = Math.max(50, width - LEFT_PX - RIGHT_PX);
  const first = Math.max(0, Math.floor(top)),
    last = Math.min(bars.length - 1, Math.floor(top + (height - HEAD_PX) / rowPx));
  return {
    x0,
    w,
    width,
    height,
    rowPx,
    top,
    first,
    last,
    /** Upper edge of a row. @param {number} row */
    yOf: (row) => HEAD_PX + (row - top) * rowPx,
    /** @param {number} quarter @param {Bar} bar */
    xOf: (quarter, bar) => x0 + (((quarter - bar.q) / bar.len + OVER) / (1 + 2 * OVER)) * w,
    /** @param {number} x @param {Bar} bar */
    qOf: (x, bar) => bar.q + (((x - x0) / w) * (1 + 2 * OVER) - OVER) * bar.len,
    /** Row under a height, or -1. @param {number} y */
    rowAt: (y) => {
      const row = Math.floor((y - HEAD_PX) / rowPx + top);
      return y < HEAD_PX || row < 0 || row >= bars.length ? -1 : row;
    },
  };
}

/**
 * How far a comb can be scrolled, in rows.
 * @param {number} bars
 * @param {number} height
 * @param {number} rowPx
 */
export const mostTop = (bars, height, rowPx) => Math.max(0, bars - (height - HEAD_PX) / rowPx + 0.3);

/**
 * Where rows are scrolled to so that one is in sight: nowhere if it is, else with three rows or a third of
 * what is seen before it.
 * @param {number} row
 * @param {number} top
 * @param {number} seen rows that have room
 */
export const topFor = (row, top, seen) =>
  row < top - 0.2 || row > top + seen - 1.5 ? Math.max(0, row - Math.min(3, seen / 3)) : top;

/** Index of the first value >= x in a sorted array. @param {number[]} values @param {number} x */
export function lowerBound(values, x) {
  let low = 0,
    high = values.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (values[middle] < x) low = middle + 1;
    else high = middle;
  }
  return low;
}

/**
 * What lies under the pointer.
 * @param {Comb} comb
 * @param {Bar[]} bars
 * @param {{x: number, y: number}} at
 * @param {{onsets: number[], toQuarters: (s: number) => number, toSeconds: (q: number) => number, anchors:
 *   {q: number}[]}} things onsets in session time, sorted
 * @returns {{row: number, bar: Bar, q: number, onset: number, anchor: number} | null} indices, -1 for none
 */
export function hitComb(comb, bars, at, things) {
  const row = comb.rowAt(at.y);
  if (row < 0) return null;
  const bar = bars[row];
  const q = comb.qOf(at.x, bar);
  const from = things.toSeconds(comb.qOf(at.x - 7, bar)),
    to = things.toSeconds(comb.qOf(at.x + 7, bar));
  let onset = -1,
    nearest = 8;
  for (let k = lowerBound(things.onsets, from); k < things.onsets.length && things.onsets[k] <= to; k++) {
    const distance = Math.abs(comb.xOf(things.toQuarters(things.onsets[k]), bar) - at.x);
    if (distance < nearest) {
      nearest = distance;
      onset = k;
    }
  }
  let anchor = -1;
  const inRow = (at.y - comb.yOf(row)) / comb.rowPx;
  if (inRow < 0.34) {
    nearest = 8;
    things.anchors.forEach((one, k) => {
      const distance = Math.abs(comb.xOf(one.q, bar) - at.x);
      if (distance < nearest) {
        nearest = distance;
        anchor = k;
      }
    });
  }
  return { row, bar, q, onset, anchor };
}

/**
 * The tooth a drag catches on: the nearest place of a grid within its bar, next line included.
 * @param {number} q
 * @param {Bar} bar
 * @param {number[]} places quarters from the bar's line
 */
export function caughtPlace(q, bar, places) {
  let best = bar.q;
  for (const place of [
    ...places,
    ...places.map((one) => one - bar.len).filter((one) => one < 0 && one > -OVER * bar.len * 1.01),
  ]) {
    if (Math.abs(bar.q + place - q) < Math.abs(best - q)) best = bar.q + place;
  }
  return best;
}

/**
 * The close comb: a column a beat, 60 ms about each tooth.
 * @param {{width: number, height: number, beats: number, top: number, rowPx: number, bars: number}} view
 */
export function makeCloseComb({ width, height, beats, top, rowPx, bars }) {
  const x0 = 52,
    gap = 12,
    head = 44,
    reach = 0.06;
  const cell = Math.max(40, (width - x0 - 12) / beats - gap);
  return {
    x0,
    cell,
    gap,
    head,
    reach,
    rowPx,
    top,
    first: Math.max(0, Math.floor(top)),
    last: Math.min(bars - 1, Math.floor(top + (height - head) / rowPx)),
    /** @param {number} row */
    yOf: (row) => head + (row - top) * rowPx,
    /** Left edge of a column. @param {number} beat counted from 0 */
    left: (beat) => x0 + beat * (cell + gap),
    /** @param {number} beat @param {number} offset seconds from the tooth */
    xOf: (beat, offset) => x0 + beat * (cell + gap) + ((offset + reach) / (2 * reach)) * cell,
    /** @param {number} x @param {number} y @returns {{row: number, beat: number, offset: number} | null} */
    at: (x, y) => {
      const row = Math.floor((y - head) / rowPx + top);
      const beat = Math.floor((x - x0) / (cell + gap));
      const inside = x - x0 - beat * (cell + gap);
      if (y < head || row < 0 || row >= bars || beat < 0 || beat >= beats || inside > cell) return null;
      return { row, beat, offset: (inside / cell) * 2 * reach - reach };
    },
  };
}

/** The value nearest to x in a sorted array, null of none. @param {number[]} values @param {number} x */
export function nearest(values, x) {
  const k = lowerBound(values, x),
    before = values[k - 1],
    after = values[k];
  if (before === undefined) return after ?? null;
  return after === undefined || x - before < after - x ? before : after;
}
