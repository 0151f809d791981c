// @ts-check
// The panel at the right: fields of the sentence, the places to look at, what is chosen.
import { clockWords, placeWords, readClock, signed } from "../views/map.js";

/**
 * Turn fields into actions: what a changed field does.
 * @param {HTMLInputElement | HTMLSelectElement} field
 * @returns {{name: string, args: Record<string, unknown>} | {wrong: string}}
 */
export function actionOf(field) {
  const { act = "", name = "", take } = field.dataset;
  const value = field.value.trim();
  if (act === "take" && field.dataset.fixedValue) return { name: "take", args: { take: value, field: name, value: field.dataset.fixedValue } };
  if (act === "take" || act === "rule") return { name: act, args: { take, field: name, value } };
  if (act === "threshold") return { name: act, args: { take, threshold: value } };
  if (act === "meter") return { name: act, args: { meter: value } };
  if (act === "read-again") return { name: act, args: { about_bpm: value } };
  if (act === "map") return { name: value === "steady" ? "steady" : "breathing", args: {} };
  if (act === "steady") return { name: act, args: { [name]: value, nudged: true } };
  if (act === "bar-1") {
    const time = readClock(value);
    return Number.isNaN(time) ? { wrong: `“${value}” is not a time; write it like 0:15.842 or 15.842.` } : { name: act, args: { time_s: time } };
  }
  return { wrong: "This field does nothing." };
}

/** A field's value one step up or down; null where it holds no number. @param {HTMLInputElement} field @param {number} steps @param {boolean} fine */
export function stepped(field, steps, fine) {
  const step = Number(fine ? field.dataset.fine : field.dataset.step) || 1;
  const places = Math.max(0, -Math.floor(Math.log10(step) + 1e-9), (field.value.split(/[.,]/)[1] ?? "").length);
  if (field.value.includes(":")) {
    const time = readClock(field.value);
    return Number.isNaN(time) ? null : clockWords(time + steps * step);
  }
  const value = Number(field.value.replace(",", "."));
  return Number.isFinite(value) && field.value.trim() !== "" ? (value + steps * step).toFixed(Math.min(4, places)) : null;
}

/**
 * Listeners on the side and the ledger, by delegation: they outlive every swap.
 * @param {(field: HTMLInputElement | HTMLSelectElement) => void} onField
 */
export function wireFields(onField) {
  let timer = 0;
  const later = (/** @type {HTMLInputElement} */ field) => { clearTimeout(timer); timer = window.setTimeout(() => onField(field), 220); };
  const isField = (/** @type {EventTarget | null} */ target) => target instanceof HTMLElement && target.matches(".field[data-act]");
  document.addEventListener("change", (event) => { if (isField(event.target)) { clearTimeout(timer); onField(/** @type {any} */ (event.target)); } });
  document.addEventListener("keydown", (event) => {
    if (!isField(event.target)) return;
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (event.key === "Enter" && field instanceof HTMLInputElement) { field.blur(); event.preventDefault(); }
    if (event.key === "Escape" && field instanceof HTMLInputElement) { field.value = field.defaultValue; field.blur(); }
    if ((event.key === "ArrowUp" || event.key === "ArrowDown") && field instanceof HTMLInputElement && field.dataset.step) {
      const next = stepped(field, event.key === "ArrowUp" ? 1 : -1, event.shiftKey);
      if (next !== null) { field.value = next; later(field); }
      event.preventDefault();
    }
  });
  // A number is dragged sideways, after a small way so that a click still puts the caret.
  document.addEventListener("pointerdown", (event) => {
    if (!isField(event.target) || !(event.target instanceof HTMLInputElement) || !event.target.dataset.step || event.target === document.activeElement) return;
    const field = event.target, x = event.clientX, begun = field.value;
    let moved = false;
    const move = (/** @type {PointerEvent} */ now) => {
      if (!moved && Math.abs(now.clientX - x) < 4) return;
      moved = true;
      field.value = begun;
      const next = stepped(field, Math.round((now.clientX - x) / 5), now.shiftKey);
      if (next !== null) field.value = next;
      now.preventDefault();
    };
    const up = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", up);
      if (moved && field.value !== begun) { field.blur(); onField(field); }
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", up);
  });
}

