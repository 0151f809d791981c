// @ts-check
// Going from place to place: what deserves a look, onsets, teeth, bars; and what Enter and Delete mean there.
import { gridPlaces, makeMap, placeWords } from "../views/map.js";
import { drawLookButtons, readPlaces } from "./side.js";

/** @param {any} desk */
export function makeSteps(desk) {
  const { state, store, host, player, act, words, pictures } = desk;
  const say = words.say;
  let places = readPlaces();
  let placeAt = alone();

  /**
   * Which place is chosen before any is stepped to: the only one, where it is about no moment and nothing
   * moves by choosing it.
   */
  function alone() {
    return places.length === 1 && places[0].time === null ? 0 : -1;
  }

  function showPlace() {
    document
      .querySelectorAll("#look .place")
      .forEach((button, k) => button.classList.toggle("here", k === placeAt));
    drawLookButtons(placeAt >= 0 ? places[placeAt] : null, places, takePlace, act);
  }

  /** Step to a place and play it, from one bar before. @param {number} index @param {boolean} [sounding] */
  function lookAt(index, sounding = true) {
    if (!places.length) {
      say("Nothing here looks doubtful.");
      return;
    }
    placeAt = (index + places.length) % places.length;
    showPlace();
    document.querySelectorAll("#look .place")[placeAt]?.scrollIntoView({ block: "nearest" });
    const time = places[placeAt].time;
    if (time === null || !state.map) return;
    const map = state.map,
      index_ = map.barOf(map.toQuarters(time) + 1e-6);
    const own = host.marks(ownTake()),
      k = desk.station().needsMap
        ? -1
        : own.times.findIndex((/** @type {number} */ one) => Math.abs(one - time) < 1e-4);
    store.select(
      k >= 0 ? { kind: "onset", take: ownTake(), t: own.take[k], bar: index_ } : { kind: "bar", bar: index_ },
    );
    reach(index_);
    desk.station().show(desk, time, index_);
    state.view.following = true;
    if (sounding)
      compare(map.toSeconds(map.barLine(index_ - 1)), map.toSeconds(map.barLine(index_ + 1)) + 0.05);
  }

  /**
   * Play a place as it is and then as it is proposed: the click on the proposed lines, or the take as it
   * would be fitted.
   * @param {number} from
   * @param {number} to
   */
  async function compare(from, to) {
    const place = places[placeAt],
      pull = place?.do?.name === "pull" ? place.do.args : null,
      { fitted } = desk.station(),
      was = state.sound.fitted;
    if (!pull && !fitted) {
      desk.play(from, to);
      return;
    }
    // How it is proposed is asked while it is heard as it is.
    const asked = pull ? desk.foresight.once("pull", pull).catch(() => null) : Promise.resolve(null);
    let map = /** @type {ReturnType<typeof makeMap> | null} */ (null);
    asked.then((/** @type {any} */ found) => {
      map = found?.map ? makeMap(found.map) : null;
    });
    say(`${place.where} as it is …`);
    if (fitted) store.sound({ fitted: false });
    desk.play(from, to, {
      after: () => {
        say(`${place.where} as ${fitted ? "fitted" : "proposed"}.`);
        if (fitted) store.sound({ fitted: true });
        desk.play(from, to, {
          map,
          after: () => {
            if (fitted) store.sound({ fitted: was });
          },
        });
      },
    });
  }

  /** Whoever goes to a place before bar 1 sees the lead-in. @param {number} index */
  function reach(index) {
    if (index >= 0 || state.view.leadIn || !desk.station().needsMap) return;
    store.view({ leadIn: true });
    pictures.mount();
  }

  /** Marks that Q, E and arrows go through. */
  const ownTake = () => desk.station().marksOf(desk);

  /** @param {number} step */
  function stepOnset(step) {
    const id = ownTake(),
      own = host.marks(id);
    if (!own.times.length) return;
    const now =
      state.selection?.kind === "onset" && state.selection.take === id
        ? own.take.findIndex((/** @type {number} */ time) => Math.abs(time - state.selection.t) < 2e-5)
        : -1;
    let next;
    if (now >= 0) next = now + step;
    else {
      const from =
        state.selection?.kind === "bar"
          ? (state.picture.bars.find((/** @type {any} */ one) => one.i === state.selection.bar)?.s ??
            player.position())
          : player.position();
      next = own.times.findIndex((/** @type {number} */ time) => time >= from - 0.03);
      if (step < 0) next = (next < 0 ? own.times.length : next) - 1;
    }
    next = Math.min(own.times.length - 1, Math.max(0, next));
    // Of a long session the next one may not be here yet: at the end of what is, and where some was left out.
    const at = own.times[now < 0 ? next : now],
      to = next === now ? at + step * (state.picture.ranged?.s ?? 0) : own.times[next];
    if (!desk.ranges.has(Math.min(at, to), Math.max(at, to))) {
      host.need(Math.min(at, to), Math.max(at, to));
      desk.ranges.settled().then(() => {
        if (desk.ranges.has(Math.min(at, to), Math.max(at, to))) stepOnset(step);
      });
      return;
    }
    const index = state.map ? state.map.barOf(state.map.toQuarters(own.times[next]) + 0.05) : 0;
    reach(index);
    store.select({ kind: "onset", take: id, t: own.take[next], bar: index });
    desk.station().show(desk, own.times[next], index);
  }

  function chosenTime() {
    if (state.selection?.kind !== "onset") return null;
    return state.selection.t + (host.take(state.selection.take)?.offset_s ?? 0);
  }

  /** A chosen attack alone, up to the next one of its take; else what is at the pointer. */
  function hearChosen() {
    const time = chosenTime();
    if (time === null || state.selection?.kind !== "onset")
      return host.hear(desk.pointer?.time ?? player.position());
    host.hearOne(
      time,
      host.marks(state.selection.take).times.find((/** @type {number} */ other) => other > time + 0.02) ??
        Infinity,
    );
  }

  /**
   * Arrows: what the station does with them; mostly the tooth for the chosen attack.
   * @param {number} step
   * @param {boolean} fine
   */
  const arrow = (step, fine) => desk.station().arrow(desk, step, fine);

  /**
   * The tooth that the chosen attack is to be pulled to.
   * @param {number} step 0 for the nearest
   * @param {boolean} fine by a hundredth of a quarter
   */
  function chooseTooth(step, fine) {
    const selection = state.selection,
      map = state.map;
    if (selection?.kind !== "onset" || !map) return;
    const time = chosenTime() ?? 0,
      q = selection.target ?? map.toQuarters(time),
      index = map.barOf(q + 0.02),
      meter = map.meterAt(index),
      line = map.barLine(index);
    const grid = desk.station().grid(desk),
      places =
        grid === "rule"
          ? host.rulePlaces({ len: meter[1], beats: meter[2] })
          : gridPlaces(grid, meter[1], meter[3]);
    const teeth = [
      ...places.map((/** @type {number} */ place) => line + place),
      map.barLine(index - 1) + meter[1] - meter[3],
      line - meter[3],
    ].sort((a, b) => a - b);
    let target;
    if (fine) target = q + 0.01 * step;
    else if (selection.target === undefined)
      target = teeth.reduce((best, tooth) => (Math.abs(tooth - q) < Math.abs(best - q) ? tooth : best));
    else
      target =
        step > 0
          ? (teeth.find((tooth) => tooth > q + 1e-6) ?? q)
          : ([...teeth].reverse().find((tooth) => tooth < q - 1e-6) ?? q);
    store.select({ ...selection, target });
    say(`Enter pulls the attack to ${placeWords(map, target)}, Esc lets it be.`);
  }

  function enter() {
    const selection = state.selection;
    if (selection?.kind === "onset" && selection.target !== undefined) {
      const time = chosenTime() ?? 0,
        { target } = selection;
      state.selection = { ...selection, target: undefined };
      desk.station().pull(desk, selection, time, target);
      return;
    }
    const place = placeAt >= 0 ? places[placeAt] : null;
    if (place?.do) {
      takePlace(place.do);
      return;
    }
    if (selection?.kind === "onset" && desk.station().pulls) {
      chooseTooth(0, false);
      return;
    }
    if (places.length && placeAt < 0) lookAt(0);
  }

  /** Take what a place proposes, and go on to the next one. @param {{name: string, args: any}} what */
  function takePlace(what) {
    if (what.name === "see") {
      desk.see(what.args);
      return;
    }
    if (what.name === "listen-again") {
      desk.side.listenAgain(what.args.take);
      return;
    }
    act(what.name, what.args).then(() => {
      if (places.length) lookAt(placeAt);
    });
  }

  function downbeat() {
    act("downbeat", { time_s: chosenTime() ?? desk.pointer?.time ?? player.position() });
  }

  /** @param {number} bars */
  function byBars(bars) {
    const rows = state.picture.bars;
    if (!rows.length || !state.map) return;
    const now = state.selection?.bar ?? state.map.barOf(state.map.toQuarters(player.position()) + 1e-3);
    const at = Math.min(
      rows.length - 1,
      Math.max(0, rows.findIndex((/** @type {any} */ one) => one.i === now) + bars),
    );
    store.select({ kind: "bar", bar: rows[at].i });
    state.view.following = false;
    pictures.view()?.show(rows[at].i);
    if (!player.playing) player.seek(rows[at].s);
  }

  showPlace();
  return {
    lookAt,
    stepOnset,
    arrow,
    chooseTooth,
    enter,
    takePlace,
    byBars,
    hearChosen,
    chosenTime,
    downbeat,
    remove: () => desk.station().remove(desk, state.selection),
    placeNow: () => (placeAt >= 0 ? (places[placeAt]?.time ?? null) : null),
    back: () => lookAt(placeAt < 0 ? places.length - 1 : placeAt - 1),
    on: () => lookAt(placeAt + 1),
    keepPlace() {
      const place = placeAt >= 0 ? places[placeAt] : null;
      if (place?.keep) act(place.keep.name, place.keep.args);
    },
    leave() {
      placeAt = -1;
    },
    /** After the list was written anew: taking one goes on to the next, for the list has closed up. */
    renew() {
      const was = placeAt >= 0;
      places = readPlaces();
      placeAt = was && places.length ? Math.min(placeAt, places.length - 1) : alone();
      showPlace();
    },
  };
}
