// @ts-check
// What the page says: what a decision changed stays until the next one; what goes on meanwhile has a line of
// its own.
import { Refusal } from "../api/client.js";

const $ = (/** @type {string} */ id) => document.getElementById(id);

export function makeWords() {
  /**
   * What a decision did, or why it was refused: it stays until it is read, that is until the next.
   * @param {string} text
   * @param {boolean} [problem]
   */
  function note(text, problem = false) {
    const words = $("last-words");
    if (words) words.textContent = text;
    $("last")?.classList.toggle("problem", problem);
    aloud(text);
  }

  /**
   * What goes on just now.
   * @param {string} text
   * @param {boolean} [problem] a problem is as lasting as a decision
   */
  function say(text, problem = false) {
    if (problem) {
      note(text, true);
      return;
    }
    const now = $("now");
    if (now) now.textContent = text;
    aloud(text);
  }

  /** @param {string} text */
  function aloud(text) {
    const words = $("picture-words");
    if (words) words.textContent = text;
  }

  /** @param {unknown} error */
  const trouble = (error) =>
    note(error instanceof Refusal ? error.message : `This did not work out: ${error}`, true);

  /** Whether everything is kept. @param {string} text @param {boolean} [problem] */
  function saved(text, problem = false) {
    const kept = $("kept");
    if (!kept) return;
    kept.textContent = text;
    kept.classList.toggle("problem", problem);
  }

  return { note, say, trouble, saved, savedNow: () => $("kept")?.textContent ?? "" };
}
