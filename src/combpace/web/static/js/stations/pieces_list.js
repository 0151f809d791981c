// @ts-check
// All pieces as a list: sorted by what is asked for, several chosen at once.
import { placeWords, signed } from "../views/map.js";

/** @typedef {import("../views/piece_geometry.js").Piece} Piece */

/**
 * What a list says of each piece, in order of place: its length, how far it reaches over the one before
 * (below 0: the gap), how many have its sound.
 * @param {Piece[]} pieces
 * @returns {{piece: Piece, ms: number, over: number | null, alike: number}[]}
 */
export function pieceRows(pieces) {
  let end = null;
  const rows = [];
  for (const piece of [...pieces].sort((a, b) => a.at - b.at)) {
    rows.push({
      piece,
      ms: 1000 * (piece.stop - piece.start),
      over: end === null ? null : 1000 * (end - piece.at),
      alike: piece.alike,
    });
    end = Math.max(end ?? -Infinity, piece.at + piece.stop - piece.start);
  }
  return rows;
}

/** @type {"place" | "ms" | "over" | "alike"} */
let sorted = "place";
let down = false;

/** @param {any} desk */
function fill(desk) {
  const box = /** @type {HTMLDetailsElement | null} */ (document.getElementById("all-pieces")),
    body = box?.querySelector("tbody"),
    { state } = desk;
  if (!box?.open || !body || !state.map) return;
  const rows = pieceRows(state.picture.pieces),
    key = (/** @type {any} */ row) => (sorted === "place" ? row.piece.at : (row[sorted] ?? -Infinity));
  rows.sort((a, b) => (down ? -1 : 1) * (key(a) - key(b)) || a.piece.at - b.piece.at);
  const chosen = new Set(
    state.selection?.kind === "piece" ? [state.selection.number, ...(state.selection.also ?? [])] : [],
  );
  body.replaceChildren(
    ...rows.map(({ piece, ms, over, alike }) => {
      const row = document.createElement("tr"),
        tick = document.createElement("input");
      row.dataset.piece = String(piece.number);
      tick.type = "checkbox";
      tick.checked = chosen.has(piece.number);
      tick.setAttribute("aria-label", `choose the piece on ${placeWords(state.map, piece.q)}`);
      const words = [
        placeWords(state.map, piece.q),
        ms.toFixed(0),
        over === null || Math.abs(over) < 0.5
          ? "–"
          : `${over > 0 ? "over " : "gap "}${Math.abs(over).toFixed(0)}`,
        piece.own ? "own" : alike > 1 ? String(alike) : "–",
        piece.off ? signed(piece.off) : "–",
      ];
      const first = row.insertCell();
      first.append(tick);
      for (const text of words) row.insertCell().textContent = text;
      row.classList.toggle("in-force", chosen.has(piece.number));
      return row;
    }),
  );
}

/**
 * Choose several: the first that is ticked leads.
 * @param {any} desk
 * @param {number} number
 * @param {boolean} on
 */
function tick(desk, number, on) {
  const { state } = desk,
    had = state.selection?.kind === "piece" ? [state.selection.number, ...(state.selection.also ?? [])] : [];
  const now = on ? [...had, number] : had.filter((one) => one !== number);
  desk.store.select(now.length ? { kind: "piece", number: now[0], also: now.slice(1) } : null);
  fill(desk);
}

/** Listeners that outlive every swap. @param {any} desk */
export function wirePieceList(desk) {
  document.addEventListener(
    "toggle",
    (event) => {
      if (event.target instanceof HTMLElement && event.target.id === "all-pieces") fill(desk);
    },
    true,
  );
  desk.store.subscribe((/** @type {string} */ part) => {
    if (part === "selection" || part === "picture") fill(desk);
  });
  document.addEventListener("click", (event) => {
    const target = event.target instanceof Element ? event.target : null,
      box = target?.closest("#all-pieces");
    if (!target || !box) return;
    const sort = /** @type {HTMLElement | null} */ (target.closest("[data-sort-pieces]")),
      row = /** @type {HTMLElement | null} */ (target.closest("[data-piece]"));
    if (sort) {
      const by = /** @type {any} */ (sort.dataset.sortPieces);
      down = sorted === by ? !down : by !== "place";
      sorted = by;
      fill(desk);
      return;
    }
    if (!row || target instanceof HTMLInputElement) return;
    const piece = desk.state.picture.pieces.find(
      (/** @type {any} */ one) => one.number === Number(row.dataset.piece),
    );
    if (piece) {
      desk.store.select({ kind: "piece", number: piece.number });
      desk.pictures.view()?.show(desk.state.map.barOf(piece.q));
    }
  });
  document.addEventListener("change", (event) => {
    const box = event.target,
      row =
        box instanceof HTMLInputElement
          ? /** @type {HTMLElement | null} */ (box.closest("#all-pieces [data-piece]"))
          : null;
    if (row && box instanceof HTMLInputElement) tick(desk, Number(row.dataset.piece), box.checked);
  });
}
