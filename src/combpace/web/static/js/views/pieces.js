// @ts-check
// Pieces: the comb's rows, pieces lying on them like cut paper with their sound; the ground shows where nothing sounds.
import { HEAD_PX, LEFT_PX, OVER, caughtPlace, lowerBound, makeComb, mostTop, topFor } from "./comb_geometry.js";
import { gridPlaces, placeWords, signed } from "./map.js";
import { colours, gainOf, once, prepared, type, wave } from "./paint.js";

/** @typedef {{number: number, start: number, stop: number, at: number, q: number, off: number | null, db: number, fadeIn: number | null, fadeOut: number | null}} Piece */

// A pointer that moved so little has chosen, not pulled.
const DRAG_PX = 3;

/** The piece under a moment: of several the one that begins last, for it lies on top; null of none. @param {Piece[]} pieces @param {number} time */
export function pieceAt(pieces, time) {
  let found = null;
  for (const piece of pieces) if (time >= piece.at && time < piece.at + piece.stop - piece.start && (!found || piece.at >= found.at)) found = piece;
  return found;
}

/** What a row says at its right: the largest distance of its pieces from where they were laid; null of none. @param {Piece[]} pieces @param {{s: number, e: number}} bar */
export function farthest(pieces, bar) {
  let most = null;
  for (const piece of pieces) if (piece.off !== null && piece.at >= bar.s - 1e-3 && piece.at < bar.e - 1e-3 && (most === null || Math.abs(piece.off) > Math.abs(most))) most = piece.off;
  return most;
}

