// @ts-check
// One state for the page. The player and the pictures subscribe to it; nothing else keeps a copy.

/**
 * @typedef {import("./wire.js").Picture & {allBars?: import("./wire.js").BarRow[], ranged?: any}} Picture
 *   allBars: with those of the lead-in; ranged: see ranges.js
 */
/** @typedef {import("./views/map.js").TempoMap} TempoMap */
/**
 * A take whose sound is here.
 * @typedef {import("./wire.js").TakeFacts & {rate: number, frames: number}} ReadyTake
 */

/**
 * @typedef {{loop: [number, number] | null, speed: number, fitted: boolean, click: boolean, clickDb: number,
 *   mix: Record<string, import("./player/voices.js").Strip>}} Sound
 * @typedef {{top: number, rowPx: number, close: boolean, grid: string, catch: string, following: boolean,
 *   stripStart: number, stripSpan: number, sheetTop: number, leadIn: boolean, big: boolean, rowsOf: string,
 *   drawn: string, ticks: boolean, below: string, pauses: boolean, piecePx: number, curves: boolean, cells:
 *   boolean}} View  ticks: marks tick while it plays; below: "sheet" or "stack"; piecePx: height of a row of
 *   pieces; curves: levels of pieces are drawn and pulled; cells: a drag chooses cells of the grid
 * @typedef {{kind: "onset", take: string, t: number, bar?: number, target?: number} | {kind: "anchor", q:
 *   number, bar?: number} | {kind: "bar", bar: number} | {kind: "range", from: number, to: number} | {kind:
 *   "bars", bar: number, to: number} | {kind: "anchors", qs: number[], bar?: number} | {kind: "marks", take:
 *   string, ts: number[]} | {kind: "cells", from: number, to: number, bar?: number} | {kind: "note", part:
 *   string, own: number, bar?: number} | {kind: "stacked", q: number} | {kind: "piece", number: number,
 *   also?: number[]}} Selection
 * @typedef {"sound" | "view" | "selection" | "picture"} Part  what a subscriber is told of
 */

// What the server keeps of them; the rest begins anew with each page.
const KEPT_VIEW = [
    "grid",
    "catch",
    "close",
    "rowPx",
    "leadIn",
    "big",
    "rowsOf",
    "drawn",
    "ticks",
    "below",
    "pauses",
    "piecePx",
  ],
  KEPT_SOUND = ["loop", "click", "clickDb", "speed", "mix"];

/** @param {Record<string, any>} all @param {string[]} names */
const only = (all, names) =>
  Object.fromEntries(names.filter((name) => name in all).map((name) => [name, all[name]]));

/**
 * @param {{picture: Picture, station: string, focus: string, map: TempoMap | null,
 *   kept: any}} first kept: what the server
 *   has of an earlier page
 */
export function makeStore({ picture, station, focus, map, kept }) {
  /** @type {Set<(part: Part) => void>} */
  const subscribers = new Set();
  const tell = (/** @type {Part} */ part) => {
    for (const run of [...subscribers]) run(part);
  };

  const state = {
    picture,
    station,
    focus,
    map,
    /** The take that was chosen by hand: it stays chosen from station to station. @type {string | null} */
    take: /** @type {string | null} */ (null),
    /** The map as what the hand does now would make it. @type {TempoMap | null} */
    foreseen: /** @type {TempoMap | null} */ (null),
    /** The take whose own bars are corrected in Bars; null for the lead. @type {string | null} */
    of: /** @type {string | null} */ (null),
    /** @type {Sound} */
    sound: {
      loop: null,
      speed: 1,
      fitted: false,
      click: true,
      clickDb: -9,
      mix: {},
      ...only(kept, KEPT_SOUND),
    },
    /** @type {View} */
    view: {
      top: 0,
      rowPx: 53,
      close: false,
      grid: "1/8",
      catch: "grid",
      following: true,
      stripStart: 0,
      stripSpan: 6,
      sheetTop: 0,
      leadIn: false,
      big: false,
      rowsOf: "",
      drawn: "",
      ticks: false,
      below: "sheet",
      pauses: false,
      piecePx: 53,
      curves: false,
      cells: false,
      ...only(kept, KEPT_VIEW),
    },
    /**
     * What is chosen, station by station: keys act on what is seen.
     * @type {Record<string, Selection | null>}
     */
    selections: {},
    /** @type {any} */
    get selection() {
      return state.selections[state.station] ?? null;
    },
    set selection(/** @type {any} */ value) {
      state.selections[state.station] = value;
    },
    /** Session time that sounds now. @type {number | null} */
    playhead: /** @type {number | null} */ (null),
    /** Whether a range is held: its seam stands where the drift is. */
    ranging: false,
    /** @type {import("./views/weave.js").Weave | null} */
    weave: /** @type {import("./views/weave.js").Weave | null} */ (null),
  };

  /** Rows that are seen: from bar 1, those of the lead-in only where they are asked for. */
  function choose() {
    const all = (state.picture.allBars ??= state.picture.bars ?? []),
      played = all.filter((bar) => bar.i >= 0);
    state.picture.bars = state.view.leadIn || !played.length ? all : played;
  }
  choose();

  return {
    state,
    /** @param {(part: Part) => void} run @returns {() => void} ends it */
    subscribe(run) {
      subscribers.add(run);
      return () => subscribers.delete(run);
    },
    /** @param {Partial<Sound>} patch */
    sound(patch) {
      Object.assign(state.sound, patch);
      tell("sound");
    },
    /** @param {Partial<View>} patch */
    view(patch) {
      Object.assign(state.view, patch);
      if ("leadIn" in patch) choose();
      tell("view");
    },
    /** @param {Selection | null} selection */
    select(selection) {
      state.selection = selection;
      tell("selection");
    },
    /** @param {{picture: Picture, map: TempoMap | null}} fresh */
    picture(fresh) {
      Object.assign(state, fresh);
      choose();
      tell("picture");
    },
    /** What is kept for the next page. */
    kept: () => ({ ...only(state.view, KEPT_VIEW), ...only(state.sound, KEPT_SOUND) }),
  };
}
