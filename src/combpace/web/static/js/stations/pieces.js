// @ts-check
// Pieces: cut, lay, pull.
import { send } from "../api/client.js";
import { named } from "../player/voices.js";
import { gridPlaces, placeWords, readPlace, signed } from "../views/map.js";
import { cutMoment } from "../views/piece_geometry.js";
import { mountPieces } from "../views/pieces.js";
import { field, gridTools, leadInTool, legend, plain, tickTool } from "./station.js";
import { wirePieceList } from "./pieces_list.js";

/** The piece that is chosen; null of none. @param {any} desk */
const chosen = ({ state }) =>
  state.selection?.kind === "piece"
    ? (state.picture.pieces.find((/** @type {any} */ one) => one.number === state.selection.number) ?? null)
    : null;

/**
 * Onto a place, where it keeps its bar; freed, a moment that it keeps.
 * @param {any} desk
 * @param {import("../wire.js").PieceRow} piece
 * @param {number} q
 * @param {boolean} free
 */
function move(desk, piece, q, free) {
  const take = desk.state.focus;
  return desk.act(
    "piece-move",
    free
      ? { take, number: piece.number, session_s: desk.state.map.toSeconds(q) }
      : { take, number: piece.number, quarters: q },
  );
}

/** @param {any} desk */
function silence(desk) {
  const piece = chosen(desk);
  if (piece)
    desk.act("piece-silence", { take: desk.state.focus, number: piece.number }, () =>
      desk.store.select(null),
    );
}

/** Whether what changes the sound of a piece is for it alone. */
let onlyThese = false;

/** Whether two pieces have the same sound. @param {any} one @param {any} other */
const sameSound = (one, other) =>
  !!one && !one.own && !other.own && one.start === other.start && one.stop === other.stop;

/** @param {any} desk @param {import("../wire.js").PieceRow} piece @param {[number, number][]} points */
function curve(desk, piece, points) {
  return desk.act("piece-curve", {
    take: desk.state.focus,
    number: piece.number,
    also: desk.state.selection?.also ?? [],
    only: onlyThese,
    points,
  });
}

/**
 * The pieces that the sentence would make, until it is kept or dropped.
 * @type {{take: string, version: number, pieces: import("../views/piece_geometry.js").Piece[], args: any} | null}
 */
let wouldBe = null;

/** Those that are shown now; null: no preview. @param {any} desk */
const previewed = ({ state }) =>
  wouldBe && wouldBe.take === state.focus && wouldBe.version === state.picture.version
    ? wouldBe.pieces
    : null;

/** @param {any} desk */
function dropPreview(desk) {
  if (!previewed(desk)) return false;
  wouldBe = null;
  desk.player.again();
  desk.words.say("The preview is gone; nothing was changed.");
  desk.pictures.view()?.draw();
  return true;
}

/**
 * What the sentence asks for; null where it cannot be read, and then that is said.
 * @param {any} desk
 * @param {HTMLFormElement} form
 */
function asked(desk, form) {
  const data = new FormData(form),
    number = (/** @type {string} */ name) => Number(String(data.get(name)).replace(",", "."));
  const args = {
    take: form.dataset.take ?? "",
    at: data.get("at"),
    stronger: number("stronger"),
    lay: data.get("lay"),
    fill: data.get("fill"),
    meeting: data.get("meeting"),
    fade_ms: number("fade_ms"),
  };
  if ([args.stronger, args.fade_ms].every(Number.isFinite)) return args;
  desk.words.note("Write numbers: the least strength from 0 to 1, fades in ms.", true);
  return null;
}

/** Draw what the sentence would make. @param {any} desk @param {HTMLFormElement} form */
async function preview(desk, form) {
  const args = asked(desk, form),
    version = desk.state.picture.version;
  if (!args) return;
  try {
    const found = await send(`/api/sessions/${desk.session}/foresee/cut-and-lay`, { version, args });
    if (version !== desk.state.picture.version || JSON.stringify(asked(desk, form)) !== JSON.stringify(args))
      return;
    if (found.stale) return;
    if (found.refused) {
      desk.words.note(found.refused, true);
      return;
    }
    wouldBe = { take: args.take, version, pieces: found.pieces[args.take] ?? [], args };
    desk.player.again();
    desk.words.say(`Preview: ${found.note} Space plays it so; “Cut and lay” keeps it, Esc drops it.`);
    desk.pictures.view()?.draw();
  } catch (error) {
    if (/** @type {any} */ (error).status !== 409) desk.words.trouble(error);
  }
}

