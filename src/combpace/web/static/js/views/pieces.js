// @ts-check
// Pieces: the comb's rows, pieces lying on them like cut paper with their sound; the ground shows where
// nothing sounds.
import {
  HEAD_PX,
  LEFT_PX,
  OVER,
  caughtPlace,
  lowerBound,
  makeComb,
  mostTop,
  topFor,
} from "./comb_geometry.js";
import { gridPlaces, placeWords, signed } from "./map.js";
import { cellAt, farthest, pieceAt } from "./piece_geometry.js";
import { drawCurve, drawFades, levelScale } from "./piece_marks.js";
import { colours, gainOf, once, prepared, type, wave } from "./paint.js";

/** @typedef {import("./piece_geometry.js").Piece} Piece */

// A point of a level over time is caught this near.
const POINT_PX = 7;

// A pointer that moved so little has chosen, not pulled.
const DRAG_PX = 3;

/**
 * @param {HTMLElement} box
 * @param {import("../pages/host.js").Host} host
 * @param {{move: (piece: Piece, q: number, free: boolean) => void, previewed: () => Piece[] | null,
 *   dropPreview: () => boolean, curve: (piece: Piece, points: [number, number][]) => void}} how
 */
export function mountPieces(box, host, how) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "application");
  canvas.setAttribute(
    "aria-label",
    "Pieces: bars as rows. Q and E go through the pieces, arrows move one, K cuts, N joins, Delete " +
      "takes one away; the list says the same in words.",
  );
  box.append(canvas);
  const { state } = host,
    ask = once(draw);
  /**
   * add: the choice that a click without a drag would add to
   * @type {{piece: Piece, x: number, q: number, to: number, moving: boolean, free: boolean, add: any} | null}
   */
  let drag = null;
  /**
   * A point of the chosen piece's level that is dragged.
   * @type {{piece: Piece, points: [number, number][], at: number} | null}
   */
  let point = null;
  /**
   * Cells of the grid that are dragged over.
   * @type {{first: [number, number], from: number, to: number} | null}
   */
  let cellDrag = null;
  /** Bars that are dragged over by their numbers. @type {{from: number, to: number} | null} */
  let barDrag = null;
  const rowPx = () => Math.min(84, Math.max(24, state.view.piecePx)),
    bars = () => state.picture.bars,
    take = () => host.take(state.focus);
  const pieces = () => /** @type {Piece[]} */ (state.picture.pieces ?? []);
  const isChosen = (/** @type {Piece} */ piece) =>
    !how.previewed() &&
    state.selection?.kind === "piece" &&
    (state.selection.number === piece.number || (state.selection.also ?? []).includes(piece.number));
  /**
   * What is drawn of a take: the sound that its pieces are cut from; of a bundle all its mics, the loudest at
   * each moment.
   * @param {any} shown
   * @param {number} db
   */
  function soundsOf(shown, db) {
    const mates = shown.bundle
      ? state.picture.takes.filter(
          (one) => one.bundle === shown.bundle && one.frames && one.offset_s === shown.offset_s,
        )
      : [shown];
    const all = mates.length ? mates : [shown];
    return all.map((/** @type {any} */ one) => ({
      ...one,
      id: one.cut_from ? `${one.id}/sounds/${one.cut_from}` : one.id,
      peak: one.peak ? one.peak / 10 ** (db / 20) : one.peak,
    }));
  }

  function geometry() {
    const height = canvas.clientHeight;
    state.view.top = Math.min(Math.max(0, state.view.top), mostTop(bars().length, height, rowPx()));
    return makeComb({ width: canvas.clientWidth, height, bars: bars(), top: state.view.top, rowPx: rowPx() });
  }

  function draw() {
    const { g, width, height } = prepared(canvas),
      c = colours(),
      map = state.map,
      shown = take();
    if (!map || !shown || !bars().length) return;
    const comb = geometry(),
      all = [...(how.previewed() ?? pieces())].sort((a, b) => a.at - b.at);
    g.save();
    g.beginPath();
    g.rect(0, HEAD_PX, width, height - HEAD_PX);
    g.clip();
    for (let row = comb.first; row <= comb.last; row++) drawRow(g, c, comb, row, map, shown, all);
    if (!all.length) {
      const words = "Nothing is cut yet. Say at the side where this take is cut; its pieces lie here then.";
      type(g, 15, 500, "center");
      const half = g.measureText(words).width / 2 + 14;
      g.fillStyle = c.ground;
      g.fillRect(width / 2 - half, height / 2 - 22, 2 * half, 34);
      g.fillStyle = c.quiet;
      g.fillText(words, width / 2, height / 2);
    }
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
    for (let beat = 0; beat <= bar.beats; beat++)
      g.fillText(String((beat % bar.beats) + 1), comb.xOf(bar.q + (beat * bar.len) / bar.beats, bar), 16);
    g.fillStyle = c.line;
    g.fillRect(0, HEAD_PX - 1, width, 1);
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {import("./comb_geometry.js").Comb} comb
   * @param {number} row
   * @param {import("./map.js").TempoMap} map
   * @param {any} shown
   * @param {Piece[]} all
   */
  function drawRow(g, c, comb, row, map, shown, all) {
    const bar = bars()[row],
      y = comb.yOf(row),
      tall = rowPx(),
      gain = gainOf(shown),
      beat = bar.len / bar.beats,
      cut = all.length > 0;
    const lineX = comb.xOf(bar.q, bar),
      endX = comb.xOf(bar.q + bar.len, bar);
    const many = barDrag
      ? { bar: Math.min(barDrag.from, barDrag.to), to: Math.max(barDrag.from, barDrag.to) }
      : state.selection?.kind === "bars"
        ? state.selection
        : null;
    if (many && bar.i >= many.bar && bar.i <= many.to) {
      g.fillStyle = c.chosen;
      g.globalAlpha = 0.6;
      g.fillRect(0, y, comb.width, tall);
      g.globalAlpha = 1;
    }
    const cells = cellDrag ?? (state.selection?.kind === "cells" ? state.selection : null);
    g.fillStyle = c.line;
    g.fillRect(0, y + tall - 1, comb.width, 1);
    if (!cut) {
      // Not cut: its sound as it was played, faint.
      g.fillStyle = c.quiet;
      g.globalAlpha = 0.45;
      wave(g, host.peaks, shown, {
        x0: Math.round(lineX),
        x1: Math.round(endX),
        mid: y + tall / 2,
        half: tall * 0.4,
        gain,
        timeAt: (x) => map.toSeconds(comb.qOf(x, bar)),
      });
      g.globalAlpha = 1;
    }
    for (const place of gridPlaces(state.view.grid, bar.len, beat)) {
      const onBeat = Math.abs(place / beat - Math.round(place / beat)) < 1e-6;
      g.fillStyle = c.ink;
      g.globalAlpha = onBeat ? 0.3 : 0.12;
      g.fillRect(comb.xOf(bar.q + place, bar) - 0.5, y, 1, tall - 1);
      g.globalAlpha = 1;
    }
    const from = bar.s - OVER * (bar.e - bar.s),
      to = bar.e + OVER * (bar.e - bar.s);
    for (const piece of all) {
      const at = drag?.moving && drag.piece.number === piece.number ? map.toSeconds(drag.to) : piece.at,
        end = at + piece.stop - piece.start;
      if (end <= from || at >= to) continue;
      drawPiece(
        g,
        c,
        comb,
        bar,
        { y, tall, map, shown, gain },
        { ...piece, at },
        Math.max(at, from),
        Math.min(end, to),
      );
    }
    if (cells && cells.from < bar.q + bar.len - 1e-9 && cells.to > bar.q + 1e-9) {
      const a = comb.xOf(Math.max(bar.q, cells.from), bar),
        b = comb.xOf(Math.min(bar.q + bar.len, cells.to), bar);
      g.fillStyle = c.field;
      g.globalAlpha = 0.16;
      g.fillRect(a, y, b - a, tall - 1);
      g.globalAlpha = 1;
      for (const edge of [y, y + tall - 3]) g.fillRect(a, edge, b - a, 2);
    }
    g.fillStyle = c.ink;
    for (const place of [0, bar.len]) g.fillRect(comb.xOf(bar.q + place, bar) - 1, y, 2.2, tall - 1);
    type(g, 15, 700);
    g.fillText(String(bar.n).replace("-", "−"), 14, y + Math.min(tall * 0.55, 22));
    const off = farthest(all, bar);
    type(g, 14, 500, "right");
    if (off !== null && Math.abs(off) >= 0.05) g.fillText(signed(off), comb.width - 10, y + tall / 2 + 5);
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {import("./comb_geometry.js").Comb} comb
   * @param {import("../wire.js").BarRow} bar
   * @param {{y: number, tall: number, map: any, shown: any, gain: number}} row
   * @param {Piece} piece
   * @param {number} from
   * @param {number} to
   */
  function drawPiece(g, c, comb, bar, { y, tall, map, shown, gain }, piece, from, to) {
    const a = comb.xOf(map.toQuarters(from), bar),
      b = comb.xOf(map.toQuarters(to), bar),
      chosen = isChosen(piece),
      sounds = soundsOf(shown, piece.db);
    // Where two overlap both show through.
    g.fillStyle = chosen ? c.chosen : c.panel;
    g.globalAlpha = 0.8;
    g.fillRect(a, y + 3, Math.max(1, b - a), tall - 8);
    g.globalAlpha = 0.85;
    g.fillStyle = c.wave;
    const loud = gain * 10 ** (piece.db / 20);
    wave(g, host.peaks, sounds.length > 1 ? sounds : sounds[0], {
      x0: Math.ceil(a),
      x1: Math.floor(b),
      mid: y + tall / 2 - 1,
      half: tall * 0.36,
      gain: loud,
      timeAt: (x) => shown.offset_s + piece.start + (map.toSeconds(comb.qOf(x, bar)) - piece.at),
    });
    g.globalAlpha = 1;
    g.strokeStyle = chosen ? c.ink : c.quiet;
    g.lineWidth = chosen ? 2 : 1;
    // Not kept yet: its edge is dashed.
    g.setLineDash(how.previewed() ? [5, 4] : []);
    g.beginPath();
    // A cut edge is notched, as paper is; an edge beyond the row is none.
    for (const edge of [y + 3, y + tall - 5]) {
      g.moveTo(a, edge);
      g.lineTo(b, edge);
    }
    if (from === piece.at) {
      g.moveTo(a + 0.5, y + 3);
      g.lineTo(a + 3.5, y + 6.5);
      g.lineTo(a + 0.5, y + 10);
      g.lineTo(a + 0.5, y + tall - 5);
    }
    if (to === piece.at + piece.stop - piece.start) {
      g.moveTo(b, y + 3);
      g.lineTo(b, y + tall - 5);
    }
    g.stroke();
    g.setLineDash([]);
    drawFades(g, c, (time) => comb.xOf(map.toQuarters(time), bar), { a, b, y, tall }, piece);
    if (state.view.curves || piece.curve.length)
      drawCurve(
        g,
        c,
        (time) => comb.xOf(map.toQuarters(time), bar),
        { a, b, y, tall },
        piece,
        point?.piece.number === piece.number ? point.points : piece.curve,
        chosen,
      );
    // Its own sound: a corner that is folded over.
    if (piece.own && from === piece.at) {
      g.fillStyle = c.ink;
      g.beginPath();
      g.moveTo(a + 1, y + tall - 5);
      g.lineTo(a + 9, y + tall - 5);
      g.lineTo(a + 1, y + tall - 13);
      g.fill();
    }
    if (piece.off !== null && Math.abs(piece.off) >= 0.05 && from === piece.at) {
      g.fillStyle = c.field;
      g.fillRect(a, y + 3, 3, tall - 8);
    }
  }

  /** @param {PointerEvent | MouseEvent} event */
  const at = (event) => {
    const frame = canvas.getBoundingClientRect();
    return { x: event.clientX - frame.left, y: event.clientY - frame.top };
  };

  /** The row's bar and the place under a point. @param {{x: number, y: number}} where */
  function under(where) {
    const comb = geometry(),
      row = comb.rowAt(where.y);
    if (row < 0 || !state.map) return null;
    const bar = bars()[row],
      q = comb.qOf(where.x, bar);
    return {
      bar,
      q,
      time: state.map.toSeconds(q),
      piece: how.previewed() ? null : pieceAt(pieces(), state.map.toSeconds(q)),
    };
  }

  /** @param {PointerEvent} event */
  function down(event) {
    if (event.button !== 0) return;
    canvas.focus();
    const where = at(event),
      hit = under(where);
    if (!hit) return;
    if (where.x < LEFT_PX - 6) {
      barDrag = { from: hit.bar.i, to: hit.bar.i };
      canvas.setPointerCapture(event.pointerId);
      host.seek(hit.bar.s);
      ask();
      return;
    }
    // Cells: where that is on, with Alt, and from the ground on, where no piece could be meant.
    if (state.view.cells || event.altKey) {
      const [from, to] = cellAt(
        hit.q,
        hit.bar,
        gridPlaces(state.view.grid, hit.bar.len, hit.bar.len / hit.bar.beats),
      );
      cellDrag = { first: [from, to], from, to };
      canvas.setPointerCapture(event.pointerId);
      ask();
      return;
    }
    if (!hit.piece) {
      host.select(null);
      host.seek(hit.time);
      return;
    }
    const had = state.selection?.kind === "piece" ? state.selection : null,
      // With Shift a click adds to the choice, or takes out of it; a drag is freed, as everywhere.
      add = event.shiftKey && had && had.number !== hit.piece.number ? had : null;
    if (state.view.curves && had?.number === hit.piece.number) {
      const k = pointAt(hit.piece, where, hit.bar),
        points = /** @type {[number, number][]} */ (hit.piece.curve.map((one) => [...one])),
        fresh = freshPoint(hit.piece, where, hit);
      if (k < 0) points.push(fresh);
      points.sort((x, y) => x[0] - y[0]);
      point = { piece: hit.piece, points, at: k >= 0 ? k : points.indexOf(fresh) };
      canvas.setPointerCapture(event.pointerId);
      ask();
      return;
    }
    if (!add) host.select({ kind: "piece", number: hit.piece.number });
    drag = { piece: hit.piece, x: where.x, q: hit.q, to: hit.piece.q, moving: false, free: false, add };
    canvas.setPointerCapture(event.pointerId);
  }

  /**
   * A point where the pointer is: ms after the piece's start, dB.
   * @param {Piece} piece
   * @param {{x: number, y: number}} where
   * @param {{time: number}} hit
   * @returns {[number, number]}
   */
  function freshPoint(piece, where, hit) {
    const comb = geometry(),
      ms = 1000 * Math.min(piece.stop - piece.start, Math.max(0, hit.time - piece.at));
    return [Math.round(10 * ms) / 10, levelScale(comb.yOf(comb.rowAt(where.y)), rowPx()).dbOf(where.y)];
  }

  /**
   * Which point of a piece's level is under the pointer; -1 for none.
   * @param {Piece} piece
   * @param {{x: number, y: number}} where
   * @param {import("../wire.js").BarRow} bar
   */
  function pointAt(piece, where, bar) {
    const comb = geometry(),
      scale = levelScale(comb.yOf(comb.rowAt(where.y)), rowPx()),
      map = state.map;
    return map
      ? piece.curve.findIndex(
          ([ms, db]) =>
            Math.hypot(
              comb.xOf(map.toQuarters(piece.at + ms / 1000), bar) - where.x,
              scale.yOf(db) - where.y,
            ) <= POINT_PX,
        )
      : -1;
  }

  /** @param {PointerEvent} event */
  function move(event) {
    const where = at(event),
      hit = under(where);
    if (point && hit) {
      // A point stays between its neighbours.
      const [ms, db] = freshPoint(point.piece, where, hit),
        k = point.at,
        { points } = point,
        low = k > 0 ? points[k - 1][0] + 1 : 0,
        high = k + 1 < points.length ? points[k + 1][0] - 1 : Infinity;
      points[k] = [Math.min(high, Math.max(low, ms)), db];
      host.say(`${db.toFixed(1).replace("-", "−")} dB at ${points[k][0].toFixed(0)} ms`);
      ask();
      return;
    }
    host.pointAt(hit ? { time: hit.time, q: hit.q } : null);
    if (barDrag && hit) {
      barDrag.to = hit.bar.i;
      ask();
      return;
    }
    if (cellDrag && hit) {
      const [from, to] = cellAt(
        hit.q,
        hit.bar,
        gridPlaces(state.view.grid, hit.bar.len, hit.bar.len / hit.bar.beats),
      );
      cellDrag.from = Math.min(cellDrag.first[0], from);
      cellDrag.to = Math.max(cellDrag.first[1], to);
      ask();
      return;
    }
    if (state.view.cells && !drag) {
      canvas.style.cursor = "cell";
      return;
    }
    canvas.style.cursor = hit?.piece ? "grab" : "default";
    if (!drag || !hit) return;
    if (!drag.moving && Math.abs(where.x - drag.x) < DRAG_PX && Math.abs(hit.q - drag.q) < 1) return;
    if (!drag.moving && drag.add) host.select({ kind: "piece", number: drag.piece.number });
    drag.moving = true;
    drag.free = event.shiftKey || ["nothing", "samples"].includes(state.view.catch);
    const q = drag.piece.q + hit.q - drag.q,
      places = host.catchPlaces(hit.bar);
    drag.to = drag.free || !places ? q : caughtPlace(q, hit.bar, places);
    const map = /** @type {any} */ (state.map);
    host.say(`${placeWords(map, drag.to)}, ${signed(1000 * (map.toSeconds(drag.to) - drag.piece.at))} ms`);
    ask();
  }

  /** @param {PointerEvent} event */
  function up(event) {
    const done = drag,
      curved = point,
      cells = cellDrag;
    drag = point = cellDrag = null;
    if (cells) host.select({ kind: "cells", from: cells.from, to: cells.to });
    if (curved) how.curve(curved.piece, curved.points);
    if (barDrag) {
      host.select({
        kind: "bars",
        bar: Math.min(barDrag.from, barDrag.to),
        to: Math.max(barDrag.from, barDrag.to),
      });
      barDrag = null;
    }
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    if (done?.moving) how.move(done.piece, done.to, done.free);
    else if (done?.add) {
      const also = new Set(done.add.also ?? []);
      if (!also.delete(done.piece.number)) also.add(done.piece.number);
      host.select({ ...done.add, also: [...also] });
    }
    ask();
  }

  /** @param {WheelEvent} event */
  function wheel(event) {
    event.preventDefault();
    state.view.top += event.deltaY / rowPx();
    host.scrolled();
    ask();
  }

  /** A point is taken away with a double click. @param {MouseEvent} event */
  function twice(event) {
    const where = at(event),
      hit = under(where);
    if (!state.view.curves || !hit?.piece) return;
    const k = pointAt(hit.piece, where, hit.bar);
    if (k >= 0)
      how.curve(
        hit.piece,
        hit.piece.curve.filter((_, other) => other !== k),
      );
  }

  canvas.addEventListener("dblclick", twice);
  canvas.addEventListener("pointerdown", down);
  canvas.addEventListener("pointermove", move);
  canvas.addEventListener("pointerup", up);
  canvas.addEventListener("pointercancel", () => {
    drag = barDrag = point = cellDrag = null;
    ask();
  });
  canvas.addEventListener("wheel", wheel, { passive: false });
  return {
    draw: ask,
    cancel() {
      const was = drag !== null || point !== null || cellDrag !== null;
      drag = point = cellDrag = null;
      ask();
      return was || how.dropPreview();
    },
    /** @param {number} index */
    show(index) {
      const row = bars().findIndex((bar) => bar.i === index);
      if (row >= 0) state.view.top = topFor(row, state.view.top, (canvas.clientHeight - HEAD_PX) / rowPx());
      ask();
    },
    inSight() {
      const comb = geometry();
      return [comb.first, Math.max(comb.first, comb.last)];
    },
    destroy() {
      ask.cancel();
      canvas.remove();
    },
    /** The pieces that are drawn: those previewed, or those that are; for tests. */
    drawn: () => how.previewed() ?? pieces(),
    /** Client pixels of a place in its row, for tests. @param {number} q @param {number} index */
    pixelOf(q, index) {
      const row = bars().findIndex((bar) => bar.i === index),
        comb = geometry(),
        frame = canvas.getBoundingClientRect();
      return { x: frame.left + comb.xOf(q, bars()[row]), y: frame.top + comb.yOf(row) + rowPx() * 0.6 };
    },
    /** The piece after or before the chosen one, by place. @param {number} step */
    step(step) {
      const all = [...pieces()].sort((x, y) => x.at - y.at),
        k = all.findIndex(
          (one) => state.selection?.kind === "piece" && one.number === state.selection.number,
        );
      const next =
        all[
          k < 0
            ? lowerBound(
                all.map((one) => one.at),
                state.playhead ?? 0,
              )
            : k + step
        ];
      if (next) {
        host.select({ kind: "piece", number: next.number });
        host.show(/** @type {any} */ (state.map).barOf(next.q));
      }
    },
  };
}
