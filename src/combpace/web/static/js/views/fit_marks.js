// @ts-check
// What Fit draws into the comb's rows beside pegs: pauses, what is left alone, and what a pull does while one
// pulls.
import { ruleOf } from "./fit_rules.js";
import { OVER, lowerBound } from "./comb_geometry.js";
import { clip, type } from "./paint.js";

/**
 * @typedef {CanvasRenderingContext2D} G
 * @typedef {Record<string, string>} Colours
 * @typedef {import("./comb_geometry.js").Comb} Comb
 * @typedef {import("../pages/host.js").Host} Host
 */

/**
 * Pauses, where they come to lie: what a hand-off can silence.
 * @param {G} g
 * @param {Colours} c
 * @param {Comb} comb
 * @param {Host} host
 * @param {{toTarget: (s: number) => number} | null} way
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 */
export function drawPauses(g, c, comb, host, way, bar, y, tall) {
  const map = host.state.map;
  if (!way || !map) return;
  for (const [from, to] of host.pauses() ?? []) {
    const start = Math.max(way.toTarget(from), bar.s),
      end = Math.min(way.toTarget(to), bar.e);
    if (end <= start) continue;
    const a = comb.xOf(map.toQuarters(start), bar),
      b = comb.xOf(map.toQuarters(end), bar);
    g.fillStyle = c.ground;
    g.fillRect(a, y + 1, b - a, tall - 16);
    g.strokeStyle = c.quiet;
    g.lineWidth = 1;
    g.beginPath();
    for (const [x, inward] of [
      [a, 5],
      [b, -5],
    ]) {
      g.moveTo(x + inward, y + 3);
      g.lineTo(x, y + 3);
      g.lineTo(x, y + tall - 18);
      g.lineTo(x + inward, y + tall - 18);
    }
    g.stroke();
  }
}

/**
 * About each tooth of the rule: within this an onset keeps its own place; beyond the outer lines it is
 * ignored.
 * @param {G} g
 * @param {Colours} c
 * @param {Comb} comb
 * @param {Host} host
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 */
export function drawAlone(g, c, comb, host, bar, y, tall) {
  const { alone_ms: alone, ignore_ms: ignore } = ruleOf(host.state.picture.fit, bar),
    pxPerMs = comb.w / (1 + 2 * OVER) / (1000 * (bar.e - bar.s)),
    up = y + tall - 26;
  g.fillStyle = c.ink;
  for (const place of host.rulePlaces(bar)) {
    const x = comb.xOf(bar.q + place, bar);
    if (alone) {
      g.globalAlpha = 0.13;
      g.fillRect(x - alone * pxPerMs, up, 2 * alone * pxPerMs, 12);
    }
    if (ignore && ignore * pxPerMs > 5) {
      g.globalAlpha = 0.3;
      for (const side of [-1, 1]) g.fillRect(x + side * ignore * pxPerMs - 0.5, up + 4, 1, 8);
    }
  }
  g.globalAlpha = 1;
}

/**
 * The stretches on both sides while one pulls, over as many rows as they reach.
 * @param {G} g
 * @param {Colours} c
 * @param {Comb} comb
 * @param {Host} host
 * @param {ReturnType<typeof import("./pull.js").pullRegion>} region
 */
export function drawRegion(g, c, comb, host, region) {
  const map = /** @type {import("./map.js").TempoMap} */ (host.state.map),
    [low, high] = host.state.picture.fit.limits,
    tall = comb.rowPx;
  for (const side of [region.left, region.right]) {
    if (!side) continue;
    for (let row = comb.first; row <= comb.last; row++) {
      const bar = host.state.picture.bars[row];
      if (bar.e <= side.from || bar.s >= side.to) continue;
      const a = comb.xOf(map.toQuarters(Math.max(side.from, bar.s)), bar),
        b = comb.xOf(map.toQuarters(Math.min(side.to, bar.e)), bar),
        y = comb.yOf(row) + tall - 15;
      g.fillStyle = c.ground;
      g.fillRect(a, y - 1, b - a, 12);
      g.fillStyle = side.factor < 1 ? c.squeezed : c.spread;
      g.globalAlpha = side.factor < low || side.factor > high ? 1 : 0.55;
      g.fillRect(a, y, b - a, 10);
      g.globalAlpha = 1;
      if (side.gone) {
        g.strokeStyle = c.field;
        g.lineWidth = 1.5;
        g.setLineDash([3, 3]);
        g.strokeRect(a, comb.yOf(row) + 2, b - a, tall - 6);
        g.setLineDash([]);
      }
    }
  }
}

/**
 * Whether a mark is the one that is chosen, or one of several.
 * @param {any} selection
 * @param {number} takeS
 */
export const isChosenMark = (selection, takeS) =>
  (selection?.kind === "onset" ? [selection.t] : selection?.kind === "marks" ? selection.ts : []).some(
    (/** @type {number} */ one) => Math.abs(one - takeS) < 1e-5,
  );