/** @param {HTMLElement} box @param {import("../pages/host.js").Host} host @param {{move: (piece: Piece, q: number, free: boolean) => void, previewed: () => Piece[] | null, dropPreview: () => boolean}} how */
export function mountPieces(box, host, how) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "application");
  canvas.setAttribute("aria-label", "Pieces: bars as rows. Q and E go through the pieces, arrows move one, K cuts, N joins, Delete takes one away; the list says the same in words.");
  box.append(canvas);
  const { state } = host, ask = once(draw);
  /** @type {{piece: Piece, x: number, q: number, to: number, moving: boolean, free: boolean} | null} */
  let drag = null;
  /** Bars that are dragged over by their numbers. @type {{from: number, to: number} | null} */
  let barDrag = null;
  const rowPx = () => Math.min(84, Math.max(24, state.view.rowPx)), bars = () => state.picture.bars, take = () => host.take(state.focus);
  const pieces = () => /** @type {Piece[]} */ (state.picture.pieces ?? []);

  function geometry() {
    const height = canvas.clientHeight;
    state.view.top = Math.min(Math.max(0, state.view.top), mostTop(bars().length, height, rowPx()));
    return makeComb({ width: canvas.clientWidth, height, bars: bars(), top: state.view.top, rowPx: rowPx() });
  }

  function draw() {
    const { g, width, height } = prepared(canvas), c = colours(), map = state.map, shown = take();
    if (!map || !shown || !bars().length) return;
    const comb = geometry(), all = [...(how.previewed() ?? pieces())].sort((a, b) => a.at - b.at);
    g.save();
    g.beginPath();
    g.rect(0, HEAD_PX, width, height - HEAD_PX);
    g.clip();
    for (let row = comb.first; row <= comb.last; row++) drawRow(g, c, comb, row, map, shown, all);
    g.restore();
    g.fillStyle = c.ground;
    g.fillRect(0, 0, width, HEAD_PX);
    g.fillStyle = c.quiet;
    type(g, 12.5);
    g.fillText("bar", 14, 16);
    type(g, 12.5, 500, "right");
    g.fillText("moved, ms", width - 10, 16);
    const bar = bars()[Math.max(0, comb.first)];
    type(g, 12.5, 500, "center");
    for (let beat = 0; beat <= bar.beats; beat++) g.fillText(String((beat % bar.beats) + 1), comb.xOf(bar.q + (beat * bar.len) / bar.beats, bar), 16);
    g.fillStyle = c.line;
    g.fillRect(0, HEAD_PX - 1, width, 1);
  }

  /** @param {CanvasRenderingContext2D} g @param {ReturnType<typeof colours>} c @param {import("./comb_geometry.js").Comb} comb @param {number} row @param {import("./map.js").TempoMap} map @param {any} shown @param {Piece[]} all */
  function drawRow(g, c, comb, row, map, shown, all) {
    const bar = bars()[row], y = comb.yOf(row), tall = rowPx(), gain = gainOf(shown), beat = bar.len / bar.beats, cut = all.length > 0;
    const lineX = comb.xOf(bar.q, bar), endX = comb.xOf(bar.q + bar.len, bar);
    const many = barDrag ? { bar: Math.min(barDrag.from, barDrag.to), to: Math.max(barDrag.from, barDrag.to) } : state.selection?.kind === "bars" ? state.selection : null;
    if (many && bar.i >= many.bar && bar.i <= many.to) { g.fillStyle = c.chosen; g.globalAlpha = 0.6; g.fillRect(0, y, comb.width, tall); g.globalAlpha = 1; }
    g.fillStyle = c.line;
    g.fillRect(0, y + tall - 1, comb.width, 1);
    if (!cut) {
      // Not cut: its sound as it was played, faint.
      g.fillStyle = c.quiet;
      g.globalAlpha = 0.45;
      wave(g, host.peaks, shown, { x0: Math.round(lineX), x1: Math.round(endX), mid: y + tall / 2, half: tall * 0.4, gain, timeAt: (x) => map.toSeconds(comb.qOf(x, bar)) });
      g.globalAlpha = 1;
    }
    for (const place of gridPlaces(state.view.grid, bar.len, beat)) {
      const onBeat = Math.abs(place / beat - Math.round(place / beat)) < 1e-6;
      g.fillStyle = c.ink;
      g.globalAlpha = onBeat ? 0.3 : 0.12;
      g.fillRect(comb.xOf(bar.q + place, bar) - 0.5, y, 1, tall - 1);
      g.globalAlpha = 1;
    }
    const from = bar.s - OVER * (bar.e - bar.s), to = bar.e + OVER * (bar.e - bar.s);
    for (const piece of all) {
      const at = drag?.moving && drag.piece.number === piece.number ? map.toSeconds(drag.to) : piece.at, end = at + piece.stop - piece.start;
      if (end <= from || at >= to) continue;
      drawPiece(g, c, comb, bar, { y, tall, map, shown, gain }, { ...piece, at }, Math.max(at, from), Math.min(end, to));
    }
    g.fillStyle = c.ink;
    for (const place of [0, bar.len]) g.fillRect(comb.xOf(bar.q + place, bar) - 1, y, 2.2, tall - 1);
    type(g, 15, 700);
    g.fillText(String(bar.n).replace("-", "−"), 14, y + Math.min(tall * 0.55, 22));
    const off = farthest(all, bar);
    type(g, 14, 500, "right");
    if (off !== null && Math.abs(off) >= 0.05) g.fillText(signed(off), comb.width - 10, y + tall / 2 + 5);
  }

  /** @param {CanvasRenderingContext2D} g @param {ReturnType<typeof colours>} c @param {import("./comb_geometry.js").Comb} comb @param {any} bar @param {{y: number, tall: number, map: any, shown: any, gain: number}} row @param {Piece} piece @param {number} from @param {number} to */
  function drawPiece(g, c, comb, bar, { y, tall, map, shown, gain }, piece, from, to) {
    const a = comb.xOf(map.toQuarters(from), bar), b = comb.xOf(map.toQuarters(to), bar), chosen = !how.previewed() && state.selection?.kind === "piece" && state.selection.number === piece.number;
    // Where two overlap both show through.
    g.fillStyle = chosen ? c.chosen : c.panel;
    g.globalAlpha = 0.8;
    g.fillRect(a, y + 3, Math.max(1, b - a), tall - 8);
    g.globalAlpha = 0.85;
    g.fillStyle = c.wave;
    const loud = gain * 10 ** (piece.db / 20);
    wave(g, host.peaks, shown, { x0: Math.ceil(a), x1: Math.floor(b), mid: y + tall / 2 - 1, half: tall * 0.36, gain: loud, timeAt: (x) => shown.offset_s + piece.start + (map.toSeconds(comb.qOf(x, bar)) - piece.at) });
    g.globalAlpha = 1;
    g.strokeStyle = chosen ? c.ink : c.quiet;
    g.lineWidth = chosen ? 2 : 1;
    // Not kept yet: its edge is dashed.
    g.setLineDash(how.previewed() ? [5, 4] : []);
    g.beginPath();
    // A cut edge is notched, as paper is; an edge beyond the row is none.
    for (const edge of [y + 3, y + tall - 5]) { g.moveTo(a, edge); g.lineTo(b, edge); }
    if (from === piece.at) { g.moveTo(a + 0.5, y + 3); g.lineTo(a + 3.5, y + 6.5); g.lineTo(a + 0.5, y + 10); g.lineTo(a + 0.5, y + tall - 5); }
    if (to === piece.at + piece.stop - piece.start) { g.moveTo(b, y + 3); g.lineTo(b, y + tall - 5); }
    g.stroke();
    g.setLineDash([]);
    drawFades(g, c, (time) => comb.xOf(map.toQuarters(time), bar), { a, b, y, tall }, piece);
    if (piece.off !== null && Math.abs(piece.off) >= 0.05 && from === piece.at) { g.fillStyle = c.field; g.fillRect(a, y + 3, 3, tall - 8); }
  }

  /** Its own fades: the paper is worn away above a slant. @param {CanvasRenderingContext2D} g @param {ReturnType<typeof colours>} c @param {(time: number) => number} xAt @param {{a: number, b: number, y: number, tall: number}} box @param {Piece} piece */
  function drawFades(g, c, xAt, { a, b, y, tall }, piece) {
    const end = piece.at + piece.stop - piece.start;
    for (const [low, high] of [piece.fadeIn ? [piece.at, piece.at + piece.fadeIn / 1000] : [], piece.fadeOut ? [end, end - piece.fadeOut / 1000] : []]) {
      if (low === undefined || high === undefined) continue;
      g.save();
      g.beginPath();
      g.rect(a - 1, y + 2, b - a + 2, tall - 6);
      g.clip();
      g.beginPath();
      g.moveTo(xAt(low), y + tall - 5);
      g.lineTo(xAt(high), y + 3);
      g.stroke();
      g.lineTo(xAt(low), y + 3);
      g.closePath();
      g.globalAlpha = 0.8;
      g.fillStyle = c.ground;
      g.fill();
      g.restore();
    }
  }

  /** @param {PointerEvent | MouseEvent} event */
  const at = (event) => { const frame = canvas.getBoundingClientRect(); return { x: event.clientX - frame.left, y: event.clientY - frame.top }; };

  /** The row's bar and the place under a point. @param {{x: number, y: number}} where */
  function under(where) {
    const comb = geometry(), row = comb.rowAt(where.y);
    if (row < 0 || !state.map) return null;
    const bar = bars()[row], q = comb.qOf(where.x, bar);
    return { bar, q, time: state.map.toSeconds(q), piece: how.previewed() ? null : pieceAt(pieces(), state.map.toSeconds(q)) };
  }

  /** @param {PointerEvent} event */
  function down(event) {
    if (event.button !== 0) return;
    canvas.focus();
    const where = at(event), hit = under(where);
    if (!hit) return;
    if (where.x < LEFT_PX - 6) {
      barDrag = { from: hit.bar.i, to: hit.bar.i };
      canvas.setPointerCapture(event.pointerId);
      host.seek(hit.bar.s);
      ask();
      return;
    }
    if (!hit.piece) { host.select(null); host.seek(hit.time); return; }
    host.select({ kind: "piece", number: hit.piece.number });
    drag = { piece: hit.piece, x: where.x, q: hit.q, to: hit.piece.q, moving: false, free: false };
    canvas.setPointerCapture(event.pointerId);
  }

  /** @param {PointerEvent} event */
  function move(event) {
    const where = at(event), hit = under(where);
    host.pointAt(hit ? { time: hit.time, q: hit.q } : null);
    if (barDrag && hit) { barDrag.to = hit.bar.i; ask(); return; }
    canvas.style.cursor = hit?.piece ? "grab" : "default";
    if (!drag || !hit) return;
    if (!drag.moving && Math.abs(where.x - drag.x) < DRAG_PX && Math.abs(hit.q - drag.q) < 1) return;
    drag.moving = true;
    drag.free = event.shiftKey || ["nothing", "samples"].includes(state.view.catch);
    const q = drag.piece.q + hit.q - drag.q, places = host.catchPlaces(hit.bar);
    drag.to = drag.free || !places ? q : caughtPlace(q, hit.bar, places);
    host.say(`${placeWords(/** @type {any} */ (state.map), drag.to)}, ${signed(1000 * (/** @type {any} */ (state.map).toSeconds(drag.to) - drag.piece.at))} ms`);
    ask();
  }

  /** @param {PointerEvent} event */
  function up(event) {
    const done = drag;
    drag = null;
    if (barDrag) { host.select({ kind: "bars", bar: Math.min(barDrag.from, barDrag.to), to: Math.max(barDrag.from, barDrag.to) }); barDrag = null; }
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    if (done?.moving) how.move(done.piece, done.to, done.free);
    ask();
  }

  /** @param {WheelEvent} event */
  function wheel(event) { event.preventDefault(); state.view.top += event.deltaY / rowPx(); host.scrolled(); ask(); }

  canvas.addEventListener("pointerdown", down);
  canvas.addEventListener("pointermove", move);
  canvas.addEventListener("pointerup", up);
  canvas.addEventListener("pointercancel", () => { drag = barDrag = null; ask(); });
  canvas.addEventListener("wheel", wheel, { passive: false });
  return {
    draw: ask,
    cancel() { const was = drag !== null; drag = null; ask(); return was || how.dropPreview(); },
    /** @param {number} index */
    show(index) {
      const row = bars().findIndex((bar) => bar.i === index);
      if (row >= 0) state.view.top = topFor(row, state.view.top, (canvas.clientHeight - HEAD_PX) / rowPx());
      ask();
    },
    inSight() { const comb = geometry(); return [comb.first, Math.max(comb.first, comb.last)]; },
    destroy() { ask.cancel(); canvas.remove(); },
    /** The pieces that are drawn: those previewed, or those that are; for tests. */
    drawn: () => how.previewed() ?? pieces(),
    /** Client pixels of a place in its row, for tests. @param {number} q @param {number} index */
    pixelOf(q, index) {
      const row = bars().findIndex((bar) => bar.i === index), comb = geometry(), frame = canvas.getBoundingClientRect();
      return { x: frame.left + comb.xOf(q, bars()[row]), y: frame.top + comb.yOf(row) + rowPx() * 0.6 };
    },
    /** The piece after or before the chosen one, by place. @param {number} step */
    step(step) {
      const all = [...pieces()].sort((x, y) => x.at - y.at), k = all.findIndex((one) => state.selection?.kind === "piece" && one.number === state.selection.number);
      const next = all[k < 0 ? lowerBound(all.map((one) => one.at), state.playhead ?? 0) : k + step];
      if (next) { host.select({ kind: "piece", number: next.number }); host.show(/** @type {any} */ (state.map).barOf(next.q)); }
    },
  };
}
