// @ts-check
// The loupe: what is dragged, at 1 px per ms or finer, beside the pointer and never over the attack; all
// microphones of a bundle.
import { gainOf, type, wave } from "./paint.js";

const SPAN_S = 0.11;

/**
 * @param {CanvasRenderingContext2D} g
 * @param {ReturnType<typeof import("./paint.js").colours>} c
 * @param {import("../pages/host.js").Host} host
 * @param {any} shown
 * @param {{time: number, x: number, top: number, row: number, width: number, height: number, words: string}}
 *   at
 */
export function drawLoupe(g, c, host, shown, at) {
  /** @type {any[]} */
  const mates = shown.bundle
    ? host.state.picture.takes.filter((take) => take.bundle === shown.bundle && take.frames).slice(0, 4)
    : [shown];
  const lane = mates.length > 1 ? 30 : 54;
  type(g, 13, 700);
  const lines = at.words.split("\n"),
    w = Math.max(260, 16 + Math.max(...lines.map((line) => g.measureText(line).width))),
    h = 17 + 17 * lines.length + lane * mates.length;
  const left = at.x + 24 + w < at.width ? at.x + 24 : at.x - 24 - w;
  const below = at.top + at.row + 6;
  const top = below + h < at.height ? below : Math.max(4, at.top - h - 6);
  g.fillStyle = c.ground;
  g.strokeStyle = c.ink;
  g.lineWidth = 1.5;
  g.beginPath();
  g.roundRect(left, top, w, h, 4);
  g.fill();
  g.stroke();
  const x0 = left + 8,
    x1 = left + w - 8;
  const timeAt = (/** @type {number} */ x) => at.time - SPAN_S / 2 + ((x - x0) / (x1 - x0)) * SPAN_S;
  mates.forEach((/** @type {import("../store.js").ReadyTake} */ take, /** @type {number} */ k) => {
    const mid = top + 6 + lane * (k + 0.5);
    g.fillStyle = c.wave;
    wave(g, host.peaks, take, { x0, x1, mid, half: lane * 0.46, gain: gainOf(take), timeAt });
    if (mates.length > 1) {
      g.fillStyle = c.quiet;
      type(g, 10.5);
      g.fillText(take.name.split(" - ").at(-1) ?? "", x0, mid - lane * 0.28);
    }
  });
  g.fillStyle = c.onset;
  g.fillRect((x0 + x1) / 2 - 1, top + 6, 2, lane * mates.length);
  g.fillStyle = c.ink;
  type(g, 13, 700);
  lines.forEach((line, k) => g.fillText(line, x0, top + h - 10 - 17 * (lines.length - 1 - k)));
}
