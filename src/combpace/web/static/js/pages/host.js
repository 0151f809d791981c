// @ts-check
// What the pictures are given: one plain state, and what they may ask for.
import { ruleOf } from "../views/fit_rules.js";
import { gridPlaces, makeTimeMap } from "../views/map.js";
import { joined } from "../views/together.js";

// What no other attack follows is heard for so long, seconds.
const LONGEST_S = 4;

/**
 * @typedef {{id: string, name: string, kind: string, role: string, pace: string, bundle: string | null,
 *   offset_s: number, state: string,
 *   rate: number, frames: number | null, channels: number, duration_s: number, peak: number | null, fitted:
 *   boolean, sound: string | null, error: string | null}} Take
 * @typedef {{session: string, name: string, version: number, note: string, can_undo: boolean, can_redo:
 *   boolean, sentence: string, kind: string, end_s: number,
 *   lead: string | null, focus: string | null, takes: Take[], map: any, bars:
 *   import("../views/comb_geometry.js").Bar[],
 *   anchors: {q: number, t: number, locked: boolean, place: string}[], onsets: Record<string, {t: number[],
 *   s: number[], c: number[]}>, fit: any, raw: [number, number][], parts: any[], pieces: any[]}} Picture
 * @typedef {import("../store.js").Selection} Selection
 * @typedef {{picture: Picture, station: string, focus: string, map: import("../views/map.js").TempoMap |
 *   null, view: import("../store.js").View, sound: import("../store.js").Sound,
 *   selection: any, playhead: number | null, ranging: boolean, weave: import("../views/weave.js").Weave |
 *   null, foreseen: import("../views/map.js").TempoMap | null}} State
 *
 * @typedef {{
 *   state: State, peaks: import("../api/peaks.js").Peaks,
 *   take: (id: string | null) => any, marks: (id: string) => {times: number[], take: number[], sure:
 *   number[]}, sounding: (id: string) => number[], forget: () => void, need: (from: number, to: number) =>
 *   void,
 *   select: (selection: Selection | null) => void, seek: (time: number) => void, say: (text: string) => void,
 *   show: (index: number) => void, showTime: (time: number) => void,
 *   hear: (time: number) => void, hearOne: (time: number, next: number) => void, pointAt: (place: {time:
 *   number, q: number} | null) => void, placeNow: () => number | null,
 *   foresee: (name: string, args: any) => void, foreseeTempo: (from: number, to: number, bpm: number) => void,
 *   foreseen: () => void, pull: (time: number, quarters: number, free?: boolean) => void, peg: (onset: number, quarters: number,
 *   free: boolean) => void, moveMark: (take: string, from: number, to: number, free?: boolean) => void,
 *   phrase: (take: string, ts: number[], ms: number) => void, pullNote: (part: string, own: number, quarters:
 *   number) => void, zoom: (direction: number) => void, catchPlaces: (bar: any) => number[] | null,
 *   rulePlaces: (bar: any) => number[], fitMove: (bar: any) => {moved: number, pulled: number} | null, loop: (range: [number, number])
 *   => void, tempo: (from: number, to: number, bpm: number) => void, strength: () => {strength: Uint8Array,
 *   offset: number} | null, stack: () => import("../views/stack.js").Stack | null, pauses: () => [number,
 *   number][] | null, scrolled: () => void
 * }} Host
 */

