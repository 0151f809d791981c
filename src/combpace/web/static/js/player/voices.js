// @ts-check
// What is heard, by the names that the server gives it. A name is that of these very samples: where what
// sounds is another by now, the server says so, and the page asks for the names anew.

/**
 * @typedef {[string, string]} Named  what the server calls a sound, at its own speed and drawn out
 * @typedef {{id: string, played: Named, fit: Named | null, always?: boolean, trial?: string}} Voice  fit: the
 *   fitted sound, or null; always: it is heard fitted, whatever the others are; trial: what is only tried,
 *   for the server
 * @typedef {{level: number, pan: number, mute: boolean, solo: boolean}} Strip  level in dB
 * @typedef {{ctx: number, pos: number, length: number}} Run  frames on the context's clock and on the scaled
 *   session's
 */

// The answer for a name that is no longer right.
export const OTHER = 409;
// Where the picture does not know another name either it is asked again after so long.
const QUIET_MS = 2000;

/**
 * A voice by the names of its sounds.
 * @param {string} id
 * @param {import("../wire.js").SoundNames} names
 * @returns {Voice}
 */
export function named(id, { played, slowed, fitted, fitted_slowed }) {
  return {
    id,
    played: [played ?? "", slowed ?? ""],
    fit: fitted === null ? null : [fitted, fitted_slowed ?? ""],
  };
}

/** Names that turned out wrong: they are asked for anew, once at a time. */
export class Names {
  /**
   * @param {() => string[]} now the names of what is to be heard
   * @param {() => Promise<void>} ask fetches them
   * @param {() => void} changed
   */
  constructor(now, ask, changed) {
    this.now = now;
    this.ask = ask;
    this.changed = changed;
    this.asking = false;
    this.quietUntil = 0;
  }

  /** @param {string} name one of `now`, that the server refused */
  async wrong(name) {
    if (this.asking || performance.now() < this.quietUntil) return;
    this.asking = true;
    try {
      await this.ask();
    } finally {
      this.asking = false;
    }
    if (this.now().includes(name)) this.quietUntil = performance.now() + QUIET_MS;
    else this.changed();
  }
}
