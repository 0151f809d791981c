// The player on a clock of our own: what is scheduled when, in whole frames.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { beforeEach, test } from "node:test";
import { beatsBetween, clickSamples } from "../../src/combpace/web/static/js/player/click.js";
import { makeMap } from "../../src/combpace/web/static/js/views/map.js";

const RATE = 48000;
const clicks = JSON.parse(readFileSync(new URL("click_vectors.json", import.meta.url)));

class Param {
  constructor() {
    this.value = 1;
    this.steps = [];
  }
  setTargetAtTime(value) {
    this.value = value;
  }
  setValueAtTime(value, at) {
    this.value = value;
    this.steps.push([value, at]);
  }
  linearRampToValueAtTime(value, at) {
    this.value = value;
    this.steps.push([value, at]);
  }
}
class Node {
  constructor() {
    this.gain = new Param();
    this.pan = new Param();
  }
  connect(to) {
    return to;
  }
  disconnect() {}
}
class FakeContext {
  constructor() {
    this.sampleRate = RATE;
    this.currentTime = 10;
    this.state = "running";
    this.destination = {};
    this.started = [];
  }
  async resume() {}
  createGain() {
    return new Node();
  }
  createStereoPanner() {
    return new Node();
  }
  createBuffer(channels, length) {
    const data = new Float32Array(length).fill(loudness);
    return {
      length,
      numberOfChannels: channels,
      copyToChannel(samples) {
        data.set(samples.slice(0, length));
      },
      getChannelData: () => data,
    };
  }
  createBufferSource() {
    const context = this,
      node = new Node();
    node.start = (when, offset = 0, duration) =>
      context.started.push({
        node,
        buffer: node.buffer,
        frame: Math.round(when * RATE),
        exact: when * RATE,
        offset,
        duration,
        stopped: null,
      });
    node.stop = (when) => {
      const one = context.started.find((entry) => entry.node === node);
      if (one) one.stopped = when ?? 0;
    };
    return node;
  }
}

let loudness = 0;
const fetched = [];
globalThis.window = globalThis;
globalThis.AudioContext = FakeContext;
globalThis.performance ??= { now: () => Date.now() };
// What the server calls the sounds of take "a" now; null: whatever is asked for is right.
let nowCalled = null;
globalThis.fetch = async (path) => {
  fetched.push(path);
  const name = /takes\/a\/.*&v=([^&]*)/.exec(path)?.[1];
  if (nowCalled && name !== undefined && name !== nowCalled)
    return { ok: false, status: 409, json: async () => ({ v: nowCalled }) };
  return {
    ok: true,
    arrayBuffer: async () => new ArrayBuffer(RATE * 2 * 4),
    headers: new Map([["X-Channels", "1"]]),
  };
};
const { Player } = await import("../../src/combpace/web/static/js/player/player.js");

const map = makeMap({ times: [0.25, 0.25 + 2048], quarters: [0, 4096], meters: [[0, 4, 4, 1]] });
let voices, player;

beforeEach(() => {
  fetched.length = 0;
  nowCalled = null;
  voices = [
    { id: "a", played: ["s", "s slowed"], fit: ["f", "f slowed"] },
    { id: "b", played: ["t", "t slowed"], fit: null },
  ];
  player = new Player("session", {
    voices: () => voices,
    map: () => map,
    onChange() {},
    onTrouble(text) {
      throw new Error(text);
    },
  });
});

const settle = () => new Promise((done) => setTimeout(done, 5));
const started = () => player.context.started;
const ofTakes = () => started().filter((one) => one.buffer.length === 2 * RATE);
const ofClicks = () => started().filter((one) => one.buffer.length < RATE);

test("the click is Python's, its first sample is the attack", () => {
  for (const downbeat of [false, true]) {
    const ours = clickSamples(RATE, downbeat);
    clicks[String(downbeat)].forEach((value, k) => assert.ok(Math.abs(ours[k] - value) < 1e-6));
    assert.ok(Math.abs(ours[0]) > 0.5);
  }
});

test("beats of a stretch of time, half open", () => {
  assert.deepEqual(
    beatsBetween(map, 0.25, 1.25).map((beat) => [beat.time, beat.downbeat]),
    [
      [0.25, true],
      [0.75, false],
    ],
  );
  assert.equal(
    beatsBetween(map, -2, 0).every((beat) => beat.time < 0),
    true,
  );
});

