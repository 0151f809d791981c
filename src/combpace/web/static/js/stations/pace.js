// @ts-check
// Pace: the weave and the drift under it; a range with its seam while one is held.
import { mountWeave } from "../views/weave.js";
import { makeHearing } from "./pace_hear.js";
import { makeRanging } from "./pace_range.js";
import { leadInTool, legend, plain, startFields } from "./station.js";

/**
 * @type {WeakMap<any, {hearing: ReturnType<typeof makeHearing>, ranging: ReturnType<typeof makeRanging>}>}
 */
const made = new WeakMap();

/** What the page holds of Pace, made once. @param {any} desk */
function own(desk) {
  let found = made.get(desk);
  if (!found) {
    const hearing = makeHearing(desk);
    found = { hearing, ranging: makeRanging(desk, hearing) };
    made.set(desk, found);
    wire(desk, found);
  }
  return found;
}

/** Listeners that outlive every swap. @param {any} desk @param {NonNullable<ReturnType<typeof own>>} parts */
function wire(desk, { hearing, ranging }) {
  addEventListener("keyup", (event) => {
    if (event.code === "KeyH") ranging.letGo();
  });
  addEventListener("blur", () => ranging.letGo());
  document.addEventListener("submit", (event) => {
    if (!(event.target instanceof HTMLFormElement) || event.target.id !== "read-from") return;
    event.preventDefault();
    readFrom(desk, new FormData(event.target));
  });
  document.addEventListener("click", (event) => {
    const target = event.target instanceof Element ? event.target : null;
    if (!target) return;
    hearing.pressed(target);
    const copy = /** @type {HTMLElement | null} */ (target.closest("[data-copy]"));
    if (copy)
      navigator.clipboard
        ?.writeText(copy.dataset.copy ?? "")
        .then(() => desk.words.say(`${copy.dataset.copy} ms copied.`))
        .catch(() => {});
  });
}

/** One tempo from chosen takes and bars. @param {any} desk @param {FormData} form */
function readFrom(desk, form) {
  const take = String(form.get("take")),
    args = /** @type {Record<string, any>} */ ({
      takes: take === "all" ? desk.state.picture.takes.map((/** @type {any} */ one) => one.id) : [take],
    });
  for (const [name, key] of [
    ["from", "from_bar"],
    ["to", "to_bar"],
  ]) {
    const text = String(form.get(name) ?? "").trim();
    if (!text) continue;
    if (!/^-?\d+$/.test(text) || Number(text) === 0) {
      desk.words.note(`“${text}” is no bar; write a whole number like 9, or leave it empty.`, true);
      return;
    }
    args[key] = Number(text);
  }
  desk.act("read-from", args);
}

/**
 * The place of a range or of taps under the picture.
 * @param {any} desk
 * @param {HTMLElement} box
 * @returns {() => void} takes it away
 */
function mountRange(desk, box) {
  const holder = document.createElement("div"),
    { ranging } = own(desk);
  holder.id = "range-box";
  holder.className = "range-box";
  holder.hidden = true;
  box.after(holder);
  ranging.mount(holder);
  return () => {
    ranging.unmount();
    holder.remove();
  };
}

/** Dragging over the weave marks a range. @param {any} desk @param {any} view @param {HTMLElement} box */
function wireDrag(desk, view, box) {
  /** @type {{x: number, y: number, time: number} | null} */
  let begun = null;
  box.addEventListener("pointerdown", (event) => {
    const time = view.timeAt(event);
    begun = time === null ? null : { x: event.clientX, y: event.clientY, time };
  });
  box.addEventListener("pointerup", (event) => {
    const from = begun,
      to = view.timeAt(event);
    begun = null;
    if (from && to !== null && Math.hypot(event.clientX - from.x, event.clientY - from.y) > 8)
      own(desk).ranging.mark(from.time, to);
  });
}

