// @ts-check
// Ranges of a long session's picture are fetched when they come into sight.
import { get } from "../api/client.js";
import { filled, unpacked, within } from "../ranges.js";
import { makeMap } from "../views/map.js";

// What lies so near to what is seen is fetched with it, seconds.
const NEAR_S = 20;
// What could not be fetched is asked for again after this, though each frame needs it.
const AGAIN_MS = 2000;

/** @param {any} desk */
export function makeRanges(desk) {
  const { state, session } = desk;
  /** What was asked for, of which picture. @type {{picture: any, asked: Set<number>}} */
  let now = { picture: null, asked: new Set() };
  /** What was in sight last, session seconds: fetched with the next picture. */
  let sight = [0, 0],
    coming = Promise.resolve();

  /** Whether the fit is drawn or heard. @param {string} station */
  const fitWanted = (station) => /** @type {any} */ (desk.stationOf(station)).fitted || state.sound.fitted;

  /**
   * The address of a picture's query.
   * @param {string} focus
   * @param {string | null} of
   * @param {string} station
   */
  const asks = (focus, of, station) => `focus=${focus}${of ? `&of=${of}` : ""}&fit=${fitWanted(station)}`;

  /** Fetch what is not there yet of a stretch of the session. @param {number} from @param {number} to */
  function need(from, to) {
    const { picture } = state;
    if (!picture.ranged) return;
    if (Number.isFinite(from) && Number.isFinite(to)) sight = [from, to];
    if (now.picture !== picture)
      now = { picture, asked: new Set(Object.keys(picture.ranged.parts).map(Number)) };
    const wanted = within(picture, from - NEAR_S, to + NEAR_S).filter((k) => !now.asked.has(k));
    if (!wanted.length) return;
    for (const k of wanted) now.asked.add(k);
    coming = coming
      .then(() => bring(picture, wanted))
      .catch((error) => {
        const { asked } = now;
        setTimeout(() => wanted.forEach((k) => asked.delete(k)), AGAIN_MS);
        desk.words.trouble(error);
      });
  }

  /** @param {import("../store.js").Picture} picture @param {number[]} wanted */
  async function bring(picture, wanted) {
    if (state.picture !== picture) return;
    const { version, parts } = await get(
      `/api/sessions/${session}/picture/ranges?at=${wanted.join()}&` +
        `${asks(picture.focus ?? "", desk.barsOf(), state.station)}`,
    );
    // Another picture has come meanwhile: it asks for its own.
    if (state.picture !== picture || version !== picture.version) return;
    filled(picture, parts);
    desk.host.forget();
    desk.pictures.draw();
    desk.pictures.drawSmall();
    desk.side.showChosen();
  }

  return {
    need,
    /** Whether all of a stretch is there. @param {number} from @param {number} to */
    has: (from, to) =>
      !state.picture.ranged ||
      within(state.picture, from, to).every((k) => String(k) in state.picture.ranged.parts),
    /**
     * What is to be drawn now: with the ranges in sight.
     * @param {string} focus
     * @param {string | null} of
     * @param {string} [station]
     */
    async picture(focus, of, station = state.station) {
      const at = state.picture.ranged ? `&at=${within(state.picture, sight[0], sight[1]).join()}` : "";
      return unpacked(
        await get(`/api/sessions/${session}/picture?short=true&${asks(focus, of, station)}${at}`),
        makeMap,
      );
    },
    /** Where the sound changed to the fitted one, and the picture does not know the fit: fetched. */
    heed() {
      const { ranged, map, fit, focus } = state.picture;
      if (ranged && map && focus && state.sound.fitted && !fit) desk.deciding.later();
    },
    settled: () => coming,
  };
}
