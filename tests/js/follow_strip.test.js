import assert from "node:assert/strict";
import { test } from "node:test";
import { linesOf, makeFollowStrip, pulledTo } from "../../src/combpace/web/static/js/views/follow_strip.js";

const map = {
  toSeconds: (q) => 1 + q / 2,
  toQuarters: (s) => (s - 1) * 2,
  barLine: (k) => 4 * k,
  barOf: (q) => Math.floor(q / 4),
};

test("bar lines of a strip reach two bars beyond its end, and back to where the loop begins", () => {
  const { first, lines } = linesOf(map, [1, 5, 9], 7);
  assert.equal(first, 0);
  assert.deepEqual([lines[0], lines[lines.length - 1]], [1, 13]);
  assert.equal(linesOf(map, [-3, 1], 3).first, -2);
});

test("the end of one round, the far end and the body are told apart", () => {
  const lines = [0, 2, 4, 6, 8, 10],
    strip = makeFollowStrip({ width: 500, lines, rounds: [2, 4, 6, 8] });
  assert.equal(strip.hit(200), "length");
  assert.equal(strip.hit(400), "end");
  assert.equal(strip.hit(330), "body");
  assert.equal(strip.hit(40), null);
  const once = makeFollowStrip({ width: 500, lines, rounds: [0, 4] });
  assert.deepEqual([once.hit(196), once.hit(204)], ["length", "end"]);
});

test("a pull ends on bar lines, never before the loop begins", () => {
  assert.deepEqual(pulledTo("body", 3, 6, 2), { kind: "first", bar: 5 });
  assert.deepEqual(pulledTo("length", 3, 6, 2), { kind: "length", bar: 4 });
  assert.deepEqual(pulledTo("end", 3, 6, 2), { kind: "until", bar: 6 });
  assert.equal(pulledTo("end", 3, 2, 2), null);
});
