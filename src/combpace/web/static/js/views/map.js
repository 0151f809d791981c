// @ts-check
// The session's map as a table the server made; evaluation only, no rules. Proven equal to Python by shared
// vectors.

/**
 * @typedef {{times: number[], quarters: number[], meters: number[][], bends?: number[]}} MapTable  bends:
 *   logarithm of the ramp of each span, none for steps
 */
/** @typedef {ReturnType<typeof makeMap>} TempoMap */

const over = (/** @type {number} */ top, /** @type {number} */ bottom, straight = 1) =>
  Math.abs(bottom) < 1e-12 ? straight : top / bottom;

/**
 * How far a span is run through in time where it is so far run through in quarters; a ramp's tempo is a
 * straight line over quarters.
 * @param {number} share
 * @param {number} bend
 */
function shareOfTime(share, bend) {
  const grown = Math.expm1(bend);
  if (share <= 0) return share * over(grown, bend);
  if (share >= 1) return 1 + (share - 1) * over(grown, bend) * Math.exp(-bend);
  return over(Math.log1p(grown * share), bend, share);
}

/** The inverse. @param {number} share @param {number} bend */
function shareOfQuarters(share, bend) {
  const grown = Math.expm1(bend);
  if (share <= 0) return share * over(bend, grown);
  if (share >= 1) return 1 + (share - 1) * over(bend, grown) * Math.exp(bend);
  return over(Math.expm1(bend * share), grown, share);
}

/**
 * Between points in a straight line or along a ramp, beyond both ends on at the slope there.
 * @param {number} x
 * @param {number[]} xs
 * @param {number[]} ys
 * @param {number[]} [bends]
 * @param {(share: number, bend: number) => number} [way]
 */
function follow(x, xs, ys, bends, way) {
  let low = 0,
    high = xs.length - 1;
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (xs[middle] <= x) low = middle;
    else high = middle;
  }
  let share = (x - xs[low]) / (xs[low + 1] - xs[low]);
  if (bends?.[low] && way) share = way(share, bends[low]);
  return share < 0.5
    ? ys[low] + share * (ys[low + 1] - ys[low])
    : ys[low + 1] - (1 - share) * (ys[low + 1] - ys[low]);
}

/** @param {MapTable} table */
export function makeMap(table) {
  const { times, quarters, meters, bends } = table;
  /** Index into meters that holds in a bar. @param {number} index */
  const meterAt = (index) => {
    let found = 0;
    for (let k = 1; k < meters.length; k++) if (meters[k][0] <= index) found = k;
    return meters[found];
  };
  /** Quarters of a bar's line. @param {number} index */
  const barLine = (index) => {
    if (index <= 0) return index * meters[0][1];
    let place = 0,
      at = 0;
    for (let k = 0; k < meters.length; k++) {
      const end = k + 1 < meters.length ? Math.min(index, meters[k + 1][0]) : index;
      if (end > at) {
        place += (end - at) * meters[k][1];
        at = end;
      }
    }
    return place;
  };
  return {
    table,
    /** @param {number} quarter */
    toSeconds: (quarter) => follow(quarter, quarters, times, bends, shareOfTime),
    /** @param {number} second */
    toQuarters: (second) => follow(second, times, quarters, bends, shareOfQuarters),
    barLine,
    meterAt,
    /** Index of the bar a place lies in. @param {number} place */
    barOf: (place) => {
      if (place < -1e-9) return Math.floor(place / meters[0][1] + 1e-9);
      let at = 0,
        start = 0;
      for (let k = 0; k < meters.length; k++) {
        const next = meters[k + 1];
        if (next && place >= start + (next[0] - at) * meters[k][1] - 1e-9) {
          start += (next[0] - at) * meters[k][1];
          at = next[0];
          continue;
        }
        return at + Math.floor((place - start) / meters[k][1] + 1e-9);
      }
      return at;
    },
  };
}

/**
 * Where a take's moments come to lie: its time map, on with slope 1 beyond both ends.
 * @param {number[]} source take seconds
 * @param {number[]} target session seconds
 */
export function makeTimeMap(source, target) {
  const through = (/** @type {number[]} */ from, /** @type {number[]} */ to) => (/** @type {number} */ x) => {
    const last = from.length - 1;
    if (x <= from[0]) return to[0] + x - from[0];
    if (x >= from[last]) return to[last] + x - from[last];
    let low = 0,
      high = last;
    while (high - low > 1) {
      const middle = (low + high) >> 1;
      if (from[middle] <= x) low = middle;
      else high = middle;
    }
    return to[low] + ((x - from[low]) / (from[high] - from[low])) * (to[high] - to[low]);
  };
  return { toTarget: through(source, target), toSource: through(target, source) };
}

