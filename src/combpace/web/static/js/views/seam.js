// @ts-check
// The seam of a range: what comes at its end laid over what comes at its start; a right length shows one
// line.
import { colours, prepared, type } from "./paint.js";

/**
 * @typedef {{reach_s: number, start: number[][], end: number[][]}} Edges columns of lowest and highest value
 */

/** @param {HTMLCanvasElement} canvas @param {{near: Edges, far: Edges}} picture */
export function drawSeam(canvas, picture) {
  const { g, width, height } = prepared(canvas),
    c = colours(),
    gap = 24,
    half = (width - gap) / 2;
  const parts = /** @type {[Edges, number, string][]} */ ([
    [picture.far, 0, "±150 ms"],
    [picture.near, half + gap, "±15 ms"],
  ]);
  for (const [edges, left, name] of parts) {
    const top = 20,
      tall = height - top - 6,
      middle = top + tall / 2;
    const loud = Math.max(1e-4, ...[...edges.start, ...edges.end].flat().map(Math.abs));
    g.fillStyle = c.panel;
    g.fillRect(left, top, half, tall);
    for (const [columns, ink, shade] of /** @type {[number[][], string, number][]} */ ([
      [edges.start, c.onset, 0.9],
      [edges.end, c.problem, 0.75],
    ])) {
      g.globalAlpha = shade;
      g.fillStyle = g.strokeStyle = ink;
      g.lineWidth = 1.4;
      g.beginPath();
      columns.forEach(([low, high], k) => {
        const x = left + (half * (k + 0.5)) / columns.length,
          y = (/** @type {number} */ value) => middle - (0.46 * tall * value) / loud;
        if (k) g.lineTo(x, y(high));
        else g.moveTo(x, y(high));
        if (high - low > 0) g.lineTo(x, y(low));
      });
      g.stroke();
    }
    g.globalAlpha = 1;
    g.fillStyle = c.ink;
    g.fillRect(left + half / 2 - 0.75, top, 1.5, tall);
    type(g, 12.5, 500);
    g.fillStyle = c.quiet;
    g.fillText(name, left, 14);
  }
}
