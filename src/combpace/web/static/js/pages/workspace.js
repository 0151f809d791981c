// @ts-check
// The workspace: a list of parts. Each is made from the desk, which joins them; nothing happens on import.
import { send } from "../api/client.js";
import { Peaks } from "../api/peaks.js";
import { commandsOf, helpLines, keyTable } from "../commands.js";
import { wireKeys } from "../keys.js";
import { Player } from "../player/player.js";
import { named } from "../player/voices.js";
import { STATIONS } from "../stations/registry.js";
import { unpacked } from "../ranges.js";
import { makeStore } from "../store.js";
import { makeMap, placeWords } from "../views/map.js";
import { makeArrivals } from "./arrivals.js";
import { makeDeciding } from "./deciding.js";
import { makeForesight } from "./foresight.js";
import { makeFollowing } from "./following.js";
import { makeHost } from "./host.js";
import { makeMoving } from "./moving.js";
import { hearNews } from "./news.js";
import { makePictures } from "./pictures.js";
import { makeRanges } from "./ranges.js";
import { mountPlayerBar } from "./player_bar.js";
import { makeSide } from "./side.js";
import { makeSteps } from "./steps.js";
import { sendAll, wirePageDrop } from "./uploads.js";
import { makeWords } from "./words.js";

const KEEP_MS = 400;
const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));
const json = (/** @type {string} */ id) => JSON.parse($(id).textContent ?? "{}");

/** Make the workspace of the page that the server rendered. */
export function startWorkspace() {
  const side = /** @type {HTMLElement} */ (document.querySelector('[data-region="side"]')),
    picture = unpacked(json("picture-data"), makeMap);
  const store = makeStore({
    picture,
    station: side.dataset.stationNow ?? "",
    focus: side.dataset.focus ?? "",
    map: picture.map ? makeMap(picture.map) : null,
    kept: json("view-data"),
  });
  const { state } = store;
  state.take = new URLSearchParams(location.search).get("take");
  /** @type {any} */
  const desk = {
    store,
    state,
    session: picture.session,
    jobs: new Map(),
    pointer: null,
    station: () => STATIONS[state.station],
    stationOf: (/** @type {string} */ id) => STATIONS[id] ?? STATIONS[state.station],
    commands: () => commandsOf(STATIONS, state.station),
  };
  /**
   * The take whose own bars are corrected, where the station shown (or named) is about bars; null for the
   * lead.
   * @param {string} [station]
   */
  desk.barsOf = (station = state.station) =>
    STATIONS[station]?.ofTake &&
    [...state.picture.takes, ...(state.picture.arrivals ?? [])].some(
      (/** @type {import("../wire.js").TakeFacts} */ take) => take.id === state.of,
    )
      ? state.of
      : null;
  desk.words = makeWords();
  desk.peaks = new Peaks(() => {
    desk.pictures.draw();
    desk.pictures.drawSmall();
  });
  desk.host = makeHost(desk);
  desk.ranges = makeRanges(desk);
  desk.player = makePlayer(desk);
  desk.arrivals = makeArrivals(desk);
  desk.foresight = makeForesight(desk);
  desk.deciding = makeDeciding(desk);
  desk.act = desk.deciding.act;
  desk.following = makeFollowing(desk);
  desk.pictures = makePictures(desk);
  desk.steps = makeSteps(desk);
  desk.side = makeSide(desk);
  desk.moving = makeMoving(desk);
  desk.goTo = desk.moving.goTo;
  desk.bar = mountPlayerBar(desk);
  Object.assign(desk, playing(desk), doing(desk));

  store.subscribe((part) => {
    if (part === "sound") {
      desk.player.heed(state.sound);
      desk.bar.show();
      desk.ranges.heed();
    }
    if (part === "selection") desk.side.showChosen();
    if (part === "sound" || part === "view") keep();
    desk.pictures.draw();
  });
  let timer = 0;
  /** Levels, loop and the like are kept, but are no steps of undo. */
  function keep() {
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      send(`/api/sessions/${desk.session}/levels`, store.kept(), "PUT").catch(() => {});
    }, KEEP_MS);
  }

  wireAll(desk);
  hearNews(desk);
  desk.toBar1();
  desk.moving.swapped();
  desk.pictures.mount();
  desk.bar.takesChanged();
  desk.player.heed(state.sound);
  desk.frame();
  document.fonts.ready.then(() => {
    desk.pictures.draw();
    desk.pictures.drawSmall();
  });
  // A door for tests and benches: reads only.
  Object.assign(window, {
    combpace: {
      state,
      store,
      host: desk.host,
      player: desk.player,
      view: () => desk.pictures.view(),
      foresight: desk.foresight,
      idle: () =>
        desk.moving
          .settled()
          .then(() => desk.deciding.idle())
          .then(() => desk.pictures.settled())
          .then(() => desk.ranges.settled()),
      placeWords,
    },
  });
}

