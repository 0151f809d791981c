// @ts-check
// The panel at the right: fields of the sentence, the places to look at, what is chosen.
import { send } from "../api/client.js";
import { againstGrid, clockWords, placeWords, readClock, signed } from "../views/map.js";

// So long a hand rests on a button before it is said what that would move.
const FORESEE_MS = 180;
// Fields whose value moves bar lines.
const MOVING = new Set(["steady", "bar-1", "meter"]);

/**
 * Turn fields into actions: what a changed field does.
 * @param {HTMLInputElement | HTMLSelectElement} field
 * @returns {{name: string, args: Record<string, unknown>} | {wrong: string}}
 */
export function actionOf(field) {
  const { act = "", name = "", take } = field.dataset;
  const value = field.value.trim();
  if (act === "take" && field.dataset.fixedValue)
    return { name: "take", args: { take: value, field: name, value: field.dataset.fixedValue } };
  if (act === "rule" && field.dataset.bars)
    return { name: act, args: { take, bars: field.dataset.bars, set: { [name]: value } } };
  if (act === "take" || act === "rule") return { name: act, args: { take, field: name, value } };
  if (act === "part") return { name: act, args: { part: take, field: name, value } };
  if (act === "own-bars") return { name: act, args: { take, what: name, value } };
  if (act === "onset-rule") return { name: act, args: { take, field: name, value } };
  if (act === "threshold") return { name: act, args: { take, threshold: value } };
  if (act === "first-bar") {
    const bar = Number(value);
    return Number.isInteger(bar) && bar !== 0
      ? { name: "audio-to-bar", args: { take, time_s: Number(field.dataset.time), bar } }
      : { wrong: `“${value}” is no bar; write a whole number, 1, 5 or 17.` };
  }
  if (act === "tempi")
    return {
      name: "take",
      args: {
        take,
        field: "tempi",
        value: name === "from" ? `${value} to ${field.dataset.other}` : `${field.dataset.other} to ${value}`,
      },
    };
  if (act === "arriving") return { name: act, args: { value } };
  if (act === "limit") return { name: act, args: { ms: value } };
  if (act === "meter") return { name: act, args: { meter: value } };
  if (act === "read-again") return { name: act, args: { about_bpm: value } };
  if (act === "map")
    return value === "given"
      ? { wrong: "The map is its own already." }
      : { name: value === "steady" ? "steady" : "breathing", args: {} };
  if (act === "steady") return { name: act, args: { [name]: value, nudged: true } };
  if (act === "bar-1") {
    const time = readClock(value);
    return Number.isNaN(time)
      ? { wrong: `“${value}” is not a time; write it like 0:15.842 or 15.842.` }
      : { name: act, args: { time_s: time } };
  }
  return { wrong: "This field does nothing." };
}

/**
 * A field's value one step up or down; null where it holds no number.
 * @param {HTMLInputElement} field
 * @param {number} steps
 * @param {boolean} fine
 */
export function stepped(field, steps, fine) {
  const step = Number(fine ? field.dataset.fine : field.dataset.step) || 1;
  const places = Math.max(
    0,
    -Math.floor(Math.log10(step) + 1e-9),
    (field.value.split(/[.,]/)[1] ?? "").length,
  );
  if (field.value.includes(":")) {
    const time = readClock(field.value);
    return Number.isNaN(time) ? null : clockWords(time + steps * step);
  }
  const value = Number(field.value.replace(",", "."));
  return Number.isFinite(value) && field.value.trim() !== ""
    ? (value + steps * step).toFixed(Math.min(4, places))
    : null;
}

/**
 * Listeners on the side and the ledger, by delegation: they outlive every swap.
 * @param {(field: HTMLInputElement | HTMLSelectElement) => void} onField
 */
