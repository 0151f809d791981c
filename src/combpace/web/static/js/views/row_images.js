// @ts-check
// Rows of sound, painted once and shown again while one scrolls; while one zooms they are stretched, and
// painted anew when it ends.

/**
 * @typedef {{kept: unknown[], rows: Map<number, {image: HTMLCanvasElement, part: number | null}>}} Store
 *   part: what had come in when only a part of it could be painted
 */

// Heights that rows are painted at while they are zoomed; any height between is one of these, stretched.
const HEIGHTS = [6, 9, 13, 19, 28, 42, 63, 94, 140, 200, 280];
// Zooming has ended when the height stood still for so long, ms.
const STILL_MS = 120;
const MOST_BYTES = 64e6;

/** @param {() => void} ask draws again, when a stretched picture is to be painted anew */
export function makeRowImages(ask) {
  /** @type {Store} */
  const exact = { kept: [], rows: new Map() };
  /** @type {Map<number, Store>} */
  const zoomed = new Map();
  let height = 0,
    still = true,
    timer = 0;

  /**
   * The same store while nothing changed that its rows are painted from.
   * @param {Store} store
   * @param {unknown[]} from
   */
  function of(store, from) {
    if (store.kept.length !== from.length || store.kept.some((one, k) => one !== from[k])) {
      store.kept = from;
      store.rows.clear();
    }
    return store;
  }

  return {
    /** Before each picture. @param {number} tall */
    begin(tall) {
      if (height && tall !== height) {
        still = false;
        clearTimeout(timer);
        timer = window.setTimeout(() => {
          still = true;
          zoomed.clear();
          ask();
        }, STILL_MS);
      }
      height = tall;
    },
    /**
     * A row's picture, painted where it is not there yet.
     * @param {CanvasRenderingContext2D} g
     * @param {number} row
     * @param {{x: number, y: number, wide: number, tall: number}} where
     * @param {unknown[]} from what the rows are painted from
     * @param {number} arrived counts what came in
     * @param {(g: CanvasRenderingContext2D, tall: number) => boolean} paint on a canvas of its own, x as in
     *   the picture, y from the row's upper edge; whether all of it was there
     */
    draw(g, row, where, from, arrived, paint) {
      const ratio = window.devicePixelRatio || 1;
      const tall = still ? where.tall : (HEIGHTS.find((one) => one >= where.tall) ?? where.tall);
      let store = exact;
      if (!still) {
        store = zoomed.get(tall) ?? { kept: [], rows: new Map() };
        zoomed.set(tall, store);
      }
      of(store, [...from, tall, where.wide, ratio]);
      const found = store.rows.get(row),
        image = found?.image ?? document.createElement("canvas");
      if (!found || (found.part !== null && found.part !== arrived)) {
        image.width = Math.ceil(where.wide * ratio);
        image.height = Math.ceil(tall * ratio);
        const own = /** @type {CanvasRenderingContext2D} */ (image.getContext("2d"));
        own.setTransform(ratio, 0, 0, ratio, -where.x * ratio, 0);
        const whole = paint(own, tall),
          most = MOST_BYTES / (4 * image.width * image.height);
        if (store.rows.size >= most)
          store.rows.delete(/** @type {number} */ (store.rows.keys().next().value));
        store.rows.set(row, { image, part: whole ? null : arrived });
      }
      g.drawImage(
        image,
        where.x,
        Math.round(where.y * ratio) / ratio,
        image.width / ratio,
        (image.height / ratio) * (where.tall / tall),
      );
    },
  };
}