/** 7·2.50, before bar 1 "lead-in −1·4". @param {TempoMap} map @param {number} quarter */
export function placeWords(map, quarter) {
  const { index, beat } = placeParts(map, quarter);
  return index >= 0 ? `${index + 1}·${beat}` : `lead-in −${-index}·${beat}`;
}

/**
 * Bar index and beat of a place, to a hundredth of a beat; what rounds to the next line is on it.
 * @param {import("../views/map.js").TempoMap} map
 * @param {number} quarter
 */
export function placeParts(map, quarter) {
  const index = map.barOf(quarter + 1e-6),
    meter = map.meterAt(index),
    hundredths = Math.floor((100 * Math.max(0, quarter - map.barLine(index))) / meter[3] + 0.5);
  return hundredths >= (100 * meter[1]) / meter[3] - 1e-6
    ? { index: index + 1, beat: 1 }
    : { index, beat: 1 + hundredths / 100 };
}

/**
 * The place that a text names: "5·2.5", "5.2.5", "5 2.5" or a bar alone; null where it names none.
 * @param {import("../views/map.js").TempoMap} map
 * @param {string} text
 */
export function readPlace(map, text) {
  const match = /^(?:lead-in\s*)?([−-]?\d+)(?:\s*[·:. ]\s*(\d+(?:[.,]\d+)?))?$/.exec(text.trim());
  const bar = Number((match?.[1] ?? "").replace("−", "-")),
    beat = Number((match?.[2] ?? "1").replace(",", "."));
  if (!match || bar === 0 || beat < 1) return null;
  const index = bar > 0 ? bar - 1 : bar,
    meter = map.meterAt(index);
  return beat < meter[1] / meter[3] + 1 ? map.barLine(index) + (beat - 1) * meter[3] : null;
}

/** 0:15.842 @param {number} seconds */
export function clockWords(seconds) {
  // A hair before zero is zero: the start of an attack that opens its file.
  const ms = seconds < 0 && seconds > -0.0015 ? 0 : Math.floor(Math.abs(seconds) * 1000 + 0.5);
  const sign = seconds < 0 && ms > 0 ? "−" : "";
  return (
    `${sign}${Math.floor(ms / 60000)}:${String(Math.floor(ms / 1000) % 60).padStart(2, "0")}.` +
    `${String(ms % 1000).padStart(3, "0")}`
  );
}

/** +3.4, −24.1 @param {number} ms */
export const signed = (ms) => {
  const tenths = Math.floor(Math.abs(ms) * 10 + 0.5);
  return `${tenths ? (ms > 0 ? "+" : "−") : ""}${(tenths / 10).toFixed(1)}`;
};

/** Reads 0:15.842, 15.842 or 15,842; NaN for anything else. @param {string} text */
export function readClock(text) {
  const clean = text.trim().replace(",", ".").replace("−", "-");
  const match = /^(-?)(?:(\d+):)?(\d+(?:\.\d*)?|\.\d+)$/.exec(clean);
  if (!match) return NaN;
  const value = Number(match[3]) + 60 * Number(match[2] ?? 0);
  return match[1] ? -value : value;
}

/**
 * Where a moment lies against the grid in sight: the place nearest to it, ms (early is negative) and the
 * share of the grid's step.
 * @param {TempoMap} map
 * @param {number} time
 * @param {string} grid
 * @returns {{q: number, ms: number, share: number}}
 */
export function againstGrid(map, time, grid) {
  const q = map.toQuarters(time),
    index = map.barOf(q + 1e-9),
    meter = map.meterAt(index),
    line = map.barLine(index);
  const places = gridPlaces(grid, meter[1], meter[3]).map((place) => line + place);
  const near = places.reduce((best, place) => (Math.abs(place - q) < Math.abs(best - q) ? place : best)),
    at = places.indexOf(near);
  const step = places.length > 1 ? (at > 0 ? near - places[at - 1] : places[1] - near) : meter[1];
  return { q: near, ms: 1000 * (time - map.toSeconds(near)), share: (q - near) / step };
}

const STEPS = /** @type {Record<string, number>} */ ({
  "1/8": 0.5,
  "1/8t": 1 / 3,
  "1/16": 0.25,
  "1/16t": 1 / 6,
  "1/32": 0.125,
  "1/32t": 1 / 12,
  "1/64": 0.0625,
});

/**
 * Places of a visible grid in one bar, from its line to the next, both included.
 * @param {string} grid "bars", "beats", "1/8", ...
 * @param {number} length quarters
 * @param {number} beat quarters
 */
export function gridPlaces(grid, length, beat) {
  if (grid === "bars") return [0, length];
  const step = grid === "beats" ? beat : (STEPS[grid] ?? beat);
  const places = [];
  for (let k = 0; k * step < length - 1e-9; k++) places.push(k * step);
  places.push(length);
  return places;
}