test("takes and clicks start on whole frames of one clock", async () => {
  await player.play(0.5);
  await settle();
  player.halt();
  const [first] = player.context.started;
  assert.ok(first);
  const base = Math.min(...ofTakes().map((one) => one.frame));
  for (const one of started())
    assert.ok(Math.abs(one.exact - one.frame) < 1e-6, "a fraction of a frame smears a click");
  assert.equal(ofTakes().filter((one) => one.frame === base).length, 2);
  for (const one of ofTakes().filter((entry) => entry.frame === base))
    assert.ok(Math.abs(one.offset - 0.5) < 1e-9);
  // Beats at 0.75, 1.25, 1.75 s: a quarter of a second after the start and every half second.
  assert.deepEqual(
    ofClicks()
      .slice(0, 2)
      .map((one) => one.frame - base),
    [12000, 36000],
  );
});

test("a loop joins without a frame lost or doubled", async () => {
  player.setLoop([0.5, 1.1]);
  await player.play(0.5);
  for (let k = 0; k < 60; k++) {
    player.context.currentTime += 0.04;
    player.tick();
  }
  player.halt();
  const pieces = ofTakes()
    .filter((one, k, all) => all.findIndex((other) => other.frame === one.frame) === k)
    .sort((a, b) => a.frame - b.frame);
  assert.ok(pieces.length > 3);
  for (let k = 1; k < pieces.length; k++) {
    assert.equal(pieces[k].frame, pieces[k - 1].frame + Math.round(pieces[k - 1].duration * RATE));
    assert.ok(Math.abs(pieces[k].offset - 0.5) < 1e-9);
  }
});

test("original and fitted are other sounds at the same place", async () => {
  await player.play(0);
  await settle();
  const before = player.context.started.length,
    position = player.position();
  player.setFitted(true);
  await settle();
  player.halt();
  assert.ok(player.context.started.length > before);
  assert.ok(fetched.some((path) => path.includes("/a/sound") && path.includes("fitted=true")));
  assert.ok(
    !fetched.some((path) => path.includes("/b/sound") && path.includes("fitted=true")),
    "a take without a fit sounds as it was played",
  );
  assert.ok(Math.abs(player.rest - position) < 0.2 || player.rest === 0);
});

test("mute and solo choose who is scheduled", async () => {
  player.mix.set("a", { level: 0, pan: 0, mute: true, solo: false });
  assert.deepEqual(
    player.audible().map((voice) => voice.id),
    ["b"],
  );
  player.mix.set("a", { level: 0, pan: 0, mute: true, solo: true });
  assert.deepEqual(
    player.audible().map((voice) => voice.id),
    ["a"],
  );
});

test("a range plays once and stops at its end", async () => {
  await player.play(1, 1.3);
  for (let k = 0; k < 20; k++) {
    player.context.currentTime += 0.05;
    player.tick();
  }
  assert.equal(player.playing, false);
  assert.ok(Math.abs(player.rest - 1.3) < 1e-3);
});

test("what comes after a range comes once, and not when it was stopped", async () => {
  let after = 0;
  await player.play(1, 1.2, () => {
    after++;
  });
  for (let k = 0; k < 20; k++) {
    player.context.currentTime += 0.05;
    player.tick();
  }
  assert.equal(after, 1);
  await player.play(1, 1.2, () => {
    after++;
  });
  player.stop();
  for (let k = 0; k < 20; k++) {
    player.context.currentTime += 0.05;
    player.tick();
  }
  assert.equal(after, 1);
});

test("slowed, the session's clock runs at the speed", async () => {
  player.setSpeed(0.5);
  await player.play(1);
  await settle();
  const at = player.position();
  player.context.currentTime += 1;
  assert.ok(Math.abs(player.position() - at - 0.5) < 0.02);
  assert.ok(fetched.every((path) => path.includes("speed=0.5")));
  player.halt();
});

test("segments are fetched once, and the oldest go when there is no room", async () => {
  await player.play(0);
  await settle();
  player.halt();
  const count = fetched.length;
  await player.play(0);
  await settle();
  player.halt();
  assert.equal(fetched.length, count);
  player.segments.bytes = 1e9;
  await player.fetch(voices[0], 40);
  assert.ok(player.segments.ready.size <= 1);
});

test("what would go over full scale together is lowered before it sounds, and said by how much", async () => {
  // The buffers of the fake wire are silent: these are as loud as nine takes at once.
  const full = (/** @type {number} */ level) => ({
    length: RATE * 2,
    numberOfChannels: 1,
    getChannelData: () => new Float32Array(RATE * 2).fill(level),
  });
  player.ready();
  player.clickOn = false;
  voices = Array.from({ length: 9 }, (_, k) => ({ id: `t${k}`, played: ["s", "s"], fit: null }));
  player.segments.now = () => full(0.14);
  player.guard(voices, 0);
  assert.ok(Math.abs(player.headroom - 0.985 / 1.26) < 1e-6);
  assert.equal(player.master.gain.value, player.headroom);
  // Softer segments leave it there; changed levels are measured anew.
  player.segments.now = () => full(0.01);
  player.guard(voices, 1);
  assert.ok(player.headroom < 0.8);
  player.heed({
    loop: null,
    speed: 1,
    fitted: false,
    click: false,
    clickDb: -9,
    mix: { t0: { level: -6, pan: 0, mute: false, solo: false } },
  });
  assert.equal(player.headroom, 1);
  voices = voices.slice(0, 1);
  player.segments.now = () => full(0.99);
  player.guard(voices, 2);
  assert.equal(player.headroom, 1, "one take alone is heard as it is");
});

