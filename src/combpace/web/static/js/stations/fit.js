// @ts-check
// Fit: the comb with pegs and what they stretch; what is drawn is what will sound.
import { drawHistogram } from "../views/charts.js";
import { mountComb } from "../views/comb.js";
import { send } from "../api/client.js";
import { clockWords, placeWords } from "../views/map.js";
import { field, leadInTool, legend, msField, plain, swatch, tickTool } from "./station.js";

/** @param {any} desk @param {any} selection */
function ride(desk, selection) {
  if (selection?.kind === "onset") desk.act("ride", { take: selection.take, times_s: [selection.t] });
  if (selection?.kind === "marks") desk.act("ride", { take: selection.take, times_s: selection.ts });
}

/**
 * A note of a part, in words.
 * @param {any} desk
 * @param {any} selection
 * @param {HTMLElement} head
 * @param {HTMLElement} text
 * @param {import("./station.js").Button} button
 */
function chosenNote(desk, selection, head, text, button) {
  const { state } = desk,
    part = state.picture.parts.find((/** @type {any} */ one) => one.id === selection.part),
    note = part?.notes.find((/** @type {number[]} */ one) => Math.abs(one[4] - selection.own) < 1e-4);
  if (!note) return false;
  const q = state.map.toQuarters(note[0]);
  head.textContent = `Note ${placeWords(state.map, q)}`;
  text.textContent =
    `${part.name}: key ${note[2]}, velocity ${note[3]}, ${clockWords(note[0])}` +
    `${note[5] ? ", pulled by hand" : ""}. Drag it to a place; Shift frees it.`;
  if (note[5])
    button("As the rule has it", "Del", () =>
      desk.act("note-release", { part: part.id, own: selection.own }),
    );
  button("Hear it", "W", () => desk.play(note[0] - 0.02, note[1] + 0.05));
  return true;
}

/**
 * The pegs on either side of one that is pulled by hand which may give way to it: none that is held by hand.
 * @param {any} made a fit
 * @param {number} time of the one, take seconds
 * @returns {any[][]}
 */
function beside(made, time) {
  const pegs = made?.pegs ?? [],
    k = pegs.findIndex((/** @type {any[]} */ one) => Math.abs(one[0] - time) < 1e-5);
  if (k < 0 || pegs[k][4] !== "hand") return [];
  return [pegs[k - 1], pegs[k + 1]].filter((one) => one && ["pulled", "left alone"].includes(one[4]));
}

/**
 * The place of the rule's grid that an onset belongs to.
 * @param {any} desk
 * @param {number} q
 */
function meant({ state, host }, q) {
  const bar = state.picture.bars.find((/** @type {any} */ one) => q >= one.q - 1e-6 && q < one.q + one.len);
  if (!bar) return q;
  const places = host.rulePlaces(bar).map((/** @type {number} */ place) => bar.q + place);
  return places.reduce(
    (/** @type {number} */ best, /** @type {number} */ place) =>
      Math.abs(place - q) < Math.abs(best - q) ? place : best,
    places[0] ?? q,
  );
}

/** Whether pauses between notes are seen. @param {any} desk */
const pausesTool = (desk) =>
  tickTool(
    "pauses",
    "As quiet and as long as Hand-off says; silenced there where that is chosen",
    desk.state.view.pauses,
    (pauses) => {
      desk.store.view({ pauses });
      desk.pictures.draw();
    },
  );

/** Whose groove is taken: "" for the take that is shown, or the id of a part. */
let grooveOf = "";

/** Whose groove is taken, where parts could be meant too. @param {any} desk @returns {Node[]} */
function grooveOfField(desk) {
  const { state } = desk;
  if (!state.picture.parts.length) return [];
  const label = document.createElement("label"),
    select = document.createElement("select");
  label.className = "from-here";
  select.className = "field";
  select.setAttribute("aria-label", "whose groove");
  for (const [value, text] of [
    ["", desk.host.take(state.focus)?.name ?? "this take"],
    ...state.picture.parts.map((/** @type {any} */ part) => [part.id, part.name]),
  ])
    select.add(new Option(text, value, false, grooveOf === value));
  select.addEventListener("change", () => {
    grooveOf = select.value;
  });
  label.append("the groove of ", select);
  return [label];
}

