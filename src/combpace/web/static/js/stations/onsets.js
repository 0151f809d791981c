// @ts-check
// Onsets: the strip and the sheet of all attacks.
import { drawStrengths } from "../views/charts.js";
import { againstGrid, clockWords, placeWords, signed } from "../views/map.js";
import { DOUBTFUL } from "../views/paint.js";
import { mountStrip } from "../views/strip.js";
import { gridTools, legend, msField, plain, removeMark, tickTool } from "./station.js";

/** @type {import("./station.js").StationView} */
export const onsets = {
  ...plain,
  id: "onsets",
  key: 4,
  needsMap: false,
  ticks: true,
  mount: (desk, box) => mountStrip(box, desk.host),
  tools: (desk) => [
    ...gridTools(desk),
    ticksTool(desk),
    ...belowTool(desk),
    legend(
      "<span>drag a mark, or a bar line by its name; <kbd>C</kbd> adds one, <kbd>Shift</kbd> drags a range</span>",
    ),
  ],
  marksOf: ({ state }) => state.focus,
  show(desk, time) {
    const { stripStart, stripSpan } = desk.state.view;
    if (time < stripStart + stripSpan * 0.1 || time > stripStart + stripSpan * 0.9)
      desk.store.view({ stripStart: time - stripSpan * 0.35 });
  },
  follow(desk) {
    const { stripStart, stripSpan } = desk.state.view,
      at = desk.state.playhead;
    if (at !== null && (at < stripStart || at > stripStart + stripSpan))
      desk.state.view.stripStart = at - stripSpan * 0.1;
  },
  zoom(desk, direction) {
    const { state, host } = desk,
      { stripStart, stripSpan } = state.view;
    const middle =
      state.selection?.kind === "onset"
        ? state.selection.t + (host.take(state.focus)?.offset_s ?? 0)
        : stripStart + stripSpan / 2;
    const span = stripSpan * (direction > 0 ? 0.6 : 1 / 0.6);
    desk.store.view({ stripSpan: span, stripStart: middle - span / 2 });
  },
  commands: [
    {
      id: "drop-mark",
      keys: ["KeyX"],
      shown: "X",
      words: "drop the mark at the playhead",
      run: (desk) => desk.dropMark(),
    },
  ],
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind === "stacked") return chosenNote(desk, selection, { head, text, button });
    if (selection.kind !== "marks" && selection.kind !== "range") return false;
    const { state, act, host } = desk,
      own = host.marks(state.focus),
      whole = selection.kind === "range",
      take = selection.take ?? state.focus;
    const times = whole
      ? own.take.filter(
          (/** @type {number} */ _, /** @type {number} */ k) =>
            own.times[k] >= selection.from && own.times[k] <= selection.to,
        )
      : selection.ts;
    head.textContent = whole
      ? `Range of ${(selection.to - selection.from).toFixed(3)} s, ${times.length} mark` +
        `${times.length === 1 ? "" : "s"}`
      : `${times.length} marks`;
    text.textContent = whole
      ? "What is done here is done to all marks in it."
      : "Shift and click adds one or takes it out; Shift and drag chooses a range.";
    if (times.length) {
      button("Remove them", "Del", () =>
        act("onset-remove", { take, times_s: times }, () => desk.store.select(null)),
      );
      button("They are right, lock them", "", () => act("onset-lock", { take, times_s: times }));
      row.append(
        msField("move marks by, ms", (ms) =>
          act("onset-shift", { take, times_s: times, ms }, () => desk.store.select(null)),
        ),
      );
    }
    if (whole) {
      button("Measure its tempo", "", () => desk.measureRange(selection.from, selection.to));
      button("Loop it", "", () => {
        desk.store.sound({ loop: [selection.from, selection.to] });
        desk.play(selection.from);
      });
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
    if (selection?.kind === "marks")
      desk.act("onset-remove", { take: selection.take, times_s: selection.ts }, () =>
        desk.store.select(null),
      );
    else removeMark(desk, selection);
  },
  chosenOnset(desk, selection, mark, button) {
    button("Remove the mark", "Del", () => removeMark(desk, selection));
    button("It is right, lock it", "", () =>
      desk.act("onset-lock", { take: selection.take, times_s: [selection.t] }),
    );
    const own = desk.host.marks(selection.take),
      doubtful = own.take.filter(
        (/** @type {number} */ _, /** @type {number} */ k) => own.sure[k] < DOUBTFUL,
      );
    if (doubtful.length > 1)
      button(`All ${doubtful.length} doubtful`, "", () =>
        desk.store.select({ kind: "marks", take: selection.take, ts: doubtful }),
      );
  },
  drawSmall(desk) {
    const { state } = desk;
    wire(desk);
    fillTable(desk);
    const canvas = /** @type {HTMLCanvasElement | null} */ (document.getElementById("strengths")),
      threshold = /** @type {HTMLInputElement | null} */ (document.querySelector('[data-act="threshold"]'));
    if (canvas && threshold)
      drawStrengths(canvas, state.picture.onsets[state.focus]?.s ?? [], Number(threshold.value) || 0);
  },
};

/** Whether each mark of the take ticks while it plays; it lights up in any case. @param {any} desk */
const ticksTool = (desk) =>
  tickTool(
    "marks tick",
    "A short tick at each mark while it plays, as loud as the click",
    desk.state.view.ticks,
    (ticks) => {
      desk.store.view({ ticks });
      desk.player.again();
    },
  );