/** @param {any} desk */
function makePlayer(desk) {
  const { state } = desk;

  /**
   * A take as it sounds: by the names that the server gives it, those of its fit where that is drawn.
   * @param {import("../wire.js").TakeFacts} take
   */
  const voiceOf = (take) => named(take.id, state.picture.fit?.names?.[take.id] ?? take.sounds);

  return new Player(desk.session, {
    voices: () => [
      ...state.picture.takes
        .filter(
          (/** @type {import("../wire.js").TakeFacts} */ take) => take.frames && take.sound && !take.arrival,
        )
        .map(
          (/** @type {import("../wire.js").TakeFacts} */ take) =>
            desk.station().trial(desk, take) ?? voiceOf(take),
        ),
      ...desk.arrivals.voices(),
      ...(state.picture.parts ?? [])
        .filter((/** @type {any} */ part) => part.sound)
        .map((/** @type {any} */ part) => ({ id: part.id, played: [part.sound, part.sound], fit: null })),
    ],
    map: () => desk.trial ?? state.map,
    ticks: () => (state.view.ticks && desk.station().ticks ? desk.host.sounding(state.focus) : []),
    onChange: () => desk.frame(),
    onTrouble: (text) => desk.words.note(text, true),
    onOther: () => desk.deciding.later(),
  });
}

/** What sounds, and what moves with it. @param {any} desk */
function playing(desk) {
  const { state, store, player } = desk;
  let animating = false;

  /**
   * Play; with a map on trial the click follows that one, until something else is played.
   * @param {number} time
   * @param {number | null} [until]
   * @param {{map?: any, after?: () => void, faded?: boolean}} [more]
   */
  function play(time, until = null, more = {}) {
    desk.trial = more.map ?? null;
    player
      .play(time, until, more.after ?? null, more.faded ?? false)
      .catch((/** @type {any} */ error) =>
        desk.words.note(`The sound could not be started: ${error.message ?? error}`, true),
      );
  }

  /** Once a frame while it plays: playhead, read-outs, and the picture follows. */
  function frame() {
    state.playhead = player.playing ? player.position() : null;
    desk.bar.show();
    if (player.playing && state.map && desk.pictures.view() && state.view.following)
      desk.station().follow(desk);
    desk.pictures.draw();
    if (player.playing && !animating) {
      animating = true;
      requestAnimationFrame(() => {
        animating = false;
        frame();
      });
    }
  }

  /** @param {number} index */
  function inLoop(index) {
    const one = state.picture.bars.find((/** @type {any} */ row) => row.i === index),
      loop = state.sound.loop;
    return !!(one && loop && one.s >= loop[0] - 1e-3 && one.e <= loop[1] + 1e-3);
  }

  function loopThese() {
    if (state.selection?.kind === "cells" && state.map) {
      store.sound({
        loop: [state.map.toSeconds(state.selection.from), state.map.toSeconds(state.selection.to)],
      });
      return;
    }
    const chosen = state.selection?.bar,
      bars = state.picture.bars,
      view = desk.pictures.view();
    if (state.sound.loop && !(chosen !== undefined && !inLoop(chosen))) {
      store.sound({ loop: null });
      return;
    }
    if (!bars.length || !view) return;
    const many = state.selection?.kind === "bars" ? state.selection : null;
    if (many) {
      const from = bars.find((/** @type {any} */ one) => one.i === many.bar),
        to = bars.find((/** @type {any} */ one) => one.i === many.to);
      if (from && to) store.sound({ loop: [from.s, to.e] });
      return;
    }
    const row = bars.findIndex((/** @type {any} */ one) => one.i === chosen);
    let [first, last] = row >= 0 ? [row, row] : view.inSight();
    if (row < 0) last = Math.min(last, first + 3);
    store.sound({ loop: [bars[first].s, bars[Math.min(last, bars.length - 1)].e] });
  }

  /** Hear the bars in view as they will be. */
  function previewBars() {
    const rows = state.picture.bars,
      view = desk.pictures.view();
    if (!view || !rows.length) return;
    const [first, last] = view.inSight(),
      end = rows[Math.min(last, first + 3)];
    store.sound({ fitted: true, loop: null });
    play(rows[first].s, end.e);
    desk.words.say(`Bars ${rows[first].n} to ${end.n} as they will be; V compares.`);
  }

  return {
    play,
    frame,
    loopThese,
    previewBars,
    playOrStop: () => (player.going ? player.stop() : play(player.rest)),
  };
}