/** @typedef {{time: number | null, where: string, title: string, do: {name: string, args: any, label: string} | null, keep: {name: string, args: any, label: string} | null}} LookPlace */

/** The places of the list as the server wrote them. @returns {LookPlace[]} */
export function readPlaces() {
  return [.../** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("#look .place"))].map((button) => {
    const data = button.dataset;
    const action = (/** @type {string} */ kind) => (data[`${kind}Name`] ? { name: /** @type {string} */ (data[`${kind}Name`]), args: JSON.parse(data[`${kind}Args`] ?? "{}"), label: data[`${kind}Label`] ?? "" } : null);
    return { time: data.time ? Number(data.time) : null, where: button.querySelector("b")?.textContent ?? "", title: button.querySelector("span")?.firstChild?.textContent ?? "", do: action("do"), keep: action("keep") };
  });
}

/**
 * Buttons of the place that is looked at: their labels state the outcome.
 * @param {LookPlace | null} place @param {LookPlace[]} all @param {(name: string, args: any) => void} act
 */
export function drawLookButtons(place, all, act) {
  const box = document.getElementById("look-buttons");
  if (!box) return;
  /** @type {HTMLElement[]} */
  const made = [];
  const button = (/** @type {string} */ label, /** @type {string} */ key, /** @type {boolean} */ primary, /** @type {() => void} */ run) => {
    const one = document.createElement("button");
    one.type = "button";
    one.className = `button${primary ? " primary" : ""}`;
    one.textContent = `${label} `;
    if (key) { const cap = document.createElement("kbd"); cap.textContent = key; one.append(cap); }
    one.addEventListener("click", run);
    made.push(one);
  };
  if (place?.do) { const { label, name, args } = place.do; button(label, "Enter", true, () => act(name, args)); }
  if (place?.keep) { const { label, name, args } = place.keep; button(label, "", false, () => act(name, args)); }
  if (place?.do?.args.times_s) {
    const alike = all.filter((one) => one.do?.name === place.do?.name && one.title === place.title);
    if (alike.length > 1) button(`The same for the ${alike.length} like it`, "", false, () => act(/** @type {any} */ (place.do).name, { .../** @type {any} */ (place.do).args, times_s: alike.flatMap((one) => one.do?.args.times_s) }));
  }
  box.replaceChildren(...made);
}

/**
 * What is chosen, in words, and what can be done with it.
 * @param {import("./host.js").State} state
 * @param {{time: number, strength: number, sure: number} | null} mark the chosen onset in session time
 * @param {(name: string, args?: any) => void} act actions, or "hear", "loop", "let-go"
 */
