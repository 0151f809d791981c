// @ts-check
// Dropping and choosing files, with progress.
import { Refusal, upload } from "../api/client.js";

/**
 * Make every drop place below a root work. Called again after a region was swapped; places keep one set of
 * listeners.
 * @param {ParentNode} root
 * @param {(files: File[], list: HTMLElement) => void} onFiles
 */
export function wireDrops(root, onFiles) {
  for (const place of /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll("[data-drop]"))) {
    const input = /** @type {HTMLInputElement} */ (place.querySelector("[data-files]")),
      list = /** @type {HTMLElement} */ (place.querySelector("[data-uploads]"));
    place.addEventListener("click", (event) => {
      if (event.target !== input) input.click();
    });
    // Its keys are the button's own, not the player's.
    place.addEventListener("keydown", (event) => {
      if (event.key === "Enter" || event.key === " ") event.stopPropagation();
    });
    input.addEventListener("change", () => {
      if (input.files?.length) onFiles([...input.files], list);
      input.value = "";
    });
  }
}

/**
 * Files may be dropped anywhere on the page.
 * @param {(files: File[]) => void} onFiles
 */
export function wirePageDrop(onFiles) {
  const mark = (/** @type {boolean} */ on) =>
    document.querySelectorAll("[data-drop]").forEach((place) => place.classList.toggle("over", on));
  addEventListener("dragover", (event) => {
    if (event.dataTransfer?.types.includes("Files")) {
      event.preventDefault();
      mark(true);
    }
  });
  addEventListener("dragleave", (event) => {
    if (!event.relatedTarget) mark(false);
  });
  addEventListener("drop", (event) => {
    if (!event.dataTransfer?.files.length) return;
    event.preventDefault();
    mark(false);
    onFiles([...event.dataTransfer.files]);
  });
}

/**
 * Send files one after the other, so that the first is the lead; a line each shows how far it is.
 * @param {string} session
 * @param {File[]} files
 * @param {HTMLElement | null} list
 * @param {(text: string) => void} onRefusal
 * @returns {Promise<number>} how many arrived
 */
export async function sendAll(session, files, list, onRefusal) {
  let arrived = 0;
  for (const file of files) {
    const line = document.createElement("div"),
      bar = document.createElement("progress"),
      name = document.createElement("span");
    line.className = "upload";
    bar.max = 1;
    name.textContent = file.name;
    line.append(name, bar);
    list?.append(line);
    try {
      await upload(session, file, (share) => {
        bar.value = share;
      });
      arrived++;
      line.remove();
    } catch (error) {
      line.textContent = error instanceof Refusal ? error.message : String(error);
      line.classList.add("problem");
      onRefusal(line.textContent);
    }
  }
  return arrived;
}
