// A long session's picture comes in short and becomes what the views draw from.
import assert from "node:assert/strict";
import { test } from "node:test";
import {
  filled,
  floats,
  rowsOf,
  stepped,
  unpacked,
  within,
} from "../../src/combpace/web/static/js/ranges.js";
import { makeMap } from "../../src/combpace/web/static/js/views/map.js";

const packed = (values) => {
  const view = new DataView(new ArrayBuffer(8 * values.length));
  values.forEach((one, k) => view.setFloat64(8 * k, one, true));
  return Buffer.from(view.buffer).toString("base64");
};
const part = (t, pegs, source) => ({
  onsets: { a: { t, s: t.map(() => 0.5), c: t.map(() => 0.9) } },
  fit: { pegs, riding: [], pauses: [], source, target: source.map((one) => one + 1) },
});
const picture = () => ({
  ranged: { s: 10, count: 3, parts: { 0: part([1, 9], [[1], [9]], [0, 1, 9, 12]) } },
  takes: [{ id: "a", offset_s: 2 }],
  map: {
    times: packed([0, 2, 4.5]),
    quarters: {
      from: 0,
      steps: [
        [4, 1],
        [3, 1],
      ],
    },
    meters: [
      [0, 4, 4, 1],
      [1, 3, 3, 1],
    ],
  },
  names: ["4/4", "3/4"],
  bars: { i: -1, s: [-2, 0, 2], e: 4.5, bpm: [120, 120, 72], drift: [null, 0.1, -3], sure: [0.2, 1, 0.9] },
  fit: { take: "a", edges: [11, 21] },
  onsets: {},
});

test("floats come back to the last bit, even steps are added up", () => {
  assert.deepEqual(floats(packed([0.1, -1e-300, Math.PI])), [0.1, -1e-300, Math.PI]);
  assert.deepEqual(
    stepped({
      from: 1,
      steps: [
        [0.5, 3],
        [1, 1],
      ],
    }),
    [1, 1.5, 2, 2.5, 3.5],
  );
  assert.deepEqual(stepped(packed([0, 1 / 3])), [0, 1 / 3]);
});

test("bars from their columns, through a change of meter and before bar 1", () => {
  const made = unpacked(picture(), makeMap);
  assert.deepEqual(
    made.bars.map((bar) => [bar.i, bar.n, bar.q, bar.len, bar.beats, bar.meter, bar.s, bar.e]),
    [
      [-1, -1, -4, 4, 4, "4/4", -2, 0],
      [0, 1, 0, 4, 4, "4/4", 0, 2],
      [1, 2, 4, 3, 3, "3/4", 2, 4.5],
    ],
  );
  assert.equal(made.bars[2].drift, -3);
  assert.equal(
    rowsOf({ i: 0, s: [], e: 0, bpm: [], drift: [], sure: [] }, makeMap(made.map), ["4/4"]).length,
    0,
  );
});

test("ranges that come later are put in their order, shared points once", () => {
  const made = unpacked(picture(), makeMap);
  assert.deepEqual(made.onsets.a.t, [1, 9]);
  filled(made, { 2: part([25], [[25]], [18, 25, 30]) });
  filled(made, { 1: part([12, 18], [[12], [18]], [9, 12, 18, 25]) });
  assert.deepEqual(made.onsets.a.t, [1, 9, 12, 18, 25]);
  assert.deepEqual(made.fit.pegs, [[1], [9], [12], [18], [25]]);
  assert.deepEqual(made.fit.source, [0, 1, 9, 12, 18, 25, 30]);
  assert.deepEqual(made.fit.target, [1, 2, 10, 13, 19, 26, 31]);
});

test("which ranges lie in a stretch: as played, and as the fit takes them there", () => {
  const made = unpacked(picture(), makeMap);
  assert.deepEqual(within(made, 3, 4), [0]);
  // Two seconds later than its own clock; by the fit the second range begins at 11.
  assert.deepEqual(within(made, 11.5, 11.6), [0, 1]);
  assert.deepEqual(within(made, -Infinity, Infinity), [0, 1, 2]);
  assert.deepEqual(within(made, 900, 901), [2]);
});

test("a picture that is whole stays as it is, one without a map has marks", () => {
  const whole = { bars: [] };
  assert.equal(unpacked(whole, makeMap), whole);
  const bare = unpacked({ ...picture(), map: null, bars: [], fit: null }, makeMap);
  assert.deepEqual(bare.onsets.a.t, [1, 9]);
  assert.deepEqual(unpacked({ ...picture(), fit: { missing: "no pulse" } }, makeMap).fit, {
    missing: "no pulse",
  });
});
