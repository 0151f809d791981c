// @ts-check
// Bars: the comb or the close comb, with the pace curve over it.
import { mountCloseComb } from "../views/close_comb.js";
import { mountComb } from "../views/comb.js";
import { mountCurve } from "../views/curve.js";
import { leadInTool, legend, plain, removeMark, startFields, swatch } from "./station.js";

/** @type {import("./station.js").StationView} */
export const bars = {
  ...plain, id: "bars", key: 3, pulls: true,
  commands: [{ id: "downbeat", keys: ["KeyD"], shown: "D", words: "this is a downbeat", run: (desk) => desk.steps.downbeat() }],
  mount(desk, box) {
    const view = desk.state.view.close ? mountCloseComb(box, desk.host) : mountComb(box, desk.host), holder = document.createElement("div");
    holder.id = "curve-box";
    holder.className = "curve-box canvas-box";
    box.before(holder);
    const curve = mountCurve(holder, desk.host, () => view.inSight());
    const draw = () => { view.draw(); curve.draw(); };
    return { ...view, draw, destroy() { curve.destroy(); holder.remove(); view.destroy(); } };
  },
  tools(desk) {
    const seg = document.createElement("span");
    seg.className = "seg";
    for (const [close, text] of /** @type {[boolean, string][]} */ ([[false, "Comb"], [true, "Close comb, ±60 ms"]])) {
      const button = document.createElement("button");
      button.type = "button";
      button.textContent = text;
      button.setAttribute("aria-pressed", String(desk.state.view.close === close));
      button.addEventListener("click", () => { desk.store.view({ close }); desk.pictures.mount(); });
      seg.append(button);
    }
    return [seg, ...leadInTool(desk), legend(`${swatch("onset", "attack")}${swatch("anchor", "anchor")}<span>pull an attack onto a tooth</span>`)];
  },
  remove(desk, selection) {
    if (selection?.kind === "anchor") desk.act("release", { quarters: selection.q });
    else removeMark(desk, selection);
  },
  chosenOnset(desk, selection, mark, button, row) {
    button("This is bar 1", "", () => desk.act("bar-1", { time_s: mark.time }));
    button("This is a downbeat", "D", () => desk.act("downbeat", { time_s: mark.time }));
    button("Remove the mark", "Del", () => removeMark(desk, selection));
    startFields(desk, selection, mark, row);
  },
  chosenBar(desk, bar, button, row) {
    const { act, state } = desk, breathing = state.picture.kind !== "steady";
    button("This is bar 1", "", () => act("bar-1", { time_s: bar.s }));
    if (breathing) button("Lock its line", "", () => act("lock", { quarters: bar.q, locked: true }));
    button("Loop it", "L", () => desk.loopThese());
    if (breathing) {
      button("Twice as fast from here", "", () => act("scale", { factor: 2, bar: bar.n }));
      button("Half as fast from here", "", () => act("scale", { factor: -2, bar: bar.n }));
    }
    row.append(meterFrom(bar, (meter) => act("meter", { meter, bar: bar.n })));
    return "Pull an attack onto a tooth, or press D on a downbeat.";
  },
};

/**
 * A field for the meter from a bar on.
 * @param {import("../views/comb_geometry.js").Bar} bar @param {(meter: string) => void} use
 */
function meterFrom(bar, use) {
  const label = document.createElement("label"), field = document.createElement("input");
  label.className = "from-here";
  field.className = "field w3";
  field.value = bar.meter;
  field.autocomplete = "off";
  field.spellcheck = false;
  field.setAttribute("aria-label", `meter from bar ${bar.n} on`);
  field.addEventListener("keydown", (event) => { if (event.key === "Enter") field.blur(); });
  field.addEventListener("change", () => { if (field.value.trim() && field.value.trim() !== bar.meter) use(field.value.trim()); });
  label.append("meter from here on ", field);
  return label;
}