test("one sound alone fades in and out over 10 ms; a range that is merely played does not", async () => {
  await player.play(0.5, 1.2, null, true);
  await settle();
  const one = [...player.sounding].find((entry) => entry.envelope?.gain.steps.length),
    from = ofTakes()[0].exact / RATE;
  const steps = one.envelope.gain.steps;
  assert.deepEqual(
    steps.map(([value]) => value),
    [0, 1, 1, 0],
  );
  [from, from + 0.01, from + 0.69, from + 0.7].forEach((at, k) =>
    assert.ok(Math.abs(steps[k][1] - at) < 1e-4, `${steps[k][1]} for ${at}`),
  );
  player.stop();
  await player.play(0.5, 1.2);
  await settle();
  assert.ok([...player.sounding].every((entry) => !entry.envelope?.gain.steps.length));
  player.stop();
});

test("a loop has no step at its seam: its end dies away in 3 ms, its start comes up in 1.5", async () => {
  player.setLoop([0.5, 1.0]);
  await player.play(0.5);
  await settle();
  const steps = [...player.sounding]
    .filter((entry) => entry.envelope)
    .map((entry) => entry.envelope.gain.steps);
  assert.ok(steps.length > 0);
  for (const [up0, up1, down0, down1] of steps) {
    assert.deepEqual([up0[0], up1[0], down0[0], down1[0]], [0, 1, 1, 0]);
    assert.ok(Math.abs(up1[1] - up0[1] - 0.0015) < 1e-6 && Math.abs(down1[1] - down0[1] - 0.003) < 1e-6);
  }
  player.stop();
});

test("marks tick where they are wished, on their frames, slowed as the sound is", async () => {
  let wished = [0.5, 0.8, 1.0003];
  player = new Player("session", {
    voices: () => voices,
    map: () => null,
    ticks: () => wished,
    onChange() {},
    onTrouble(text) {
      throw new Error(text);
    },
  });
  player.heed({ loop: null, speed: 0.5, fitted: false, click: false, clickDb: -9, mix: {} });
  await player.play(0.5);
  await settle();
  const ticks = ofClicks(),
    first = player.runs[0];
  // .9 s ahead are scheduled: at half speed .45 s of the session.
  assert.deepEqual(
    ticks.map((one) => one.frame - first.ctx),
    [0, Math.round(0.6 * RATE)],
  );
  assert.equal(
    ticks.every((one) => one.buffer.length === Math.round(0.012 * RATE)),
    true,
  );
  wished = [];
  player.again();
  assert.equal(ofClicks().length, 2);
  player.stop();
});

test("sound that is another by now is asked for by its new name, and what sounds goes on until then", async () => {
  voices = voices.slice(0, 1);
  let asked = 0;
  player = new Player("session", {
    voices: () => voices,
    map: () => map,
    onChange() {},
    onTrouble(text) {
      throw new Error(text);
    },
    async onOther() {
      asked++;
      voices = [{ ...voices[0], played: ["s2", "s2"] }];
    },
  });
  player.clickOn = false;
  await player.play(0);
  await settle();
  assert.equal(ofTakes().length, 1);
  // Decided elsewhere: what comes is refused under its old name.
  nowCalled = "s2";
  player.context.currentTime += 1.3;
  player.tick();
  await settle();
  const [old, ...fresh] = ofTakes().map((one) => ({ ...one }));
  player.halt();
  assert.equal(asked, 1);
  // The old sound goes on until the other one is at hand, which begins before it has faded out.
  assert.ok(old.stopped > 11.3, `stopped at ${old.stopped}`);
  const joins = fresh.find((one) => one.stopped === null && one.frame / RATE <= old.stopped);
  assert.ok(joins && old.stopped - joins.frame / RATE < 0.02);
  assert.ok(fetched.some((path) => path.includes("v=s2")));
});

test("a picture that does not know the new name either is not asked for all the time", async () => {
  voices = voices.slice(0, 1);
  let asked = 0;
  player = new Player("session", {
    voices: () => voices,
    map: () => map,
    onChange() {},
    onTrouble() {},
    async onOther() {
      asked++;
    },
  });
  nowCalled = "s2";
  await player.play(0);
  for (let k = 0; k < 5; k++) {
    player.tick();
    await settle();
  }
  player.halt();
  assert.equal(asked, 1);
});
