// @ts-check
// The player: one AudioContext for the life of the page. Sound and click are scheduled on its clock, in whole
// frames.
import { beatsBetween, clickSamples, tickSamples } from "./click.js";
import { lowerBound } from "../views/comb_geometry.js";
import { fadeEnds, running } from "./starting.js";
import { SEGMENT_S, Segments } from "./segments.js";
import { Names, OTHER } from "./voices.js";

const LOOKAHEAD_S = 0.9,
  TICK_MS = 40,
  START_S = 0.03,
  WAIT_MS = 70;
// The mix is lowered before it would go over full scale, and stays there until the levels are changed.
const FULL = 0.985,
  LOWER_S = 0.004;
// A switch between original and fitted fades over so long, and waits so long for what is not there yet.
const FADE_S = 0.008,
  SWITCH_MS = 4000;
// Where a loop comes round its end dies away and its start comes up in this: no step, and the attack on its
// first line stays sharp.
const SEAM_OUT_S = 0.003,
  SEAM_IN_S = 0.0015;
// One sound by itself begins and ends in this, so that no neighbour is heard as a click.
const ALONE_S = 0.01;

/** @typedef {import("./voices.js").Voice} Voice @typedef {import("./voices.js").Run} Run */

export class Player {
  /**
   * @param {string} session
   * @param {{voices: () => Voice[], map: () => (import("../views/map.js").TempoMap | null), ticks?: () =>
   *   number[], onChange: () => void, onTrouble: (text: string) => void, onOther?: () => Promise<void>}} host
   *   ticks: session seconds at which a tick sounds, in order; onOther: what sounds is another by now, until
   *   `voices` says so
   */
  constructor(session, host) {
    this.session = session;
    this.host = host;
    /** @type {AudioContext | null} */
    this.context = null;
    this.segments = new Segments();
    this.playing = false;
    /** A start is on its way: its sound is being fetched. */
    this.starting = false;
    this.speed = 1;
    this.fitted = false;
    this.clickOn = true;
    this.clickDb = -9;
    /** @type {[number, number] | null} session seconds */
    this.loop = null;
    /** @type {number | null} session seconds at which to stop */
    this.until = null;
    /** Which change of what sounds is the latest: original or fitted, or another sound. */
    this.switching = 0;
    this.names = new Names(
      () => host.voices().map((voice) => this.key(voice, 0)),
      () => host.onOther?.() ?? Promise.resolve(),
      () => this.renewed(),
    );
    /** From which frame of the context on what begins fades in; 0 for nothing. */
    this.fadeFrom = 0;
    /** @type {[number, number] | null} frames between which one sound is heard by itself, faded */
    this.alone = null;
    /** @type {(() => void) | null} what comes when that was reached; not when it was stopped before */
    this.after = null;
    this.rest = 0;
    /** @type {Run[]} */
    this.runs = [];
    this.cursor = 0;
    this.scheduled = 0;
    this.start = 0;
    this.turn = 0;
    /** @type {Set<{node: AudioBufferSourceNode, at: number, envelope?: GainNode}>} */
    this.sounding = new Set();
    /** @type {Map<string, {gain: GainNode, pan: StereoPannerNode}>} */
    this.strips = new Map();
    /** @type {Map<string, import("./voices.js").Strip>} */
    this.mix = new Map();
    /** By how much the mix is lowered so that it does not clip: 1 for not at all. */
    this.headroom = 1;
    /** @type {Set<string>} segments that were measured at these levels */
    this.measured = new Set();
    this.timer = 0;
    /** @type {AudioBuffer[]} */
    this.clicks = [];
    this.loudestClick = 0;
    /** Milliseconds from the press to the first sound, for bench/feel. */
    this.lastStartMs = 0;
  }

  /** The context, made by the first gesture. */
  ready() {
    if (!this.context) {
      const context = new AudioContext({ latencyHint: "interactive" });
      this.context = context;
      this.master = context.createGain();
      this.master.connect(context.destination);
      this.clickGain = context.createGain();
      this.clickGain.connect(this.master);
      this.clicks = [false, true].map((downbeat) => {
        const samples = clickSamples(context.sampleRate, downbeat);
        const buffer = context.createBuffer(1, samples.length, context.sampleRate);
        buffer.copyToChannel(samples, 0);
        this.loudestClick = Math.max(this.loudestClick, ...samples.map(Math.abs));
        return buffer;
      });
      const tick = tickSamples(context.sampleRate);
      this.tickBuffer = context.createBuffer(1, tick.length, context.sampleRate);
      this.tickBuffer.copyToChannel(tick, 0);
      this.applyMix();
    }
    return this.context;
  }

