// @ts-check
// The bar at the foot: play, position, loop, speed, click, original/fitted, who sounds.
import { clockWords, placeParts } from "../views/map.js";
import { toldApart } from "./names.js";

const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));

/**
 * Indices of the bars that a text names: "5", "5-8", "−2–3"; null for none, undefined where it names none.
 * @param {string} text
 * @returns {[number, number] | null | undefined}
 */
export function readBars(text) {
  const clean = text.trim().replace(/[–—]/g, "-").replace(/−/g, "-");
  if (!clean || clean === "off") return null;
  const match = /^(-?\d+)(?:\s*-\s*(-?\d+))?$/.exec(clean),
    index = (/** @type {string} */ bar) => (Number(bar) > 0 ? Number(bar) - 1 : Number(bar));
  if (!match || Number(match[1]) === 0 || Number(match[2] ?? 1) === 0) return undefined;
  const from = index(match[1]),
    to = index(match[2] ?? match[1]);
  return to < from ? undefined : [from, to];
}

/** @param {any} desk */
export function mountPlayerBar(desk) {
  const { player, state, store } = desk;
  const speed = /** @type {HTMLSelectElement} */ ($("speed")),
    level = /** @type {HTMLInputElement} */ ($("click-level"));
  speed.addEventListener("change", () => store.sound({ speed: Number(speed.value) / 100 }));
  level.addEventListener("input", () => store.sound({ clickDb: Number(level.value) }));

  $("position").addEventListener("click", () => {
    store.view({ big: !state.view.big });
    desk.bar.show();
  });
  const loopBars = /** @type {HTMLInputElement} */ ($("loop-bars"));
  loopBars.addEventListener("keydown", (event) => {
    if (event.key === "Enter" || event.key === "Escape") {
      if (event.key === "Escape") loopBars.value = "";
      loopBars.blur();
    }
  });
  loopBars.addEventListener("change", () => {
    const range = readBars(loopBars.value);
    if (range === null) {
      store.sound({ loop: null });
      return;
    }
    const first = range && state.map ? state.map.toSeconds(state.map.barLine(range[0])) : NaN,
      last = range && state.map ? state.map.toSeconds(state.map.barLine(range[1] + 1)) : NaN;
    if (range === undefined || !(last > first)) {
      desk.words.note(`“${loopBars.value}” names no bars; write 5, or 5-8.`, true);
      desk.bar.show();
      return;
    }
    store.sound({ loop: [first, last] });
  });

  /** @param {string} id @returns {import("../player/voices.js").Strip} */
  const strip = (id) => state.sound.mix[id] ?? { level: 0, pan: 0, mute: false, solo: false };

  /** @param {Record<string, Partial<import("../player/voices.js").Strip>>} changes */
  function change(changes) {
    const mix = { ...state.sound.mix };
    for (const [id, patch] of Object.entries(changes)) mix[id] = { ...strip(id), ...patch };
    store.sound({ mix });
    drawChips();
  }

  /** Takes and parts that have a sound. */
  const sounding = () =>
    [...state.picture.takes, ...(state.picture.parts ?? [])].filter((/** @type {any} */ one) => one.frames);

  /** One chip a take; a bundle is one, its microphones have their own lines under Levels. */
  function drawChips() {
    /** @type {Map<string, string[]>} */
    const groups = new Map();
    for (const take of sounding())
      groups.set(take.bundle ?? take.id, [...(groups.get(take.bundle ?? take.id) ?? []), take.id]);
    const names = [...groups.keys()].map(
        (key) =>
          sounding().find((/** @type {import("../wire.js").TakeFacts} */ take) => take.id === key)?.name ??
          key,
      ),
      short = toldApart(names);
    $("chips").replaceChildren(
      ...[...groups.values()].map((ids, index) => {
        const chip = document.createElement("button"),
          sets = ids.map(strip),
          name = names[index];
        chip.type = "button";
        chip.className = `chip${sets.some((set) => set.solo) ? " solo" : ""}`;
        chip.textContent = short[index];
        chip.setAttribute("aria-label", name);
        chip.title =
          `${name}${ids.length > 1 ? ` (${ids.length} takes)` : ""}: click mutes, double click plays ` +
          `it alone`;
        chip.setAttribute("aria-pressed", String(sets.some((set) => !set.mute)));
        chip.addEventListener("click", (event) => {
          const solo = !sets.some((set) => set.solo),
            mute = sets.some((set) => !set.mute);
          change(
            Object.fromEntries(ids.map((id) => [id, event.detail === 2 ? { mute: false, solo } : { mute }])),
          );
        });
        return chip;
      }),
    );
  }

  function drawMixer() {
    const table = document.createElement("table");
    const head = table.insertRow();
    for (const word of ["take", "mute", "solo", "level", "pan"]) {
      const cell = document.createElement("th");
      cell.textContent = word;
      head.append(cell);
    }
    for (const take of sounding()) {
      const set = strip(take.id),
        row = table.insertRow();
      row.insertCell().textContent = take.name;
      for (const name of /** @type {("mute"|"solo")[]} */ (["mute", "solo"])) {
        const box = document.createElement("input");
        box.type = "checkbox";
        box.checked = set[name];
        box.setAttribute("aria-label", `${name} ${take.name}`);
        box.addEventListener("change", () => change({ [take.id]: { [name]: box.checked } }));
        row.insertCell().append(box);
      }
      row.insertCell().append(
        ...slider(
          take.name,
          "level",
          -40,
          12,
          1,
          set.level,
          (level) => change({ [take.id]: { level } }),
          (value) => `${value} dB`,
        ),
      );
      row.insertCell().append(
        ...slider(
          take.name,
          "pan",
          -1,
          1,
          0.05,
          set.pan,
          (pan) => change({ [take.id]: { pan } }),
          (value) =>
            value === 0 ? "middle" : `${Math.round(Math.abs(value) * 100)} ${value < 0 ? "L" : "R"}`,
        ),
      );
    }
    $("mixer").replaceChildren(table);
  }

  /**
   * @param {string} take
   * @param {string} what
   * @param {number} min
   * @param {number} max
   * @param {number} step
   * @param {number} value
   * @param {(value: number) => void} change
   * @param {(value: number) => string} words
   */
  function slider(take, what, min, max, step, value, change, words) {
    const input = document.createElement("input"),
      shown = document.createElement("span");
    Object.assign(input, {
      type: "range",
      min: String(min),
      max: String(max),
      step: String(step),
      value: String(value),
    });
    input.setAttribute("aria-label", `${what} of ${take}`);
    shown.className = "value";
    shown.textContent = words(value);
    input.addEventListener("input", () => {
      shown.textContent = words(Number(input.value));
      change(Number(input.value));
    });
    return [input, shown];
  }

  return {
    toggleMixer() {
      const open = $("mixer").hidden;
      $("mixer").hidden = !open;
      $("levels").setAttribute("aria-expanded", String(open));
      if (open) drawMixer();
    },
    change,
    /** After a new picture: takes may have come or gone. */
    takesChanged() {
      drawChips();
      if (!$("mixer").hidden) drawMixer();
    },
    /** The read-outs; called once a frame while it plays. */
    show() {
      const position = player.position(),
        map = state.map;
      if (map) {
        // A bar before bar 1 is named only where the lead-in was asked for.
        const { index, beat } = placeParts(map, map.toQuarters(position)),
          named = index >= 0 || state.view.leadIn;
        $("pos-bar").textContent = index >= 0 ? String(index + 1) : named ? `−${-index}` : "";
        $("pos-beat").textContent = named ? `·${beat.toFixed(2)}` : "lead-in";
      }
      const lowered = -20 * Math.log10(player.headroom);
      $("lowered").hidden = lowered < 0.05;
      $("lowered").textContent = `−${lowered.toFixed(1)} dB`;
      $("pos-clock").textContent = clockWords(position);
      $("play").classList.toggle("on", player.playing);
      $("play").setAttribute("aria-label", player.playing ? "Stop" : "Play");
      $("click").setAttribute("aria-pressed", String(state.sound.click));
      $("fitted").setAttribute("aria-pressed", String(state.sound.fitted));
      $("fitted-words").textContent = state.sound.fitted ? "Fitted" : "Original";
      $("loop").setAttribute("aria-pressed", String(state.sound.loop !== null));
      let words = "off";
      const { loop } = state.sound;
      if (loop && map) {
        const first = map.barOf(map.toQuarters(loop[0]) + 1e-3),
          last = map.barOf(map.toQuarters(loop[1]) - 1e-3);
        const number = (/** @type {number} */ index) => (index >= 0 ? String(index + 1) : `−${-index}`);
        words = first === last ? number(first) : `${number(first)}–${number(last)}`;
      }
      const bars = /** @type {HTMLInputElement} */ ($("loop-bars"));
      if (document.activeElement !== bars) bars.value = loop ? words : "";
      const readout = $("readout");
      readout.hidden = !state.view.big;
      $("position").setAttribute("aria-pressed", String(state.view.big));
      if (state.view.big) {
        /** @type {HTMLElement} */ (readout.firstElementChild).textContent = $("pos-bar").textContent;
        /** @type {HTMLElement} */ (readout.lastElementChild).textContent = (
          $("pos-beat").textContent ?? ""
        ).replace(/\.\d+$/, "");
      }
      speed.value = String(Math.round(state.sound.speed * 100));
      level.value = String(state.sound.clickDb);
    },
  };
}
