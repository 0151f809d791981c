// @ts-check
// What a drag would do, told by the server that does it: one question at a time, the newest wins. The lines
// that are drawn meanwhile are those of its last answer.
import { send } from "../api/client.js";
import { makeMap } from "../views/map.js";

// At most twenty questions a second.
const LEAST_MS = 50;

/**
 * @typedef {{note: string | null, sentence: string | null, map: import("../views/map.js").MapTable | null,
 *   refused: string | null, stale: boolean}} Foreseen  map: null where it stays
 */

/** @param {any} desk */
export function makeForesight(desk) {
  const { state, session, words } = desk;
  /** @type {{name: string, args: any} | null} */
  let wanted = null;
  let flying = false,
    last = -Infinity,
    resting = 0,
    drags = 0;
  /** @type {string} what was asked last, so that a hand at rest asks once */
  let asked = "";

  /**
   * What a decision would do; null where the session has moved on.
   * @param {string} name
   * @param {any} args
   * @returns {Promise<Foreseen | null>}
   */
  async function once(name, args) {
    const of = desk.barsOf(),
      own = of && name !== "in-take";
    const found = await send(`/api/sessions/${session}/foresee/${own ? "in-take" : name}`, {
      version: state.picture.version,
      args: own ? { take: of, name, args } : args,
    });
    return found.stale ? null : found;
  }

  /** Ask what the hand is about now. @param {string} name @param {any} args */
  function ask(name, args) {
    const key = `${name} ${JSON.stringify(args)}`;
    if (key === asked) return;
    asked = key;
    wanted = { name, args };
    fly();
  }

  async function fly() {
    if (flying || !wanted) return;
    const wait = last + LEAST_MS - performance.now();
    if (wait > 0) {
      resting ||= window.setTimeout(() => {
        resting = 0;
        fly();
      }, wait);
      return;
    }
    const { name, args } = wanted,
      drag = drags;
    wanted = null;
    flying = true;
    last = performance.now();
    try {
      const found = await once(name, args);
      if (found && drag === drags) show(found);
    } catch (error) {
      if (drag === drags) words.trouble(error);
    } finally {
      flying = false;
      fly();
    }
  }

  /** @param {Foreseen} found */
  function show(found) {
    if (!found.refused) state.foreseen = found.map ? makeMap(found.map) : null;
    words.say(found.refused ?? found.sentence ?? "");
    desk.frame();
  }

  return {
    ask,
    once,
    /** The hand let go, or the picture is new: what was foreseen is drawn no more. */
    end() {
      drags++;
      wanted = null;
      asked = "";
      state.foreseen = null;
    },
    /** Whether an answer is still to come. */
    busy: () => flying || wanted !== null,
  };
}