/** The sentence is previewed as it is changed, and taken. @param {any} desk */
function wire(desk) {
  if (desk.piecesWired) return;
  desk.piecesWired = true;
  wirePieceList(desk);
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (!(form instanceof HTMLFormElement) || form.id !== "pieces-form") return;
    event.preventDefault();
    const args = asked(desk, form);
    wouldBe = null;
    if (args) desk.act("cut-and-lay", args, () => desk.store.sound({ fitted: true }));
  });
  document.addEventListener("change", (event) => {
    const part =
      event.target instanceof Element && !event.target.matches("[data-focus-choice]")
        ? /** @type {HTMLFormElement | null} */ (event.target.closest("#pieces-form"))
        : null;
    if (part) preview(desk, part);
  });
  // A field keeps Escape for itself; the preview that it made goes with it.
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && event.target instanceof Element && event.target.closest("#pieces-form"))
      dropPreview(desk);
  });
  document.addEventListener("click", (event) => {
    const keep =
      event.target instanceof Element
        ? /** @type {HTMLElement | null} */ (event.target.closest("[data-keep-pieces]"))
        : null;
    if (keep) {
      desk.deciding.showKept(keep.dataset.keepPieces);
      send(`/api/sessions/${desk.session}/keep-pieces`, {
        take: keep.dataset.keepPieces,
        version: desk.state.picture.version,
      }).catch(desk.words.trouble);
    }
  });
}

/** What an edit of the grid is done to: "" for the take that is shown, "all", or the id of a part. */
let where = "";
/** Whether what is there and later goes later by whole bars, instead of giving way. */
let push = false;

/** Ids of what an edit of the grid is done to. @param {any} desk @returns {string[]} */
function meant({ state }) {
  const { takes, parts } = state.picture;
  if (where === "all")
    return [
      ...takes.filter((/** @type {import("../wire.js").TakeFacts} */ take) => take.frames && !take.arrival),
      ...parts,
    ].map((/** @type {any} */ one) => one.id);
  return [parts.some((/** @type {any} */ part) => part.id === where) ? where : state.focus];
}

/** An edit of the grid. @param {any} desk @param {number} from @param {number} to @param {any} more */
function cells(desk, from, to, more) {
  return desk.act(
    "cells",
    { takes: meant(desk), from_q: from, to_q: to, ...(more.what === "silence" ? {} : { push }), ...more },
    () => desk.store.sound({ fitted: true }),
  );
}

/** Whole numbers from one on. @param {any} desk @param {string} text @param {(n: number) => void} use */
function times(desk, text, use) {
  const count = Number(text);
  if (Number.isInteger(count) && count > 0) use(count);
  else desk.words.note(`“${text}” is no number of times; write 1, 3 or 7.`, true);
}

/** On what an edit is done, and what becomes of what is there. @param {any} desk @param {HTMLElement} row */
function whereFields(desk, row) {
  const { state } = desk,
    on = document.createElement("label"),
    select = document.createElement("select"),
    there = document.createElement("label"),
    gives = document.createElement("select");
  on.className = there.className = "from-here";
  select.className = gives.className = "field";
  select.setAttribute("aria-label", "on what");
  gives.setAttribute("aria-label", "what is there");
  for (const [value, text] of [
    ["", desk.host.take(state.focus)?.name ?? "this take"],
    ...state.picture.parts.map((/** @type {any} */ part) => [part.id, part.name]),
    ["all", state.picture.parts.length ? "all takes and parts" : "all takes"],
  ])
    select.add(new Option(text, value, false, where === value));
  for (const [value, text] of [
    ["no", "gives way"],
    ["yes", "goes later, by whole bars"],
  ])
    gives.add(new Option(text, value, false, push === (value === "yes")));
  select.addEventListener("change", () => {
    where = select.value;
  });
  gives.addEventListener("change", () => {
    push = gives.value === "yes";
  });
  on.append("on ", select);
  there.append("what is there ", gives);
  row.append(on, there);
}

/**
 * A stretch of the grid: repeated, silenced, copied.
 * @param {any} desk
 * @param {number} from
 * @param {number} to
 * @param {string} title
 * @param {{head: HTMLElement, text: HTMLElement, button: import("./station.js").Button, row: HTMLElement}}
 *   parts
 */
