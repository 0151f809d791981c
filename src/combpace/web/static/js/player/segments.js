// @ts-check
// Sound of takes in segments of two seconds on the session's clock (divided by the speed), fetched ahead and
// kept while there is room.
import { binary } from "../api/client.js";

export const SEGMENT_S = 2;
const MOST_BYTES = 260e6;

export class Segments {
  constructor() {
    /** @type {Map<string, Promise<AudioBuffer>>} */
    this.waiting = new Map();
    /** @type {Map<string, AudioBuffer>} */
    this.ready = new Map();
    this.bytes = 0;
  }

  /** @param {string} key */
  now(key) {
    const found = this.ready.get(key);
    if (found) {
      this.ready.delete(key);
      this.ready.set(key, found);
    }
    return found ?? null;
  }

  /**
   * @param {AudioContext} context
   * @param {string} key
   * @param {string} path
   * @returns {Promise<AudioBuffer>}
   */
  fetch(context, key, path) {
    const here = this.ready.get(key);
    if (here) return Promise.resolve(here);
    const known = this.waiting.get(key);
    if (known) return known;
    const coming = binary(path)
      .then(({ data, headers }) => {
        const channels = Number(headers.get("X-Channels") ?? 1);
        const samples = new Float32Array(data),
          frames = samples.length / channels;
        const buffer = context.createBuffer(channels, frames, context.sampleRate);
        for (let channel = 0; channel < channels; channel++)
          buffer.copyToChannel(samples.subarray(channel * frames, (channel + 1) * frames), channel);
        this.ready.set(key, buffer);
        this.bytes += data.byteLength;
        for (const [old, one] of this.ready) {
          if (this.bytes <= MOST_BYTES) break;
          this.ready.delete(old);
          this.bytes -= one.length * one.numberOfChannels * 4;
        }
        return buffer;
      })
      .finally(() => this.waiting.delete(key));
    this.waiting.set(key, coming);
    return coming;
  }
}
