// @ts-check
// Hand-off: a ledger, no picture. Its sentence says at once what would be written.
import { htmlOf, send } from "../api/client.js";
import { plain } from "./station.js";

// So long a field rests before what it changes is asked for.
const REST_MS = 120;

/** The sentence as it stands. @param {HTMLFormElement} form */
export function wishOf(form) {
  const data = new FormData(form),
    start = data.get("start");
  /** @param {string} name */
  const number = (name) => Number(String(data.get(name)).trim().replace("\u2212", "-").replace(",", "."));
  return {
    takes: data.getAll("take"),
    kind: data.get("kind"),
    extras: data.getAll("extra"),
    levels: data.get("levels"),
    written: data.get("written"),
    start: start === "lead-in" ? "lead-in" : `bar ${String(data.get("bar")).trim()}`,
    bars: start !== "lead-in" && data.get("until") ? number("bars") : null,
    rate: data.get("rate") ? Number(data.get("rate")) : null,
    silence: data.get("pauses") ? `${data.get("below")},${data.get("least")}` : null,
    markers: data.get("markers") === "yes",
  };
}

/** Listeners that outlive every swap. @param {any} desk */
function wire(desk) {
  let timer = 0,
    asked = 0;
  /** @param {HTMLFormElement} form */
  const plan = async (form) => {
    const mine = ++asked;
    let text = "";
    try {
      text = await htmlOf(`/sessions/${desk.session}/hand-off/plan`, wishOf(form));
    } catch (error) {
      text = problem(error);
    }
    const box = document.getElementById("handoff-plan");
    if (!box || mine !== asked) return;
    box.innerHTML = text;
    const button = /** @type {HTMLButtonElement | null} */ (form.querySelector("button[type=submit]"));
    if (button) button.disabled = box.querySelector(".problem") !== null;
    box.dataset.asked = String(mine);
  };
  /** @param {Event} event */
  const changed = (event) => {
    const form = event.target instanceof Element ? event.target.closest("form") : null;
    if (form?.id !== "handoff") return;
    clearTimeout(timer);
    timer = window.setTimeout(() => plan(form), REST_MS);
  };
  document.addEventListener("input", changed);
  document.addEventListener("change", changed);
  document.addEventListener("click", async (event) => {
    const button = event.target instanceof Element ? event.target.closest("[data-remove-order]") : null;
    if (!(button instanceof HTMLElement)) return;
    try {
      const order = button.dataset.removeOrder;
      const { files } = await send(`/api/files/hand-offs/${desk.session}/${order}`, {}, "DELETE");
      await desk.deciding.refresh(
        `${files} files of that hand-off are gone. Hand off again to make them anew.`,
      );
    } catch (error) {
      desk.words.trouble(error);
    }
  });
  document.addEventListener("submit", async (event) => {
    const form = event.target;
    if (!(form instanceof HTMLFormElement) || form.id !== "handoff") return;
    event.preventDefault();
    try {
      await send(`/api/sessions/${desk.session}/hand-off`, wishOf(form));
      desk.words.note("The files are being written; go on meanwhile.");
    } catch (error) {
      desk.words.trouble(error);
    }
  });
}

/** @param {unknown} error */
function problem(error) {
  const line = document.createElement("p");
  line.className = "problem";
  line.textContent = error instanceof Error ? error.message : String(error);
  return line.outerHTML;
}

/** @type {import("./station.js").StationView} */
export const handOff = { ...plain, id: "hand-off", key: 7, picture: false, wire };