export function wireFields(onField) {
  let timer = 0;
  const later = (/** @type {HTMLInputElement} */ field) => {
    clearTimeout(timer);
    timer = window.setTimeout(() => onField(field), 220);
  };
  const isField = (/** @type {EventTarget | null} */ target) =>
    target instanceof HTMLElement && target.matches(".field[data-act]");
  document.addEventListener("change", (event) => {
    if (isField(event.target)) {
      clearTimeout(timer);
      delete (/** @type {HTMLElement} */ (event.target).dataset.typed);
      onField(/** @type {any} */ (event.target));
    }
  });
  // What was typed before the words about it came anew is a change, too.
  document.addEventListener("focusout", ({ target }) => {
    if (!(target instanceof HTMLInputElement) || target.dataset.typed === undefined) return;
    delete target.dataset.typed;
    if (target.value !== target.defaultValue) target.dispatchEvent(new Event("change", { bubbles: true }));
  });
  document.addEventListener("keydown", (event) => {
    if (!isField(event.target)) return;
    const field = /** @type {HTMLInputElement} */ (event.target);
    if (event.key === "Enter" && field instanceof HTMLInputElement) {
      field.blur();
      event.preventDefault();
    }
    if (event.key === "Escape" && field instanceof HTMLInputElement) {
      field.value = field.defaultValue;
      field.blur();
    }
    if (
      (event.key === "ArrowUp" || event.key === "ArrowDown") &&
      field instanceof HTMLInputElement &&
      field.dataset.step
    ) {
      const next = stepped(field, event.key === "ArrowUp" ? 1 : -1, event.shiftKey);
      if (next !== null) {
        field.value = next;
        later(field);
      }
      event.preventDefault();
    }
  });
  // A number is dragged sideways, after a small way so that a click still puts the caret.
  document.addEventListener("pointerdown", (event) => {
    if (
      !isField(event.target) ||
      !(event.target instanceof HTMLInputElement) ||
      !event.target.dataset.step ||
      event.target === document.activeElement
    )
      return;
    const field = event.target,
      x = event.clientX,
      begun = field.value;
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
      if (moved && field.value !== begun) {
        field.blur();
        onField(field);
      }
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", up);
  });
}

/**
 * @typedef {{time: number | null, where: string, title: string, do: {name: string, args: any, label: string}
 *   | null, keep: {name: string, args: any, label: string} | null, choices: {name: string, args: any, label:
 *   string}[]}} LookPlace
 */

/** The places of the list as the server wrote them. @returns {LookPlace[]} */
export function readPlaces() {
  return [.../** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("#look .place"))].map(
    (button) => {
      const data = button.dataset;
      const action = (/** @type {string} */ kind) =>
        data[`${kind}Name`]
          ? {
              name: /** @type {string} */ (data[`${kind}Name`]),
              args: JSON.parse(data[`${kind}Args`] ?? "{}"),
              label: data[`${kind}Label`] ?? "",
            }
          : null;
      return {
        time: data.time ? Number(data.time) : null,
        where: button.querySelector("b")?.textContent ?? "",
        title: button.querySelector("span")?.firstChild?.textContent ?? "",
        do: action("do"),
        keep: action("keep"),
        choices: JSON.parse(data.choices || "[]"),
      };
    },
  );
}

/**
 * @param {HTMLElement} row
 * @param {string} label
 * @param {string} key
 * @param {string} kind classes
 * @param {() => void} run
 * @param {[string, any]} [foreseen] the decision, for what it would move
 */
function addButton(row, label, key, kind, run, foreseen) {
  const one = document.createElement("button");
  one.type = "button";
  one.className = `button${kind}`;
  one.textContent = `${label} `;
  if (key) {
    const cap = document.createElement("kbd");
    cap.textContent = key;
    one.append(cap);
  }
  if (foreseen) {
    one.dataset.foresee = foreseen[0];
    one.dataset.args = JSON.stringify(foreseen[1]);
  }
  one.addEventListener("click", run);
  row.append(one);
}

/**
 * Buttons of the place that is looked at: their labels state the outcome.
 * @param {LookPlace | null} place
 * @param {LookPlace[]} all
 * @param {(what: {name: string, args: any}) => void} take
 * @param {(name: string, args: any) => void} act
 */
export function drawLookButtons(place, all, take, act) {
  const box = document.getElementById("look-buttons");
  if (!box) return;
  box.replaceChildren();
  if (place?.do) {
    const what = place.do;
    addButton(box, what.label, "Enter", " primary", () => take(what));
  }
  if (place?.keep) {
    const { label, name, args } = place.keep;
    addButton(box, label, "Shift Enter", "", () => act(name, args));
  }
  for (const { label, name, args } of place?.choices ?? [])
    addButton(box, label, "", " small", () => act(name, args));
  const times = place?.do?.args.times_s;
  if (place?.do && times) {
    const { name, args } = place.do,
      alike = all.filter((one) => one.do?.name === name && one.title === place.title);
    if (alike.length > 1)
      addButton(box, `The same for the ${alike.length} like it`, "", "", () =>
        act(name, { ...args, times_s: alike.flatMap((one) => one.do?.args.times_s) }),
      );
  }
}

