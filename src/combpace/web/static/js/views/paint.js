// @ts-check
// Colours, canvases and waveforms: what all pictures share.

// Frames a bin of peaks holds, in the resolutions that exist; single samples are fetched only where fewer
// than FINE share a pixel.
const SIZES = [32, 256, 2048],
  FINE = 8;

/** The size of bins to draw with, for so many frames a pixel. @param {number} framesPerPx */
export function sizeFor(framesPerPx) {
  let best = framesPerPx < FINE ? 1 : SIZES[0];
  for (const size of SIZES) if (size <= framesPerPx) best = size;
  return best;
}

/**
 * @typedef {"ground" | "panel" | "line" | "ink" | "quiet" | "wave"} Ground
 * @typedef {"field" | "problem" | "squeezed" | "spread" | "onset" | "chosen"} Meaning
 */

/** @returns {Record<Ground | Meaning, string>} */
export function colours() {
  const style = getComputedStyle(document.documentElement);
  const read = (/** @type {string} */ name) => style.getPropertyValue(`--${name}`).trim();
  return /** @type {any} */ (
    Object.fromEntries(
      [
        "ground",
        "panel",
        "line",
        "ink",
        "quiet",
        "wave",
        "field",
        "problem",
        "squeezed",
        "spread",
        "onset",
        "chosen",
      ].map((name) => [name, read(name)]),
    )
  );
}

// A mark less sure than this deserves a look (services/look.py says the same).
export const DOUBTFUL = 0.65;

export const FONT = '"Atkinson Hyperlegible Next", system-ui, sans-serif';

/**
 * Fit a canvas to its box and clear it.
 * @param {HTMLCanvasElement} canvas
 * @returns {{g: CanvasRenderingContext2D, width: number, height: number}} in CSS pixels
 */
export function prepared(canvas) {
  const width = canvas.clientWidth,
    height = canvas.clientHeight;
  const ratio = window.devicePixelRatio || 1;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const g = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  g.setTransform(ratio, 0, 0, ratio, 0, 0);
  g.clearRect(0, 0, width, height);
  return { g, width, height };
}

/**
 * @param {CanvasRenderingContext2D} g
 * @param {number} size
 * @param {number} [weight]
 * @param {CanvasTextAlign} [align]
 */
export function type(g, size, weight = 500, align = "left") {
  g.font = `${weight} ${size}px ${FONT}`;
  g.textAlign = align;
  g.textBaseline = "alphabetic";
}

/**
 * A waveform whose pixels have given times; of several takes (the mics of a bundle) the loudest at each
 * moment.
 * @param {CanvasRenderingContext2D} g
 * @param {import("../api/peaks.js").Peaks} peaks
 * @param {{id: string, rate: number, offset_s: number, peak?: number | null} | {id: string, rate: number,
 *   offset_s: number, peak?: number | null}[]} takes
 * @param {{x0: number, x1: number, mid: number, half: number, gain: number, timeAt: (x: number) => number}}
 *   where timeAt: session time of a pixel's left edge; gain: of one take
 * @returns {boolean} whether all of it was there
 */
export function wave(g, peaks, takes, where) {
  const out = [0, 0],
    all = Array.isArray(takes) ? takes : [takes];
  const { x0, x1, mid, half } = where,
    pixelS = Math.abs(where.timeAt(x0 + (x1 - x0) / 2 + 1) - where.timeAt(x0 + (x1 - x0) / 2));
  const gains = all.map((one) => (all.length > 1 ? gainOf(one) : where.gain)),
    sizes = all.map((one) => sizeFor(pixelS * one.rate));
  let before = where.timeAt(x0);
  g.beginPath();
  let whole = true;
  for (let x = x0; x < x1; x++) {
    const after = where.timeAt(x + 1);
    let low = 0,
      high = 0;
    for (let k = 0; k < all.length; k++) {
      const { id, rate, offset_s } = all[k];
      if (!peaks.range(id, sizes[k], (before - offset_s) * rate, (after - offset_s) * rate, out)) {
        whole = false;
        continue;
      }
      low = Math.min(low, out[0] * gains[k]);
      high = Math.max(high, out[1] * gains[k]);
    }
    if (low || high || whole) {
      const top = mid - Math.min(1, high) * half,
        bottom = mid - Math.max(-1, low) * half;
      g.rect(x, top, 1, Math.max(0.8, bottom - top));
    }
    before = after;
  }
  g.fill();
  if (!whole) {
    g.globalAlpha *= 0.3;
    g.fillRect(x0, mid - 0.5, x1 - x0, 1);
    g.globalAlpha /= 0.3;
  }
  return whole;
}

/**
 * An onset's foot; doubtful ones are broken and carry a ring.
 * @param {CanvasRenderingContext2D} g
 * @param {number} x
 * @param {number} base
 * @param {boolean} doubtful
 * @param {string} colour
 * @param {number} [tall]
 */
export function foot(g, x, base, doubtful, colour, tall = 9) {
  g.fillStyle = colour;
  if (!doubtful) {
    g.fillRect(x - 1.25, base - tall, 2.5, tall);
    return;
  }
  g.fillRect(x - 1.25, base - 3.5, 2.5, 3.5);
  g.strokeStyle = colour;
  g.lineWidth = 1.4;
  g.beginPath();
  g.arc(x, base - tall + 1.5, 2.6, 0, 7);
  g.stroke();
}

/**
 * An anchor or peg: a solid clip astride the tooth, locked with a bar across.
 * @param {CanvasRenderingContext2D} g
 * @param {number} x
 * @param {number} top
 * @param {boolean} locked
 * @param {string} ink
 * @param {string} ground
 */
export function clip(g, x, top, locked, ink, ground) {
  g.fillStyle = ink;
  g.fillRect(x - 4, top, 8, 11);
  if (locked) {
    g.fillRect(x - 7, top + 4, 14, 3);
    g.fillStyle = ground;
    g.fillRect(x - 4, top + 5, 8, 1);
  }
}

/**
 * How rows are drawn: as was chosen, else a dense mix by its attacks, for all its bars' sound looks alike.
 * @param {string} chosen
 * @param {{kind?: string} | null} lead
 */
export const howDrawn = (chosen, lead) => chosen || (lead?.kind === "full mix" ? "attacks" : "sound");

/** One draw a frame, however often it is asked for. @param {() => void} draw */
export function once(draw) {
  let waiting = 0;
  const ask = () => {
    if (!waiting)
      waiting = requestAnimationFrame(() => {
        waiting = 0;
        draw();
      });
  };
  ask.cancel = () => cancelAnimationFrame(waiting);
  return ask;
}

/** A gain that makes the take's usual loud places fill a row. @param {{peak?: number|null}} take */
export const gainOf = (take) => (take.peak && take.peak > 0.001 ? Math.min(12, 0.95 / take.peak) : 1);
