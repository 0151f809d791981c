// @ts-check
// Onsets: the strip and the sheet of all attacks.
import { drawStrengths } from "../views/charts.js";
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
  arrow(desk, step, fine) {
    const selection = desk.state.selection;
    if (selection?.kind !== "onset") return;
    const to = selection.t + step * (fine ? 0.0001 : 0.001);
    desk.act("onset-move", { take: selection.take, from_s: selection.t, to_s: to });
    desk.state.selection = { ...selection, t: to };
  },
  remove: removeMark,
  chosenOnset(desk, selection, mark, button) { button("Remove the mark", "Del", () => removeMark(desk, selection)); },
  drawSmall({ state }) {
    const canvas = /** @type {HTMLCanvasElement | null} */ (document.getElementById("strengths")), threshold = /** @type {HTMLInputElement | null} */ (document.querySelector('[data-act="threshold"]'));
    if (canvas && threshold) drawStrengths(canvas, state.picture.onsets[state.focus]?.s ?? [], Number(threshold.value) || 0);
  },
};