  get rate() {
    return this.context?.sampleRate ?? 48000;
  }

  /** Session seconds to frames of the scaled clock. @param {number} seconds */
  frames(seconds) {
    return Math.round((seconds / this.speed) * this.rate);
  }

  /** @param {number} frame */
  seconds(frame) {
    return (frame / this.rate) * this.speed;
  }

  /** Session time that sounds now. */
  position() {
    if (!this.playing || !this.context) return this.rest;
    const heard = (this.context.currentTime - (this.context.outputLatency || 0)) * this.rate;
    let found = this.runs[0];
    for (const run of this.runs) if (run.ctx <= heard) found = run;
    if (!found) return this.rest;
    return this.seconds(found.pos + Math.min(found.length, Math.max(0, heard - found.ctx)));
  }

  /** @param {Voice} voice */
  asFitted(voice) {
    return (this.fitted || voice.always === true) && voice.fit !== null;
  }

  /** @param {Voice} voice @param {number} number */
  key(voice, number) {
    return `${voice.id}|${voice.trial ?? this.nameOf(voice)}|${this.speed}|${number}`;
  }

  /** What the server calls the sound of a voice. @param {Voice} voice */
  nameOf(voice) {
    const names = this.asFitted(voice) ? (voice.fit ?? voice.played) : voice.played;
    return names[this.speed === 1 ? 0 : 1];
  }

  /** @param {Voice} voice @param {number} number */
  fetch(voice, number) {
    const fitted = this.asFitted(voice),
      name = this.nameOf(voice),
      context = this.ready();
    const path =
      `/api/sessions/${this.session}/takes/${voice.id}/sound?segment=${number}&rate=` +
      `${context.sampleRate}&fitted=${fitted}&speed=${this.speed}` +
      (voice.trial ? `&trial=${encodeURIComponent(voice.trial)}` : `&v=${name}`);
    return this.segments.fetch(context, this.key(voice, number), path).catch((error) => {
      if (error.status === OTHER && !voice.trial) this.names.wrong(this.key(voice, 0));
      throw error;
    });
  }

  /** Other sound is to be heard: what sounds goes on until it is at hand, and fades over. */
  renewed() {
    if (!this.playing) return;
    const turn = ++this.switching;
    this.soon(this.audible()).then(() => {
      if (turn === this.switching) this.again();
    });
  }

  /** Until what comes next of some voices is at hand, or has been waited for. @param {Voice[]} voices */
  soon(voices) {
    const first = Math.floor((this.position() + 0.1) / this.speed / SEGMENT_S);
    const coming = voices.flatMap((voice) => [this.fetch(voice, first), this.fetch(voice, first + 1)]);
    return Promise.race([Promise.allSettled(coming), new Promise((done) => setTimeout(done, SWITCH_MS))]);
  }

  /** Voices that are to be heard. */
  audible() {
    const voices = this.host.voices(),
      solo = voices.some((voice) => this.mix.get(voice.id)?.solo);
    return voices.filter((voice) => {
      const strip = this.mix.get(voice.id);
      return solo ? strip?.solo : !strip?.mute;
    });
  }

  /** Have the sound at a place at hand before it is asked for. @param {number} position */
  warm(position) {
    if (!this.context) return;
    for (const voice of this.audible())
      this.fetch(voice, Math.floor(position / this.speed / SEGMENT_S)).catch(() => {});
  }

