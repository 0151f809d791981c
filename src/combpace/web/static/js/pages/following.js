// @ts-check
// Loops in the ledger, pulled by hand: to another first bar, to so many bars, until a bar.
import { drawFollowStrip, linesOf, makeFollowStrip, pulledTo } from "../views/follow_strip.js";
import { gainOf } from "../views/paint.js";

const COLUMNS = 160;

/** @param {any} desk */
export function makeFollowing(desk) {
  const { state, host, peaks } = desk;
  /**
   * @type {{id: string, what: "length" | "end" | "body", from: number, x: number, kind: string} | null} what
   *   is being pulled
   */
  let pull = null;
  const barNumber = (/** @type {number} */ index) => (index >= 0 ? index + 1 : index);

  /** @param {HTMLCanvasElement} canvas */
  function shown(canvas) {
    const take = host.take(canvas.dataset.follow ?? "");
    if (!take?.rounds?.length || !state.map) return null;
    const { first, lines } = linesOf(state.map, take.rounds, state.picture.end_s);
    return {
      take,
      first,
      lines,
      rounds: take.rounds,
      strip: makeFollowStrip({ width: canvas.clientWidth, lines, rounds: take.rounds }),
    };
  }

  function draw() {
    for (const canvas of /** @type {NodeListOf<HTMLCanvasElement>} */ (
      document.querySelectorAll("canvas[data-follow]")
    )) {
      const seen = shown(canvas);
      if (!seen || !canvas.clientWidth) continue;
      const columns = [],
        out = [0, 0],
        { frames, id } = seen.take;
      for (let k = 0; k < COLUMNS; k++) {
        if (
          !peaks.range(
            id,
            frames > 400_000 ? 2048 : 256,
            (k / COLUMNS) * frames,
            ((k + 1) / COLUMNS) * frames,
            out,
          )
        )
          break;
        columns.push({ low: out[0], high: out[1] });
      }
      drawFollowStrip(canvas, { ...seen, columns, gain: gainOf(seen.take) }, pull?.id === id ? pull : null);
    }
  }

  /** What letting go here would do, and in words. @param {any} seen @param {number} x */
  function meant(seen, x) {
    if (!pull) return null;
    const to = seen.first + seen.strip.lineAt(x),
      first = seen.first + seen.strip.lineAt(seen.strip.xOf(seen.rounds[0])),
      made = pulledTo(pull.what, pull.from, to, first);
    if (!made) return null;
    if (made.kind === "first")
      return {
        act: ["take", { take: pull.id, field: "first_bar", value: String(barNumber(made.bar)) }],
        words: `${seen.take.name}: its first attack goes to bar ${barNumber(made.bar)}.`,
      };
    if (made.kind === "until")
      return {
        act: ["take", { take: pull.id, field: "times", value: `until ${barNumber(made.bar)}` }],
        words: `${seen.take.name} goes on until bar ${barNumber(made.bar)}.`,
      };
    return {
      act: ["own-bars", { take: pull.id, what: "bars", value: String(made.bar) }],
      words: `${seen.take.name} is ${made.bar} bar${made.bar === 1 ? "" : "s"} long, whatever its tempo was.`,
    };
  }

  document.addEventListener("pointerdown", (event) => {
    const canvas =
        event.target instanceof HTMLCanvasElement && event.target.dataset.follow ? event.target : null,
      seen = canvas ? shown(canvas) : null;
    if (!canvas || !seen || event.button !== 0) return;
    const x = event.offsetX,
      what = seen.strip.hit(x);
    if (!what) return;
    event.preventDefault();
    canvas.setPointerCapture(event.pointerId);
    pull = { id: seen.take.id, what, from: seen.first + seen.strip.lineAt(x), x, kind: what };
    const move = (/** @type {PointerEvent} */ now) => {
      if (!pull) return;
      const k = seen.strip.lineAt(now.offsetX),
        does = meant(seen, now.offsetX);
      pull.x = seen.strip.xOf(seen.lines[k]);
      if (does) desk.words.say(`${does.words} Esc lets it be.`);
      draw();
    };
    const end = (/** @type {PointerEvent} */ now) => {
      stop();
      const does = pull && now.type === "pointerup" ? meant(seen, now.offsetX) : null,
        moved = Math.abs(now.offsetX - x) > 3;
      pull = null;
      desk.words.say("");
      draw();
      if (does && moved) desk.act(...does.act);
    };
    const leave = (/** @type {KeyboardEvent} */ key) => {
      if (key.code === "Escape") {
        key.stopPropagation();
        stop();
        pull = null;
        desk.words.say("Cancelled; nothing was changed.");
        draw();
      }
    };
    const stop = () => {
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", end);
      canvas.removeEventListener("pointercancel", end);
      removeEventListener("keydown", leave, true);
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", end);
    canvas.addEventListener("pointercancel", end);
    addEventListener("keydown", leave, true);
  });
  document.addEventListener("pointermove", (event) => {
    const canvas =
        event.target instanceof HTMLCanvasElement && event.target.dataset.follow ? event.target : null,
      seen = canvas && !pull ? shown(canvas) : null;
    if (canvas && seen)
      canvas.style.cursor = { length: "ew-resize", end: "ew-resize", body: "grab", none: "default" }[
        seen.strip.hit(event.offsetX) ?? "none"
      ];
  });

  return { draw };
}