/** The panel at the right. @param {any} desk */
export function makeSide(desk) {
  const { state, host, words, session, jobs } = desk;

  /** What is chosen, in words, and what can be done with it here. */
  function showChosen() {
    const box = document.getElementById("chosen"),
      { selection, map, picture } = state;
    if (!box) return;
    const head = document.createElement("h2"),
      text = document.createElement("p"),
      row = document.createElement("p"),
      station = desk.station();
    row.className = "buttons";
    const button = (
      /** @type {string} */ label,
      /** @type {string} */ key,
      /** @type {() => void} */ run,
      /** @type {[string, any] | undefined} */ foreseen = undefined,
    ) => addButton(row, label, key, " small", run, foreseen);
    if (selection?.kind === "onset" && map) {
      const own = host.marks(selection.take),
        k = own.take.findIndex((/** @type {number} */ time) => Math.abs(time - selection.t) < 2e-5);
      if (k < 0) {
        state.selection = null;
        box.replaceChildren();
        return;
      }
      const mark = { time: own.times[k], strength: own.strength[k], sure: own.sure[k] };
      head.textContent = `Attack ${placeWords(map, map.toQuarters(mark.time))}`;
      const off = againstGrid(map, mark.time, state.view.grid);
      const lies =
        Math.abs(off.ms) < 0.05
          ? "on"
          : `${Math.abs(off.ms).toFixed(1)} ms ${off.ms < 0 ? "before" : "after"}`;
      text.textContent =
        `${clockWords(mark.time)}, ${lies} ${placeWords(map, off.q)} (` +
        `${Math.abs(100 * off.share).toFixed(0)} % of ${state.view.grid}), strength ` +
        `${mark.strength.toFixed(2)}, ${Math.round(mark.sure * 100)} % sure.`;
      if (selection.target !== undefined)
        text.textContent +=
          ` Enter pulls it to ${placeWords(map, selection.target)} (` +
          `${signed(1000 * (mark.time - map.toSeconds(selection.target)))} ms off now).`;
      station.chosenOnset(desk, selection, mark, button, row);
      button("Hear it", "W", () => desk.steps.hearChosen());
    } else if (selection && station.chosenMany(desk, selection, { head, text, button, row })) {
      // It has said what it is.
    } else if (selection?.kind === "range") {
      const { from, to } = selection,
        marks = host
          .marks(station.marksOf(desk))
          .times.filter((/** @type {number} */ time) => time >= from && time <= to).length;
      head.textContent = `Range of ${(to - from).toFixed(3)} s`;
      const attacks = `${marks} attack${marks === 1 ? "" : "s"}`;
      text.textContent = `From ${clockWords(from)} to ${clockWords(to)}, ${attacks}.`;
      button("Measure its tempo", "", () => desk.measureRange(from, to));
      button("Loop it", "", () => {
        desk.store.sound({ loop: [from, to] });
        desk.play(from);
      });
    } else if (selection?.kind === "anchor" && map) {
      const anchor = picture.anchors.find((/** @type {any} */ one) => one.q === selection.q);
      if (!anchor) {
        box.replaceChildren();
        return;
      }
      head.textContent = `Anchor ${anchor.place}`;
      text.textContent = anchor.locked
        ? `Fixed at ${clockWords(anchor.t)}, locked.`
        : "Drag its clip, or type where it lies:";
      if (!anchor.locked) text.append(" ", timeField(anchor));
      if (!anchor.locked)
        button("Remove the anchor", "Del", () => desk.act("release", { quarters: anchor.q }));
      button(anchor.locked ? "Unlock it" : "Lock it", "", () =>
        desk.act("lock", { quarters: anchor.q, locked: !anchor.locked }),
      );
    } else {
      const bar =
        selection && map ? picture.bars.find((/** @type {any} */ one) => one.i === selection.bar) : null;
      if (!bar) {
        box.replaceChildren();
        return;
      }
      head.textContent = `Bar ${bar.n}`;
      const drift = bar.drift === null ? "no attack near its line" : `first attack ${signed(bar.drift)} ms`;
      const more = station.chosenBar(desk, bar, button, row);
      text.textContent =
        `${bar.meter}, starts ${clockWords(bar.s)}, ${bar.bpm.toFixed(2)} BPM, ${drift}, ` +
        `${Math.round(bar.sure * 100)} % sure. ${more}`;
      if (!more) button("Loop it", "L", () => desk.loopThese());
    }
    const said = box.querySelector("h2")?.textContent;
    box.replaceChildren(head, text, row);
    // What was just chosen is seen, however long the sentence above it is.
    if (said !== head.textContent) box.scrollIntoView({ block: "nearest" });
  }

  /** The time of an anchor, to be typed. @param {{t: number, q: number, place: string}} anchor */
  function timeField(anchor) {
    const field = document.createElement("input");
    field.className = "field w6";
    field.value = clockWords(anchor.t);
    field.autocomplete = "off";
    field.setAttribute("aria-label", `time of ${anchor.place}`);
    field.addEventListener("keydown", (event) => {
      if (event.key === "Enter") field.blur();
    });
    field.addEventListener("change", () => {
      const time = readClock(field.value);
      if (Number.isNaN(time))
        words.note(`“${field.value}” is not a time; write it like 0:15.842 or 15.842.`, true);
      else desk.act("pull", { time_s: time, quarters: anchor.q, free: true });
    });
    return field;
  }

  /** What a decision would move, said before it is made. @param {HTMLElement} button */
  async function foresee(button) {
    const name = button.dataset.foresee ?? button.dataset.do ?? "";
    if (!name || name === "undo" || name === "redo" || name === "listen-again" || name === "see") return;
    try {
      const found = await desk.foresight.once(name, JSON.parse(button.dataset.args || "{}"));
      // Where the session has moved on meanwhile its new picture is on its way.
      if (found && button.matches(":hover, :focus")) words.say(found.refused ?? found.sentence ?? "");
    } catch (error) {
      words.trouble(error);
    }
  }

  /** What a field would move, while it is typed in. @param {HTMLInputElement} field */
  async function foreseeField(field) {
    const action = actionOf(field),
      typed = field.value;
    if ("wrong" in action || typed === field.defaultValue || !state.map) return;
    try {
      const found = await desk.foresight.once(action.name, action.args);
      if (found && field === document.activeElement && field.value === typed)
        words.say(found.refused ?? found.sentence ?? "");
    } catch (error) {
      words.trouble(error);
    }
  }

  function showJobs() {
    drawJobs(
      jobs,
      (id) => send(`/api/jobs/${id}/cancel`, {}).catch(words.trouble),
      (id) => host.take(id)?.name ?? state.picture.name,
    );
    for (const job of jobs.values()) {
      const cell = document.querySelector(`[data-take-state="${job.subject}"]`);
      if (cell && job.kind === "import" && (job.state === "running" || job.state === "queued"))
        cell.textContent = `${job.phase} ${job.progress > 0 ? `${Math.round(job.progress * 100)} %` : ""}`;
    }
  }

  /** @param {string} take */
  const listenAgain = (take) =>
    send(`/api/sessions/${session}/takes/${take}/listen-again`, {})
      .then(() => desk.deciding.refresh())
      .catch(words.trouble);

  /** @param {Element} target */
  async function pressed(target) {
    const place = /** @type {HTMLElement | null} */ (target.closest(".place"));
    if (place) {
      desk.steps.lookAt(Number(place.dataset.place));
      return;
    }
    const button = /** @type {HTMLElement | null} */ (target.closest("[data-do]"));
    if (button) {
      const name = button.dataset.do ?? "",
        args = JSON.parse(button.dataset.args || "{}");
      if (name === "listen-again") {
        listenAgain(args.take);
        return;
      }
      if (name === "see") {
        desk.see(args);
        return;
      }
      let made = false;
      await desk.act(name, args, () => {
        made = true;
        desk.station().acted(desk, name);
      });
      if (made && button.dataset.then) desk.goTo(button.dataset.then, true, button.dataset.thenTake ?? null);
      return;
    }
    const render = /** @type {HTMLElement | null} */ (target.closest("[data-render]"));
    if (render) {
      try {
        const ordered = await send(`/api/sessions/${session}/render`, {
          take: render.dataset.render,
          version: state.picture.version,
        });
        await desk.deciding.refresh(
          ordered.note ? `The render has begun. ${ordered.note}` : "The render has begun; go on meanwhile.",
        );
      } catch (error) {
        words.trouble(error);
      }
    }
    if (target.closest("#preview-bars")) desk.previewBars();
  }

  /** Listeners by delegation: they outlive every swap. */
  function wire() {
    document.addEventListener("click", (event) => {
      if (event.target instanceof Element) pressed(event.target);
    });
    wireFields((field) => {
      field.classList.remove("wrong");
      if (field instanceof HTMLInputElement && field.value === field.defaultValue) return;
      const action = actionOf(field);
      if ("wrong" in action) {
        field.classList.add("wrong");
        words.note(action.wrong, true);
        return;
      }
      desk.act(action.name, action.args);
    });
    document.addEventListener("change", (event) => {
      const select = event.target instanceof HTMLSelectElement ? event.target : null;
      if (select?.matches("[data-focus-choice]")) desk.goTo(state.station, true, select.value);
      if (select?.dataset.view) desk.store.view({ [select.dataset.view]: select.value });
    });
    let resting = 0;
    /** @param {Event} event */
    const rest = (event) => {
      const button =
        event.target instanceof Element
          ? /** @type {HTMLElement | null} */ (event.target.closest("[data-foresee], [data-do]"))
          : null;
      clearTimeout(resting);
      if (button && state.map) resting = window.setTimeout(() => foresee(button), FORESEE_MS);
    };
    let typing = 0;
    // What is typed into the map's sentence says what it would move before Enter does it.
    document.addEventListener("input", ({ target }) => {
      if (!(target instanceof HTMLInputElement) || !MOVING.has(target.dataset.act ?? "")) return;
      clearTimeout(typing);
      typing = window.setTimeout(() => foreseeField(target), FORESEE_MS);
    });
    document.addEventListener("pointerover", rest);
    // What is done is no longer asked about.
    document.addEventListener("pointerdown", () => clearTimeout(resting));
    document.addEventListener("focusin", rest);
  }

  return { showChosen, showJobs, listenAgain, wire };
}