  /**
   * Play from a session time.
   * @param {number} position
   * @param {number | null} [until] stop there
   * @param {(() => void) | null} [after] then
   * @param {boolean} [faded] both ends, up to `until`
   */
  async play(position, until = null, after = null, faded = false) {
    const pressed = performance.now(),
      context = this.ready();
    this.halt();
    this.starting = true;
    const turn = ++this.turn;
    this.until = until;
    this.after = after;
    this.alone = faded && until !== null ? [this.frames(position), this.frames(until)] : null;
    this.rest = position;
    if (this.loop && until === null && (position < this.loop[0] || position >= this.loop[1]))
      position = this.loop[0];
    const first = Math.floor(position / this.speed / SEGMENT_S);
    const coming = Promise.all(this.audible().map((voice) => this.fetch(voice, first).catch(() => null)));
    try {
      await Promise.race([
        Promise.all([coming, context.resume()]),
        new Promise((done) => setTimeout(done, WAIT_MS)),
      ]);
      if (context.state !== "running") await running(context);
    } finally {
      if (turn === this.turn) this.starting = false;
    }
    if (turn !== this.turn) return;
    this.playing = true;
    this.scheduled = Math.ceil((context.currentTime + START_S) * this.rate);
    this.cursor = this.frames(position);
    this.runs = [];
    this.lastStartMs = performance.now() - pressed + START_S * 1000;
    this.tick();
    this.timer = window.setInterval(() => this.tick(), TICK_MS);
    this.host.onChange();
  }

  /** It sounds, or will in a moment: what Space and the button stop. */
  get going() {
    return this.playing || this.starting;
  }

  stop() {
    if (!this.going) return;
    this.rest = this.position();
    this.after = null;
    this.turn++;
    this.halt();
    this.host.onChange();
  }

  halt() {
    this.playing = false;
    this.starting = false;
    clearInterval(this.timer);
    this.silence(0);
    this.runs = [];
  }

  /** Stop what sounds or is scheduled, from a frame on (0: now). @param {number} frame */
  silence(frame) {
    for (const one of this.sounding) {
      try {
        if (!frame || one.at >= frame) one.node.stop();
        else if (one.envelope) {
          // What sounds fades out while what comes fades in.
          const gain = one.envelope.gain,
            at = frame / this.rate;
          gain.setValueAtTime(1, at);
          gain.linearRampToValueAtTime(0, at + FADE_S);
          one.node.stop(at + FADE_S);
        } else one.node.stop(frame / this.rate);
      } catch {
        /* it has ended by itself */
      }
      if (!frame || one.at >= frame) {
        one.node.disconnect();
        this.sounding.delete(one);
      }
    }
  }

  /** @param {number} position */
  seek(position) {
    this.rest = position;
    if (this.going) this.play(position);
    else {
      this.warm(position);
      this.host.onChange();
    }
  }

  /** Something that is heard has changed: schedule anew from a moment ahead, without a gap. */
  again() {
    if (!this.playing || !this.context) return;
    const frame = Math.ceil((this.context.currentTime + 0.06) * this.rate);
    const run = [...this.runs].reverse().find((one) => one.ctx <= frame);
    if (!run) return;
    this.silence(frame);
    this.fadeFrom = frame;
    this.runs = this.runs.filter((one) => one.ctx < frame);
    run.length = Math.min(run.length, frame - run.ctx);
    this.cursor = run.pos + (frame - run.ctx);
    this.scheduled = frame;
    this.tick();
  }

  /**
   * What is set in the page's state: only what differs is heard anew.
   * @param {import("../store.js").Sound} sound
   */
  heed({ loop, speed, fitted, click, clickDb, mix }) {
    if (JSON.stringify(Object.fromEntries(this.mix)) !== JSON.stringify(mix)) {
      this.mix = new Map(Object.entries(mix));
      this.measureAnew();
      this.applyMix();
      this.again();
    }
    if (this.clickDb !== clickDb) {
      this.clickDb = clickDb;
      this.measureAnew();
      this.applyMix();
    }
    if (this.clickOn !== click) {
      this.clickOn = click;
      this.again();
    }
    if (this.speed !== speed) this.setSpeed(speed);
    if (this.fitted !== fitted) this.setFitted(fitted);
    if (JSON.stringify(this.loop) !== JSON.stringify(loop)) this.setLoop(loop);
  }

  /** @param {number} speed */
  setSpeed(speed) {
    const position = this.position(),
      was = this.going;
    if (was) this.stop();
    this.speed = speed;
    this.rest = position;
    if (was) this.play(position);
  }

  /** @param {[number, number] | null} loop */
  setLoop(loop) {
    this.loop = loop;
    if (this.playing && loop) {
      const position = this.position();
      if (position < loop[0] || position > loop[1]) this.play(loop[0]);
      else this.again();
    }
  }

