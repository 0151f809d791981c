// @ts-check
// What the comb draws into a row: its sound, its teeth, its marks and anchors, loop and playhead.
import { rangeOf } from "./fit_rules.js";
import { drawAlone } from "./fit_marks.js";
import { HEAD_PX, OVER, lowerBound } from "./comb_geometry.js";
import { gridPlaces, placeWords, signed } from "./map.js";
import { DOUBTFUL, clip, foot, gainOf, type, wave } from "./paint.js";

// What is stretched is drawn at the foot of a row of Fit.
export const RIBBON_PX = 12;

/**
 * @typedef {{g: CanvasRenderingContext2D, c: Record<string, string>, comb: import("./comb_geometry.js").Comb,
 *   host: import("../pages/host.js").Host, fits: boolean}} Scene  fits: it is drawn for Fit
 */

/**
 * What lies under a row: chosen or not, and paler beside its bar.
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 * @param {{bad: boolean, chosen: boolean}} how
 */
export function drawGround({ g, c, comb }, bar, y, tall, { bad, chosen }) {
  if (bad || chosen) {
    g.fillStyle = c.chosen;
    g.globalAlpha = 0.55;
    g.fillRect(0, y, comb.width, tall);
    g.globalAlpha = 1;
  }
  const lineX = comb.xOf(bar.q, bar),
    endX = comb.xOf(bar.q + bar.len, bar);
  g.fillStyle = c.panel;
  if (!bad) {
    g.fillRect(comb.x0, y, lineX - comb.x0, tall);
    g.fillRect(endX, y, comb.x0 + comb.w - endX, tall);
  }
  g.fillStyle = c.line;
  g.fillRect(0, y + tall - 1, comb.width, 1);
}

/**
 * Beats over the rows; they are those of a bar.
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 */
export function drawHead({ g, c, comb, fits }, bar) {
  g.fillStyle = c.ground;
  g.fillRect(0, 0, comb.width, HEAD_PX);
  g.fillStyle = c.quiet;
  type(g, 12.5);
  g.fillText("bar", 14, 16);
  type(g, 12.5, 500, "center");
  for (let beat = 0; beat <= bar.beats; beat++)
    g.fillText(String((beat % bar.beats) + 1), comb.xOf(bar.q + (beat * bar.len) / bar.beats, bar), 16);
  type(g, 12.5, 500, "right");
  g.fillText(fits ? "moved, ms" : "drift, ms", comb.width - 10, 16);
  g.fillStyle = c.line;
  g.fillRect(0, HEAD_PX - 1, comb.width, 1);
}

/**
 * A row's sound on a ground whose upper edge is `up`; whether all of it was there.
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {import("./map.js").TempoMap} map
 * @param {{shown: any, all: any[], way: ReturnType<typeof import("./map.js").makeTimeMap> | null, strength: {strength:
 *   Uint8Array, offset: number} | null, up: number, tall: number}} of
 */
export function drawSound({ g, c, comb, host, fits }, bar, map, { shown, all, way, strength, up, tall }) {
  const { state } = host;
  const ribbon = fits ? RIBBON_PX : 0,
    base = up + tall - 4 - ribbon,
    mid = up + (tall - ribbon) * 0.47,
    half = (tall - ribbon) * 0.4,
    gain = gainOf(shown);
  const lineX = comb.xOf(bar.q, bar),
    endX = comb.xOf(bar.q + bar.len, bar);
  let whole = true;
  const asPlayed = (/** @type {number} */ x) => map.toSeconds(comb.qOf(x, bar));
  // A loop that comes round is drawn again and again.
  const long = shown.duration_s,
    again =
      way && state.picture.fit.source.at(-1) > 1.01 * long
        ? (/** @type {number} */ s) => ((s % long) + long) % long
        : (/** @type {number} */ s) => s;
  const asHeard = way
    ? (/** @type {number} */ x) => shown.offset_s + again(way.toSource(map.toSeconds(comb.qOf(x, bar))))
    : asPlayed;
  const part = (
    /** @type {number} */ a,
    /** @type {number} */ b,
    /** @type {number} */ alpha,
    /** @type {(x: number) => number} */ timeAt,
  ) => {
    g.globalAlpha = alpha;
    if (strength) strokes(Math.round(a), Math.round(b), timeAt);
    else
      whole =
        wave(g, host.peaks, all, { x0: Math.round(a), x1: Math.round(b), mid, half, gain, timeAt }) && whole;
    g.globalAlpha = 1;
  };
  /**
   * How strong attacks are, from the ground up: of a dense mix, where the sound of all bars looks alike.
   * @type {(x0: number, x1: number, timeAt: (x: number) => number) => void}
   */
  const strokes = (x0, x1, timeAt) => {
    const { strength: values, offset } = /** @type {{strength: Uint8Array, offset: number}} */ (strength);
    for (let x = x0; x < x1; x++) {
      const from = Math.floor((timeAt(x) - offset) * 100),
        to = Math.max(from + 1, Math.floor((timeAt(x + 1) - offset) * 100));
      let most = 0;
      for (let k = Math.max(0, from); k < to && k < values.length; k++) most = Math.max(most, values[k]);
      if (most > 8) g.fillRect(x, base - (most / 255) * half * 2, 1, (most / 255) * half * 2);
    }
  };
  if (way) {
    // As it was played: a faint second line.
    g.fillStyle = c.quiet;
    part(lineX, endX, 0.22, asPlayed);
  }
  g.fillStyle = c.wave;
  part(comb.x0, lineX, 0.45, asHeard);
  part(lineX, endX, fits ? 0.75 : 1, asHeard);
  part(endX, comb.x0 + comb.w, 0.45, asHeard);
  return whole;
}