/** @param {any} desk @returns {Host} */
export function makeHost(desk) {
  const { state, store, peaks } = desk;
  /** @type {Map<string, {times: number[], take: number[], sure: number[], strength: number[], joins: boolean[]}>} */
  let marks = new Map();
  /** @type {{fit: any, own: any, times: number[]} | null} */
  let ticked = null;

  /** @param {string} id */
  function ofMic(id) {
    const known = marks.get(id);
    if (known) return known;
    const raw = state.picture.onsets[id] ?? { t: [], s: [], c: [], j: [] },
      offset = host.take(id)?.offset_s ?? 0;
    const made = {
      times: raw.t.map((/** @type {number} */ time) => time + offset),
      take: raw.t,
      sure: raw.c,
      strength: raw.s,
      joins: raw.j.map(Boolean),
    };
    marks.set(id, made);
    return made;
  }

  /**
   * The marks of a take's bundle: on the clock of the take that it moves by where its fit is drawn, else on its own.
   * @param {any} take
   */
  function ofBundle(take) {
    const timing = host.take(state.picture.fit?.take ?? null) ?? take,
      known = marks.get(`${timing.id}/bundle`);
    if (known) return known;
    const mics = state.picture.takes.filter((/** @type {any} */ one) => one.bundle === take.bundle),
      made = joined(mics.map((/** @type {any} */ mic) => ({ id: mic.id, own: ofMic(mic.id) }))),
      own = { ...made, take: made.times.map((time) => time - timing.offset_s) };
    marks.set(`${timing.id}/bundle`, own);
    return own;
  }

  /** @type {Host} */
  const host = {
    state,
    peaks,
    take: (id) =>
      state.picture.takes.find((/** @type {import("../wire.js").TakeFacts} */ take) => take.id === id) ??
      null,
    // In Fit and Pieces the mics of a bundle move as one, by the strokes of all of them.
    marks: (id) => {
      const take = host.take(id);
      return take?.bundle && desk.station().fitted ? ofBundle(take) : ofMic(id);
    },
    /** Where the marks of a take sound now, session seconds: as played, or where its fit takes them. */
    sounding: (id) => {
      const own = host.marks(id),
        fit = state.picture.fit,
        take = host.take(id);
      if (!state.sound.fitted || !take?.fitted || !fit || fit.missing || fit.take !== id) return own.times;
      if (!ticked || ticked.fit !== fit || ticked.own !== own)
        ticked = { fit, own, times: own.take.map(makeTimeMap(fit.source, fit.target).toTarget) };
      return ticked.times;
    },
    need: (from, to) => desk.ranges.need(from, to),
    /** A new picture has other marks. */
    forget: () => {
      marks = new Map();
    },
    select: (selection) => store.select(selection),
    seek: (time) => {
      desk.player.seek(time);
      state.view.following = true;
      desk.bar.show();
    },
    say: (text) => desk.words.say(text),
    show: (index) => desk.pictures.view()?.show(index),
    showTime: (time) => desk.station().show(desk, time, 0),
    hear: (time) => desk.play(Math.max(-1000, time - 0.04), time + 0.32),
    hearOne: (time, next) =>
      desk.play(Math.max(-1000, time - 0.012), Math.min(next - 0.002, time + LONGEST_S), { faded: true }),
    pointAt: (place) => {
      desk.pointer = place;
    },
    placeNow: () => desk.steps.placeNow(),
    foresee: (name, args) => desk.foresight.ask(name, args),
    foreseeTempo: (from, to, bpm) => desk.foresight.ask("tempo", { from_bar: from, to_bar: to, bpm }),
    foreseen: () => desk.foresight.end(),
    pull: (time, quarters, free = false) => desk.act("pull", { time_s: time, quarters, free }),
    peg: (onset, quarters, free) => {
      const take = state.focus,
        mark = host.marks(take).take[onset];
      if (mark === undefined || !state.map) return;
      desk.act(
        "peg",
        free
          ? { take, take_s: mark, session_s: state.map.toSeconds(quarters) }
          : { take, take_s: mark, quarters },
      );
    },
    moveMark: (take, from, to, free = false) =>
      desk
        .act("onset-move", { take, from_s: from, to_s: to, catch: !free }, () => {
          if (state.selection?.kind === "onset") state.selection = null;
        })
        .then(() => desk.chooseNear(take, to)),
    phrase: (take, ts, ms) => desk.act("phrase", { take, times_s: ts, ms }),
    pullNote: (part, own, quarters) => desk.act("note-pull", { part, own, quarters }),
    zoom: (direction) => desk.zoom(direction),
    loop: (range) => store.sound({ loop: range }),
    tempo: (from, to, bpm) => desk.act("tempo", { from_bar: from, to_bar: to, bpm }),
    strength: () => desk.pictures.strength(),
    stack: () => desk.pictures.stack(),
    pauses: () => desk.pictures.pauses(),
    scrolled: () => {
      state.view.following = false;
    },
    catchPlaces: (one) =>
      ["nothing", "attacks", "samples"].includes(state.view.catch)
        ? null
        : gridPlaces(
            state.view.catch === "grid" ? state.view.grid : state.view.catch,
            one.len,
            one.len / one.beats,
          ),
    /** Places of the rule's grid in a bar, as the server has them. */
    rulePlaces: (one) => {
      const rule = ruleOf(state.picture.fit, one),
        groove = rule?.groove;
      if (groove && Math.abs(groove.len - one.len) < 1e-6)
        return [
          ...groove.bars[
            (((one.i - groove.start) % groove.bars.length) + groove.bars.length) % groove.bars.length
          ],
          one.len,
        ];
      return rule?.places?.[String(one.len)] ?? gridPlaces("1/8", one.len, one.len / one.beats);
    },
    // What really moves in sound: what the take follows and what the rule pulls, together. What is placed by
    // its own pace is nowhere before it follows.
    fitMove: (one) => {
      const fit = state.picture.fit;
      if (!fit || fit.missing) return null;
      const shown = host.take(fit.take),
        placed = shown && (shown.role === "lead" || shown.pace === "lead") ? shown.offset_s : null;
      let most = null;
      for (const [time, own, goal, , kind] of fit.pegs) {
        if (kind === "held" || goal < one.s - 0.02 || goal >= one.e - 0.02) continue;
        const moved = 1000 * (goal - (placed === null ? own : time + placed)),
          pulled = 1000 * (goal - own);
        if (most === null || Math.abs(moved) > Math.abs(most.moved)) most = { moved, pulled };
      }
      return most;
    },
  };
  return host;
}
