// @ts-check
// From station to station: words are swapped, sound and view go on.
import { html } from "../api/client.js";
import { makeMap } from "../views/map.js";
import { wireDrops } from "./uploads.js";

const side = () => /** @type {HTMLElement} */ (document.querySelector('[data-region="side"]'));

/** @typedef {{value: string | null, from: number | null, to: number | null}} Typed */

/** What is typed in a field and not taken yet, and what is chosen in it. @param {HTMLInputElement} field */
function typedIn(field) {
  return {
    value: field.value === field.defaultValue ? null : field.value,
    from: field.selectionStart,
    to: field.selectionEnd,
  };
}

/** @param {HTMLInputElement} field @param {Typed} typed */
function typeAgain(field, { value, from, to }) {
  const whole = from === 0 && value === null;
  if (value !== null) {
    field.value = value;
    // What a script sets is no change to the browser: see wireFields.
    field.dataset.typed = "";
  }
  field.setSelectionRange(from, whole ? field.value.length : to);
}

/** @param {any} desk */
export function makeMoving(desk) {
  const { state, store, session, words } = desk;

  /**
   * Put the regions of a server-rendered partial in place. What is typed in keeps the focus, what was typed
   * and where the caret stands: words that come while somebody types take nothing away.
   * @param {string} text
   */
  function swap(text) {
    const page = document.createElement("template");
    page.innerHTML = text;
    const active = document.activeElement instanceof HTMLElement ? document.activeElement : null;
    const key = active?.dataset.act
      ? `[data-act="${active.dataset.act}"][data-name="${active.dataset.name}"]` +
        `${active.dataset.take ? `[data-take="${active.dataset.take}"]` : ""}`
      : active?.id
        ? `#${active.id}`
        : null;
    const typed = active instanceof HTMLInputElement && active.type === "text" ? typedIn(active) : null;
    const scroll = side().scrollTop,
      before = side().dataset.stationNow,
      saved = words.savedNow();
    for (const fresh of /** @type {NodeListOf<HTMLElement>} */ (
      page.content.querySelectorAll("[data-region]")
    )) {
      const old = /** @type {HTMLElement | null} */ (
        document.querySelector(`[data-region="${fresh.dataset.region}"]`)
      );
      if (!old) continue;
      old.innerHTML = fresh.innerHTML;
      old.hidden = fresh.hidden;
      for (const [name, value] of Object.entries(fresh.dataset)) old.dataset[name] = value;
    }
    words.saved(saved);
    state.station = side().dataset.stationNow ?? state.station;
    state.focus = side().dataset.focus ?? "";
    // Another station begins at its top, with what is to be done next in sight.
    side().scrollTop = side().dataset.stationNow === before ? scroll : 0;
    swapped();
    const again = key ? /** @type {HTMLElement | null} */ (document.querySelector(key)) : null;
    again?.focus();
    if (again instanceof HTMLInputElement && typed) typeAgain(again, typed);
  }

  /** After words were written anew. */
  function swapped() {
    desk.steps.renew();
    desk.arrivals.renew();
    wireDrops(document.querySelector('[data-region="ledger"]') ?? document, desk.receive);
    for (const select of /** @type {NodeListOf<HTMLSelectElement>} */ (
      document.querySelectorAll("select[data-view]")
    ))
      select.value = String(state.view[select.dataset.view ?? ""]);
    desk.side.showChosen();
    desk.side.showJobs();
    desk.pictures.drawSmall();
  }

  /** Which move is the latest, and until it is shown. */
  let turn = 0,
    moved = Promise.resolve();

  /**
   * @param {string} station
   * @param {boolean} [push]
   * @param {string | null} [take] the one to be about; null: the one that was chosen before
   */
  function goTo(station, push = true, take = null) {
    moved = move(station, push, take);
    return moved;
  }

  /** @param {string} station @param {boolean} push @param {string | null} take */
  async function move(station, push, take) {
    if (take) state.take = take;
    const chosen = state.take,
      mine = ++turn;
    try {
      let was, text, picture;
      // What was decided meanwhile is shown already: older words must not come after it.
      do {
        was = state.picture.version;
        const of = desk.barsOf(station);
        text = await html(
          `/sessions/${session}/${station}?${chosen ? `take=${chosen}&` : ""}${of ? `of=${of}&` : ""}part=1`,
        );
        const page = document.createElement("template");
        page.innerHTML = text;
        const focus =
          /** @type {HTMLElement} */ (page.content.querySelector('[data-region="side"]')).dataset.focus ?? "";
        picture = await desk.ranges.picture(focus, of, station);
        if (mine !== turn) return;
      } while (state.picture.version !== was);
      state.station = station;
      store.picture({ picture, map: picture.map ? makeMap(picture.map) : null });
      desk.host.forget();
      desk.steps.leave();
      if (push)
        history.pushState(
          { station, take: chosen },
          "",
          `/sessions/${session}/${station}${chosen ? `?take=${chosen}` : ""}`,
        );
      swap(text);
      desk.pictures.mount();
      desk.bar.takesChanged();
      if (state.sound.fitted) desk.player.again();
      desk.frame();
    } catch (error) {
      words.trouble(error);
    }
  }

  return { swap, swapped, goTo, settled: () => moved };
}
