// @ts-check
// Peaks of takes in tiles, fetched as they come into view.
import { binary } from "./client.js";

const TILE_BINS = 8192;
const MOST_TILES = 400;

/** @typedef {{low: number, high: number}} Range */

export class Peaks {
  /** @param {() => void} onArrive called when something new can be drawn */
  constructor(onArrive) {
    this.onArrive = onArrive;
    /** @type {Map<string, Int16Array | null>} */
    this.tiles = new Map();
    /** Counts what came in: what was drawn before is not whole. */
    this.arrived = 0;
    /**
     * The tile that was asked for last: a picture asks for the same one a thousand times.
     * @type {{take: string, size: number, tile: number, data: Int16Array | null}}
     */
    this.last = { take: "", size: 0, tile: -1, data: null };
  }

  /**
   * A tile, or null while it is on its way.
   * @param {string} take
   * @param {number} size frames a bin
   * @param {number} tile
   */
  tile(take, size, tile) {
    const { last } = this;
    if (last.data && last.tile === tile && last.size === size && last.take === take) return last.data;
    const key = `${take}:${size}:${tile}`;
    const found = this.tiles.get(key);
    if (found) this.last = { take, size, tile, data: found };
    if (found !== undefined) return found;
    this.tiles.set(key, null);
    binary(`/api/takes/${take}/peaks?size=${size}&first=${tile * TILE_BINS}&count=${TILE_BINS}`)
      .then(({ data }) => {
        this.tiles.set(key, new Int16Array(data));
        if (this.tiles.size > MOST_TILES)
          this.tiles.delete(/** @type {string} */ (this.tiles.keys().next().value));
        this.arrived++;
        this.onArrive();
      })
      .catch(() => setTimeout(() => this.tiles.delete(key), 2000));
    return null;
  }

  /**
   * Lowest and highest sample (-1..1) in frames [from, to) of a take; null while unknown.
   * @param {string} take
   * @param {number} size
   * @param {number} from
   * @param {number} to
   * @param {number[]} out [low, high]
   * @returns {boolean} whether out was filled
   */
  range(take, size, from, to, out) {
    let first = Math.floor(from / size);
    const last = Math.max(first + 1, Math.ceil(to / size));
    if (last <= 0) {
      out[0] = out[1] = 0;
      return true;
    }
    first = Math.max(0, first);
    let low = 32767,
      high = -32768;
    for (let bin = first; bin < last; bin++) {
      const tile = this.tile(take, size, Math.floor(bin / TILE_BINS));
      if (!tile) return false;
      const at = (bin % TILE_BINS) * 2;
      if (at + 1 >= tile.length) break;
      if (tile[at] < low) low = tile[at];
      if (tile[at + 1] > high) high = tile[at + 1];
    }
    if (high < low) {
      out[0] = out[1] = 0;
      return true;
    }
    out[0] = low / 32768;
    out[1] = high / 32768;
    return true;
  }
}