/**
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} base
 * @param {number} tall
 */
export function drawTeeth({ g, c, comb, host, fits }, bar, y, base, tall) {
  const { state } = host;
  const beat = bar.len / bar.beats;
  g.fillStyle = c.ink;
  const { grid } = state.view;
  for (const place of fits ? host.rulePlaces(bar) : gridPlaces(grid, bar.len, beat)) {
    const onBeat = Math.abs(place / beat - Math.round(place / beat)) < 1e-6;
    const edge = place === 0 || Math.abs(place - bar.len) < 1e-6;
    if (onBeat || edge) continue;
    g.globalAlpha = 0.16;
    const x = comb.xOf(bar.q + place, bar);
    g.fillRect(x - 0.5, fits ? y : base - 12, 1, fits ? tall - 14 : 14);
  }
  if (fits && state.picture.fit && !state.picture.fit.missing) drawAlone(g, c, comb, host, bar, y, tall);
  if (grid !== "bars" || fits) {
    g.globalAlpha = 0.42;
    for (let k = 1; k < bar.beats; k++) g.fillRect(comb.xOf(bar.q + k * beat, bar) - 0.5, y, 1, tall - 1);
  }
  g.globalAlpha = 1;
  for (const place of [0, bar.len]) g.fillRect(comb.xOf(bar.q + place, bar) - 1, y, 2.2, tall - 1);
}

/**
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} base
 * @param {import("./map.js").TempoMap} map
 * @param {any} shown
 * @param {{times: number[], take: number[], sure: number[], owner: string[] | null}} own marks in session time
 */
export function drawMarks({ g, c, comb, host }, bar, y, base, map, shown, own) {
  const { state } = host;
  const from = map.toSeconds(bar.q - OVER * bar.len),
    to = map.toSeconds(bar.q + (1 + OVER) * bar.len);
  for (let k = lowerBound(own.times, from); k < own.times.length && own.times[k] < to; k++) {
    const x = comb.xOf(map.toQuarters(own.times[k]), bar);
    const chosen =
      state.selection?.kind === "onset" &&
      state.selection.take === (own.owner?.[k] ?? shown.id) &&
      Math.abs(state.selection.t - own.take[k]) < 1e-5;
    if (chosen) {
      g.fillStyle = c.field;
      g.globalAlpha = 0.28;
      g.fillRect(x - 5, y + 1, 10, comb.rowPx - 3);
      g.globalAlpha = 1;
      if (state.selection.target !== undefined)
        drawTarget(g, c, comb.xOf(state.selection.target, bar), y, base);
    }
    foot(g, x, base + 3, own.sure[k] < DOUBTFUL, c.onset);
  }
  for (const anchor of state.picture.anchors) {
    if (anchor.q < bar.q - OVER * bar.len || anchor.q > bar.q + (1 + OVER) * bar.len) continue;
    const x = comb.xOf(anchor.q, bar);
    if (state.selection?.kind === "anchor" && state.selection.q === anchor.q) {
      g.fillStyle = c.field;
      g.fillRect(x - 6.5, y, 13, 15);
    }
    clip(g, x, y + 2, anchor.locked, c.ink, c.ground);
  }
}

/**
 * @param {CanvasRenderingContext2D} g
 * @param {Record<string, string>} c
 * @param {number} x
 * @param {number} y
 * @param {number} base
 */
function drawTarget(g, c, x, y, base) {
  g.strokeStyle = c.field;
  g.lineWidth = 2;
  g.setLineDash([4, 3]);
  g.beginPath();
  g.moveTo(x, y + 2);
  g.lineTo(x, base + 2);
  g.stroke();
  g.setLineDash([]);
}