/** What commands do beside the parts. @param {any} desk */
function doing(desk) {
  const { state, store, player, host, words } = desk;
  /**
   * The mark of a take nearest to a moment of it, within 60 ms; null for none.
   * @param {string} take
   * @param {number} time
   */
  function nearestMark(take, time) {
    let near = null;
    for (const one of host.marks(take).take)
      if (Math.abs(one - time) < 0.06 && (near === null || Math.abs(one - time) < Math.abs(near - time)))
        near = one;
    return near;
  }
  /** @param {string} take @param {number} time */
  function chooseNear(take, time) {
    const near = nearestMark(take, time);
    if (near !== null) store.select({ kind: "onset", take, t: near });
  }
  return {
    /** Measure a range, in the station where that is done. @param {number} from @param {number} to */
    async measureRange(from, to) {
      const there = Object.values(STATIONS).find((station) => station.measure);
      if (!there) return;
      await desk.goTo(there.id);
      there.measure?.(desk, from, to);
    },
    zoom: (/** @type {number} */ direction) => desk.station().zoom(desk, direction),
    addMark() {
      const take = desk.station().marksOf(desk),
        time =
          (player.playing ? player.position() : (desk.pointer?.time ?? player.position())) -
          (host.take(take)?.offset_s ?? 0);
      if (take)
        desk
          .act(
            "onset-add",
            { take, time_s: time, catch: !["nothing", "samples"].includes(state.view.catch) },
            () => {
              state.selection = null;
            },
          )
          .then(() => chooseNear(take, time));
    },
    chooseNear,
    /**
     * Go to a mark where marks are put right, with it chosen.
     * @param {{station: string, take: string, time_s: number}} where its moment on the take's clock
     */
    async see({ station, take, time_s: time }) {
      await desk.goTo(station, true, take);
      chooseNear(take, time);
      const at = time + (host.take(take)?.offset_s ?? 0);
      state.view.following = false;
      desk.station().show(desk, at, state.map ? state.map.barOf(state.map.toQuarters(at) + 1e-6) : 0);
      if (!player.playing) player.seek(at);
    },
    /** Drop the mark at the playhead, or under the pointer. */
    dropMark() {
      const take = desk.station().marksOf(desk),
        time =
          (player.playing ? player.position() : (desk.pointer?.time ?? player.position())) -
          (host.take(take)?.offset_s ?? 0);
      const near = nearestMark(take, time);
      if (near === null) {
        words.say("No mark within 60 ms of here.");
        return;
      }
      desk.act("onset-remove", { take, times_s: [near] });
    },
    leave() {
      if (!$("keys").hidden || !$("mixer").hidden) {
        $("keys").hidden = $("mixer").hidden = true;
        return;
      }
      if (desk.pictures.view()?.cancel()) {
        words.say("Cancelled; nothing was changed.");
        return;
      }
      if (state.selection?.target !== undefined) {
        store.select({ ...state.selection, target: undefined });
        return;
      }
      store.select(null);
    },
    /** Files to bring in are chosen, from whatever station. */
    async chooseFiles() {
      if (!document.querySelector("[data-files]")) await desk.goTo("takes");
      /** @type {HTMLInputElement | null} */ (document.querySelector("[data-files]"))?.click();
    },
    toggleHelp() {
      const list = /** @type {HTMLElement} */ ($("keys").querySelector("dl"));
      list.replaceChildren(
        ...helpLines(desk.commands()).flatMap(({ keys, words: text }) => {
          const term = document.createElement("dt"),
            what = document.createElement("dd");
          term.append(
            ...keys.map((key) => {
              const cap = document.createElement("kbd");
              cap.textContent = key;
              return cap;
            }),
          );
          what.textContent = text;
          return [term, what];
        }),
      );
      $("keys").hidden = !$("keys").hidden;
    },
    /** @param {File[]} files @param {HTMLElement | null} [list] */
    async receive(files, list = document.querySelector("[data-uploads]")) {
      const arrived = await sendAll(desk.session, files, list, (text) => words.note(text, true));
      if (arrived)
        await desk.deciding
          .refresh(`${arrived === 1 ? files[0].name : `${arrived} takes`} came in.`)
          .catch(words.trouble);
    },
    /** Pictures and player begin at bar 1, what comes before it in sight. */
    toBar1() {
      if (!state.map) return;
      state.view.stripStart = state.map.toSeconds(0) - 0.6;
      state.view.top = Math.max(0, state.picture.bars.findIndex((/** @type {any} */ one) => one.i >= 0) - 1);
      if (!player.playing) player.rest = Math.max(0, state.map.toSeconds(0));
    },
  };
}

