// @ts-check
// Down to single samples: the curve through them, and a ruler of time.
import { gainOf, type } from "./paint.js";

const TILE_BINS = 8192;
// Samples so far apart are joined by a line; so far apart each is a point.
const JOINED_PX = 0.5,
  POINTS_PX = 5;
const STEPS_S = [
  0.00001, 0.00002, 0.00005, 0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1,
  2, 5, 10, 30, 60, 120, 300,
];
const LEAST_PX = 84,
  MOST_TALLER = 64;

/**
 * The step of a ruler, and how many decimals its seconds have.
 * @param {number} perS pixels a second
 * @returns {{step: number, decimals: number}}
 */
export function rulerStep(perS) {
  const step = STEPS_S.find((one) => one * perS >= LEAST_PX) ?? 600;
  return { step, decimals: Math.max(0, -Math.floor(Math.log10(step) + 1e-9)) };
}

/**
 * Seconds as a ruler says them: "12.345", from a minute on "1:02.5".
 * @param {number} time
 * @param {number} decimals
 */
export function rulerWords(time, decimals) {
  const sign = time < 0 ? "−" : "",
    whole = Math.abs(time),
    minutes = Math.floor(whole / 60 + 1e-9);
  if (!minutes) return `${sign}${whole.toFixed(decimals)}`;
  const seconds = (whole - 60 * minutes).toFixed(decimals);
  return `${sign}${minutes}:${seconds.padStart(decimals ? 3 + decimals : 2, "0")}`;
}

/**
 * @param {CanvasRenderingContext2D} g
 * @param {{ink: string, quiet: string, ground: string, line: string}} c
 * @param {{x0: number, width: number, top: number, tall: number, toPx: (s: number) => number, toTime: (px:
 *   number) => number, perS: number, rate: number, offset: number}} where rate, offset: of the take whose
 *   samples are counted
 */
export function drawRuler(g, c, { x0, width, top, tall, toPx, toTime, perS, rate, offset }) {
  const { step, decimals } = rulerStep(perS),
    perSample = perS / rate;
  g.fillStyle = c.ground;
  g.fillRect(0, top, width, tall);
  g.fillStyle = c.line;
  g.fillRect(0, top, width, 1);
  g.save();
  g.beginPath();
  g.rect(x0, top, width - x0, tall);
  g.clip();
  if (perSample >= POINTS_PX) {
    g.fillStyle = c.quiet;
    g.globalAlpha = 0.5;
    for (let frame = Math.ceil((toTime(x0) - offset) * rate); frame / rate + offset < toTime(width); frame++)
      g.fillRect(toPx(frame / rate + offset) - 0.5, top, 1, 3);
    g.globalAlpha = 1;
  }
  type(g, 11.5);
  for (let k = Math.ceil(toTime(x0) / step); k * step < toTime(width); k++) {
    const x = toPx(k * step);
    g.fillStyle = c.ink;
    g.fillRect(x - 0.5, top, 1, 6);
    g.fillStyle = c.quiet;
    g.fillText(rulerWords(k * step, decimals), x + 4, top + tall - 4);
  }
  g.restore();
  g.fillStyle = c.quiet;
  type(g, 11.5);
  g.fillText(perSample >= POINTS_PX ? "s, and samples" : "seconds", 14, top + tall - 4);
}

/**
 * The curve through the samples of a take; whether so few are in sight that it is drawn.
 * @param {CanvasRenderingContext2D} g
 * @param {import("../api/peaks.js").Peaks} peaks
 * @param {{id: string, rate: number, offset_s: number, frames: number | null, peak?: number | null}} take
 * @param {{x0: number, x1: number, mid: number, half: number, toPx: (s: number) => number, toTime: (px:
 *   number) => number, perS: number}} where
 */
export function drawSamples(g, peaks, take, { x0, x1, mid, half, toPx, toTime, perS }) {
  const apart = perS / take.rate;
  if (apart < JOINED_PX) return false;
  const first = Math.max(0, Math.floor((toTime(x0) - take.offset_s) * take.rate)),
    last = Math.min((take.frames ?? 0) - 1, Math.ceil((toTime(x1) - take.offset_s) * take.rate));
  let loudest = 0;
  for (let frame = first; frame <= last; frame++) {
    const tile = peaks.tile(take.id, 1, Math.floor(frame / TILE_BINS));
    if (tile) loudest = Math.max(loudest, Math.abs(tile[2 * (frame % TILE_BINS)]) / 32767);
  }
  // What is soft is drawn taller, so that its crossings are seen; by how much is said.
  const usual = gainOf(take),
    taller =
      apart < POINTS_PX
        ? 1
        : Math.max(1, Math.min(MOST_TALLER, Math.floor(0.9 / Math.max(1e-6, loudest * usual)))),
    gain = usual * taller;
  g.beginPath();
  let begun = false;
  const points = [];
  for (let frame = first; frame <= last; frame++) {
    const tile = peaks.tile(take.id, 1, Math.floor(frame / TILE_BINS));
    if (!tile) {
      begun = false;
      continue;
    }
    const x = toPx(frame / take.rate + take.offset_s),
      y = mid - Math.max(-1, Math.min(1, (gain * tile[2 * (frame % TILE_BINS)]) / 32767)) * half;
    if (begun) g.lineTo(x, y);
    else g.moveTo(x, y);
    begun = true;
    if (apart >= POINTS_PX) points.push([x, y]);
  }
  g.strokeStyle = g.fillStyle;
  g.lineWidth = 1.4;
  g.lineJoin = "round";
  g.stroke();
  for (const [x, y] of points) g.fillRect(x - 1.75, y - 1.75, 3.5, 3.5);
  // Where the curve crosses nothing: attack starts lie on such a crossing.
  g.globalAlpha *= 0.35;
  g.fillRect(x0, mid - 0.5, x1 - x0, 1);
  g.globalAlpha /= 0.35;
  if (taller > 1) {
    type(g, 11.5, 500, "right");
    g.fillText(`${taller} times as tall`, x1 - 4, mid + half);
    type(g, 11.5);
  }
  return true;
}
