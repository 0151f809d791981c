// @ts-check
// Which sentence of a fit is about a bar, as the server has them.

/**
 * @typedef {import("../wire.js").RangeRule} RangeRule
 */

/**
 * The sentence of some bars that pulls one of them: of several the later one; null where there is none.
 * @param {any} fit
 * @param {{i: number}} bar
 * @returns {RangeRule | null}
 */
export function rangeOf(fit, bar) {
  const ranges = /** @type {RangeRule[]} */ (fit?.ranges ?? []);
  return ranges.filter((one) => one.first <= bar.i && bar.i <= one.last).at(-1) ?? null;
}

/**
 * What is drawn of the sentence that a bar is pulled by: that of some bars, or the one of all of them.
 * @param {any} fit
 * @param {{i: number}} bar
 */
export const ruleOf = (fit, bar) => rangeOf(fit, bar) ?? fit ?? null;