  /**
   * Original or fitted: while it plays, what comes is at hand before the switch, and fades over.
   * @param {boolean} fitted
   */
  setFitted(fitted) {
    if (!this.playing) {
      this.fitted = fitted;
      return;
    }
    const was = this.fitted;
    this.fitted = fitted;
    const coming = this.soon(this.audible().filter((voice) => voice.fit !== null));
    // Until it is there, what sounded goes on sounding.
    this.fitted = was;
    const turn = ++this.switching;
    coming.then(() => {
      if (turn !== this.switching) return;
      this.fitted = fitted;
      this.again();
    });
  }

  tick() {
    const context = this.context;
    if (!context || !this.playing) return;
    const now = context.currentTime * this.rate;
    const loop =
      this.until === null && this.loop ? [this.frames(this.loop[0]), this.frames(this.loop[1])] : null;
    const end = this.until === null ? null : this.frames(this.until);
    if (end !== null && this.cursor >= end && now > this.scheduled) {
      this.rest = this.seconds(end);
      this.turn++;
      this.halt();
      this.host.onChange();
      const after = this.after;
      this.after = null;
      after?.();
      return;
    }
    const segment = SEGMENT_S * this.rate;
    let pieces = 0;
    while (this.scheduled < now + LOOKAHEAD_S * this.rate && pieces++ < 64) {
      if (end !== null && this.cursor >= end) break;
      if (loop && loop[1] - loop[0] > 200 && this.cursor >= loop[1]) this.cursor = loop[0];
      const number = Math.floor(this.cursor / segment);
      let stop = (number + 1) * segment;
      if (loop && this.cursor < loop[1]) stop = Math.min(stop, loop[1]);
      if (end !== null) stop = Math.min(stop, end);
      const run = { ctx: this.scheduled, pos: this.cursor, length: stop - this.cursor };
      this.runs.push(run);
      const voices = this.audible();
      this.guard(voices, number);
      for (const voice of voices) this.sound(voice, number, run);
      this.scheduleClicks(run);
      this.scheduleTicks(run);
      this.scheduled += run.length;
      this.cursor = stop;
    }
    this.runs = this.runs.filter((run) => run.ctx + run.length > now - this.rate);
    // The next segment is on its way before it is needed.
    for (const voice of this.audible()) this.fetch(voice, Math.floor(this.cursor / segment)).catch(() => {});
  }

  /** @param {Voice} voice @param {number} number @param {Run} run */
  sound(voice, number, run) {
    const key = this.key(voice, number),
      buffer = this.segments.now(key),
      turn = this.turn;
    const begin = (/** @type {AudioBuffer} */ found) => {
      const context = this.context;
      if (
        !context ||
        !this.playing ||
        turn !== this.turn ||
        key !== this.key(voice, number) ||
        !this.runs.includes(run)
      )
        return;
      // What arrives late joins in where it would be by then.
      this.guard(this.audible(), number);
      const late = Math.max(0, Math.ceil((context.currentTime + 0.01) * this.rate) - run.ctx);
      if (late >= run.length) return;
      const node = context.createBufferSource();
      node.buffer = found;
      const envelope = context.createGain();
      if (
        this.fadeFrom &&
        Math.abs(run.ctx + late - this.fadeFrom) < 0.2 * this.rate &&
        run.ctx <= this.fadeFrom
      ) {
        envelope.gain.setValueAtTime(0, (run.ctx + late) / this.rate);
        envelope.gain.linearRampToValueAtTime(1, (run.ctx + late) / this.rate + FADE_S);
      }
      if (this.alone) fadeEnds(envelope.gain, run, late, this.rate, this.alone, ALONE_S, ALONE_S);
      else if (this.until === null && this.loop)
        fadeEnds(
          envelope.gain,
          run,
          late,
          this.rate,
          [this.frames(this.loop[0]), this.frames(this.loop[1])],
          SEAM_IN_S,
          SEAM_OUT_S,
        );
      node.connect(envelope).connect(this.strip(voice.id).gain);
      this.follow(node, run.ctx + late, envelope);
      node.start(
        (run.ctx + late) / this.rate,
        (run.pos + late - number * SEGMENT_S * this.rate) / this.rate,
        (run.length - late) / this.rate,
      );
    };
    if (buffer) begin(buffer);
    else
      this.fetch(voice, number)
        .then(begin)
        .catch((error) => error.status !== OTHER && this.host.onTrouble(String(error.message ?? error)));
  }

  /** The gain of a voice as it is set. @param {string} id */
  gainOf(id) {
    return 10 ** ((this.mix.get(id)?.level ?? 0) / 20);
  }