/**
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 * @param {import("./map.js").TempoMap} map
 */
export function drawLoopAndHead({ g, c, comb, host, fits }, bar, y, tall, map) {
  const { state } = host;
  const loop = state.sound.loop;
  if (loop && loop[1] > bar.s && loop[0] < bar.e) {
    const a = comb.xOf(Math.max(bar.q, map.toQuarters(loop[0])), bar),
      b = comb.xOf(Math.min(bar.q + bar.len, map.toQuarters(loop[1])), bar);
    g.fillStyle = c.field;
    g.fillRect(a, y, b - a, 2);
  }
  if (state.playhead === null) return;
  const q = map.toQuarters(state.playhead);
  if (q >= bar.q && q < bar.q + bar.len) {
    g.fillStyle = c.field;
    g.fillRect(comb.xOf(q, bar) - 1, y, 2, tall - 1);
  }
}

/**
 * The number of a row's bar, its tempo, and by how much it drifts, or is moved in Fit.
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 */
export function drawNumbers({ g, c, comb, host, fits }, bar, y, tall) {
  const mid = y + (tall - (fits ? RIBBON_PX : 0)) * 0.47;
  g.fillStyle = c.ink;
  type(g, 15, 700);
  // Where rows are lower than their numbers, every second, third ... has one.
  const numbered = bar.i % Math.max(1, Math.ceil(16 / tall)) === 0;
  if (numbered)
    g.fillText(
      String(bar.n).replace("-", "−"),
      14,
      y + Math.max(Math.min(tall * 0.42, 22), Math.min(tall * 0.8, 12)),
    );
  g.fillStyle = bar.sure < 0.3 ? c.field : c.quiet;
  type(g, 12.5, 500);
  if (tall > 30)
    g.fillText((bar.sure < 0.3 ? "~" : "") + bar.bpm.toFixed(2), 14, y + Math.min(tall * 0.42, 22) + 17);
  if (fits) drawRange(g, c, host, bar, y, tall);
  type(g, 14, 500, "right");
  const number = fits ? (host.fitMove(bar)?.moved ?? null) : bar.drift;
  // Before bar 1 nothing is wrong: a pickup or a free intro lies where it lies.
  const limit = fits || bar.i < 0 ? 1e9 : 12;
  if (!numbered && Math.abs(number ?? 0) <= limit) return;
  if (number !== null) {
    g.fillStyle = Math.abs(number) > limit ? c.problem : bar.i < 0 ? c.quiet : c.ink;
    if (Math.abs(number) > limit) type(g, 14, 700, "right");
    g.fillText(signed(number), comb.width - 10, mid + 5);
  } else {
    g.fillStyle = c.quiet;
    g.fillText("–", comb.width - 10, mid + 5);
  }
}

/**
 * At a row's edge: that a sentence of its own is about its bar, and what it says.
 * @param {CanvasRenderingContext2D} g
 * @param {Scene["c"]} c
 * @param {Scene["host"]} host
 * @param {import("../wire.js").BarRow} bar
 * @param {number} y
 * @param {number} tall
 */
function drawRange(g, c, host, bar, y, tall) {
  const range = rangeOf(host.state.picture.fit, bar);
  if (!range) return;
  const opens = bar.i === range.first ? 3 : 0,
    closes = bar.i === range.last ? 4 : 0;
  g.fillStyle = c.field;
  g.fillRect(4, y + opens, 3, tall - opens - closes);
  if (tall <= 58) return;
  type(g, 12.5, 700);
  g.fillText(range.short, 14, y + Math.min(tall * 0.42, 22) + 34);
}

/**
 * Where something is pulled to, and by how much from a moment.
 * @param {Scene} scene
 * @param {import("../wire.js").BarRow} bar
 * @param {number} row its place
 * @param {number} q
 * @param {number} from session seconds
 */
export function drawPulledTo({ g, c, comb, host }, bar, row, q, from) {
  const { state } = host;
  if (!state.map) return;
  const x = comb.xOf(q, bar),
    y = comb.yOf(row),
    by = 1000 * (state.map.toSeconds(q) - from);
  g.fillStyle = c.field;
  g.fillRect(x - 1.25, y, 2.5, comb.rowPx);
  type(g, 13, 700);
  const text = `${placeWords(state.map, q)} ${signed(by)} ms`,
    wide = g.measureText(text).width;
  g.fillStyle = c.ground;
  g.fillRect(x + 8, y + 3, wide + 10, 20);
  g.fillStyle = c.ink;
  g.fillText(text, x + 13, y + 18);
}
