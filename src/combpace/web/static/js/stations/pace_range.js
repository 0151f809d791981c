// @ts-check
// A range that is measured, and taps: both are held by the page until they are used.
import { get, send } from "../api/client.js";
import { steadyTable } from "../views/darkness.js";
import { clockWords, makeMap } from "../views/map.js";
import { drawSeam } from "../views/seam.js";

const LEAST_S = 0.2,
  LEAST_TAPS = 4,
  TAPS_END_S = 4;

/** @param {any} desk @param {ReturnType<typeof import("./pace_hear.js").makeHearing>} hearing */
export function makeRanging(desk, hearing) {
  const { state, words, session, player, store } = desk;
  /** What the server measured last. @type {any} */
  let range = null;
  /** The edge that keys move: 0 start, 1 end, null none. @type {number | null} */
  let edge = null;
  /** @type {number | null} where H went down */
  let held = null;
  /** @type {number[]} */
  let taps = [];
  /** @type {any} */
  let tapped = null;
  let asked = 0;
  /** @type {HTMLElement | null} */
  let box = null;

  const now = () => Number(player.playing ? player.position() : (desk.pointer?.time ?? player.position()));

  /**
   * Ask what a range comes to; the newest question counts.
   * @param {Record<string, any>} query
   * @param {boolean} [sounding]
   */
  async function measure(query, sounding = true) {
    const turn = ++asked;
    try {
      const found = await get(
        `/api/sessions/${session}/measure?` +
          `${new URLSearchParams(Object.entries(query).map(([key, value]) => [key, String(value)]))}`,
      );
      if (turn !== asked) return;
      range = found;
      edge ??= 1;
      store.sound({ loop: [found.from_s, found.to_s] });
      if (sounding && !player.playing) desk.play(found.from_s);
      draw();
    } catch (error) {
      words.trouble(error);
    }
  }

  /** @param {number} from @param {number} to */
  function mark(from, to) {
    const [a, b] = from < to ? [from, to] : [to, from];
    if (b - a < LEAST_S) {
      words.say("Hold H longer, or drag farther: a range is at least 0.2 s long.");
      return;
    }
    edge = 1;
    // Without a pulse nothing counts the bars: one, until the user says how many.
    measure({ from_s: a, to_s: b, ...(state.map ? {} : { bars: 1 }) });
  }

  /** @param {number} from @param {number} to @param {number | null} [bars] */
  function again(from, to, bars = range?.bars ?? null) {
    measure({ from_s: from, to_s: to, catch: false, ...(bars ? { bars } : {}) }, false);
  }

  const bar = () => (range.to_s - range.from_s) / range.bars;

  /** Put the active edge on the attack before or after it. @param {number} step */
  function hopAttack(step) {
    const { times } = desk.host.marks(state.picture.lead),
      at = edge ? range.to_s : range.from_s;
    const found =
      step > 0
        ? times.find((/** @type {number} */ time) => time > at + 0.0005)
        : [...times].reverse().find((/** @type {number} */ time) => time < at - 0.0005);
    if (found !== undefined) put(found);
  }

  /** @param {number} time */
  function put(time) {
    if (edge ? time > range.from_s + LEAST_S : time < range.to_s - LEAST_S)
      again(edge ? range.from_s : time, edge ? time : range.to_s);
  }

  /** @param {string} label @param {string} key @param {() => void} run @param {string} [kind] */
  function button(label, key, run, kind = "") {
    const made = document.createElement("button");
    made.type = "button";
    made.className = `button small${kind}`;
    made.textContent = `${label} `;
    if (key) {
      const cap = document.createElement("kbd");
      cap.textContent = key;
      made.append(cap);
    }
    made.addEventListener("click", run);
    return made;
  }

  function draw() {
    if (!box) return;
    box.hidden = !range && !taps.length;
    state.ranging = range !== null;
    desk.pictures.view()?.draw();
    if (taps.length) {
      drawTaps();
      return;
    }
    if (!range) {
      box.replaceChildren();
      return;
    }
    const text = document.createElement("p"),
      row = document.createElement("p"),
      canvas = document.createElement("canvas"),
      edges = document.createElement("p");
    text.className = "range-words";
    text.textContent = range.sentence;
    row.className = "buttons";
    edges.className = "hint";
    const at = clockWords(edge ? range.to_s : range.from_s);
    const moved = `${edge ? "end" : "start"} at ${at} is moved by ← → (1 ms, Shift one sample), Q E (attacks)`;
    edges.textContent =
      `The ${edge === null ? "range loops; no edge is chosen (J chooses one)" : moved}. ` +
      "Two inks: the start and the end; one line where the length is right.";
    const use = Math.round(range.proposal.bpm * 1e4) / 1e4,
      measured = Math.round(range.bpm * 1e4) / 1e4;
    // What is no whole number of bars is on no key: an edge is moved first, or the number of bars is said.
    if (!range.whole && range.next_s !== null)
      row.append(
        button("End to the next bar line", "", () =>
          measure({ from_s: range.from_s, to_s: range.next_s, catch: false }, false),
        ),
      );
    row.append(
      button(
        `Use ${use}, bar 1 here`,
        range.whole ? "Enter" : "",
        () => take(use, true),
        range.whole ? " primary" : "",
      ),
      button(`Use ${use}`, "", () => take(use, false)),
    );
    if (use !== measured) row.append(button(`Use ${measured}`, "", () => take(measured, false)));
    row.append(button("Bar longer", "", () => again(range.from_s, range.to_s + bar(), range.bars + 1)));
    if (range.bars > 1)
      row.append(button("Bar shorter", "", () => again(range.from_s, range.to_s - bar(), range.bars - 1)));
    row.append(
      button("A bar back", "", () => again(range.from_s - bar(), range.to_s - bar())),
      button("A bar on", "", () => again(range.from_s + bar(), range.to_s + bar())),
    );
    row.append(button("Other edge", "J", hop), barsField(), button("Let go", "Esc", drop));
    canvas.className = "seam";
    canvas.setAttribute(
      "aria-label",
      `The seam: ${range.seam.clean ? "clean" : "rough"}, ${Math.round(100 * range.seam.score)} % ` +
        `of ordinary moments are rougher`,
    );
    box.replaceChildren(text, canvas, row, edges);
    drawSeam(canvas, range.picture);
  }

  function barsField() {
    const label = document.createElement("label"),
      field = document.createElement("input");
    label.className = "from-here";
    field.className = "field w3";
    field.value = String(range.bars);
    field.inputMode = "numeric";
    field.setAttribute("aria-label", "how many bars the range holds");
    field.addEventListener("change", () => {
      const bars = Number(field.value);
      if (Number.isInteger(bars) && bars > 0 && bars <= 1000) again(range.from_s, range.to_s, bars);
      else field.value = String(range.bars);
    });
    label.append(field, " bars");
    return label;
  }

  function hop() {
    if (!range) return;
    edge = edge === 1 ? 0 : 1;
    draw();
  }

  /** @param {number} bpm @param {boolean} here */
  function take(bpm, here) {
    const args = here ? { bpm, bar_1_s: range.from_s } : { bpm };
    drop();
    desk.act("steady", args);
  }

  function drop() {
    range = null;
    edge = null;
    asked++;
    store.sound({ loop: null });
    draw();
  }

  // -- taps

  async function tap() {
    if (!player.playing) {
      words.say("Play first (Space), then tap B on every beat.");
      return;
    }
    const time = player.position();
    if (taps.length && (time < taps[taps.length - 1] || time - taps[taps.length - 1] > TAPS_END_S)) taps = [];
    taps.push(time);
    tapped = taps.length < LEAST_TAPS ? null : tapped;
    draw();
    if (taps.length < LEAST_TAPS) return;
    const turn = ++asked;
    try {
      const said = await send(`/api/sessions/${session}/taps`, { times_s: taps });
      if (turn !== asked) return;
      tapped = said;
      const meters = state.picture.map?.meters ?? [[0, 4, 4, 1]];
      hearing.show(makeMap(steadyTable(said.bpm * meters[0][3], said.bar_1_s, meters)));
      draw();
    } catch (error) {
      words.trouble(error);
    }
  }

  function drawTaps() {
    const text = document.createElement("p"),
      row = document.createElement("p");
    text.className = "range-words";
    row.className = "buttons";
    text.textContent = tapped
      ? tapped.sentence
      : `${taps.length} ${taps.length === 1 ? "tap" : "taps"}; ` +
        `${LEAST_TAPS - Math.min(LEAST_TAPS, taps.length)} more give a tempo.`;
    if (tapped) row.append(button(`Use ${tapped.bpm.toFixed(3)}`, "Enter", takeTaps, " primary"));
    row.append(button("Tap", "B", tap), button("Forget the taps", "Esc", dropTaps));
    box?.replaceChildren(text, row);
  }

  function takeTaps() {
    const times = taps;
    dropTaps();
    desk.act("tap", { times_s: times });
  }

  function dropTaps() {
    taps = [];
    tapped = null;
    asked++;
    draw();
    desk.pictures.fetchWeave();
  }

  return {
    mark,
    tap,
    hop,
    draw,
    whole: () => measure({ whole: true, ...(state.map ? {} : { bars: 1 }) }),
    bars: () => range,
    /** H goes down while it plays. @param {any} event */
    hold(event) {
      if (event.repeat || held !== null) return;
      held = now();
      words.say(`From ${clockWords(held)} …`);
    },
    letGo() {
      if (held === null) return;
      const from = held;
      held = null;
      mark(from, now());
    },
    /** Whether the edges have the arrow keys. */
    hasEdge: () => range !== null && edge !== null,
    /** @param {number} step @param {boolean} fine */
    arrow(step, fine) {
      if (range) put((edge ? range.to_s : range.from_s) + step * (fine ? range.frame_s : 0.001));
    },
    hopAttack,
    /** Enter: whether there was something to take. */
    enter() {
      if (tapped) {
        takeTaps();
        return true;
      }
      if (range?.whole) {
        take(Math.round(range.proposal.bpm * 1e4) / 1e4, true);
        return true;
      }
      if (range) words.say("This is no whole number of bars: move an edge, or say how many bars it is.");
      return range !== null;
    },
    /** Escape: taps, then the edge, then the range. */
    leave() {
      if (taps.length) {
        dropTaps();
        return true;
      }
      if (edge !== null && range) {
        edge = null;
        draw();
        return true;
      }
      if (range) {
        drop();
        return true;
      }
      return false;
    },
    /** @param {HTMLElement} holder */
    mount(holder) {
      box = holder;
      draw();
    },
    unmount() {
      box = null;
    },
  };
}