/** @type {import("./station.js").StationView} */
export const pace = {
  ...plain,
  id: "pace",
  key: 2,
  commands: [
    {
      id: "downbeat",
      keys: ["KeyD"],
      shown: "D",
      words: "this is a downbeat",
      run: (desk) => desk.steps.downbeat(),
    },
    {
      id: "measure",
      keys: ["KeyH"],
      shown: "H",
      words: "hold while it plays, or drag on the weave: measure that range",
      run: (desk, event) => own(desk).ranging.hold(event),
    },
    {
      id: "whole",
      keys: [],
      shown: "",
      words: "the whole file is so many bars",
      run: (desk) => own(desk).ranging.whole(),
    },
    {
      id: "tap",
      keys: ["KeyB"],
      shown: "B",
      words: "tap along while it plays",
      run: (desk) => own(desk).ranging.tap(),
    },
    {
      id: "edge",
      keys: ["KeyJ"],
      shown: "J",
      words: "the other edge of the range",
      run: (desk) => own(desk).ranging.hop(),
    },
    {
      id: "hear",
      keys: ["KeyW"],
      shown: "W",
      words: "hear the chosen tempo, the next place every time",
      run: (desk) => own(desk).hearing.hearNext(),
    },
    {
      id: "onset-back",
      keys: ["KeyQ"],
      shown: "Q",
      words: "previous onset; of a range, for its edge",
      run: (desk) =>
        own(desk).ranging.hasEdge() ? own(desk).ranging.hopAttack(-1) : desk.steps.stepOnset(-1),
    },
    {
      id: "onset-on",
      keys: ["KeyE"],
      shown: "E",
      words: "next onset; of a range, for its edge",
      run: (desk) => (own(desk).ranging.hasEdge() ? own(desk).ranging.hopAttack(1) : desk.steps.stepOnset(1)),
    },
    {
      id: "slower",
      keys: ["ArrowLeft"],
      shown: "←",
      words: "tempo down by 0.1, Shift 0.01; of a range, its edge by 1 ms, Shift one sample",
      run: (desk, event) => step(desk, -1, event.shiftKey),
    },
    {
      id: "faster",
      keys: ["ArrowRight"],
      shown: "→",
      words: "tempo up by 0.1, Shift 0.01; of a range, its edge",
      run: (desk, event) => step(desk, 1, event.shiftKey),
    },
    {
      id: "bpm-up",
      keys: ["PageUp"],
      shown: "Page Up",
      words: "tempo up by 1",
      run: (desk) => own(desk).hearing.nudge(1),
    },
    {
      id: "bpm-down",
      keys: ["PageDown"],
      shown: "Page Down",
      words: "tempo down by 1",
      run: (desk) => own(desk).hearing.nudge(-1),
    },
    {
      id: "take",
      keys: ["Enter"],
      shown: "Enter",
      words: "take the taps, the range, or the proposal",
      run: (desk) => {
        if (!own(desk).ranging.enter()) desk.steps.enter();
      },
    },
    {
      id: "leave",
      keys: ["Escape"],
      shown: "Esc",
      words: "forget the taps, let go of the edge, of the range",
      run: (desk) => {
        if (!own(desk).ranging.leave()) desk.leave();
      },
    },
  ],
  mount(desk, box) {
    const { hearing } = own(desk),
      view = mountWeave(box, desk.host),
      away = mountRange(desk, box);
    wireDrag(desk, view, box);
    desk.pictures.fetchWeave();
    hearing.fetchAll();
    return {
      ...view,
      destroy() {
        away();
        view.destroy();
      },
    };
  },
  // Taps and ranges need no pulse.
  mapless(desk, box) {
    const away = mountRange(desk, box);
    return { draw() {}, cancel: () => false, show() {}, inSight: () => [0, 0], destroy: away };
  },
  tools(desk) {
    const buttons = [
      ["Tap", "B", "tap"],
      ["Measure", "H", "measure-here"],
      ["The whole file is …", "", "whole"],
    ].map(([label, key, id]) => {
      const button = document.createElement("button");
      button.type = "button";
      button.className = "quiet";
      button.textContent = `${label} `;
      if (key) {
        const cap = document.createElement("kbd");
        cap.textContent = key;
        button.append(cap);
      }
      if (id === "measure-here")
        button.addEventListener("click", () =>
          desk.words.say("Hold H while it plays, or drag over the weave: that range is measured and loops."),
        );
      else button.dataset.command = id;
      return button;
    });
    return [
      ...buttons,
      ...leadInTool(desk),
      legend("<span>a slanting thread is a wrong tempo, a wavy one a breathing performance</span>"),
    ];
  },
  chosenOnset(desk, selection, mark, button, row) {
    const at = { time_s: mark.time };
    button("This is the pickup", "", () => desk.act("pickup", at), ["pickup", at]);
    startFields(desk, selection, mark, row);
  },
  drawSmall: (desk) => own(desk).hearing.drawReadings(),
  measure: (desk, from, to) => own(desk).ranging.mark(from, to),
  // What was stretched is heard stretched: click and take agree at once.
  acted(desk, name) {
    if (name === "stretch-to") desk.store.sound({ fitted: true });
  },
  refreshed(desk) {
    own(desk).hearing.fetchAll();
    return desk.pictures.fetchWeave();
  },
};

/** @param {any} desk @param {number} by @param {boolean} fine */
function step(desk, by, fine) {
  const { ranging, hearing } = own(desk);
  if (ranging.hasEdge()) ranging.arrow(by, fine);
  else hearing.nudge(by * (fine ? 0.01 : 0.1));
}