function chosenStretch(desk, from, to, title, { head, text, button, row }) {
  const { state } = desk,
    all = state.picture.allBars ?? state.picture.bars;
  head.textContent = title;
  text.textContent = "Cut at its edges and at the beats in it; nothing is stretched.";
  whereFields(desk, row);
  row.append(
    field("repeat, times", "1", "w3", (value) =>
      times(desk, value, (count) => cells(desk, from, to, { what: "repeat", times: count })),
    ),
  );
  row.append(
    field("copy to bar", "", "w4", (value) => {
      const number = Number(value),
        bar =
          Number.isInteger(number) && number !== 0
            ? all.find((/** @type {any} */ one) => one.i === (number > 0 ? number - 1 : number))
            : null;
      if (bar)
        cells(desk, from, to, {
          what: "copy",
          at_q: bar.q + (from - state.map.barLine(state.map.barOf(from + 1e-6))),
        });
      else desk.words.note(`“${value}” is no bar of this session.`, true);
    }),
  );
  button("Repeat once", "", () => cells(desk, from, to, { what: "repeat", times: 1 }));
  button(title.startsWith("Bar") ? "Silence them" : "Silence it", "Del", () =>
    cells(desk, from, to, { what: "silence" }),
  );
  button("Loop it", "L", () =>
    desk.store.sound({ loop: [state.map.toSeconds(from), state.map.toSeconds(to)] }),
  );
  return true;
}

/**
 * Chosen bars.
 * @param {any} desk
 * @param {any} selection
 * @param {{head: HTMLElement, text: HTMLElement, button: import("./station.js").Button, row: HTMLElement}}
 *   parts
 */
function chosenBars(desk, selection, parts) {
  const all = desk.state.picture.allBars ?? desk.state.picture.bars,
    of = (/** @type {number} */ index) => all.find((/** @type {any} */ one) => one.i === index),
    first = of(selection.bar),
    last = of(selection.to);
  return (
    !!first &&
    !!last &&
    chosenStretch(
      desk,
      first.q,
      last.q + last.len,
      first === last ? `Bar ${first.n}` : `Bars ${first.n}–${last.n}`,
      parts,
    )
  );
}

/** Strokes of a take, or of all its mics, on its own clock. @param {any} host @param {string} id */
const ownClock = (host, id) =>
  host.marks(id).times.map((/** @type {number} */ time) => time - host.take(id).offset_s);

/** Where K cuts. @param {any} desk @param {number} time session seconds @param {boolean} free */
function cutAt({ state, host }, time, free) {
  const q = state.map.toQuarters(time),
    bar = (state.picture.allBars ?? state.picture.bars).find(
      (/** @type {any} */ one) => q >= one.q - 1e-9 && q < one.q + one.len - 1e-9,
    );
  return cutMoment(time, {
    pieces: state.picture.pieces ?? [],
    // What is cut from a render has its attacks elsewhere.
    marks:
      state.view.catch === "attacks" && !host.take(state.focus)?.cut_from ? ownClock(host, state.focus) : [],
    places: bar && !free ? (host.catchPlaces(bar) ?? []).map((/** @type {number} */ one) => bar.q + one) : [],
    map: state.map,
    free,
  });
}

