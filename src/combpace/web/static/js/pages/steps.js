// @ts-check
// Going from place to place: what deserves a look, onsets, teeth, bars; and what Enter and Delete mean there.
import { gridPlaces, placeWords, pulled } from "../views/map.js";
import { drawLookButtons, readPlaces } from "./side.js";

/** @param {import("./host.js").Desk} desk */
export function makeSteps(desk) {
  const { state, host, player, act, say, play, pictures, showChosen } = desk;
  let places = readPlaces();
  let placeAt = alone();

  /** Which place is chosen before any is stepped to: the only one, where it is about no moment and nothing moves by choosing it. */
  function alone() { return places.length === 1 && places[0].time === null ? 0 : -1; }

  function showPlace() {
    document.querySelectorAll("#look .place").forEach((button, k) => button.classList.toggle("here", k === placeAt));
    drawLookButtons(placeAt >= 0 ? places[placeAt] : null, places, act);
  }

  /** Step to a place and play it, from one bar before. @param {number} index @param {boolean} [sounding] */
  function lookAt(index, sounding = true) {
    if (!places.length) { say("Nothing here looks doubtful."); return; }
    placeAt = (index + places.length) % places.length;
    showPlace();
    document.querySelectorAll("#look .place")[placeAt]?.scrollIntoView({ block: "nearest" });
    const time = places[placeAt].time;
    if (time === null || !state.map) return;
    const map = state.map, index_ = map.barOf(map.toQuarters(time) + 1e-6);
    if (state.station === "onsets") {
      const own = host.marks(state.focus);
      const k = own.times.findIndex((one) => Math.abs(one - time) < 1e-4);
      if (k >= 0) state.selection = { kind: "onset", take: state.focus, t: own.take[k], bar: index_ };
      host.showTime(time);
    } else state.selection = { kind: "bar", bar: index_ };
    showChosen();
    pictures.view()?.show(index_);
    pictures.draw();
    state.view.following = true;
    if (sounding) compare(map.toSeconds(map.barLine(index_ - 1)), map.toSeconds(map.barLine(index_ + 1)) + 0.05);
  }

  /** Play a place as it is and then as it is proposed: the click on the proposed lines, or the take as it would be fitted. @param {number} from @param {number} to */
  function compare(from, to) {
    const place = places[placeAt], pull = place?.do?.name === "pull" ? place.do.args : null, fitted = state.station === "fit", was = player.fitted;
    if (!pull && !fitted) { play(from, to); return; }
    const anchors = state.picture.anchors.map((one) => one.q);
    const map = pull ? pulled(state.picture.map, pull.time_s, pull.quarters, state.picture.kind === "steady", anchors) : null;
    say(`${place.where} as it is …`);
    if (fitted) desk.setFitted(false);
    play(from, to, {
      after: () => {
        say(`${place.where} as ${fitted ? "fitted" : "proposed"}.`);
        if (fitted) desk.setFitted(true);
        play(from, to, { map, after: () => { if (fitted) desk.setFitted(was); } });
      },
    });
  }

  /** Marks that Q, E and arrows go through. */
  const ownTake = () => (state.station === "onsets" || state.station === "fit" ? state.focus : state.picture.lead ?? "");

  /** @param {number} step */
  function stepOnset(step) {
    const id = ownTake(), own = host.marks(id);
    if (!own.times.length) return;
    const now = state.selection?.kind === "onset" && state.selection.take === id ? own.take.findIndex((time) => Math.abs(time - state.selection.t) < 2e-5) : -1;
    let next;
    if (now >= 0) next = now + step;
    else {
      const from = state.selection?.kind === "bar" ? state.picture.bars.find((one) => one.i === state.selection.bar)?.s ?? player.position() : player.position();
      next = own.times.findIndex((time) => time >= from - 0.03);
      if (step < 0) next = (next < 0 ? own.times.length : next) - 1;
    }
    next = Math.min(own.times.length - 1, Math.max(0, next));
    const index = state.map ? state.map.barOf(state.map.toQuarters(own.times[next]) + 0.05) : 0;
    host.select({ kind: "onset", take: id, t: own.take[next], bar: index });
    if (state.station === "onsets") host.showTime(own.times[next]); else pictures.view()?.show(index);
  }

  function chosenTime() {
    if (state.selection?.kind !== "onset") return null;
    return state.selection.t + (host.take(state.selection.take)?.offset_s ?? 0);
  }

  function hearChosen() {
    const time = chosenTime() ?? desk.pointer()?.time ?? player.position();
    host.hear(time);
  }

  /** Arrows: the tooth for the chosen attack, or the mark itself. @param {number} step @param {boolean} fine */
  function arrow(step, fine) {
    const selection = state.selection, map = state.map;
    if (selection?.kind !== "onset" || !map) return;
    if (state.station === "onsets") {
      const to = selection.t + step * (fine ? 0.0001 : 0.001);
      act("onset-move", { take: selection.take, from_s: selection.t, to_s: to });
      state.selection = { ...selection, t: to };
      return;
    }
    const time = chosenTime() ?? 0, q = selection.target ?? map.toQuarters(time), index = map.barOf(q + 0.02), meter = map.meterAt(index), line = map.barLine(index);
    const grid = state.station === "fit" ? host.ruleGrid() : state.view.catch === "grid" ? state.view.grid : state.view.catch === "bars" ? "bars" : "beats";
    const teeth = [...gridPlaces(grid, meter[1], meter[3]).map((place) => line + place), map.barLine(index - 1) + meter[1] - meter[3], line - meter[3]].sort((a, b) => a - b);
    const shift = fine ? 0.01 * step : 0;
    let target;
    if (fine) target = q + shift;
    else if (selection.target === undefined) target = teeth.reduce((best, tooth) => (Math.abs(tooth - q) < Math.abs(best - q) ? tooth : best));
    else target = step > 0 ? teeth.find((tooth) => tooth > q + 1e-6) ?? q : [...teeth].reverse().find((tooth) => tooth < q - 1e-6) ?? q;
    host.select({ ...selection, target });
    say(`Enter pulls the attack to ${placeWords(map, target)}, Esc lets it be.`);
  }

  function enter() {
    const selection = state.selection;
    if (selection?.kind === "onset" && selection.target !== undefined) {
      const time = chosenTime() ?? 0, target = selection.target;
      state.selection = { ...selection, target: undefined };
      if (state.station === "fit") act("peg", { take: state.focus, take_s: selection.t, quarters: target });
      else host.pull(time, target);
      return;
    }
    const place = placeAt >= 0 ? places[placeAt] : null;
    if (place?.do) { act(place.do.name, place.do.args).then(() => { if (places.length) lookAt(placeAt); }); return; }
    if (selection?.kind === "onset" && (state.station === "bars" || state.station === "fit")) { arrow(0, false); return; }
    if (places.length && placeAt < 0) lookAt(0);
  }

  function remove() {
    const selection = state.selection;
    if (selection?.kind === "anchor") act("release", { quarters: selection.q });
    else if (selection?.kind === "onset" && state.station === "fit") act("ride", { take: selection.take, times_s: [selection.t] });
    else if (selection?.kind === "onset") act("onset-remove", { take: selection.take, times_s: [selection.t] }, () => { state.selection = null; });
  }

  /** @param {number} bars */
  function byBars(bars) {
    const rows = state.picture.bars;
    if (!rows.length || !state.map) return;
    const now = state.selection?.bar ?? state.map.barOf(state.map.toQuarters(player.position()) + 1e-3);
    const at = Math.min(rows.length - 1, Math.max(0, rows.findIndex((one) => one.i === now) + bars));
    host.select({ kind: "bar", bar: rows[at].i });
    state.view.following = false;
    pictures.view()?.show(rows[at].i);
    if (!player.playing) player.seek(rows[at].s);
  }

  showPlace();
  return {
    lookAt, stepOnset, arrow, enter, remove, byBars, hearChosen, chosenTime,
    placeNow: () => (placeAt >= 0 ? places[placeAt]?.time ?? null : null),
    back: () => lookAt(placeAt < 0 ? places.length - 1 : placeAt - 1),
    on: () => lookAt(placeAt + 1),
    keepPlace() { const place = placeAt >= 0 ? places[placeAt] : null; if (place?.keep) act(place.keep.name, place.keep.args); },
    leave() { placeAt = -1; },
    /** After the list was written anew: taking one goes on to the next, for the list has closed up. */
    renew() {
      const was = placeAt >= 0;
      places = readPlaces();
      placeAt = was && places.length ? Math.min(placeAt, places.length - 1) : alone();
      showPlace();
    },
  };
}