/**
 * What was chosen goes into the library, by the take's name and its bars.
 * @param {any} desk
 * @param {number} from
 * @param {number} to
 * @param {string} grid
 */
function takeGroove(desk, from, to, grid) {
  const of = desk.state.picture.parts.some((/** @type {any} */ part) => part.id === grooveOf)
    ? grooveOf
    : desk.state.focus;
  return library(
    desk,
    () => send(`/api/sessions/${desk.session}/grooves`, { take: of, from_bar: from, to_bar: to, grid }),
    (made) => `The groove ${made.name} is in the library: ${made.words}.`,
  );
}

/**
 * Something is done to the library, and the page shows it.
 * @param {any} desk
 * @param {() => Promise<any>} run
 * @param {(made: any) => string} said
 */
async function library(desk, run, said) {
  try {
    const made = await run();
    await desk.deciding.refresh(said(made));
    const box = /** @type {HTMLDetailsElement | null} */ (document.getElementById("grooves"));
    if (box) box.open = true;
    return made;
  } catch (error) {
    desk.words.trouble(error);
    return null;
  }
}

/** Listeners that outlive every swap. @param {any} desk */
function wire(desk) {
  if (desk.fitWired) return;
  desk.fitWired = true;
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (!(form instanceof HTMLFormElement) || form.id !== "rule-to") return;
    event.preventDefault();
    desk.act("rule-to-others", { take: form.dataset.take, takes: new FormData(form).getAll("take") });
  });
  const idOf = (/** @type {EventTarget | null} */ target) =>
    /** @type {HTMLElement | null} */ (target instanceof Element ? target.closest("[data-groove]") : null)
      ?.dataset.groove ?? "";
  document.addEventListener("click", (event) => {
    if (!(event.target instanceof Element)) return;
    const id = idOf(event.target),
      back = /** @type {HTMLElement | null} */ (event.target.closest("[data-groove-restore]"));
    if (back) {
      const gone = back.dataset.grooveRestore ?? "";
      back.remove();
      library(
        desk,
        () => send(`/api/grooves/${gone}/restore`, {}),
        (made) => `The groove ${made.name} is back.`,
      );
    }
    if (!event.target.closest("[data-groove-remove]")) return;
    library(
      desk,
      () => send(`/api/grooves/${id}`, {}, "DELETE"),
      (made) => `The groove ${made.removed} was removed from the library; sessions that use it keep it.`,
    ).then((made) => {
      if (!made) return;
      const again = document.createElement("button");
      again.type = "button";
      again.className = "link";
      again.dataset.grooveRestore = id;
      again.textContent = "Bring it back";
      document.getElementById("last")?.append(" ", again);
    });
  });
  document.addEventListener("change", (event) => {
    const box = event.target;
    if (!(box instanceof HTMLInputElement)) return;
    if ("grooveName" in box.dataset)
      library(
        desk,
        () => send(`/api/grooves/${idOf(box)}`, { name: box.value }, "PATCH"),
        (made) => `The groove is called ${made.name}.`,
      );
    if ("grooveFile" in box.dataset && box.files?.[0]) {
      const [file] = box.files;
      library(
        desk,
        async () => {
          let value;
          try {
            value = JSON.parse(await file.text());
          } catch {
            throw new Error(`“${file.name}” is no JSON, so it is no groove. Nothing was changed.`);
          }
          return send("/api/grooves", value, "PUT");
        },
        (made) => `The groove ${made.name} is in the library.`,
      );
    }
  });
}

/**
 * What can be done with the onsets of some bars, or of one; in words what is pulled there.
 * @param {any} desk
 * @param {number} from by number
 * @param {number} to
 * @param {import("./station.js").Button} button
 * @param {HTMLElement} row
 */
