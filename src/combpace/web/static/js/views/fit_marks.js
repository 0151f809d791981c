// @ts-check
// What Fit draws into the comb's rows beside pegs: pauses, what is left alone, and what a pull does while one pulls.
import { OVER } from "./comb_geometry.js";

/** @typedef {CanvasRenderingContext2D} G @typedef {Record<string, string>} Colours @typedef {import("./comb_geometry.js").Comb} Comb @typedef {import("../pages/host.js").Host} Host */

/**
 * Pauses, where they come to lie: what a hand-off can silence.
 * @param {G} g @param {Colours} c @param {Comb} comb @param {Host} host @param {{toTarget: (s: number) => number} | null} way @param {any} bar @param {number} y @param {number} tall
 */
export function drawPauses(g, c, comb, host, way, bar, y, tall) {
  const map = host.state.map;
  if (!way || !map) return;
  for (const [from, to] of host.pauses() ?? []) {
    const start = Math.max(way.toTarget(from), bar.s), end = Math.min(way.toTarget(to), bar.e);
    if (end <= start) continue;
    const a = comb.xOf(map.toQuarters(start), bar), b = comb.xOf(map.toQuarters(end), bar);
    g.fillStyle = c.ground;
    g.fillRect(a, y + 1, b - a, tall - 16);
    g.strokeStyle = c.quiet;
    g.lineWidth = 1;
    g.beginPath();
    for (const [x, inward] of [[a, 5], [b, -5]]) { g.moveTo(x + inward, y + 3); g.lineTo(x, y + 3); g.lineTo(x, y + tall - 18); g.lineTo(x + inward, y + tall - 18); }
    g.stroke();
  }
}

/**
 * About each tooth of the rule: within this an onset keeps its own place; beyond the outer lines it is ignored.
 * @param {G} g @param {Colours} c @param {Comb} comb @param {Host} host @param {any} bar @param {number} y @param {number} tall
 */
export function drawAlone(g, c, comb, host, bar, y, tall) {
  const { alone_ms: alone, ignore_ms: ignore } = host.state.picture.fit, pxPerMs = comb.w / (1 + 2 * OVER) / (1000 * (bar.e - bar.s)), up = y + tall - 26;
  g.fillStyle = c.ink;
  for (const place of host.rulePlaces(bar)) {
    const x = comb.xOf(bar.q + place, bar);
    if (alone) { g.globalAlpha = 0.13; g.fillRect(x - alone * pxPerMs, up, 2 * alone * pxPerMs, 12); }
    if (ignore && ignore * pxPerMs > 5) { g.globalAlpha = 0.3; for (const side of [-1, 1]) g.fillRect(x + side * ignore * pxPerMs - 0.5, up + 4, 1, 8); }
  }
  g.globalAlpha = 1;
}

/**
 * The stretches on both sides while one pulls, over as many rows as they reach.
 * @param {G} g @param {Colours} c @param {Comb} comb @param {Host} host @param {ReturnType<typeof import("./pull.js").pullRegion>} region
 */
export function drawRegion(g, c, comb, host, region) {
  const map = /** @type {import("./map.js").TempoMap} */ (host.state.map), [low, high] = host.state.picture.fit.limits, tall = comb.rowPx;
  for (const side of [region.left, region.right]) {
    if (!side) continue;
    for (let row = comb.first; row <= comb.last; row++) {
      const bar = host.state.picture.bars[row];
      if (bar.e <= side.from || bar.s >= side.to) continue;
      const a = comb.xOf(map.toQuarters(Math.max(side.from, bar.s)), bar), b = comb.xOf(map.toQuarters(Math.min(side.to, bar.e)), bar), y = comb.yOf(row) + tall - 15;
      g.fillStyle = c.ground;
      g.fillRect(a, y - 1, b - a, 12);
      g.fillStyle = side.factor < 1 ? c.squeezed : c.spread;
      g.globalAlpha = side.factor < low || side.factor > high ? 1 : 0.55;
      g.fillRect(a, y, b - a, 10);
      g.globalAlpha = 1;
      if (side.gone) { g.strokeStyle = c.field; g.lineWidth = 1.5; g.setLineDash([3, 3]); g.strokeRect(a, comb.yOf(row) + 2, b - a, tall - 6); g.setLineDash([]); }
    }
  }
}
