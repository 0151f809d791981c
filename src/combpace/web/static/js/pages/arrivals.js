// @ts-check
// Arrivals: loops that were just dropped. One of them sounds in session time with the takes; it is kept or
// dropped by a key while it plays.
import { named } from "../player/voices.js";

/** @param {any} desk */
export function makeArrivals(desk) {
  const { state } = desk;
  /** @type {string | null} the one that sounds */
  let here = null;
  /** @type {Set<string>} those that were there before: what is new is heard at once */
  let known = new Set();

  /** @returns {any[]} */
  const all = () => state.picture.arrivals ?? [];
  const now = () => all().find((one) => one.id === here) ?? null;
  /** Keys are about arrivals only while one can be heard. */
  const heard = () => (desk.player.going ? now() : null);

  function show() {
    for (const line of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-arrival]"))) {
      const is = line.dataset.arrival === here;
      line.classList.toggle("here", is);
      line.querySelector("[data-hear-arrival]")?.setAttribute("aria-pressed", String(is));
      if (is) line.scrollIntoView({ block: "nearest", inline: "nearest" });
    }
    for (const does of /** @type {NodeListOf<HTMLElement>} */ (
      document.querySelectorAll("[data-arrival-does]")
    ))
      does.hidden = does.dataset.arrivalDoes !== here;
  }

  /** @param {string} id */
  function hear(id) {
    here = id;
    show();
    desk.player.again();
    desk.words.say(`${now()?.name ?? "It"} sounds in session time: Enter keeps it, Delete drops it.`);
  }

  document.addEventListener("click", (event) => {
    const button =
      event.target instanceof Element
        ? /** @type {HTMLElement | null} */ (event.target.closest("[data-hear-arrival]"))
        : null;
    if (button) hear(button.dataset.hearArrival ?? "");
  });

  return {
    /** What of them is heard. */
    voices() {
      const one = now();
      return one && one.fit && one.sound ? [{ ...named(one.id, one.sounds), always: true }] : [];
    },
    /**
     * After the list was written anew: what came last is heard, and where the one that sounded is gone, the
     * next.
     */
    renew() {
      const list = all(),
        was = here,
        fresh = list.filter((one) => !known.has(one.id));
      if (fresh.length) here = fresh[fresh.length - 1].id;
      else if (!list.some((one) => one.id === here)) here = list[0]?.id ?? null;
      known = new Set(list.map((one) => one.id));
      show();
      if (here !== was) desk.player.again();
    },
    /** @param {number} by @returns {boolean} whether there was another to step to */
    step(by) {
      const list = all(),
        at = list.findIndex((one) => one.id === here);
      if (!heard() || list.length < 2) return false;
      hear(list[(at + by + list.length) % list.length].id);
      return true;
    },
    /** @returns {boolean} whether one was heard, so that it is kept */
    keep() {
      const one = heard();
      if (one) desk.act("arrival-keep", { take: one.id });
      return one !== null;
    },
    /** @returns {boolean} whether one was heard, so that it is dropped */
    drop() {
      const one = heard();
      if (one) desk.act("arrival-drop", { take: one.id });
      return one !== null;
    },
    /**
     * Names the sound of all of them, so that a change of it is heard.
     * @param {import("../store.js").Picture} picture
     */
    soundOf: (picture) =>
      (picture.arrivals ?? []).map((/** @type {any} */ one) => JSON.stringify([one.id, one.sounds])).join(),
  };
}
