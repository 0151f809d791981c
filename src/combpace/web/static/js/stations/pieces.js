// @ts-check
// Pieces: cut, lay, pull.
import { send } from "../api/client.js";
import { placeWords, signed } from "../views/map.js";
import { mountPieces } from "../views/pieces.js";
import { field, gridTools, leadInTool, legend, plain } from "./station.js";

/** The piece that is chosen; null of none. @param {any} desk */
const chosen = ({ state }) => (state.selection?.kind === "piece" ? state.picture.pieces.find((/** @type {any} */ one) => one.number === state.selection.number) ?? null : null);

/** Onto a place, where it keeps its bar; freed, a moment that it keeps. @param {any} desk @param {any} piece @param {number} q @param {boolean} free */
function move(desk, piece, q, free) {
  const take = desk.state.focus;
  return desk.act("piece-move", free ? { take, number: piece.number, session_s: desk.state.map.toSeconds(q) } : { take, number: piece.number, quarters: q });
}

/** @param {any} desk */
function silence(desk) {
  const piece = chosen(desk);
  if (piece) desk.act("piece-silence", { take: desk.state.focus, number: piece.number }, () => desk.store.select(null));
}

/** The sentence is taken. @param {any} desk */
function wire(desk) {
  if (desk.piecesWired) return;
  desk.piecesWired = true;
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (!(form instanceof HTMLFormElement) || form.id !== "pieces-form") return;
    event.preventDefault();
    const data = new FormData(form), number = (/** @type {string} */ name) => Number(String(data.get(name)).replace(",", "."));
    const args = { take: form.dataset.take, at: data.get("at"), stronger: number("stronger"), lay: data.get("lay"), fill: data.get("fill"), meeting: data.get("meeting"), fade_ms: number("fade_ms") };
    if (![args.stronger, args.fade_ms].every(Number.isFinite)) { desk.words.note("Write numbers: the least strength from 0 to 1, fades in ms.", true); return; }
    desk.act("cut-and-lay", args, () => desk.store.sound({ fitted: true }));
  });
  document.addEventListener("click", (event) => {
    const keep = event.target instanceof Element ? /** @type {HTMLElement | null} */ (event.target.closest("[data-keep-pieces]")) : null;
    if (keep) send(`/api/sessions/${desk.session}/keep-pieces`, { take: keep.dataset.keepPieces, version: desk.state.picture.version }).catch(desk.words.trouble);
    const row = event.target instanceof Element ? /** @type {HTMLElement | null} */ (event.target.closest("[data-piece]")) : null;
    if (!row) return;
    const piece = desk.state.picture.pieces.find((/** @type {any} */ one) => one.number === Number(row.dataset.piece));
    if (piece) { desk.store.select({ kind: "piece", number: piece.number }); desk.pictures.view()?.show(desk.state.map.barOf(piece.q)); }
  });
}

/** @type {import("./station.js").StationView} */
export const pieces = {
  ...plain, id: "pieces", key: 6, fitted: true,
  mount: (desk, box) => mountPieces(box, desk.host, { move: (piece, q, free) => move(desk, piece, q, free) }),
  tools: (desk) => [...gridTools(desk), ...leadInTool(desk), legend("<span>a notch is a cut, ground is silence</span>")],
  marksOf: ({ state }) => state.focus,
  commands: [
    { id: "cut-here", keys: ["KeyK"], shown: "K", words: "cut at the pointer, or at the playhead", run: (desk) => { const time = desk.pointer?.time ?? desk.state.playhead; if (time !== null && time !== undefined) desk.act("cut-here", { take: desk.state.focus, session_s: time }); } },
    { id: "join-piece", keys: ["KeyN"], shown: "N", words: "join the chosen piece with what follows it in its take", run: (desk) => { const piece = chosen(desk); if (piece) desk.act("piece-join", { take: desk.state.focus, number: piece.number }); } },
    { id: "hear", keys: ["KeyW"], shown: "W", words: "hear the chosen piece", run: (desk) => { const piece = chosen(desk); if (piece) desk.play(piece.at, piece.at + piece.stop - piece.start); } },
    { id: "onset-back", keys: ["KeyQ"], shown: "Q", words: "the piece before", run: (desk) => desk.pictures.view()?.step(-1) },
    { id: "onset-on", keys: ["KeyE"], shown: "E", words: "the piece after", run: (desk) => desk.pictures.view()?.step(1) },
  ],
  arrow(desk, step, fine) {
    const piece = chosen(desk), { state } = desk;
    if (!piece) return;
    if (fine) { desk.act("piece-move", { take: state.focus, number: piece.number, session_s: piece.at + step * 0.001 }); return; }
    const bar = state.picture.bars.find((/** @type {any} */ one) => piece.q >= one.q - 1e-6 && piece.q < one.q + one.len - 1e-6), size = bar ? bar.len / bar.beats / 2 : 0.5;
    move(desk, piece, piece.q + step * size, false);
  },
  remove: silence,
  chosenMany(desk, selection, { head, text, button, row }) {
    const piece = selection.kind === "piece" ? chosen(desk) : null;
    if (!piece) return false;
    head.textContent = `A piece on ${placeWords(desk.state.map, piece.q)}`;
    text.textContent = `${Math.round(1000 * (piece.stop - piece.start))} ms long${piece.off ? `, moved by ${signed(piece.off)} ms` : ""}${piece.db ? `, ${signed(piece.db)} dB` : ""}.`;
    row.append(field("level, dB", String(piece.db), "w4", (value) => { const db = Number(value.replace(",", ".").replace("−", "-")); if (Number.isFinite(db)) desk.act("piece-level", { take: desk.state.focus, number: piece.number, level_db: db }); }));
    button("Hear it", "W", () => desk.play(piece.at, piece.at + piece.stop - piece.start));
    button("Join with what follows", "N", () => desk.act("piece-join", { take: desk.state.focus, number: piece.number }));
    button("Take it away", "Del", () => silence(desk));
    return true;
  },
  drawSmall: (desk) => wire(desk),
};