/**
 * Pegs, what they stretch, and what rides.
 * @param {G} g
 * @param {Colours} c
 * @param {Comb} comb
 * @param {Host} host
 * @param {{toTarget: (s: number) => number} | null} way
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} base
 * @param {number} tall
 */
export function drawPegs(g, c, comb, host, way, bar, y, base, tall) {
  const { state } = host,
    fit = state.picture.fit;
  if (!fit || fit.missing || !state.map) return;
  const map = state.map;
  const from = bar.s - OVER * (bar.e - bar.s),
    to = bar.e + OVER * (bar.e - bar.s);
  const { source, target, limits } = fit;
  const ribbonY = y + tall - 12;
  for (let k = Math.max(0, lowerBound(target, bar.s) - 1); k + 1 < target.length && target[k] < bar.e; k++) {
    const factor = (target[k + 1] - target[k]) / (source[k + 1] - source[k]);
    if (Math.abs(factor - 1) < 0.005) continue;
    const a = comb.xOf(map.toQuarters(Math.max(target[k], bar.s)), bar) + 1,
      b = comb.xOf(map.toQuarters(Math.min(target[k + 1], bar.e)), bar) - 1;
    if (b <= a) continue;
    if (fit.pauses.includes(source[k])) {
      // A pause takes the change: nothing in it is heard to be stretched.
      g.strokeStyle = factor < 1 ? c.squeezed : c.spread;
      g.lineWidth = 1;
      g.globalAlpha = 0.7;
      g.strokeRect(a + 0.5, ribbonY + 0.5, Math.max(1, b - a - 1), 7);
      g.globalAlpha = 1;
      continue;
    }
    g.fillStyle = factor < 1 ? c.squeezed : c.spread;
    g.globalAlpha = Math.min(0.95, 0.22 + 2.2 * Math.abs(Math.log2(factor)));
    g.fillRect(a, ribbonY, b - a, 8);
    g.globalAlpha = 1;
    if (factor < limits[0] || factor > limits[1]) {
      g.strokeStyle = c.ground;
      g.lineWidth = 1.5;
      g.save();
      g.beginPath();
      g.rect(a, ribbonY, b - a, 8);
      g.clip();
      g.beginPath();
      for (let x = a - 8; x < b; x += 5) {
        g.moveTo(x, ribbonY + 8);
        g.lineTo(x + 8, ribbonY);
      }
      g.stroke();
      g.restore();
      g.fillStyle = c.ink;
      type(g, 12, 700, "center");
      g.fillText(factor.toFixed(2), (a + b) / 2, ribbonY - 3);
    } else if (b - a > 44 && tall > 52) {
      // Legible over a note of a part, too.
      g.fillStyle = c.ground;
      g.globalAlpha = 0.8;
      g.fillRect((a + b) / 2 - 14, ribbonY - 12, 28, 11);
      g.globalAlpha = 1;
      g.fillStyle = c.quiet;
      type(g, 11, 500, "center");
      g.fillText(factor.toFixed(2), (a + b) / 2, ribbonY - 2);
    }
  }
  for (const [takeS, own, goal, , kind] of fit.pegs) {
    if (kind === "held" || goal < from || goal > to) continue;
    const ownX = comb.xOf(map.toQuarters(own), bar),
      x = comb.xOf(map.toQuarters(goal), bar);
    const chosen = isChosenMark(state.selection, takeS);
    if (chosen) {
      g.fillStyle = c.field;
      g.globalAlpha = 0.28;
      g.fillRect(Math.min(x, ownX) - 5, y + 1, Math.abs(x - ownX) + 10, tall - 14);
      g.globalAlpha = 1;
    }
    g.fillStyle = c.quiet;
    g.fillRect(ownX - 1, base - 6, 2, 10);
    if (kind === "left alone") continue;
    g.strokeStyle = c.quiet;
    g.lineWidth = 1;
    g.beginPath();
    g.moveTo(ownX, base - 6);
    g.lineTo(x, y + 12);
    g.stroke();
    clip(g, x, y + 1, kind === "hand" || kind === "as played", c.ink, c.ground);
  }
  for (const [takeS] of fit.riding) {
    const time = way?.toTarget(takeS) ?? takeS;
    if (time < from || time > to) continue;
    const x = comb.xOf(map.toQuarters(time), bar);
    const chosen = isChosenMark(state.selection, takeS);
    if (chosen) {
      g.fillStyle = c.field;
      g.globalAlpha = 0.28;
      g.fillRect(x - 5, y + 1, 10, tall - 14);
      g.globalAlpha = 1;
    }
    g.strokeStyle = c.quiet;
    g.lineWidth = 1.2;
    g.beginPath();
    g.arc(x, base, 2.6, 0, 7);
    g.stroke();
  }
}