  /**
   * Measure what a segment comes to with all that sounds in it, the click too, and lower the mix where that
   * is over full scale.
   * @param {Voice[]} voices
   * @param {number} number
   */
  guard(voices, number) {
    const key = `${number}|${voices.map((voice) => this.key(voice, number)).join("|")}`;
    if (voices.length < 2 || this.measured.has(key)) return;
    const buffers = voices.map((voice) => this.segments.now(this.key(voice, number)));
    if (buffers.some((buffer) => !buffer)) return;
    this.measured.add(key);
    const length = Math.max(...buffers.map((buffer) => /** @type {AudioBuffer} */ (buffer).length));
    const total = new Float32Array(length),
      extra = this.clickOn || this.host.ticks?.().length ? 10 ** (this.clickDb / 20) * this.loudestClick : 0;
    let peak = 0;
    for (const channel of [0, 1]) {
      total.fill(0);
      voices.forEach((voice, k) => {
        const buffer = /** @type {AudioBuffer} */ (buffers[k]),
          data = buffer.getChannelData(Math.min(channel, buffer.numberOfChannels - 1)),
          gain = this.gainOf(voice.id);
        for (let frame = 0; frame < data.length; frame++) total[frame] += gain * data[frame];
      });
      for (let frame = 0; frame < length; frame++) {
        const value = Math.abs(total[frame]);
        if (value > peak) peak = value;
      }
    }
    if ((peak + extra) * this.headroom <= FULL) return;
    this.headroom = FULL / (peak + extra);
    this.applyHeadroom();
    this.host.onChange();
  }

  applyHeadroom() {
    if (this.context && this.master)
      this.master.gain.setTargetAtTime(this.headroom, this.context.currentTime, LOWER_S);
  }

  /** The levels were changed: what they come to is measured anew. */
  measureAnew() {
    this.measured.clear();
    this.headroom = 1;
    this.applyHeadroom();
  }

  /** @param {Run} run */
  scheduleClicks(run) {
    const map = this.host.map();
    if (!map || !this.clickOn) return;
    for (const beat of beatsBetween(map, this.seconds(run.pos - 1), this.seconds(run.pos + run.length + 1)))
      this.strike(this.clicks[beat.downbeat ? 1 : 0], beat.time, run);
  }

  /** @param {Run} run */
  scheduleTicks(run) {
    const times = this.host.ticks?.() ?? [],
      end = this.seconds(run.pos + run.length + 1);
    for (let k = lowerBound(times, this.seconds(run.pos - 1)); k < times.length && times[k] < end; k++)
      this.strike(this.tickBuffer, times[k], run);
  }

  /**
   * A click or tick, where it lies within a run.
   * @param {AudioBuffer | undefined} buffer
   * @param {number} time
   * @param {Run} run
   */
  strike(buffer, time, run) {
    const frame = this.frames(time) - run.pos;
    if (!this.context || !this.clickGain || !buffer || frame < 0 || frame >= run.length) return;
    const node = this.context.createBufferSource();
    node.buffer = buffer;
    node.connect(this.clickGain);
    this.follow(node, run.ctx + frame);
    node.start((run.ctx + frame) / this.rate);
  }

  /** @param {AudioBufferSourceNode} node @param {number} at @param {GainNode} [envelope] */
  follow(node, at, envelope) {
    const one = { node, at, envelope };
    this.sounding.add(one);
    node.onended = () => {
      this.sounding.delete(one);
      node.disconnect();
    };
  }

  /** @param {string} id */
  strip(id) {
    let found = this.strips.get(id);
    if (!found) {
      const context = this.ready();
      const gain = context.createGain(),
        pan = context.createStereoPanner();
      gain.connect(pan).connect(/** @type {GainNode} */ (this.master));
      found = { gain, pan };
      this.strips.set(id, found);
      this.applyMix();
    }
    return found;
  }

  /** Levels, pans and the click's level as they are set; mutes and solos change what is scheduled. */
  applyMix() {
    const context = this.context;
    if (!context || !this.clickGain) return;
    this.clickGain.gain.value = 10 ** (this.clickDb / 20);
    for (const [id, { gain, pan }] of this.strips) {
      const strip = this.mix.get(id);
      gain.gain.setTargetAtTime(strip ? 10 ** (strip.level / 20) : 1, context.currentTime, 0.01);
      pan.pan.value = strip?.pan ?? 0;
    }
  }
}
