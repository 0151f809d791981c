// @ts-check
// The comb: one bar a row, teeth at beats; pull an attack onto a tooth. In Fit it shows pegs and what they
// stretch.
import {
  HEAD_PX,
  LEFT_PX,
  caughtPlace,
  hitComb,
  makeComb,
  mostTop,
  nearest,
  topFor,
} from "./comb_geometry.js";
import { makeTimeMap, placeWords, signed } from "./map.js";
import { howDrawn, colours, once, prepared } from "./paint.js";
import { drawLoupe } from "./loupe.js";
import { drawPauses, drawPegs, drawRegion, isChosenMark } from "./fit_marks.js";
import { pullRegion, regionWords } from "./pull.js";
import {
  RIBBON_PX,
  drawGround,
  drawHead,
  drawLoopAndHead,
  drawMarks,
  drawNumbers,
  drawPulledTo,
  drawSound,
  drawTeeth,
} from "./comb_rows.js";
import { drawNotes, noteAt } from "./notes.js";
import { makeRowImages } from "./row_images.js";
import { makeTogether } from "./together.js";

/** @typedef {import("../pages/host.js").Host} Host */

const DRAG_PX = 3;
// A finger that lies still moves by less.
const TOUCH_PX = 6;
// As wide the column of numbers is in which it is said how a bar moves.
const NUMBER_PX = 60;
// A dragged clip catches on an attack this near.
const CATCH_S = 0.03;

/**
 * @param {HTMLElement} box
 * @param {Host} host
 * @param {{fitting?: boolean}} [how] fitting: pegs and what they stretch, drawn as it will sound
 */
