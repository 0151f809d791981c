// @ts-check
// What a pull by hand does to its neighbours, while it is pulled: the rules of core/fit/pegs.py, told by the
// same examples.

// So many onsets on either side give way.
const MOST_GROWN = 8;
// What is the onset itself.
const SAME_S = 0.005;

/**
 * @typedef {[number, number, number, number, string]} Peg  take second, own and target in session seconds,
 *   quarters, kind
 */
/**
 * @typedef {{from: number, to: number, factor: number, gone: number}} Side  session seconds of the stretch on
 *   that side, its factor, how many onsets gave way
 */

/**
 * The stretches on both sides of a pulled onset; null on a side where nothing holds.
 * @param {Peg[]} pegs in order
 * @param {number[]} limits good range of factors
 * @param {{take: number, own: number, target: number}} pull
 * @returns {{left: Side | null, right: Side | null}}
 */
export function pullRegion(pegs, limits, pull) {
  const others = pegs.filter((one) => Math.abs(one[0] - pull.take) > SAME_S),
    after = others.findIndex((one) => one[0] > pull.take);
  const split = after < 0 ? others.length : after;
  return {
    left: side(others.slice(0, split).reverse(), limits, pull),
    right: side(others.slice(split), limits, pull),
  };
}

/**
 * @param {Peg[]} beside the nearest first
 * @param {number[]} limits
 * @param {{take: number, own: number, target: number}} pull
 * @returns {Side | null}
 */
function side(beside, [low, high], { take, own, target }) {
  for (let gone = 0; gone < beside.length; gone++) {
    const [time, itsOwn, itsTarget, , kind] = beside[gone],
      source = take - time;
    const factor = (target - itsTarget) / source,
      alone = (own - itsOwn) / source;
    const good = factor >= low && factor <= high,
      firm = kind === "hand" || kind === "as played" || kind === "held" || alone < low || alone > high;
    if (good || firm || gone === MOST_GROWN)
      return { from: Math.min(itsTarget, target), to: Math.max(itsTarget, target), factor, gone };
  }
  return null;
}

/**
 * A pull in words: by how much, to where, and what its neighbours become.
 * @param {{left: Side | null, right: Side | null}} region
 * @param {number[]} limits
 */
export function regionWords({ left, right }, [low, high]) {
  const one = (/** @type {Side | null} */ of) => (of ? of.factor.toFixed(2) : "free"),
    gone = (left?.gone ?? 0) + (right?.gone ?? 0);
  const beyond = [left, right].some((of) => of && (of.factor < low || of.factor > high));
  return (
    `before ${one(left)}, after ${one(right)}` +
    `${gone ? `; ${gone} onset${gone === 1 ? " gives" : "s give"} way` : ""}` +
    `${beyond ? `; good is ${low}–${high}` : ""}`
  );
}