/** @type {import("./station.js").StationView} */
export const pieces = {
  ...plain,
  id: "pieces",
  key: 6,
  fitted: true,
  mount: (desk, box) =>
    mountPieces(box, desk.host, {
      move: (piece, q, free) => move(desk, piece, q, free),
      previewed: () => previewed(desk),
      dropPreview: () => dropPreview(desk),
      curve: (piece, points) => curve(desk, piece, points),
    }),
  zoom: (desk, direction) =>
    desk.store.view({
      piecePx: Math.min(84, Math.max(24, desk.state.view.piecePx * (direction > 0 ? 1.2 : 1 / 1.2))),
    }),
  tools: (desk) => [
    ...gridTools(desk),
    ...leadInTool(desk),
    tickTool(
      "choose cells",
      "A drag over the rows chooses cells of the grid in sight; also with Alt",
      desk.state.view.cells,
      (cells) => {
        desk.store.view({ cells });
        desk.pictures.draw();
      },
    ),
    tickTool(
      "levels",
      "Draw levels over time: click in a chosen piece to put a point, pull it, double click to take it away",
      desk.state.view.curves,
      (curves) => {
        desk.store.view({ curves });
        desk.pictures.draw();
      },
    ),
    legend("<span>a notch is a cut, ground is silence</span>"),
  ],
  marksOf: ({ state }) => state.focus,
  // What is previewed is heard so, before it is kept.
  trial(desk, take) {
    if (!wouldBe || take.id !== wouldBe.take || !previewed(desk)) return null;
    const trial = JSON.stringify({ version: wouldBe.version, ...wouldBe.args });
    return { ...named(take.id, take.sounds), fit: [trial, trial], always: true, trial };
  },
  commands: [
    {
      id: "cut-here",
      keys: ["KeyK"],
      shown: "K",
      words: "cut at the pointer, or at the playhead, where a drag would catch; Shift cuts just there",
      run: (desk, event) => {
        const time = desk.pointer?.time ?? desk.state.playhead;
        if (time !== null && time !== undefined)
          desk.act("cut-here", { take: desk.state.focus, ...cutAt(desk, time, event.shiftKey) });
      },
    },
    {
      id: "join-piece",
      keys: ["KeyN"],
      shown: "N",
      words: "join the chosen piece with what follows it in its take",
      run: (desk) => {
        const piece = chosen(desk);
        if (piece) desk.act("piece-join", { take: desk.state.focus, number: piece.number });
      },
    },
    {
      id: "hear",
      keys: ["KeyW"],
      shown: "W",
      words: "hear the chosen piece",
      run: (desk) => {
        const piece = chosen(desk),
          stretch = desk.state.selection;
        if (piece) desk.play(piece.at, piece.at + piece.stop - piece.start);
        else if (stretch?.kind === "cells")
          desk.play(desk.state.map.toSeconds(stretch.from), desk.state.map.toSeconds(stretch.to));
      },
    },
    {
      id: "onset-back",
      keys: ["KeyQ"],
      shown: "Q",
      words: "the piece before",
      run: (desk) => desk.pictures.view()?.step(-1),
    },
    {
      id: "onset-on",
      keys: ["KeyE"],
      shown: "E",
      words: "the piece after",
      run: (desk) => desk.pictures.view()?.step(1),
    },
  ],
  arrow(desk, step, fine) {
    const piece = chosen(desk),
      { state } = desk;
    if (!piece) return;
    if (fine) {
      desk.act("piece-move", { take: state.focus, number: piece.number, session_s: piece.at + step * 0.001 });
      return;
    }
    const bar = state.picture.bars.find(
        (/** @type {any} */ one) => piece.q >= one.q - 1e-6 && piece.q < one.q + one.len - 1e-6,
      ),
      size = bar ? bar.len / bar.beats / 2 : 0.5;
    move(desk, piece, piece.q + step * size, false);
  },
  remove: (desk, selection) => {
    if (selection?.kind === "cells") cells(desk, selection.from, selection.to, { what: "silence" });
    else silence(desk);
  },
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind === "bars") return chosenBars(desk, selection, { head, text, button, row });
    if (selection.kind === "cells")
      return chosenStretch(
        desk,
        selection.from,
        selection.to,
        `${placeWords(desk.state.map, selection.from)} to ${placeWords(desk.state.map, selection.to)}`,
        { head, text, button, row },
      );
    const piece = selection.kind === "piece" ? chosen(desk) : null;
    if (!piece) return false;
    const also = selection.also ?? [],
      many = 1 + also.length;
    head.textContent = many > 1 ? `${many} pieces` : `A piece on ${placeWords(desk.state.map, piece.q)}`;
    text.textContent =
      many > 1
        ? "What is set here is set for all of them."
        : `${Math.round(1000 * (piece.stop - piece.start))} ms long` +
          `${piece.off ? `, moved by ${signed(piece.off)} ms` : ""}` +
          `${piece.db ? `, ${signed(piece.db)} dB` : ""}${piece.own ? ", its own sound" : ""}.`;
    // A piece refers to its take: what changes its sound changes all that have the same, unless that is not
    // wanted.
    const pieces = desk.state.picture.pieces,
      touched = pieces.filter((/** @type {any} */ one) =>
        [piece.number, ...also].some(
          (number) =>
            number === one.number ||
            sameSound(
              pieces.find((/** @type {any} */ other) => other.number === number),
              one,
            ),
        ),
      ).length;
    if (touched > many) {
      const box = document.createElement("input"),
        label = document.createElement("label");
      label.className = "from-here";
      box.type = "checkbox";
      box.checked = onlyThese;
      box.addEventListener("change", () => {
        onlyThese = box.checked;
        desk.side.showChosen();
      });
      label.append(
        box,
        ` ${many > 1 ? "only these" : "only this one"}: level, fades and its level over time touch ` +
          `${onlyThese ? many : touched} piece${(onlyThese ? many : touched) === 1 ? "" : "s"}`,
      );
      row.append(label);
    }
    const on = { take: desk.state.focus, number: piece.number, also, only: onlyThese };
    row.append(
      field("level, dB", String(piece.db), "w4", (value) => {
        const db = Number(value.replace(",", ".").replace("−", "-"));
        if (Number.isFinite(db)) desk.act("piece-level", { ...on, level_db: db });
      }),
    );
    if (many === 1) {
      row.append(
        field("place", placeWords(desk.state.map, piece.q), "w5", (value) => {
          const q = readPlace(desk.state.map, value);
          if (q === null) desk.words.note(`“${value}” is no place; write bar and beat, 5·2.5 or 5.`, true);
          else move(desk, piece, q, false);
        }),
      );
      row.append(
        field("length, ms", (1000 * (piece.stop - piece.start)).toFixed(0), "w4", (value) => {
          const ms = Number(value.replace(",", "."));
          if (ms >= 5) desk.act("piece-length", { take: desk.state.focus, number: piece.number, ms });
          else desk.words.note(`“${value}” is no length; 5 ms is the least.`, true);
        }),
      );
    }
    row.append(
      field(
        "level over time, ms:dB",
        piece.curve.map((/** @type {number[]} */ one) => `${one[0]}:${one[1]}`).join(" ") || "none",
        "w8",
        (value) => {
          const points =
            value === "none"
              ? []
              : value
                  .trim()
                  .split(/\s+/)
                  .map((one) => one.replace(",", ".").replace("−", "-").split(":").map(Number));
          if (points.every((one) => one.length === 2 && one.every(Number.isFinite)))
            desk.act("piece-curve", { ...on, points });
          else
            desk.words.note(`“${value}” is no level over time; write points like 0:0 120:-6, or none.`, true);
        },
      ),
    );
    /** @param {string} text @param {number | null} known @param {"fade_in_ms" | "fade_out_ms"} which */
    const fade = (text, known, which) =>
      field(text, known === null ? "as all" : String(known), "w4", (value) => {
        const ms = /^(as )?all$/i.test(value) ? "all" : Number(value.replace(",", "."));
        if (ms !== "all" && !Number.isFinite(ms)) {
          desk.words.note(
            `“${value}” is no number of ms; write 40, or “as all” for the fades of the sentence.`,
            true,
          );
          return;
        }
        desk.act("piece-fades", { ...on, [which]: ms });
      });
    row.append(
      fade("comes in over, ms", piece.fadeIn, "fade_in_ms"),
      fade("goes out over, ms", piece.fadeOut, "fade_out_ms"),
    );
    row.append(
      field(`stutter its first ${desk.state.view.grid}, times`, "", "w3", (value) =>
        times(desk, value, (count) => {
          const bar = desk.state.picture.bars.find(
              (/** @type {any} */ one) => piece.q >= one.q - 1e-6 && piece.q < one.q + one.len - 1e-6,
            ),
            places = bar ? gridPlaces(desk.state.view.grid, bar.len, bar.len / bar.beats) : [0, 1];
          cells(desk, piece.q, piece.q + (places[1] ?? 1) - places[0], { what: "repeat", times: count });
        }),
      ),
    );
    button("Hear it", "W", () => desk.play(piece.at, piece.at + piece.stop - piece.start));
    button("Join with what follows", "N", () =>
      desk.act("piece-join", { take: desk.state.focus, number: piece.number }),
    );
    button("Take it away", "Del", () => silence(desk));
    if (many > 1) return true;
    if (piece.alike > 1)
      button(`Choose all ${piece.alike} of this sound`, "", () =>
        desk.store.select({
          ...selection,
          also: pieces
            .filter((/** @type {any} */ one) => one !== piece && sameSound(piece, one))
            .map((/** @type {any} */ one) => one.number),
        }),
      );
    if (!piece.own)
      button(
        "Make it its own",
        "",
        () => desk.act("piece-own", { take: desk.state.focus, number: piece.number }),
        ["piece-own", { take: desk.state.focus, number: piece.number }],
      );
    const save = document.createElement("a");
    save.className = "button small";
    save.href = `/api/sessions/${desk.session}/takes/${desk.state.focus}/pieces/${piece.number}?kind=wav24`;
    save.download = "";
    save.textContent = "Save it as a file";
    row.append(save);
    return true;
  },
  drawSmall: (desk) => wire(desk),
};
