// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { pullRegion, regionWords } from "../../src/combpace/web/static/js/views/pull.js";

const LIMITS = [0.5, 2];
/**
 * The examples of tests/core/fit/test_pegs.py: all hold where they were played.
 * @returns {import("../../src/combpace/web/static/js/views/pull.js").Peg[]}
 */
const pegs = (/** @type {string} */ kind = "pulled") =>
  [0.5, 1, 1.2, 1.4, 2].map((time) => [time, time, time, 2 * time, time === 1.4 ? kind : "pulled"]);
const pulled = (/** @type {number} */ target, kind = "pulled") =>
  pullRegion(pegs(kind), { take: 1.2, own: 1.2, target });

test("a neighbour stands where it stands; pulled past, it gives way, and the next", () => {
  const late = pulled(1.38);
  assert.deepEqual([late.right?.gone, late.right?.to, late.left?.gone], [0, 1.4, 0]);
  assert.ok(Math.abs((late.right?.factor ?? 0) - 0.1) < 1e-9);
  assert.ok(Math.abs((late.left?.factor ?? 0) - 1.9) < 1e-9);
  assert.deepEqual([pulled(1.5).right?.gone, pulled(1.5).right?.to], [1, 2]);
  assert.deepEqual([pulled(0.9).left?.gone, pulled(0.9).left?.from], [1, 0.5]);
});

test("a peg by hand holds; where nothing holds the end is free", () => {
  const held = pulled(1.395, "hand");
  assert.equal(held.right?.gone, 0);
  assert.ok((held.right?.factor ?? 1) < 0.5);
  assert.equal(pulled(2.1).right, null);
  assert.equal(regionWords(pulled(1.38), LIMITS), "before 1.90, after 0.10; good is 0.5–2");
  assert.equal(regionWords(pulled(1.5), LIMITS), "before 2.50, after 0.63; 1 onset gives way; good is 0.5–2");
});
