// @ts-check
// What a station is to the page, and what it does unless it says otherwise.

/**
 * @typedef {{id: string, key: number, picture: boolean, needsMap: boolean, fitted: boolean, commands:
 *   import("../commands.js").Command[],
 *   mount: (desk: any, box: HTMLElement) => any, mapless: (desk: any, box: HTMLElement) => any, tools: (desk:
 *   any) => Node[], drawSmall: (desk: any) => void,
 *   marksOf: (desk: any) => string, show: (desk: any, time: number, index: number) => void, follow: (desk:
 *   any) => void, zoom: (desk: any, direction: number) => void,
 *   grid: (desk: any) => string, arrow: (desk: any, step: number, fine: boolean) => void, pull: (desk: any,
 *   selection: any, time: number, target: number) => void,
 *   pulls: boolean, ofTake: boolean, ticks: boolean, remove: (desk: any, selection: any) => void,
 *   chosenOnset: (desk: any, selection: any, mark: any, button: Button, row: HTMLElement) => void,
 *   chosenBar: (desk: any, bar: any, button: Button, row: HTMLElement) => string, refreshed: (desk: any) =>
 *   void, wire: (desk: any) => void,
 *   acted: (desk: any, name: string) => void, trial: (desk: any, take: any) =>
 *   import("../player/player.js").Voice | null, measure: ((desk: any, from: number, to: number) => void) |
 *   null,
 *   chosenMany: (desk: any, selection: any, parts: {head: HTMLElement, text: HTMLElement, button: Button,
 *   row: HTMLElement}) => boolean}} StationView
 *   ofTake: it corrects bars, of the lead or of a take with its own pace; picture: whether it has one;
 *   needsMap: whether that waits for a tempo map; fitted: places are compared as played and as fitted;
 *   mapless: what stands in the picture's stead while no pulse was found, or null; pulls: Enter on a chosen
 *   attack chooses its tooth;
 *   ticks: marks of its take may tick while it plays;
 *   wire: listeners of its own that outlive every swap, set once;
 *   trial: how a take is heard while something is only tried here, or null;
 *   acted: what follows in the page when a button's decision was taken; measure: what a range comes to, where
 *   that is asked here;
 *   chosenMany: what several chosen things are and do here; whether they are known here
 * @typedef {(label: string, key: string, run: () => void, foreseen?: [string, any]) => void} Button
 *   foreseen: the decision, for what it would move
 */

const GRIDS = ["bars", "beats", "1/8", "1/8t", "1/16", "1/16t", "1/32", "1/32t", "1/64"],
  CATCHES = ["grid", "beats", "bars", "attacks", "samples", "nothing"];

/**
 * The grid in sight, and what a drag catches on: by the picture of every station that has a drag.
 * @param {any} desk
 * @returns {Node[]}
 */
export function gridTools(desk) {
  const label = document.createElement("span");
  label.className = "grid-tools";
  for (const [words, name, options, title] of /** @type {[string, string, string[], string][]} */ ([
    ["grid", "grid", GRIDS, "Grid in sight"],
    ["catch", "catch", CATCHES, "What a drag catches on; Shift frees it"],
  ])) {
    const select = document.createElement("select");
    select.className = "field";
    select.dataset.view = name;
    select.title = title;
    select.setAttribute("aria-label", title);
    for (const value of options) select.add(new Option(value, value, false, desk.state.view[name] === value));
    label.append(` ${words} `, select);
  }
  return [label];
}

/**
 * Whether the bars before bar 1 are seen, where something is played there.
 * @param {any} desk
 * @returns {Node[]}
 */
export function leadInTool(desk) {
  const { state } = desk,
    before = state.picture.allBars.filter((/** @type {import("../wire.js").BarRow} */ bar) => bar.i < 0);
  if (!before.length || before.length === state.picture.allBars.length) return [];
  const line = state.map.toSeconds(0) - 0.02,
    attacks = desk.host
      .marks(state.picture.lead)
      .times.filter((/** @type {number} */ time) => time < line).length;
  const words = `lead-in${attacks ? ` (${attacks} attack${attacks === 1 ? "" : "s"})` : ""}`;
  return [
    tickTool(words, "Bars before bar 1", state.view.leadIn, (leadIn) => {
      desk.store.view({ leadIn });
      desk.toBar1();
      desk.pictures.draw();
    }),
  ];
}

/**
 * A box over the picture that is ticked or not.
 * @param {string} words
 * @param {string} title
 * @param {boolean} on
 * @param {(on: boolean) => void} use
 */
export function tickTool(words, title, on, use) {
  const label = document.createElement("label"),
    box = document.createElement("input");
  label.className = "lead-in";
  label.title = title;
  box.type = "checkbox";
  box.checked = on;
  box.addEventListener("change", () => use(box.checked));
  label.append(box, ` ${words}`);
  return label;
}

