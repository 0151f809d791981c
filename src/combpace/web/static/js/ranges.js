// @ts-check
// A long session's picture comes in short: map and bars packed, marks and fit in ranges. Here they become
// what the views draw from.

/**
 * @typedef {{onsets: Record<string, {t: number[], s: number[], c: number[], j: number[]}>, fit: null | {pegs: any[],
 *   riding: any[], source: number[], target: number[], pauses: number[]}}} Part  one range
 */

/** Base64 of 64-bit floats, the least byte first. @param {string} text @returns {number[]} */
export function floats(text) {
  const raw = atob(text),
    bytes = new DataView(new ArrayBuffer(raw.length));
  for (let k = 0; k < raw.length; k++) bytes.setUint8(k, raw.charCodeAt(k));
  return Array.from({ length: raw.length / 8 }, (_, k) => bytes.getFloat64(8 * k, true));
}

/**
 * Numbers that rise in even steps.
 * @param {string | {from: number, steps: [number, number][]}} packed
 * @returns {number[]}
 */
export function stepped(packed) {
  if (typeof packed === "string") return floats(packed);
  const made = [packed.from];
  for (const [step, often] of packed.steps)
    for (let k = 0; k < often; k++) made.push(made[made.length - 1] + step);
  return made;
}

/**
 * Rows of bars from their columns; the rest follows from the map.
 * @param {any} columns
 * @param {import("./views/map.js").TempoMap} map
 * @param {string[]} names of the map's meters
 * @returns {any[]}
 */
export function rowsOf(columns, map, names) {
  const { meters } = map.table,
    rows = [];
  // Meters in their order, so that each bar is one step on.
  let q = map.barLine(columns.i),
    at = meters.indexOf(map.meterAt(columns.i));
  for (let k = 0; k < columns.s.length; k++) {
    const i = columns.i + k;
    while (at + 1 < meters.length && meters[at + 1][0] <= i) at++;
    const [, len, beats] = meters[at];
    rows.push({
      i,
      n: i >= 0 ? i + 1 : i,
      q,
      len,
      beats,
      meter: names[at],
      s: columns.s[k],
      e: columns.s[k + 1] ?? columns.e,
      bpm: columns.bpm[k],
      drift: columns.drift[k],
      sure: columns.sure[k],
    });
    q += len;
  }
  return rows;
}

/**
 * A picture as the views know it, with the ranges that came with it. A picture that is whole stays as it is.
 * @param {any} picture  as it came
 * @param {(table: any) => any} makeMap
 */
export function unpacked(picture, makeMap) {
  if (!picture.ranged) return picture;
  const made = { ...picture };
  if (made.map) {
    made.map = {
      ...made.map,
      times: floats(made.map.times),
      quarters: stepped(made.map.quarters),
      ...(made.map.bends ? { bends: floats(made.map.bends) } : {}),
    };
    made.bars = rowsOf(made.bars, makeMap(made.map), made.names);
  }
  joined(made);
  return made;
}

/**
 * Put ranges that came later into a picture.
 * @param {import("./store.js").Picture} picture
 * @param {Record<string, Part>} parts
 */
export function filled(picture, parts) {
  Object.assign(picture.ranged.parts, parts);
  joined(picture);
}

/** The lists of a picture from its ranges, in their order. @param {import("./store.js").Picture} picture */
function joined(picture) {
  const parts = /** @type {Part[]} */ (
    Object.keys(picture.ranged.parts)
      .map(Number)
      .sort((a, b) => a - b)
      .map((k) => picture.ranged.parts[k])
  );
  picture.onsets = {};
  for (const take of new Set(parts.flatMap((part) => Object.keys(part.onsets)))) {
    const of = parts.map((part) => part.onsets[take] ?? { t: [], s: [], c: [], j: [] });
    picture.onsets[take] = {
      t: of.flatMap((one) => one.t),
      s: of.flatMap((one) => one.s),
      c: of.flatMap((one) => one.c),
      j: of.flatMap((one) => one.j),
    };
  }
  const fits = parts.flatMap((part) => (part.fit ? [part.fit] : []));
  if (!picture.fit || "missing" in picture.fit || !fits.length) return;
  /** @type {number[]} */
  const source = [];
  /** @type {number[]} */
  const target = [];
  // Ranges share the points on either side of where they meet.
  for (const fit of fits)
    fit.source.forEach((one, k) => {
      if (!source.length || one > source[source.length - 1]) {
        source.push(one);
        target.push(fit.target[k]);
      }
    });
  picture.fit = {
    ...picture.fit,
    pegs: fits.flatMap((fit) => fit.pegs),
    riding: fits.flatMap((fit) => fit.riding),
    pauses: fits.flatMap((fit) => fit.pauses),
    source,
    target,
  };
}

/**
 * Indices of the ranges that lie in a stretch of the session, as played or as the fit takes them there.
 * @param {import("./store.js").Picture} picture
 * @param {number} from session seconds
 * @param {number} to
 * @returns {number[]}
 */
export function within(picture, from, to) {
  const { s, count } = picture.ranged,
    edges = picture.fit && "edges" in picture.fit ? picture.fit.edges : undefined,
    found = new Set();
  const add = (/** @type {number} */ low, /** @type {number} */ high) => {
    for (let k = Math.max(0, low); k <= Math.min(count - 1, high); k++) found.add(k);
  };
  const clamp = (/** @type {number} */ k) => Math.min(count - 1, Math.max(0, k));
  for (const take of picture.takes) {
    if (!(take.id in picture.onsets)) continue;
    add(clamp(Math.floor((from - take.offset_s) / s)), clamp(Math.floor((to - take.offset_s) / s)));
  }
  if (edges) {
    const at = (/** @type {number} */ time) =>
      edges.filter((/** @type {number} */ edge) => edge <= time).length;
    add(at(from), at(to));
  }
  return /** @type {number[]} */ ([...found]).sort((a, b) => a - b);
}
