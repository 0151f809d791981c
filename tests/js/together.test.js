// Of the marks of one stroke the one that the server says stands for it.
import assert from "node:assert/strict";
import { test } from "node:test";
import { makeTogether } from "../../src/combpace/web/static/js/views/together.js";

test("marks that stand for their strokes are drawn, in order, each as that of its mic", () => {
  const marks = {
    kick: { times: [1, 2], take: [0.9, 1.9], sure: [1, 0.8], strength: [1, 1], joins: [true, false] },
    over: {
      times: [1.012, 1.5, 1.99],
      take: [1.012, 1.5, 1.99],
      sure: [0.5, 0.7, 0.6],
      strength: [1, 1, 1],
      joins: [false, true, true],
    },
  };
  const together = makeTogether({ marks: (id) => marks[id] });
  const made = together(["kick", "over"]);
  assert.deepEqual(made.times, [1, 1.5, 1.99]);
  assert.deepEqual(made.owner, ["kick", "over", "over"]);
  assert.deepEqual(made.take, [0.9, 1.5, 1.99]);
  assert.equal(together(["kick", "over"]), made, "the same while the marks are the same");
  marks.kick = { times: [3], take: [3], sure: [1], strength: [1], joins: [true] };
  assert.deepEqual(together(["kick", "over"]).times, [1.5, 1.99, 3]);
});