/** Keys, clicks, drops, the page's own moves. @param {any} desk */
function wireAll(desk) {
  const singles = /** @type {HTMLInputElement} */ ($("single-keys"));
  wireKeys(
    () => keyTable(desk.commands(), desk),
    () => singles.checked,
  );
  try {
    singles.checked = localStorage.getItem("single-keys") !== "off";
  } catch {
    /* private window */
  }
  singles.addEventListener("change", () => {
    try {
      localStorage.setItem("single-keys", singles.checked ? "on" : "off");
    } catch {
      /* private window */
    }
  });
  document.addEventListener("click", (event) => {
    const target = event.target instanceof Element ? event.target : null;
    const link = /** @type {HTMLAnchorElement | null} */ (target?.closest("a[data-station]"));
    if (link && !event.ctrlKey && !event.metaKey && event.button === 0) {
      event.preventDefault();
      desk.goTo(link.dataset.station ?? "", true, link.dataset.take ?? null);
      return;
    }
    const button = /** @type {HTMLElement | null} */ (target?.closest("[data-command]"));
    if (button)
      desk
        .commands()
        .find((/** @type {any} */ one) => one.id === button.dataset.command)
        ?.run(desk, event);
  });
  desk.side.wire();
  for (const station of Object.values(STATIONS)) station.wire(desk);
  wirePageDrop((files) => desk.receive(files));
  $("keys")
    .querySelector("[data-close]")
    ?.addEventListener("click", () => {
      $("keys").hidden = true;
    });
  addEventListener("popstate", () => {
    const match = /\/sessions\/[^/]+\/([\w-]+)/.exec(location.pathname);
    if (match) desk.goTo(match[1], false, new URLSearchParams(location.search).get("take"));
  });
  const redraw = () => {
    desk.pictures.draw();
    desk.pictures.drawSmall();
  };
  addEventListener("theme", redraw);
  new ResizeObserver(redraw).observe($("picture"));
}