export function mountComb(box, host, { fitting: fits = false } = {}) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "application");
  canvas.setAttribute(
    "aria-label",
    "The comb: bars as rows. Arrow keys go through bars, Q and E through attacks; the table after " +
      "it says the same in words.",
  );
  box.append(canvas);
  const { state } = host;
  /**
   * @type {null | {onset: number, time: number, x: number, y: number, row: number, target: number, free:
   *   boolean, moving: boolean, anchor: number}}
   */
  let drag = null;
  /**
   * A clip that is dragged: its tooth stays, the music under it moves.
   * @type {null | {q: number, time: number, x: number, row: number, moving: boolean, free: boolean}}
   */
  let clipDrag = null;
  /** Rows that are dragged over beside the comb. @type {null | {from: number, to: number}} */
  let rowDrag = null;
  /**
   * A note that is dragged, in Fit.
   * @type {null | {part: any, note: any, x: number, row: number, target: number, moving: boolean}}
   */
  let noteDrag = null;
  /** A finger that pulls the rows. @type {{y: number, top: number, moved: boolean, hit: any} | null} */
  let panDrag = null;
  /** @type {{x: number, y: number} | null} */
  let pointer = null;
  const together = makeTogether(host);
  const ask = once(draw),
    images = makeRowImages(() => ask());

  const fitting = () => fits,
    rowPx = () => state.view.rowPx * (fits ? 1.4 : 1);
  const take = () => host.take(fitting() ? state.focus : state.picture.lead);
  const bars = () => state.picture.bars;

  function geometry() {
    const height = canvas.clientHeight;
    state.view.top = Math.min(Math.max(0, state.view.top), mostTop(bars().length, height, rowPx()));
    return makeComb({ width: canvas.clientWidth, height, bars: bars(), top: state.view.top, rowPx: rowPx() });
  }

  /** The takes that a row draws: all mics of the lead's bundle, or the one that was chosen. */
  function drawn() {
    const shown = take();
    // In pieces it is drawn as it sounds, from session time 0 on.
    if (fitting() && shown?.pieces)
      return [{ ...shown, id: `${shown.id}/laid/${shown.pieces}`, offset_s: 0 }];
    if (fitting() || !shown?.bundle) return shown ? [shown] : [];
    const mics = state.picture.takes.filter((one) => one.bundle === shown.bundle && one.frames),
      one = mics.find((mic) => mic.id === state.view.rowsOf);
    return one ? [one] : mics;
  }

  /**
   * Marks in sight, in session time: in Fit where they will sound; of several mics one for each stroke.
   */
  const marks = () => {
    const all = drawn();
    if (all.length > 1) return together(all.map((one) => one.id));
    const id = all[0]?.id ?? "",
      own = host.marks(id),
      way = fitted();
    return {
      ...(way ? { ...own, times: own.take.map(way.toTarget) } : own),
      owner: /** @type {string[] | null} */ (null),
    };
  };

  /** @type {any} */
  let fitOf = null;
  /** @type {ReturnType<typeof makeTimeMap> | null} */
  let wayOf = null;
  /**
   * Where the shown take comes to lie when it is fitted; null outside Fit, or while there is nothing to fit.
   */
  function fitted() {
    const fit = fitting() ? state.picture.fit : null;
    if (fitOf !== fit) {
      fitOf = fit;
      wayOf = fit && !fit.missing ? makeTimeMap(fit.source, fit.target) : null;
    }
    return wayOf;
  }

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours();
    const shown = take();
    if (!state.map || !bars().length) return;
    const comb = geometry();
    host.need(bars()[comb.first].s, bars()[comb.last].e);
    images.begin(rowPx());
    const map = (!fitting() && state.foreseen) || state.map;
    g.save();
    g.beginPath();
    g.rect(0, HEAD_PX, width, height - HEAD_PX);
    g.clip();
    for (let row = comb.first; row <= comb.last; row++) drawRow(g, c, comb, row, map, shown);
    g.restore();
    drawHead({ g, c, comb, host, fits }, bars()[Math.max(0, comb.first)]);
    if (drag?.moving) drawDrag(g, c, comb, map, shown);
    const scene = { g, c, comb, host, fits };
    // Its tooth stays, the music under it moves.
    if (clipDrag?.moving)
      drawPulledTo(
        scene,
        bars()[clipDrag.row],
        clipDrag.row,
        clipDrag.q,
        2 * state.map.toSeconds(clipDrag.q) - clipDrag.time,
      );
    if (noteDrag?.moving)
      drawPulledTo(scene, bars()[noteDrag.row], noteDrag.row, noteDrag.target, noteDrag.note[0]);
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {import("./comb_geometry.js").Comb} comb
   * @param {number} row
   * @param {import("./map.js").TempoMap} map
   * @param {any} shown
   */
  function drawRow(g, c, comb, row, map, shown) {
    const scene = { g, c, comb, host, fits };
    const bar = bars()[row],
      y = comb.yOf(row),
      tall = rowPx();
    const base = y + tall - 4 - (fitting() ? RIBBON_PX : 0);
    const place = host.placeNow();
    const bad = place !== null && place >= bar.s - 1e-4 && place < bar.e - 1e-4;
    drawGround(scene, bar, y, tall, { bad, chosen: isChosen(bar.i) });
    // The sound, music under teeth: each pixel is a place, the map says when that is, and in Fit the fit says
    // what sounds then.
    const way = fitted(),
      strength = !fitting() && howDrawn(state.view.drawn, shown) === "attacks" ? host.strength() : null,
      all = drawn();
    const paint = (
      /** @type {CanvasRenderingContext2D} */ on,
      /** @type {number} */ height,
      /** @type {number} */ up,
    ) => drawSound({ ...scene, g: on }, bar, map, { shown, all, way, strength, up, tall: height });
    // A dragged map is another one in each frame.
    if (!shown) {
      /* parts alone */
    } else if (drag?.moving || clipDrag?.moving) paint(g, tall, y);
    else
      images.draw(
        g,
        bar.i,
        { x: comb.x0, y, wide: comb.w, tall },
        [map, shown, way, strength, state.view.drawn, state.view.rowsOf, c.wave, comb.x0],
        host.peaks.arrived,
        (on, height) => paint(on, height, 0),
      );
    drawNotes(g, c, comb, host, bar, y, tall);
    if (fitting() && state.view.pauses) drawPauses(g, c, comb, host, fitted(), bar, y, tall);
    drawTeeth(scene, bar, y, base, tall);
    if (fitting()) drawPegs(g, c, comb, host, fitted(), bar, y, base, tall);
    else drawMarks(scene, bar, y, base, map, shown, marks());
    drawLoopAndHead(scene, bar, y, tall, map);
    drawNumbers(scene, bar, y, tall);
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {import("./comb_geometry.js").Comb} comb
   * @param {import("./map.js").TempoMap} map
   * @param {any} shown
   */
  function drawDrag(g, c, comb, map, shown) {
    if (!drag || !state.map) return;
    const bar = bars()[drag.row];
    const x = comb.xOf(drag.target, bar);
    const region = fitting() ? pullOf(drag.onset, state.map.toSeconds(drag.target)) : null;
    if (region) drawRegion(g, c, comb, host, region);
    g.fillStyle = c.field;
    g.fillRect(x - 1.25, comb.yOf(drag.row), 2.5, rowPx());
    const off = 1000 * (drag.time - state.map.toSeconds(drag.target));
    const words = fitting()
      ? `moved by ${signed(-off)} ms to ${placeWords(state.map, drag.target)}` +
        `${region ? `\n${regionWords(region, state.picture.fit.limits)}` : ""}`
      : `${Math.abs(off).toFixed(1)} ms ${off < 0 ? "early" : "late"}: pull to ` +
        `${placeWords(state.map, drag.target)}`;
    // The loupe shows the sound as it came.
    drawLoupe(g, c, host, shown, {
      time: fitting() ? (host.marks(shown.id).times[drag.onset] ?? drag.time) : drag.time,
      x,
      top: comb.yOf(drag.row),
      row: rowPx(),
      width: comb.width,
      height: comb.height,
      words,
    });
  }

  /**
   * What a pulled onset does to both sides; null while nothing is fitted.
   * @param {number} onset
   * @param {number} target session seconds
   */
  function pullOf(onset, target) {
    const { fit } = state.picture,
      shown = take(),
      mark = shown ? host.marks(shown.id).take[onset] : undefined;
    if (!fit || fit.missing || mark === undefined) return null;
    const peg = fit.pegs.find((/** @type {any} */ one) => Math.abs(one[0] - mark) < 1e-5);
    return pullRegion(fit.pegs, {
      take: mark,
      own: peg ? peg[1] : (fitted()?.toTarget(mark) ?? mark),
      target,
    });
  }

  /** @param {number} index */
  function isChosen(index) {
    const chosen = rowDrag
      ? { kind: "bars", bar: Math.min(rowDrag.from, rowDrag.to), to: Math.max(rowDrag.from, rowDrag.to) }
      : state.selection;
    return chosen?.kind === "bars" ? index >= chosen.bar && index <= chosen.to : chosen?.bar === index;
  }

  // -- events

  /** @param {PointerEvent | MouseEvent | WheelEvent} event */
  const at = (event) => {
    const box = canvas.getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top };
  };

  /** @param {{x: number, y: number}} where */
  function under(where) {
    if (!state.map || !bars().length) return null;
    const things = {
      onsets: marks().times,
      toQuarters: state.map.toQuarters,
      toSeconds: state.map.toSeconds,
      anchors: fitting() ? [] : state.picture.anchors,
    };
    return hitComb(geometry(), bars(), where, things);
  }

  /** @param {PointerEvent} event */
  function down(event) {
    if (event.button !== 0) return;
    canvas.focus();
    const where = at(event),
      hit = under(where);
    if (!hit || !state.map) return;
    if (where.x < LEFT_PX - 6) {
      const chosen = state.selection;
      if (event.shiftKey && chosen?.bar !== undefined && chosen.kind !== "anchors") {
        chooseBars(chosen.bar, hit.bar.i, false);
        return;
      }
      rowDrag = { from: hit.bar.i, to: hit.bar.i };
      canvas.setPointerCapture(event.pointerId);
      host.select({ kind: "bar", bar: hit.bar.i });
      host.seek(hit.bar.s);
      return;
    }
    if (hit.anchor >= 0) {
      const anchor = state.picture.anchors[hit.anchor],
        chosen = state.selection;
      if (event.shiftKey && (chosen?.kind === "anchor" || chosen?.kind === "anchors")) {
        const qs = new Set(chosen.kind === "anchor" ? [chosen.q] : chosen.qs);
        if (!qs.delete(anchor.q)) qs.add(anchor.q);
        host.select({ kind: "anchors", qs: [...qs].sort((a, b) => a - b), bar: hit.bar.i });
        return;
      }
      host.select({ kind: "anchor", q: anchor.q, bar: hit.bar.i });
      if (anchor.locked) {
        host.say(`${anchor.place} is locked; unlock it to move it.`);
        return;
      }
      clipDrag = { q: anchor.q, time: anchor.t, x: where.x, row: hit.row, moving: false, free: false };
      canvas.setPointerCapture(event.pointerId);
      return;
    }
    // In Fit clips stand in the upper third and feet at the base; between them notes can be caught.
    const noted = fitting() ? noteAt(geometry(), host, hit.bar, hit.row, where) : null;
    if (noted) {
      host.select({ kind: "note", part: noted.part.id, own: noted.note[4] ?? 0, bar: hit.bar.i });
      noteDrag = {
        ...noted,
        x: where.x,
        row: hit.row,
        target: state.map.toQuarters(noted.note[0]),
        moving: false,
      };
      canvas.setPointerCapture(event.pointerId);
      return;
    }
    if (hit.onset >= 0) {
      const own = marks();
      const shown = take();
      if (!shown) return;
      const mark = own.take[hit.onset],
        had = state.selection;
      // Several are pulled as one: Shift and click adds one or takes it out.
      if (
        fitting() &&
        event.shiftKey &&
        (had?.kind === "onset" || had?.kind === "marks") &&
        had.take === shown.id &&
        !(had.kind === "onset" && had.t === mark)
      ) {
        const ts = new Set(had.kind === "onset" ? [had.t] : had.ts);
        if (!ts.delete(mark)) ts.add(mark);
        host.select(ts.size ? { kind: "marks", take: shown.id, ts: [...ts].sort((a, b) => a - b) } : null);
        return;
      }
      if (!(fitting() && had?.kind === "marks" && isChosenMark(had, mark)))
        host.select({
          kind: "onset",
          take: own.owner?.[hit.onset] ?? drawn()[0]?.id ?? shown.id,
          t: own.take[hit.onset],
          bar: hit.bar.i,
        });
      drag = {
        onset: hit.onset,
        time: own.times[hit.onset],
        x: where.x,
        y: where.y,
        row: hit.row,
        target: hit.q,
        free: false,
        moving: false,
        anchor: -1,
      };
      canvas.setPointerCapture(event.pointerId);
      return;
    }
    // A finger on the ground pulls the rows along; lifted where it came down it is a click.
    if (event.pointerType === "touch") {
      panDrag = { y: where.y, top: state.view.top, moved: false, hit };
      canvas.setPointerCapture(event.pointerId);
      return;
    }
    chooseGround(hit);
  }

  /** @param {any} hit */
  function chooseGround(hit) {
    host.select({ kind: "bar", bar: hit.bar.i });
    if (state.map) host.seek(state.map.toSeconds(hit.q));
  }

  /** Both parts of what moves in the bar under the pointer. @param {{x: number, y: number}} where */
  function sayMove(where) {
    const bar = bars()[Math.floor(state.view.top + (where.y - HEAD_PX) / rowPx())],
      found = bar && where.y > HEAD_PX ? host.fitMove(bar) : null;
    if (found)
      host.say(
        `Bar ${bar.n}: ${signed(found.pulled)} ms by the rule, ${signed(found.moved - found.pulled)} ms by following.`,
      );
  }

  /** @param {PointerEvent} event */
  function move(event) {
    pointer = at(event);
    const hit = under(pointer);
    host.pointAt(hit && state.map ? { time: state.map.toSeconds(hit.q), q: hit.q } : null);
    if (fitting() && pointer.x > canvas.clientWidth - NUMBER_PX) sayMove(pointer);
    if (panDrag) {
      const dy = pointer.y - panDrag.y;
      if (Math.abs(dy) > TOUCH_PX) panDrag.moved = true;
      if (panDrag.moved) {
        state.view.top = panDrag.top - dy / rowPx();
        state.view.following = false;
        ask();
      }
      return;
    }
    if (rowDrag) {
      if (hit) rowDrag.to = hit.bar.i;
      ask();
      return;
    }
    if (clipDrag) {
      if (!clipDrag.moving && Math.abs(pointer.x - clipDrag.x) < DRAG_PX) return;
      clipDrag.moving = true;
      clipDrag.free = event.shiftKey;
      canvas.style.cursor = "grabbing";
      if (!state.map) return;
      const shown = take(),
        time = state.map.toSeconds(
          clipDrag.q +
            geometry().qOf(pointer.x, bars()[clipDrag.row]) -
            geometry().qOf(clipDrag.x, bars()[clipDrag.row]),
        );
      const near =
        clipDrag.free || ["nothing", "samples"].includes(state.view.catch) || !shown
          ? null
          : nearest(marks().times, time);
      clipDrag.time = near !== null && Math.abs(near - time) < CATCH_S ? near : time;
      host.foresee("pull", { time_s: clipDrag.time, quarters: clipDrag.q, free: true });
      ask();
      return;
    }
    if (noteDrag) {
      if (!noteDrag.moving && Math.abs(pointer.x - noteDrag.x) < DRAG_PX) return;
      noteDrag.moving = true;
      const bar = bars()[noteDrag.row],
        q = geometry().qOf(pointer.x, bar);
      noteDrag.target = event.shiftKey ? q : caughtPlace(q, bar, host.rulePlaces(bar));
      ask();
      return;
    }
    if (!drag) {
      canvas.style.cursor = hit && (hit.onset >= 0 || hit.anchor >= 0) ? "grab" : "crosshair";
      return;
    }
    if (!drag.moving && Math.abs(pointer.x - drag.x) < DRAG_PX) return;
    drag.moving = true;
    drag.free = event.shiftKey;
    canvas.style.cursor = "grabbing";
    const comb = geometry(),
      bar = bars()[drag.row];
    const q = comb.qOf(pointer.x, bar);
    const places = fitting() ? host.rulePlaces(bar) : host.catchPlaces(bar);
    drag.target = drag.free || !places ? q : caughtPlace(q, bar, places);
    if (!fitting()) host.foresee("pull", { time_s: drag.time, quarters: drag.target, free: false });
    ask();
  }

  /** @param {PointerEvent} event */
  function up(event) {
    const done = drag,
      clipped = clipDrag,
      rows = rowDrag,
      noted = noteDrag,
      panned = panDrag;
    drag = clipDrag = rowDrag = noteDrag = panDrag = null;
    if (panned && !panned.moved) chooseGround(panned.hit);
    canvas.style.cursor = "crosshair";
    if (rows && rows.from !== rows.to) chooseBars(rows.from, rows.to, true);
    if (noted?.moving) host.pullNote(noted.part.id, noted.note[4], noted.target);
    if (clipped?.moving) host.pull(clipped.time, clipped.q, true);
    if (canvas.hasPointerCapture(event.pointerId)) canvas.releasePointerCapture(event.pointerId);
    if (done?.moving && state.map) {
      const many = fitting() && state.selection?.kind === "marks" ? state.selection : null;
      if (many) host.phrase(many.take, many.ts, 1000 * (state.map.toSeconds(done.target) - done.time));
      else if (fitting()) host.peg(done.onset, done.target, done.free);
      else host.pull(done.time, done.target);
    }
    ask();
  }

  function cancel() {
    const was = drag !== null || clipDrag !== null || rowDrag !== null || noteDrag !== null;
    host.foreseen();
    drag = clipDrag = rowDrag = noteDrag = panDrag = null;
    ask();
    return was;
  }

  /**
   * A range of bars is chosen; dragged over, it loops.
   * @param {number} a
   * @param {number} b
   * @param {boolean} looped indices
   */
  function chooseBars(a, b, looped) {
    const first = Math.min(a, b),
      last = Math.max(a, b),
      from = bars().find((bar) => bar.i === first),
      to = bars().find((bar) => bar.i === last);
    host.select(first === last ? { kind: "bar", bar: first } : { kind: "bars", bar: first, to: last });
    if (looped && from && to) host.loop([from.s, to.e]);
  }

  /** @param {WheelEvent} event */
  function wheel(event) {
    event.preventDefault();
    if (event.ctrlKey || event.metaKey) host.zoom(event.deltaY < 0 ? 1 : -1);
    else {
      state.view.top += (event.deltaY / rowPx()) * (event.deltaMode === 1 ? 16 : 1);
      state.view.following = false;
    }
    ask();
  }

  const leave = () => {
    pointer = null;
    host.pointAt(null);
  };
  canvas.addEventListener("pointerdown", down);
  canvas.addEventListener("pointermove", move);
  canvas.addEventListener("pointerup", up);
  canvas.addEventListener("pointercancel", cancel);
  canvas.addEventListener("pointerleave", leave);
  canvas.addEventListener("wheel", wheel, { passive: false });

  return {
    draw: ask,
    cancel,
    /** Scroll so that a bar is in sight. @param {number} index */
    show(index) {
      const row = bars().findIndex((bar) => bar.i === index);
      const seen = (canvas.clientHeight - HEAD_PX) / rowPx();
      if (row < 0) return;
      state.view.top = topFor(row, state.view.top, seen);
      ask();
    },
    /** Bars in sight, whole ones: [first, last] rows. */
    inSight() {
      const comb = geometry();
      const first = Math.ceil(state.view.top - 0.05);
      return [
        first,
        Math.max(
          first,
          Math.min(
            bars().length - 1,
            Math.floor(state.view.top + (comb.height - HEAD_PX) / comb.rowPx - 1 + 0.05),
          ),
        ),
      ];
    },
    destroy() {
      ask.cancel();
      canvas.remove();
    },
    /**
     * Where a place is on the screen, for tests and the loupe: client pixels.
     * @param {number} q
     * @param {number} index
     */
    pixelOf(q, index) {
      const row = bars().findIndex((bar) => bar.i === index);
      const comb = geometry(),
        frame = canvas.getBoundingClientRect();
      return { x: frame.left + comb.xOf(q, bars()[row]), y: frame.top + comb.yOf(row) + rowPx() * 0.6 };
    },
  };
}
