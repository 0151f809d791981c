// @ts-check
// Fit: the comb with pegs and what they stretch; what is drawn is what will sound.
import { drawHistogram } from "../views/charts.js";
import { mountComb } from "../views/comb.js";
import { leadInTool, legend, msField, plain, swatch } from "./station.js";

/** @param {any} desk @param {any} selection */
function ride(desk, selection) {
  if (selection?.kind === "onset") desk.act("ride", { take: selection.take, times_s: [selection.t] });
}

/** Whether pauses between notes are seen. @param {any} desk */
function pausesTool(desk) {
  const label = document.createElement("label"), box = document.createElement("input");
  label.className = "lead-in";
  label.title = "Quieter than 50 dB below the peak for 80 ms or more: silenced at hand-off where that is chosen there";
  box.type = "checkbox";
  box.checked = desk.state.view.pauses;
  box.addEventListener("change", () => { desk.store.view({ pauses: box.checked }); desk.pictures.draw(); });
  label.append(box, " pauses");
  return label;
}

/** @type {import("./station.js").StationView} */
export const fit = {
  ...plain, id: "fit", key: 5, fitted: true, pulls: true,
  mount: (desk, box) => mountComb(box, desk.host, { fitting: true }),
  tools: (desk) => [...leadInTool(desk), pausesTool(desk), legend(`${swatch("squeezed", "squeezed")}${swatch("spread", "spread")}<span class="long">no ribbon: untouched</span><span class="long">thin foot, faint line: as played</span>${swatch("anchor", "pulled")}`)],
  marksOf: ({ state }) => state.focus,
  grid: () => "rule",
  pull(desk, selection, _, target) { desk.act("peg", { take: desk.state.focus, take_s: selection.t, quarters: target }); },
  remove: ride,
  chosenOnset(desk, selection, mark, button) {
    button("As it was played", "", () => desk.act("as-played", { take: selection.take, times_s: [selection.t] }));
    button("Let it ride", "Del", () => ride(desk, selection));
  },
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind !== "bars") return false;
    const name = (/** @type {number} */ index) => desk.state.picture.bars.find((/** @type {any} */ one) => one.i === index)?.n, from = name(selection.bar), to = name(selection.to);
    if (from === undefined || to === undefined) return false;
    const bars = { take: desk.state.focus, from_bar: from, to_bar: to };
    head.textContent = `Bars ${from}–${to}`;
    text.textContent = "All onsets in them, as one:";
    row.append(msField("move onsets by, ms", (ms) => desk.act("phrase", { ...bars, ms })));
    button("As they were played", "", () => desk.act("as-played", bars));
    button("Loop them", "L", () => desk.loopThese());
    return true;
  },
  drawSmall({ state }) {
    const histogram = /** @type {HTMLCanvasElement | null} */ (document.getElementById("histogram")), made = state.picture.fit;
    if (!histogram || !made || made.missing) return;
    const value = (/** @type {string} */ name) => /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-act="rule"][data-name="${name}"]`))?.value ?? "";
    drawHistogram(histogram, { drifts: made.off_ms, alone: Number(value("leave_alone")) || 0, ignore: Number(value("ignore")) || null });
  },
};
