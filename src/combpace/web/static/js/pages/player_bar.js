// @ts-check
// The bar at the foot: play, position, loop, speed, click, original/fitted, who sounds.
import { clockWords } from "../views/map.js";
import { toldApart } from "./names.js";

const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));

/**
 * @param {import("../player/player.js").Player} player @param {import("./host.js").State} state
 * @param {{loopThese: () => void, keepView: () => void, setFitted: (on: boolean) => void, toggle: () => void}} on
 */
export function mountPlayerBar(player, state, on) {
  $("play").addEventListener("click", on.toggle);
  $("loop").addEventListener("click", on.loopThese);
  $("click").addEventListener("click", () => setClick(!player.clickOn));
  $("fitted").addEventListener("click", () => on.setFitted(!player.fitted));
  const speed = /** @type {HTMLSelectElement} */ ($("speed")), level = /** @type {HTMLInputElement} */ ($("click-level"));
  speed.addEventListener("change", () => { player.setSpeed(Number(speed.value) / 100); state.view.speed = player.speed; on.keepView(); });
  level.addEventListener("input", () => { player.clickDb = state.view.clickDb = Number(level.value); player.applyMix(); on.keepView(); });
  $("levels").addEventListener("click", () => { const open = $("mixer").hidden; $("mixer").hidden = !open; $("levels").setAttribute("aria-expanded", String(open)); if (open) drawMixer(); });
  $("help").addEventListener("click", () => { $("keys").hidden = !$("keys").hidden; });
  $("keys").querySelector("[data-close]")?.addEventListener("click", () => { $("keys").hidden = true; });

  /** @param {boolean} sounds */
  function setClick(sounds) {
    player.clickOn = state.view.click = sounds;
    $("click").setAttribute("aria-pressed", String(sounds));
    player.again();
    on.keepView();
  }

  /** @param {string} id */
  function strip(id) {
    const found = player.mix.get(id) ?? { level: 0, pan: 0, mute: false, solo: false };
    player.mix.set(id, found);
    return found;
  }

  function changed() {
    state.view.mix = Object.fromEntries(player.mix);
    player.applyMix();
    player.again();
    drawChips();
    on.keepView();
  }

  /** One chip a take; a bundle is one, its microphones have their own lines under Levels. */
  function drawChips() {
    /** @type {Map<string, string[]>} */
    const groups = new Map();
    for (const take of state.picture.takes.filter((one) => one.frames)) groups.set(take.bundle ?? take.id, [...(groups.get(take.bundle ?? take.id) ?? []), take.id]);
    const names = [...groups.keys()].map((key) => state.picture.takes.find((take) => take.id === key)?.name ?? key), short = toldApart(names);
    $("chips").replaceChildren(...[...groups.values()].map((ids, index) => {
      const chip = document.createElement("button"), sets = ids.map(strip), name = names[index];
      chip.type = "button";
      chip.className = `chip${sets.some((set) => set.solo) ? " solo" : ""}`;
      chip.textContent = short[index];
      chip.setAttribute("aria-label", name);
      chip.title = `${name}${ids.length > 1 ? ` (${ids.length} takes)` : ""}: click mutes, double click plays it alone`;
      chip.setAttribute("aria-pressed", String(sets.some((set) => !set.mute)));
      chip.addEventListener("click", (event) => {
        const solo = !sets.some((set) => set.solo), mute = sets.some((set) => !set.mute);
        for (const set of sets) { if (event.detail === 2) { set.mute = false; set.solo = solo; } else set.mute = mute; }
        changed();
      });
      return chip;
    }));
  }

  function drawMixer() {
    const table = document.createElement("table");
    const head = table.insertRow();
    for (const word of ["take", "sounds", "alone", "level", "left – right"]) { const cell = document.createElement("th"); cell.textContent = word; head.append(cell); }
    for (const take of state.picture.takes.filter((one) => one.frames)) {
      const set = strip(take.id), row = table.insertRow();
      row.insertCell().textContent = take.name;
      for (const name of /** @type {("mute"|"solo")[]} */ (["mute", "solo"])) {
        const box = document.createElement("input");
        box.type = "checkbox";
        box.checked = name === "mute" ? !set.mute : set.solo;
        box.setAttribute("aria-label", `${take.name} ${name === "mute" ? "sounds" : "alone"}`);
        box.addEventListener("change", () => { set[name] = name === "mute" ? !box.checked : box.checked; changed(); });
        row.insertCell().append(box);
      }
      row.insertCell().append(...slider(take.name, "level", -40, 12, 1, set.level, (value) => { set.level = value; changed(); }, (value) => `${value} dB`));
      row.insertCell().append(...slider(take.name, "pan", -1, 1, 0.05, set.pan, (value) => { set.pan = value; changed(); }, (value) => (value === 0 ? "middle" : `${Math.round(Math.abs(value) * 100)} ${value < 0 ? "L" : "R"}`)));
    }
    $("mixer").replaceChildren(table);
  }

  /** @param {string} take @param {string} what @param {number} min @param {number} max @param {number} step @param {number} value @param {(value: number) => void} change @param {(value: number) => string} words */
  function slider(take, what, min, max, step, value, change, words) {
    const input = document.createElement("input"), shown = document.createElement("span");
    Object.assign(input, { type: "range", min: String(min), max: String(max), step: String(step), value: String(value) });
    input.setAttribute("aria-label", `${what} of ${take}`);
    shown.className = "value";
    shown.textContent = words(value);
    input.addEventListener("input", () => { shown.textContent = words(Number(input.value)); change(Number(input.value)); });
    return [input, shown];
  }

  return {
    setClick,
    /** After a new picture: takes may have come or gone. */
    takesChanged() {
      for (const [id, set] of Object.entries(state.view.mix)) player.mix.set(id, { ...set });
      player.applyMix();
      drawChips();
      if (!$("mixer").hidden) drawMixer();
    },
    /** The read-outs; called once a frame while it plays. */
    show() {
      const position = player.position(), map = state.map;
      if (map) {
        const quarter = map.toQuarters(position), index = map.barOf(quarter + 1e-6), meter = map.meterAt(index);
        $("pos-bar").textContent = index >= 0 ? String(index + 1) : `−${-index}`;
        $("pos-beat").textContent = `·${(1 + Math.max(0, quarter - map.barLine(index)) / meter[3]).toFixed(2)}`;
      }
      $("pos-clock").textContent = clockWords(position);
      $("play").classList.toggle("on", player.playing);
      $("play").setAttribute("aria-label", player.playing ? "Stop" : "Play");
      $("click").setAttribute("aria-pressed", String(player.clickOn));
      $("fitted").setAttribute("aria-pressed", String(player.fitted));
      $("fitted-words").textContent = player.fitted ? "Fitted" : "Original";
      $("loop").setAttribute("aria-pressed", String(player.loop !== null));
      let words = "off";
      if (player.loop && map) {
        const first = map.barOf(map.toQuarters(player.loop[0]) + 1e-3), last = map.barOf(map.toQuarters(player.loop[1]) - 1e-3);
        const number = (/** @type {number} */ index) => (index >= 0 ? String(index + 1) : `−${-index}`);
        words = first === last ? number(first) : `${number(first)}–${number(last)}`;
      }
      $("loop-words").textContent = words;
      speed.value = String(Math.round(player.speed * 100));
      level.value = String(player.clickDb);
    },
  };
}