/**
 * What stands under the strip; takes above each other where there are several.
 * @param {any} desk
 * @returns {Node[]}
 */
function belowTool(desk) {
  const { state } = desk;
  if (
    !state.map ||
    new Set(
      state.picture.takes.map((/** @type {import("../wire.js").TakeFacts} */ take) => take.bundle ?? take.id),
    ).size < 2
  )
    return [];
  const label = document.createElement("label"),
    select = document.createElement("select");
  select.className = "field";
  select.dataset.view = "below";
  select.setAttribute("aria-label", "What stands under the strip");
  for (const [value, text] of [
    ["sheet", "the sheet"],
    ["stack", "the stack"],
  ])
    select.add(new Option(text, value, false, state.view.below === value));
  label.append("below ", select);
  return [label];
}

/**
 * A place that several takes play: who is where, and one brought to the other.
 * @param {any} desk
 * @param {any} selection
 * @param {{head: HTMLElement, text: HTMLElement, button: import("./station.js").Button}} parts
 */
function chosenNote(desk, selection, { head, text, button }) {
  const stack = desk.host.stack(),
    note = stack?.notes.find((/** @type {any} */ one) => Math.abs(one.q - selection.q) < 1e-6);
  if (!stack || !note) return false;
  const there = stack.takes
      .map((/** @type {import("../wire.js").TakeFacts} */ take, /** @type {number} */ k) => ({
        ...take,
        own: note.of[k],
      }))
      .filter((/** @type {any} */ one) => one.own),
    [first] = there;
  const on = ["bars", "beats"].includes(desk.state.view.grid) ? "1/4" : desk.state.view.grid;
  head.textContent = `${placeWords(desk.state.map, note.q)}: ${note.spread_ms.toFixed(0)} ms apart`;
  text.textContent = there.map((/** @type {any} */ one) => `${one.name} ${signed(one.own[1])} ms`).join(", ");
  for (const one of there.slice(1)) {
    button(`Bring ${one.name} to ${first.name} here`, "", () =>
      desk.act("bring", { take: one.id, to: first.id, on, times_s: [one.own[0]] }),
    );
    button(`Bring all of ${one.name} to ${first.name}`, "", () =>
      desk.act("bring", { take: one.id, to: first.id, on }),
    );
  }
  return true;
}

/** Every mark with where it lies against the grid in sight. @param {any} desk */
function listed(desk) {
  const { state, host } = desk,
    own = host.marks(state.focus);
  return own.times.map((/** @type {number} */ time, /** @type {number} */ k) => {
    const off = state.map ? againstGrid(state.map, time, state.view.grid) : null;
    return {
      time,
      take: own.take[k],
      place: off ? placeWords(state.map, off.q) : "",
      off: off ? off.ms : 0,
      strength: own.strength[k],
      sure: own.sure[k],
    };
  });
}

let sorted = "time",
  down = false;

/** The table of all marks, where it is open. @param {any} desk */
function fillTable(desk) {
  const box = /** @type {HTMLDetailsElement | null} */ (document.getElementById("all-marks")),
    body = box?.querySelector("tbody");
  if (!box?.open || !body) return;
  const rows = listed(desk),
    key = (/** @type {any} */ row) =>
      sorted === "off" ? Math.abs(row.off) : sorted === "place" ? row.time : row[sorted];
  rows.sort((/** @type {any} */ a, /** @type {any} */ b) => (down ? -1 : 1) * (key(a) - key(b)));
  body.replaceChildren(
    ...rows.slice(0, 2000).map((/** @type {any} */ row) => {
      const line = document.createElement("tr");
      for (const text of [clockWords(row.time), row.place, signed(row.off), row.strength.toFixed(2)])
        line.insertCell().textContent = text;
      line.addEventListener("click", () => {
        desk.store.select({ kind: "onset", take: desk.state.focus, t: row.take });
        desk.station().show(desk, row.time, 0);
      });
      return line;
    }),
  );
}

/** Listeners that outlive every swap. @param {any} desk */
function wire(desk) {
  if (desk.marksWired) return;
  desk.marksWired = true;
  document.addEventListener(
    "toggle",
    (event) => {
      if (event.target instanceof HTMLElement && event.target.id === "all-marks") fillTable(desk);
    },
    true,
  );
  document.addEventListener("click", (event) => {
    const target = event.target instanceof Element ? event.target : null,
      sort = /** @type {HTMLElement | null} */ (target?.closest("[data-sort]") ?? null);
    if (sort) {
      down = sorted === sort.dataset.sort ? !down : sort.dataset.sort === "off";
      sorted = sort.dataset.sort ?? "time";
      fillTable(desk);
    }
    if (!target?.closest("[data-marks-csv]")) return;
    const text = [
      "time_s,place,off_ms,strength,confidence",
      ...listed(desk).map(
        (/** @type {any} */ row) =>
          `${row.time.toFixed(6)},${row.place},${row.off.toFixed(2)},${row.strength.toFixed(3)},` +
          `${row.sure.toFixed(3)}`,
      ),
    ].join("\n");
    navigator.clipboard
      ?.writeText(`${text}\n`)
      .then(() => desk.words.say("All marks are copied as CSV."))
      .catch(() => desk.words.say("The browser did not let it be copied."));
  });
}
