// The weave of a map that is only tried, and a steady map turned about its bar 1.
import assert from "node:assert/strict";
import { test } from "node:test";
import { steadyTable, turned, weaveFrom } from "../../src/combpace/web/static/js/views/darkness.js";
import { makeMap } from "../../src/combpace/web/static/js/views/map.js";

const meters = [[0, 4, 4, 1]];

test("attacks on the beats of a steady map stand in columns", () => {
  // 120 a minute from 1 s on: a bar is 2 s; strokes on every line.
  const strength = new Uint8Array(1000);
  for (const at of [100, 300, 500, 700]) strength[at] = 200;
  const weave = weaveFrom(makeMap(steadyTable(120, 1, meters)), strength, 0, 100);
  assert.equal(weave.first, -1);
  const darkest = (row) => {
    const line = [...weave.dark.subarray(row * 100, (row + 1) * 100)];
    return line.indexOf(Math.max(...line));
  };
  // Row 0 is the bar before bar 1; an eighth of a bar is drawn beside it on both sides.
  for (const row of [1, 2, 3]) assert.equal(darkest(row), darkest(1));
  assert.equal(Math.max(...weave.dark), 200);
});

test("a loop that begins later, and silence", () => {
  const weave = weaveFrom(makeMap(steadyTable(120, 0, meters)), new Uint8Array(100), 2.5, 48);
  assert.deepEqual([weave.first, weave.rows], [1, 1]);
  assert.ok(weave.dark.every((one) => one === 0));
});

test("a map is turned about bar 1, wherever its table begins", () => {
  const made = turned({ times: [2, 4], quarters: [2, 6], meters }, 2),
    map = makeMap(made);
  assert.equal(map.toSeconds(0), 1);
  assert.equal(map.toSeconds(4), 2);
});