export function drawChosen(state, mark, act) {
  const box = document.getElementById("chosen");
  if (!box) return;
  const { selection, map, picture, station } = state;
  if (!selection || !map) { box.replaceChildren(); return; }
  const head = document.createElement("h2"), words = document.createElement("p"), row = document.createElement("p");
  row.className = "buttons";
  const button = (/** @type {string} */ label, /** @type {string} */ key, /** @type {() => void} */ run) => {
    const one = document.createElement("button");
    one.type = "button";
    one.className = "button small";
    one.textContent = `${label} `;
    if (key) { const cap = document.createElement("kbd"); cap.textContent = key; one.append(cap); }
    one.addEventListener("click", run);
    row.append(one);
  };
  if (selection.kind === "onset" && mark) {
    const quarter = map.toQuarters(mark.time);
    head.textContent = `Attack ${placeWords(map, quarter)}`;
    words.textContent = `${clockWords(mark.time)}, strength ${mark.strength.toFixed(2)}, ${Math.round(mark.sure * 100)} % sure.`;
    if (selection.target !== undefined) words.textContent += ` Enter pulls it to ${placeWords(map, selection.target)} (${signed(1000 * (mark.time - map.toSeconds(selection.target)))} ms off now).`;
    if (station === "bars") {
      button("This is bar 1", "", () => act("bar-1", { time_s: mark.time }));
      button("This is a downbeat", "D", () => act("downbeat", { time_s: mark.time }));
    }
    if (station !== "fit") button("Remove the mark", "Del", () => act("onset-remove", { take: selection.take, times_s: [selection.t] }));
    if (station === "fit") button("Let it ride", "Del", () => act("ride", { take: selection.take, times_s: [selection.t] }));
    button("Hear it", "W", () => act("hear"));
  } else if (selection.kind === "anchor") {
    const anchor = picture.anchors.find((one) => one.q === selection.q);
    if (!anchor) { box.replaceChildren(); return; }
    head.textContent = `Anchor ${anchor.place}`;
    words.textContent = `Fixed at ${clockWords(anchor.t)}${anchor.locked ? ", locked" : ""}.`;
    if (!anchor.locked) button("Remove the anchor", "Del", () => act("release", { quarters: anchor.q }));
    button(anchor.locked ? "Unlock it" : "Lock it", "", () => act("lock", { quarters: anchor.q, locked: !anchor.locked }));
  } else {
    const bar = picture.bars.find((one) => one.i === selection.bar);
    if (!bar) { box.replaceChildren(); return; }
    head.textContent = `Bar ${bar.n}`;
    const drift = bar.drift === null ? "no attack near its line" : `first attack ${signed(bar.drift)} ms`;
    words.textContent = `${bar.meter}, starts ${clockWords(bar.s)}, ${bar.bpm.toFixed(2)} BPM, ${drift}, ${Math.round(bar.sure * 100)} % sure. ${station === "bars" ? "Pull an attack onto a tooth, or press D on a downbeat." : ""}`;
    if (station === "bars") {
      button("This is bar 1", "", () => act("bar-1", { time_s: bar.s }));
      if (picture.kind !== "steady") button("Lock its line", "", () => act("lock", { quarters: bar.q, locked: true }));
    }
    button("Loop it", "L", () => act("loop"));
    if (station === "bars" && picture.kind !== "steady") {
      button("Twice as fast from here", "", () => act("scale", { factor: 2, bar: bar.n }));
      button("Half as fast from here", "", () => act("scale", { factor: -2, bar: bar.n }));
      row.append(meterFrom(bar, (meter) => act("meter", { meter, bar: bar.n })));
    }
  }
  box.replaceChildren(head, words, row);
}

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
  field.addEventListener("change", () => { if (field.value.trim() && field.value.trim() !== bar.meter) use(field.value.trim()); });
  label.append("meter from here on ", field);
  return label;
}

/**
 * Long work: a line with its phase, a bar and a cancel.
 * @param {Map<string, any>} jobs @param {(id: string) => void} cancel @param {(id: string) => string} nameOf
 */
export function drawJobs(jobs, cancel, nameOf) {
  const box = document.getElementById("jobs");
  if (!box) return;
  box.replaceChildren(...[...jobs.values()].filter((job) => job.state !== "done").map((job) => {
    const line = document.createElement("div"), words = document.createElement("span");
    line.className = `job ${job.state}`;
    line.dataset.job = job.id;
    const what = { import: "Reading", render: "Fitting", handoff: "Handing off" }[/** @type {string} */ (job.kind)] ?? job.kind;
    const name = nameOf(job.subject);
    words.textContent = job.state === "failed" || job.state === "cancelled" ? `${what} ${name}: ${job.error ?? job.state}` : `${what} ${name}: ${job.phase}`;
    line.append(words);
    if (job.state === "queued" || job.state === "running") {
      const stop = document.createElement("button"), bar = document.createElement("progress");
      stop.type = "button";
      stop.className = "link";
      stop.textContent = "Cancel";
      stop.addEventListener("click", () => cancel(job.id));
      bar.max = 1;
      if (job.progress > 0) bar.value = job.progress;
      line.append(stop, bar);
    }
    return line;
  }));
}
