// @ts-check
// Onsets: the strip and the sheet of all attacks.
import { drawStrengths } from "../views/charts.js";
import { DOUBTFUL } from "../views/paint.js";
import { mountStrip } from "../views/strip.js";
import { gridTools, legend, plain, removeMark } from "./station.js";

/** @type {import("./station.js").StationView} */
export const onsets = {
  ...plain, id: "onsets", key: 4, needsMap: false,
  mount: (desk, box) => mountStrip(box, desk.host),
  tools: (desk) => [...gridTools(desk), legend("<span>wheel zooms, drag moves a mark, <kbd>C</kbd> adds one, <kbd>Shift</kbd> and drag chooses a range, a bar line is pulled by its name</span>")],
  marksOf: ({ state }) => state.focus,
  show(desk, time) {
    const { stripStart, stripSpan } = desk.state.view;
    if (time < stripStart + stripSpan * 0.1 || time > stripStart + stripSpan * 0.9) desk.store.view({ stripStart: time - stripSpan * 0.35 });
  },
  follow(desk) {
    const { stripStart, stripSpan } = desk.state.view, at = desk.state.playhead;
    if (at !== null && (at < stripStart || at > stripStart + stripSpan)) desk.state.view.stripStart = at - stripSpan * 0.1;
  },
  zoom(desk, direction) {
    const { state, host } = desk, { stripStart, stripSpan } = state.view;
    const middle = state.selection?.kind === "onset" ? state.selection.t + (host.take(state.focus)?.offset_s ?? 0) : stripStart + stripSpan / 2;
    const span = stripSpan * (direction > 0 ? 0.6 : 1 / 0.6);
    desk.store.view({ stripSpan: span, stripStart: middle - span / 2 });
  },
  commands: [{ id: "drop-mark", keys: ["KeyX"], shown: "X", words: "drop the mark at the playhead", run: (desk) => desk.dropMark() }],
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind !== "marks" && selection.kind !== "range") return false;
    const { state, act, host } = desk, own = host.marks(state.focus), whole = selection.kind === "range", take = selection.take ?? state.focus;
    const times = whole ? own.take.filter((/** @type {number} */ _, /** @type {number} */ k) => own.times[k] >= selection.from && own.times[k] <= selection.to) : selection.ts;
    head.textContent = whole ? `Range of ${(selection.to - selection.from).toFixed(3)} s, ${times.length} mark${times.length === 1 ? "" : "s"}` : `${times.length} marks`;
    text.textContent = whole ? "What is done here is done to all marks in it." : "Shift and click adds one or takes it out; Shift and drag chooses a range.";
    if (times.length) {
      button("Remove them", "Del", () => act("onset-remove", { take, times_s: times }, () => desk.store.select(null)));
      button("They are right, lock them", "", () => act("onset-lock", { take, times_s: times }));
      row.append(shiftField((ms) => act("onset-shift", { take, times_s: times, ms }, () => desk.store.select(null))));
    }
    if (whole) {
      button("Measure its tempo", "", () => desk.measureRange(selection.from, selection.to));
      button("Loop it", "", () => { desk.store.sound({ loop: [selection.from, selection.to] }); desk.play(selection.from); });
    }
    return true;
  },
  arrow(desk, step, fine) {
    const selection = desk.state.selection;
    if (selection?.kind !== "onset") return;
    const to = selection.t + step * (fine ? 0.0001 : 0.001);
    desk.act("onset-move", { take: selection.take, from_s: selection.t, to_s: to });
    desk.state.selection = { ...selection, t: to };
  },
  remove(desk, selection) {
    if (selection?.kind === "marks") desk.act("onset-remove", { take: selection.take, times_s: selection.ts }, () => desk.store.select(null));
    else removeMark(desk, selection);
  },
  chosenOnset(desk, selection, mark, button) {
    button("Remove the mark", "Del", () => removeMark(desk, selection));
    button("It is right, lock it", "", () => desk.act("onset-lock", { take: selection.take, times_s: [selection.t] }));
    const own = desk.host.marks(selection.take), doubtful = own.take.filter((/** @type {number} */ _, /** @type {number} */ k) => own.sure[k] < DOUBTFUL);
    if (doubtful.length > 1) button(`All ${doubtful.length} doubtful`, "", () => desk.store.select({ kind: "marks", take: selection.take, ts: doubtful }));
  },
  drawSmall({ state }) {
    const canvas = /** @type {HTMLCanvasElement | null} */ (document.getElementById("strengths")), threshold = /** @type {HTMLInputElement | null} */ (document.querySelector('[data-act="threshold"]'));
    if (canvas && threshold) drawStrengths(canvas, state.picture.onsets[state.focus]?.s ?? [], Number(threshold.value) || 0);
  },
};

/** By how much marks move together. @param {(ms: number) => void} use */
function shiftField(use) {
  const label = document.createElement("label"), box = document.createElement("input");
  label.className = "from-here";
  box.className = "field w4";
  box.autocomplete = "off";
  box.setAttribute("aria-label", "move marks by, ms");
  box.addEventListener("keydown", (event) => { if (event.key === "Enter") box.blur(); });
  box.addEventListener("change", () => { const ms = Number(box.value.replace(",", ".").replace("−", "-")); if (ms) use(ms); });
  label.append("move by, ms ", box);
  return label;
}