/** Legend of a picture from its parts. @param {string} markup */
export function legend(markup) {
  const made = document.createElement("span");
  made.className = "legend";
  made.innerHTML = markup;
  return made;
}

/** @param {string} kind @param {string} text */
export const swatch = (kind, text) => `<span class="long"><span class="swatch ${kind}"></span>${text}</span>`;

/** @type {StationView} */
export const plain = {
  id: "",
  key: 0,
  picture: true,
  needsMap: true,
  fitted: false,
  pulls: false,
  ofTake: false,
  ticks: false,
  commands: [],
  mount: () => null,
  mapless: () => null,
  tools: () => [],
  drawSmall: () => {},
  marksOf: (desk) => desk.state.picture.lead ?? "",
  show: (desk, time, index) => desk.pictures.view()?.show(index),
  follow: (desk) =>
    desk.pictures.view()?.show(desk.state.map.barOf(desk.state.map.toQuarters(desk.state.playhead ?? 0))),
  zoom: (desk, direction) =>
    desk.store.view({
      rowPx: Math.min(200, Math.max(6, desk.state.view.rowPx * (direction > 0 ? 1.2 : 1 / 1.2))),
    }),
  grid: ({ state }) =>
    state.view.catch === "grid" ? state.view.grid : state.view.catch === "bars" ? "bars" : "beats",
  arrow: (desk, step, fine) => desk.steps.chooseTooth(step, fine),
  pull: (desk, selection, time, target) => desk.act("pull", { time_s: time, quarters: target }),
  remove: () => {},
  chosenOnset: () => {},
  chosenBar: () => "",
  refreshed: () => {},
  wire: () => {},
  acted: () => {},
  trial: () => null,
  measure: null,
  chosenMany: () => false,
};

/**
 * The start put right, both ways: the grid goes to a chosen attack, or the audio goes to a bar; each with a
 * bar to type.
 * @param {any} desk
 * @param {any} selection
 * @param {any} mark
 * @param {HTMLElement} row
 */
export function startFields(desk, selection, mark, row) {
  const near = desk.state.map ? desk.state.map.barOf(desk.state.map.toQuarters(mark.time) + 0.25) : 0,
    number = near >= 0 ? near + 1 : near;
  for (const [before, title, use] of /** @type {[string, string, (bar: number) => void][]} */ ([
    [
      "Grid: this is bar",
      "The bar line goes to this attack; no audio moves",
      (bar) => desk.act("bar", { time_s: mark.time, bar }),
    ],
    [
      "Audio: this goes to bar",
      "The whole take moves with this attack; the grid stays",
      (bar) => desk.act("audio-to-bar", { take: selection.take, time_s: mark.time, bar }),
    ],
  ])) {
    const label = document.createElement("label"),
      field = document.createElement("input");
    label.className = "from-here";
    label.title = title;
    field.className = "field w3";
    field.value = String(number);
    field.inputMode = "numeric";
    field.autocomplete = "off";
    field.setAttribute("aria-label", before);
    const go = () => {
      const bar = Number(field.value);
      if (Number.isInteger(bar) && bar !== 0) use(bar);
      else desk.words.note(`“${field.value}” is no bar; write a whole number, 1, 5 or 17.`, true);
    };
    field.addEventListener("keydown", (event) => {
      if (event.key === "Enter") {
        event.preventDefault();
        event.stopPropagation();
        go();
      }
    });
    const button = document.createElement("button");
    button.type = "button";
    button.className = "button small";
    button.textContent = "Do";
    button.addEventListener("click", go);
    label.append(`${before} `, field, " ", button);
    row.append(label);
  }
}

/** Delete on a mark that is chosen here. @param {any} desk @param {any} selection */
export function removeMark(desk, selection) {
  if (selection?.kind === "onset")
    desk.act("onset-remove", { take: selection.take, times_s: [selection.t] }, () => desk.store.select(null));
}

/**
 * A field of its own, taken with Enter.
 * @param {string} words
 * @param {string} value
 * @param {string} width
 * @param {(value: string) => void} use
 */
export function field(words, value, width, use) {
  const label = document.createElement("label"),
    box = document.createElement("input");
  label.className = "from-here";
  box.className = `field ${width}`;
  box.value = value;
  box.autocomplete = "off";
  box.spellcheck = false;
  box.setAttribute("aria-label", words);
  box.addEventListener("keydown", (event) => {
    if (event.key === "Enter") box.blur();
  });
  box.addEventListener("change", () => {
    if (box.value.trim() && box.value.trim() !== value) use(box.value.trim());
  });
  label.append(`${words} `, box);
  return label;
}

/**
 * By how much what is chosen moves, later or earlier.
 * @param {string} words
 * @param {(ms: number) => void} use
 */
export function msField(words, use) {
  return field(words, "", "w4", (text) => {
    const ms = Number(text.replace(",", ".").replace("−", "-"));
    if (ms) use(ms);
  });
}
