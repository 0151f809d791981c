// @ts-check
// What a pull by hand does to its neighbours, while it is pulled: the rules of core/fit/pegs.py, told by the
// same examples.

// Who is pulled past has no room: less than this between both, or factors beyond these.
const LEAST_GAP_S = 0.002,
  FACTORS = [0.1, 10];
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
 * @param {{take: number, own: number, target: number}} pull
 * @returns {{left: Side | null, right: Side | null}}
 */
export function pullRegion(pegs, pull) {
  const others = pegs.filter((one) => Math.abs(one[0] - pull.take) > SAME_S),
    after = others.findIndex((one) => one[0] > pull.take);
  const split = after < 0 ? others.length : after;
  return { left: side(others.slice(0, split).reverse(), pull), right: side(others.slice(split), pull) };
}

/**
 * The stretch to the first neighbour that holds: a pull past one makes it give way, but never one by hand.
 * @param {Peg[]} beside the nearest first
 * @param {{take: number, own: number, target: number}} pull
 * @returns {Side | null}
 */
function side(beside, { take, target }) {
  for (let gone = 0; gone < beside.length; gone++) {
    const [time, , itsTarget, , kind] = beside[gone],
      source = take - time,
      factor = (target - itsTarget) / source;
    const room = factor >= FACTORS[0] && factor <= FACTORS[1] && Math.abs(target - itsTarget) >= LEAST_GAP_S;
    if (room || ["hand", "as played", "held"].includes(kind))
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
