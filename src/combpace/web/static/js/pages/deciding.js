// @ts-check
// Decisions: sent one after the other, answered, and shown.
import { Refusal, html, send } from "../api/client.js";
import { makeMap } from "../views/map.js";

/** @param {any} desk */
export function makeDeciding(desk) {
  const { state, store, session, words } = desk;
  /** @type {Promise<void>} */
  let queue = Promise.resolve();
  let acting = 0;
  /** @type {string | null} a take that was just kept: what becomes of it is shown as soon as it is there */
  let keptOf = null;
  /** @type {{name: string, args: any, then?: () => void}[]} decisions that came after another page's */
  const refused = [];

  /**
   * Take a decision; decisions follow each other in the order in which they were made.
   * @param {string} name
   * @param {any} [args]
   * @param {() => void} [then]
   */
  function act(name, args = {}, then) {
    const of = desk.barsOf();
    // In the bars of another take whatever corrects bars corrects its own.
    if (of && !["undo", "redo", "in-take"].includes(name) && !name.startsWith("onset"))
      return act("in-take", { take: of, name, args }, then);
    acting++;
    words.saved("saving …");
    queue = queue.then(async () => {
      try {
        const done = await send(`/api/sessions/${session}/act/${name}`, {
          version: state.picture.version,
          args,
        });
        refused.length = 0;
        then?.();
        if (name === "keep") keptOf = args.take;
        words.say("");
        await shown(done.note);
        words.saved("Saved");
      } catch (error) {
        if (error instanceof Refusal && error.status === 409) offerAgain(error, { name, args, then });
        else {
          await shown().catch(() => {});
          words.trouble(error);
          if (error instanceof Refusal) offerInstead(error, { name, args, then });
        }
        words.saved("not saved", true);
      } finally {
        desk.foresight.end();
        acting--;
      }
    });
    return queue;
  }

  /**
   * Another page was quicker: what was refused is kept, and applied again in its order.
   * @param {Refusal} error
   * @param {{name: string, args: any, then?: () => void}} one
   */
  function offerAgain(error, one) {
    refused.push(one);
    const [between] = error.message.split(" Your change"),
      many = refused.length;
    words.note(
      many === 1
        ? error.message
        : `${between} ${many} changes of yours were not made and nothing is lost; reload, or apply them again.`,
      true,
    );
    offer([
      ["Reload", () => location.reload()],
      [
        many === 1 ? "Apply mine again" : `Apply my ${many} again`,
        async () => {
          const again = refused.splice(0);
          await refresh();
          for (const { name, args, then } of again) act(name, args, then);
        },
      ],
    ]);
  }

  /**
   * What is stated cannot all hold: one of it is taken back, or the playing followed, and what was refused is
   * tried again.
   * @param {Refusal} error
   * @param {{name: string, args: any, then?: () => void}} one
   */
  function offerInstead(error, one) {
    offer(
      error.offers.map(({ words: text, do: name, args }) => [
        text,
        () => act(name, args, () => act(one.name, one.args, one.then)),
      ]),
    );
  }

  /** Buttons behind the last words. @param {[string, () => void][]} buttons */
  function offer(buttons) {
    for (const old of document.querySelectorAll("#last [data-offer]")) old.remove();
    for (const [text, run] of buttons) {
      const button = document.createElement("button");
      button.type = "button";
      button.className = "link";
      button.dataset.offer = "";
      button.textContent = text;
      button.addEventListener("click", run);
      document.getElementById("last")?.append(" ", button);
    }
  }

  /**
   * Fetch and show what is true now, after what is on its way: what was fetched before never comes after it.
   * @param {string} [note]
   * @returns {Promise<void>}
   */
  function refresh(note) {
    const mine = queue.then(() => shown(note));
    queue = mine.catch(() => {});
    return mine;
  }

  /**
   * Fetch what is true now and show it: words by the server, pictures from its data.
   * @param {string} [note]
   */
  async function shown(note) {
    const here = () =>
      `${state.station}?${state.focus ? `take=${state.focus}&` : ""}` +
      `${desk.barsOf() ? `of=${desk.barsOf()}&` : ""}part=1`;
    let asked, text, picture;
    // Whoever went to another station meanwhile stays there.
    do {
      asked = here();
      [text, picture] = await Promise.all([
        html(`/sessions/${session}/${asked}`),
        desk.ranges.picture(state.focus, desk.barsOf()),
      ]);
    } while (asked !== here());
    const before = state.picture;
    desk.foresight.end();
    store.picture({ picture, map: picture.map ? makeMap(picture.map) : null });
    desk.host.forget();
    if (!before.map && picture.map) desk.toBar1();
    desk.moving.swap(text);
    heedMutes(before, picture);
    if (note) words.note(note);
    const had = before.takes.filter(
        (/** @type {import("../wire.js").TakeFacts} */ take) => take.frames,
      ).length,
      has = picture.takes.filter((/** @type {import("../wire.js").TakeFacts} */ take) => take.frames).length;
    desk.pictures.renew(!before.map !== !picture.map || had !== has);
    if (
      JSON.stringify(before.map) !== JSON.stringify(picture.map) ||
      had !== has ||
      state.view.ticks ||
      soundOf(before) !== soundOf(picture)
    )
      desk.player.renewed();
    desk.bar.takesChanged();
    desk.frame();
    const kept = keptOf ? takeKept(before, picture, keptOf) : null;
    if (kept) {
      keptOf = null;
      await desk.goTo(state.station, true, kept);
    }
  }

  /**
   * A decision may let takes fall silent, as keeping does with the source, and its undo lets them sound.
   * @param {import("../store.js").Picture} before
   * @param {import("../store.js").Picture} now
   */
  function heedMutes(before, now) {
    const was = new Set(before.muted ?? []),
      is = new Set(now.muted ?? []);
    // What was set here meanwhile stands.
    const changed = [...new Set([...was, ...is])].filter(
      (id) => was.has(id) !== is.has(id) && was.has(id) === !!state.sound.mix[id]?.mute,
    );
    if (changed.length) desk.bar.change(Object.fromEntries(changed.map((id) => [id, { mute: is.has(id) }])));
  }

  /**
   * The take that was made of another one, or of a mic of its bundle, since an earlier picture.
   * @param {import("../store.js").Picture} before
   * @param {import("../store.js").Picture} now
   * @param {string} source
   * @returns {string | null}
   */
  function takeKept(before, now, source) {
    const known = new Set(before.takes.map((/** @type {any} */ take) => take.id)),
      fresh = now.takes.filter((/** @type {any} */ take) => take.source && !known.has(take.id));
    return (fresh.find((/** @type {any} */ take) => take.source === source) ?? fresh[0])?.id ?? null;
  }

  /** Names how everything sounds. @param {import("../store.js").Picture} picture */
  function soundOf(picture) {
    return JSON.stringify([
      desk.arrivals.soundOf(picture),
      (picture.parts ?? []).map((/** @type {any} */ part) => [part.id, part.sound]),
      picture.takes.map((/** @type {import("../wire.js").TakeFacts} */ take) => [take.id, take.sounds]),
      picture.fit && "names" in picture.fit ? picture.fit.names : null,
    ]);
  }

  return {
    act,
    refresh,
    offer,
    /** Whether a decision is on its way. */
    busy: () => acting > 0,
    /** Whether decisions were refused that can be applied again. */
    refused: () => refused.length > 0,
    /** Fetch what is true now, after what is on its way. */
    later: () => {
      queue = refresh().catch(words.trouble);
      return queue;
    },
    idle: () => queue,
    /** The take that is made of this one is to be shown as soon as it is there. @param {string} source */
    showKept: (source) => {
      keptOf = source;
    },
  };
}
