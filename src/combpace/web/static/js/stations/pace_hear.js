// @ts-check
// Hearing and turning tempi before they are taken: candidates, readings, nudges. Nothing here is kept by the
// server but what is used.
import { binary, get } from "../api/client.js";
import { steadyTable, turned, weaveFrom } from "../views/darkness.js";
import { makeMap } from "../views/map.js";
import { drawSmallWeave } from "../views/weave.js";

const HEARD_S = 6,
  SEND_MS = 160;

/** @param {any} desk */
export function makeHearing(desk) {
  const { state, words, session } = desk;
  /** @type {{strength: Uint8Array, offset: number} | null} */
  let lead = null;
  /** @type {any[]} */
  let readings = [];
  /**
   * What W hears: a map and its name, and which place comes next.
   * @type {{map: any, name: string, turn: number, middle: boolean} | null}
   */
  let chosen = null;
  let timer = 0,
    watched = 0;
  /** What is on its way from the server: a press waits for it. */
  let coming = Promise.resolve();
  /** The tempo that nudges have come to, until the server has confirmed it. @type {number | null} */
  let wanted = null;

  /** What is drawn from; asked again when the takes changed. */
  function fetchAll() {
    coming = ask();
    return coming;
  }

  async function ask() {
    try {
      const [found, offered] = await Promise.all([
        binary(`/api/sessions/${session}/activation`),
        get(`/api/sessions/${session}/readings`),
      ]);
      lead = { strength: new Uint8Array(found.data), offset: Number(found.headers.get("X-Offset-S")) };
      readings = offered;
      drawReadings();
    } catch (error) {
      words.trouble(error);
    }
  }

  function drawReadings() {
    if (!lead) return;
    for (const canvas of /** @type {NodeListOf<HTMLCanvasElement>} */ (
      document.querySelectorAll("canvas[data-reading]")
    )) {
      const one = readings.find((reading) => String(reading.rank) === canvas.dataset.reading);
      if (one) drawSmallWeave(canvas, weaveFrom(makeMap(one.map), lead.strength, lead.offset, 120));
    }
  }

  /** Show what a map that is only tried looks like. @param {import("../views/map.js").TempoMap} map */
  function show(map) {
    if (!lead || !lead.strength.length) return;
    state.weave = weaveFrom(map, lead.strength, lead.offset);
    desk.pictures.view()?.draw();
  }

  /** Hear a map's click with the music: from the middle, or at start, middle and end in turn. */
  function hearNext() {
    if (!chosen) {
      desk.steps.hearChosen();
      return;
    }
    const take = desk.host.take(state.picture.lead),
      from = take.offset_s,
      length = take.duration_s;
    const names = chosen.middle ? ["from the middle"] : ["at the start", "in the middle", "at the end"];
    const places = chosen.middle
      ? [0.5]
      : [
          Math.max(0, chosen.map.toSeconds(0) - from) / length,
          0.5,
          Math.max(0.5, (length - HEARD_S) / length),
        ];
    const at = chosen.turn % places.length,
      start = Math.max(0, from + places[at] * length - 0.05);
    chosen.turn++;
    words.say(`${chosen.name} ${names[at]}${chosen.middle ? "" : "; W hears the next place"}.`);
    show(chosen.map);
    if (!state.sound.click) desk.store.sound({ click: true });
    desk.play(start, Math.min(from + length, start + HEARD_S), { map: chosen.map });
    until(chosen.map);
  }

  /**
   * The weave of a map on trial is shown as long as its click sounds, however that ends.
   * @param {import("../views/map.js").TempoMap} map
   */
  function until(map) {
    const turn = ++watched;
    const watch = () => {
      // Another hearing watches now.
      if (turn !== watched) return;
      if (desk.trial === map && desk.player.going) {
        requestAnimationFrame(watch);
        return;
      }
      if (desk.trial === map) desk.trial = null;
      desk.pictures.fetchWeave();
    };
    requestAnimationFrame(watch);
  }

  /**
   * One of the buttons that let a tempo or a reading be heard.
   * @param {Element} target
   */
  async function pressed(target) {
    const button = /** @type {HTMLElement | null} */ (target.closest("[data-hear-bpm], [data-hear-reading]"));
    if (!button || !state.map) return;
    const rank = button.dataset.hearReading;
    if (rank) {
      // On a slow machine the hand is there before the readings are: nothing else may sound in their place.
      await coming;
      const one = readings.find((reading) => String(reading.rank) === rank);
      if (!one) return;
      chosen = { map: makeMap(one.map), name: one.sentence, turn: 0, middle: true };
    } else {
      const bpm = Number(button.dataset.hearBpm),
        meters = state.picture.map.meters,
        name = `${bpm.toFixed(3)} BPM`;
      if (chosen?.name !== name)
        chosen = {
          map: makeMap(steadyTable(bpm * meters[0][3], Number(button.dataset.startS), meters)),
          name,
          turn: 0,
          middle: false,
        };
    }
    hearNext();
  }

  /** Turn the tempo: the rows at once, the server when the hand rests. @param {number} step BPM */
  function nudge(step) {
    const { picture, map } = state;
    if (picture.kind !== "steady" || !map) {
      words.say("The map breathes; use one steady tempo first, then nudge it.");
      return;
    }
    const beat = map.table.meters[0][3],
      [t0, t1] = map.table.times,
      [q0, q1] = map.table.quarters,
      now = (60 * (q1 - q0)) / (t1 - t0) / beat;
    const bpm = Math.round(((wanted ?? now) + step) * 1000) / 1000;
    if (!(bpm >= 5 && bpm <= 1000)) return;
    wanted = bpm;
    state.map = makeMap(turned(map.table, bpm / now));
    desk.trial = null;
    show(state.map);
    desk.player.again();
    const field = /** @type {HTMLInputElement | null} */ (
      document.querySelector('.field[data-act="steady"][data-name="bpm"]')
    );
    if (field) field.value = String(bpm);
    words.say(`${bpm} BPM`);
    clearTimeout(timer);
    timer = window.setTimeout(
      () =>
        desk.act("steady", { bpm, nudged: true }).then(() => {
          if (wanted === bpm) wanted = null;
        }),
      SEND_MS,
    );
  }

  return {
    fetchAll,
    drawReadings,
    show,
    hearNext,
    pressed,
    nudge,
    forget: () => {
      chosen = null;
    },
  };
}
