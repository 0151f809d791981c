// @ts-check
// The click's two sounds, by the formula of core/click.py: the first sample is the attack.

/** @param {number} rate @param {boolean} downbeat */
export function clickSamples(rate, downbeat) {
  const length = Math.round(0.03 * rate),
    samples = new Float32Array(length);
  const [pitch, level] = downbeat ? [1960.0, 0.9] : [1318.5, 0.6];
  for (let k = 0; k < length; k++)
    samples[k] = level * Math.cos((2 * Math.PI * pitch * k) / rate) * Math.exp(-k / rate / 0.006);
  for (let k = 0; k < 32; k++) samples[length - 32 + k] *= 1 - k / 31;
  return samples;
}

/**
 * Beats of a map in a stretch of session time.
 * @param {import("../views/map.js").TempoMap} map
 * @param {number} from
 * @param {number} to seconds, [from, to)
 * @returns {{time: number, downbeat: boolean}[]}
 */
export function beatsBetween(map, from, to) {
  const beats = [];
  for (let index = map.barOf(map.toQuarters(from)); ; index++) {
    const line = map.barLine(index),
      meter = map.meterAt(index);
    if (map.toSeconds(line) >= to) return beats;
    for (let beat = 0; beat < meter[2]; beat++) {
      const time = map.toSeconds(line + beat * meter[3]);
      if (time >= from && time < to) beats.push({ time, downbeat: beat === 0 });
    }
  }
}

/**
 * What sounds at a mark where that is wished: higher and shorter than a beat's click, its first sample the
 * attack.
 * @param {number} rate
 */
export function tickSamples(rate) {
  const length = Math.round(0.012 * rate),
    samples = new Float32Array(length);
  for (let k = 0; k < length; k++)
    samples[k] = 0.5 * Math.cos((2 * Math.PI * 3520 * k) / rate) * Math.exp(-k / rate / 0.0025);
  for (let k = 0; k < 32; k++) samples[length - 32 + k] *= 1 - k / 31;
  return samples;
}