/**
 * What a job does is what was decided when it was ordered; a reading does not depend on decisions.
 * @param {{kind: string, ordered?: number}} job
 */
export function asOf({ kind, ordered }) {
  if (!ordered || kind === "import" || kind === "archive") return "";
  const time = new Date(ordered * 1000).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  return ` as of ${time}; later changes are not in it`;
}

/**
 * Long work: a line with its phase, a bar and a cancel.
 * @param {Map<string, any>} jobs
 * @param {(id: string) => void} cancel
 * @param {(id: string) => string} nameOf
 */
export function drawJobs(jobs, cancel, nameOf) {
  const box = document.getElementById("jobs");
  if (!box) return;
  box.replaceChildren(
    ...[...jobs.values()]
      .filter((job) => job.state !== "done")
      .map((job) => {
        const line = document.createElement("div"),
          words = document.createElement("span");
        line.className = `job ${job.state}`;
        line.dataset.job = job.id;
        const what =
          {
            import: "Reading",
            render: "Fitting",
            handoff: "Handing off",
            pieces: "Keeping",
            archive: "Opening",
          }[/** @type {string} */ (job.kind)] ?? job.kind;
        const name = nameOf(job.subject);
        words.textContent =
          job.state === "failed" || job.state === "cancelled"
            ? `${what} ${name}: ${job.error ?? job.state}`
            : `${what} ${name}${asOf(job)}: ${job.phase}`;
        line.append(words);
        if (job.state === "queued" || job.state === "running") {
          const stop = document.createElement("button"),
            bar = document.createElement("progress");
          stop.type = "button";
          stop.className = "link";
          stop.textContent = "Cancel";
          stop.addEventListener("click", () => cancel(job.id));
          bar.max = 1;
          if (job.progress > 0) bar.value = job.progress;
          line.append(stop, bar);
        }
        return line;
      }),
  );
}
