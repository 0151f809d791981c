// @ts-check
import { Refusal, binary, send, sendBytes, get } from "../api/client.js";
import { drawSmallWeave } from "../views/weave.js";
import { sendAll, wireDrops, wirePageDrop } from "./uploads.js";

// So often it is asked whether what was removed is freed.
const CLEANING_MS = 300;

/** Make the shelf of the page that the server rendered. */
export function startShelf() {
  const said = /** @type {HTMLElement} */ (document.querySelector("[data-said]"));

  /** @param {string} text @param {(() => void)} [undo] @param {boolean} [problem] */
  function say(text, undo, problem = false) {
    said.textContent = `${text} `;
    said.classList.toggle("problem", problem);
    if (!undo) return;
    const button = document.createElement("button");
    button.type = "button";
    button.className = "link";
    button.textContent = "Undo";
    button.addEventListener("click", undo);
    said.append(button);
  }

  /** @param {unknown} error */
  const trouble = (error) => say(error instanceof Refusal ? error.message : String(error), undefined, true);

  /** Archives open as new sessions. @param {File[]} files */
  async function openArchives(files) {
    try {
      let last = "";
      for (const file of files) {
        say(`Opening ${file.name} …`);
        last = (await sendBytes(`/api/archives?name=${encodeURIComponent(file.name)}`, file)).id;
      }
      if (files.length === 1) location.href = `/sessions/${last}`;
      else location.reload();
    } catch (error) {
      trouble(error);
    }
  }

  /** A new session from files: named after the first. @param {File[]} files */
  async function begin(files) {
    const archives = [];
    // An archive is told by its first bytes, whatever it is called.
    for (const file of files)
      if (new Uint8Array(await file.slice(0, 4).arrayBuffer()).join() === "80,75,3,4") archives.push(file);
    if (archives.length) {
      await openArchives(archives);
      return;
    }
    const list = /** @type {HTMLElement} */ (document.querySelector("[data-uploads]"));
    try {
      const { id } = await send("/api/sessions", { name: files[0].name.replace(/\.\w{2,4}$/, "") });
      const arrived = await sendAll(id, files, list, () => {});
      const heard = arrived === files.length && files.some((file) => !/\.midi?$/i.test(file.name));
      if (arrived) location.href = `/sessions/${id}/${heard ? "bars" : "takes"}`;
      else await send(`/api/sessions/${id}`, {}, "DELETE");
    } catch (error) {
      trouble(error);
    }
  }
  wireDrops(document, (files) => begin(files));
  wirePageDrop((files) => begin(files));

  async function drawWeaves() {
    for (const canvas of /** @type {NodeListOf<HTMLCanvasElement>} */ (
      document.querySelectorAll("canvas[data-weave]")
    )) {
      if (canvas.dataset.has !== "1") continue;
      try {
        const { data, headers } = await binary(`/api/sessions/${canvas.dataset.weave}/weave?columns=250`);
        drawSmallWeave(canvas, {
          rows: Number(headers.get("X-Rows")),
          columns: 250,
          first: Number(headers.get("X-First-Bar-Index")),
          dark: new Uint8Array(data),
        });
      } catch {
        /* a picture that is missing is no reason to stop */
      }
    }
  }
  drawWeaves();
  addEventListener("theme", drawWeaves);

  document.querySelector("[data-clean]")?.addEventListener("click", async () => {
    try {
      const { job } = await send("/api/clean", {});
      say("It is being freed; the shelf can be used meanwhile.");
      for (;;) {
        const view = await get(`/api/jobs/${job}`);
        if (view.state === "done") break;
        if (view.state === "failed" || view.state === "cancelled") throw new Error(view.error);
        await new Promise((done) => setTimeout(done, CLEANING_MS));
      }
      location.reload();
    } catch (error) {
      trouble(error);
    }
  });

  document.querySelector(".sessions")?.addEventListener("click", async (event) => {
    const target = /** @type {Element} */ (event.target),
      line = /** @type {HTMLElement | null} */ (target.closest("[data-session]"));
    if (!line) return;
    const id = line.dataset.session,
      link = /** @type {HTMLElement} */ (line.querySelector("a.session-name"));
    try {
      if (target.closest("[data-remove]")) {
        await send(`/api/sessions/${id}`, {}, "DELETE");
        line.hidden = true;
        say(`“${link.textContent}” is off the shelf.`, async () => {
          try {
            await send(`/api/sessions/${id}/restore`, {});
            line.hidden = false;
            say(`“${link.textContent}” is back.`);
          } catch (error) {
            trouble(error);
          }
        });
      } else if (target.closest("[data-duplicate]")) {
        await send(`/api/sessions/${id}/duplicate`, {});
        location.reload();
      } else if (target.closest("[data-rename]")) rename(line, link);
    } catch (error) {
      trouble(error);
    }
  });

  /** Rename in place. @param {HTMLElement} line @param {HTMLElement} link */
  function rename(line, link) {
    const input = document.createElement("input");
    input.className = "field w16";
    input.value = link.textContent ?? "";
    input.setAttribute("aria-label", "name of the session");
    link.hidden = true;
    link.after(input);
    input.focus();
    input.select();
    let done = false;
    const end = async (/** @type {boolean} */ keep) => {
      if (done) return;
      done = true;
      const name = input.value.trim();
      input.remove();
      link.hidden = false;
      if (!keep || !name || name === link.textContent) return;
      try {
        await send(`/api/sessions/${line.dataset.session}`, { name }, "PATCH");
        link.textContent = name;
        say("Renamed.");
      } catch (error) {
        trouble(error);
      }
    };
    input.addEventListener("keydown", (event) => {
      if (event.key === "Enter") end(true);
      if (event.key === "Escape") end(false);
    });
    input.addEventListener("blur", () => end(true));
  }
}
