// @ts-check
// The small pictures beside the sentences.
import { colours, prepared, type } from "./paint.js";

/**
 * Every attack by its strength, with the edge that a mark needs.
 * @param {HTMLCanvasElement} canvas
 * @param {number[]} strengths
 * @param {number} edge
 */
export function drawStrengths(canvas, strengths, edge) {
  const { g, width, height } = prepared(canvas);
  const c = colours();
  const base = height - 17;
  for (const value of strengths) {
    g.fillStyle = c.onset;
    g.globalAlpha = value >= edge ? 0.75 : 0.25;
    g.fillRect(2 + value * (width - 4), base - 8 - value * (base - 12), 1.5, 8 + value * (base - 12));
  }
  g.globalAlpha = 1;
  g.fillStyle = c.line;
  g.fillRect(0, base, width, 1);
  g.fillStyle = c.ink;
  g.fillRect(1 + edge * (width - 4), 0, 3, base + 4);
  g.fillStyle = c.quiet;
  type(g, 11.5);
  g.fillText("soft", 2, height - 4);
  type(g, 11.5, 500, "right");
  g.fillText("strong", width - 2, height - 4);
}

/**
 * How far onsets lie from the grid, with what is left alone and what is ignored.
 * @param {HTMLCanvasElement} canvas
 * @param {{drifts: number[], alone: number, ignore: number | null}} facts ms
 */
export function drawHistogram(canvas, { drifts, alone, ignore }) {
  const { g, width, height } = prepared(canvas);
  const c = colours();
  const most = Math.max(20, ...drifts.map(Math.abs));
  const scale = Math.min(150, Math.max(ignore !== null && ignore < 120 ? ignore * 1.15 : 0, most));
  const base = height - 18,
    bins = 41;
  const counts = new Array(bins).fill(0);
  for (const value of drifts)
    if (Math.abs(value) <= scale)
      counts[Math.min(bins - 1, Math.floor(((value + scale) / (2 * scale)) * bins))] += 1;
  const tallest = Math.max(1, ...counts);
  const x = (/** @type {number} */ ms) => ((ms + scale) / (2 * scale)) * width;
  g.fillStyle = c.panel;
  g.fillRect(x(-alone), 0, x(alone) - x(-alone), base);
  g.fillStyle = c.onset;
  g.globalAlpha = 0.8;
  counts.forEach(
    (count, k) =>
      count &&
      g.fillRect(
        (k / bins) * width + 0.5,
        base - (count / tallest) * (base - 4),
        width / bins - 1,
        (count / tallest) * (base - 4),
      ),
  );
  g.globalAlpha = 1;
  g.fillStyle = c.line;
  g.fillRect(0, base, width, 1);
  g.fillStyle = c.ink;
  for (const edge of [-alone, alone]) if (alone > 0) g.fillRect(x(edge) - 0.75, 0, 1.5, base);
  if (ignore !== null && ignore <= scale) {
    g.strokeStyle = c.ink;
    g.setLineDash([3, 3]);
    for (const edge of [-ignore, ignore]) {
      g.beginPath();
      g.moveTo(x(edge), 0);
      g.lineTo(x(edge), base);
      g.stroke();
    }
    g.setLineDash([]);
  }
  g.fillStyle = c.quiet;
  type(g, 11.5);
  g.fillText(`−${Math.round(scale)}`, 0, height - 4);
  type(g, 11.5, 500, "right");
  g.fillText(`+${Math.round(scale)} ms`, width, height - 4);
  type(g, 11.5, 500, "center");
  g.fillText(alone > 0 ? "left alone" : "0", width / 2, height - 4);
}

/**
 * A slim waveform over the session's length.
 * @param {HTMLCanvasElement} canvas
 * @param {{low: number, high: number}[]} columns
 * @param {number} gain
 * @param {number} from share
 * @param {number} to share
 */
export function drawSlimWave(canvas, columns, gain, from, to) {
  const { g, width, height } = prepared(canvas);
  const c = colours();
  g.fillStyle = c.line;
  g.fillRect(0, height / 2, width, 1);
  g.fillStyle = c.wave;
  const x0 = from * width,
    w = Math.max(2, (to - from) * width);
  columns.forEach(({ low, high }, k) => {
    const top = height / 2 - Math.min(1, high * gain) * height * 0.48,
      bottom = height / 2 - Math.max(-1, low * gain) * height * 0.48;
    g.fillRect(
      x0 + (k / columns.length) * w,
      top,
      Math.max(0.8, w / columns.length),
      Math.max(0.8, bottom - top),
    );
  });
}
