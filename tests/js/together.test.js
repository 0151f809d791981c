// Strokes that several mics hear are one, the earliest.
import assert from "node:assert/strict";
import { test } from "node:test";
import { makeTogether } from "../../src/combpace/web/static/js/views/together.js";

test("what lies within 15 ms is one stroke, and belongs to the mic that heard it first", () => {
  const marks = {
    kick: { times: [1, 2], take: [0.9, 1.9], sure: [1, 0.8] },
    over: { times: [1.012, 1.5, 1.99], take: [1.012, 1.5, 1.99], sure: [0.5, 0.7, 0.6] },
  };
  const together = makeTogether({ marks: (id) => marks[id] });
  const made = together(["kick", "over"]);
  assert.deepEqual(made.times, [1, 1.5, 1.99]);
  assert.deepEqual(made.owner, ["kick", "over", "over"]);
  assert.deepEqual(made.take, [0.9, 1.5, 1.99]);
  assert.equal(together(["kick", "over"]), made, "the same while the marks are the same");
  marks.kick = { times: [3], take: [3], sure: [1] };
  assert.deepEqual(together(["kick", "over"]).times, [1.012, 1.5, 1.99, 3]);
});
