// @ts-check
// How a sound begins and ends, and how long a context is waited for.

// A sound device answers sooner.
const DEVICE_MS = 5000;

/**
 * Let a run come up where it begins a range, and die away where it ends it.
 * @param {AudioParam} gain
 * @param {import("./player.js").Run} run
 * @param {number} late frames that it misses
 * @param {number} rate
 * @param {number[]} range frames [first, end)
 * @param {number} upS
 * @param {number} downS
 */
export function fadeEnds(gain, run, late, rate, [first, end], upS, downS) {
  const from = (run.ctx + late) / rate,
    to = (run.ctx + run.length) / rate;
  if (run.pos === first) {
    gain.setValueAtTime(0, from);
    gain.linearRampToValueAtTime(1, from + upS);
  }
  if (run.pos + run.length === end) {
    gain.setValueAtTime(1, Math.max(from + upS, to - downS));
    gain.linearRampToValueAtTime(0, to);
  }
}

/**
 * Wait until a context runs; a browser without a sound device never starts it, and says nothing.
 * @param {AudioContext} context
 */
export function running(context) {
  /** @type {number | undefined} */
  let timer;
  const late = new Promise((_, refuse) => {
    timer = window.setTimeout(
      () =>
        refuse(
          new Error(
            "the browser found no device to play on, or does not let this page play. Everything else works.",
          ),
        ),
      DEVICE_MS,
    );
  });
  return Promise.race([context.resume(), late]).finally(() => clearTimeout(timer));
}