function ofBars(desk, from, to, button, row) {
  const { fit: made } = desk.state.picture,
    take = desk.state.focus,
    bars = `${from}-${to}`,
    of = { take, from_bar: from, to_bar: to };
  let said = "All onsets in them, as one:";
  if (made && !made.missing) {
    const own = made.ranges.find((/** @type {any} */ one) => one.bars === bars);
    if (own) said = `${own.words}.`;
    row.append(
      field("pull here with, %", String(own?.strength ?? made.strength), "w3", (strength) =>
        desk.act("rule", { take, bars, set: { strength } }),
      ),
    );
    if (own) button("As the other bars", "", () => desk.act("rule-remove", { take, bars }));
    else button("A rule of their own", "", () => desk.act("rule", { take, bars, set: {} }));
  }
  row.append(msField("move onsets by, ms", (ms) => desk.act("phrase", { ...of, ms })));
  button("As they were played", "", () => desk.act("as-played", of));
  row.append(...grooveOfField(desk));
  row.append(field("take their groove on", "1/16", "w4", (grid) => takeGroove(desk, from, to, grid)));
  button("Take their groove", "", () => takeGroove(desk, from, to, "1/16"));
  return said;
}

/** @type {import("./station.js").StationView} */
export const fit = {
  ...plain,
  id: "fit",
  key: 5,
  fitted: true,
  pulls: true,
  mount: (desk, box) => mountComb(box, desk.host, { fitting: true }),
  tools: (desk) => [
    ...leadInTool(desk),
    pausesTool(desk),
    legend(
      `${swatch("squeezed", "squeezed")}${swatch("spread", "spread")}<span class="long">no ribbon: ` +
        `untouched</span><span class="long">thin foot, faint line: as played</span>` +
        `${swatch("anchor", "pulled")}`,
    ),
  ],
  marksOf: ({ state }) => state.focus,
  grid: () => "rule",
  pull(desk, selection, _, target) {
    desk.act("peg", { take: desk.state.focus, take_s: selection.t, quarters: target });
  },
  remove: (desk, selection) =>
    selection?.kind === "note"
      ? desk.act("note-release", { part: selection.part, own: selection.own })
      : ride(desk, selection),
  chosenOnset(desk, selection, mark, button) {
    button("As it was played", "", () =>
      desk.act("as-played", { take: selection.take, times_s: [selection.t] }),
    );
    button("Let it ride", "Del", () => ride(desk, selection));
    for (const one of beside(desk.state.picture.fit, selection.t))
      button(`Let ${placeWords(desk.state.map, meant(desk, one[3]))} give way`, "", () =>
        desk.act("ride", { take: selection.take, times_s: [one[0]] }),
      );
  },
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind === "note") return chosenNote(desk, selection, head, text, button);
    if (selection.kind === "marks") {
      const these = { take: selection.take, times_s: selection.ts };
      head.textContent = `${selection.ts.length} onsets`;
      text.textContent = "Pull one of them and all go as far; Shift and click adds one or takes it out.";
      row.append(msField("move onsets by, ms", (ms) => desk.act("phrase", { ...these, ms })));
      button("As they were played", "", () => desk.act("as-played", these));
      button("Let them ride", "Del", () => desk.act("ride", these));
      return true;
    }
    if (selection.kind !== "bars") return false;
    const name = (/** @type {number} */ index) =>
        desk.state.picture.bars.find((/** @type {any} */ one) => one.i === index)?.n,
      from = name(selection.bar),
      to = name(selection.to);
    if (from === undefined || to === undefined) return false;
    head.textContent = `Bars ${from}–${to}`;
    text.textContent = ofBars(desk, from, to, button, row);
    button("Loop them", "L", () => desk.loopThese());
    return true;
  },
  chosenBar(desk, bar, button, row) {
    const said = ofBars(desk, bar.n, bar.n, button, row);
    button("Loop it", "L", () => desk.loopThese());
    return said;
  },
  drawSmall(desk) {
    const { state } = desk;
    wire(desk);
    const histogram = /** @type {HTMLCanvasElement | null} */ (document.getElementById("histogram")),
      made = state.picture.fit;
    if (!histogram || !made || made.missing) return;
    const value = (/** @type {string} */ name) =>
      /** @type {HTMLInputElement | null} */ (
        document.querySelector(`[data-act="rule"][data-name="${name}"]`)
      )?.value ?? "";
    drawHistogram(histogram, {
      drifts: made.off_ms,
      alone: Number(value("leave_alone")) || 0,
      ignore: Number(value("ignore")) || null,
    });
  },
};
