// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { drawSamples, rulerStep, rulerWords } from "../../src/combpace/web/static/js/views/samples.js";

test("a ruler's steps are round and have room for their words", () => {
  assert.deepEqual(rulerStep(200), { step: 0.5, decimals: 1 });
  assert.deepEqual(rulerStep(1_180_000), { step: 0.0001, decimals: 4 });
  assert.deepEqual(rulerStep(1), { step: 120, decimals: 0 });
  for (const perS of [0.5, 3, 77, 900, 51234, 5e6]) assert.ok(rulerStep(perS).step * perS >= 84);
});

test("seconds as a ruler says them", () => {
  assert.equal(rulerWords(12.3449999, 3), "12.345");
  assert.equal(rulerWords(62.5, 1), "1:02.5");
  assert.equal(rulerWords(180, 0), "3:00");
  assert.equal(rulerWords(-0.25, 2), "−0.25");
});

test("the curve goes through each sample, only where samples are far enough apart", () => {
  const lines = /** @type {number[][]} */ ([]),
    at = (/** @type {number} */ x, /** @type {number} */ y) => lines.push([x, y]);
  const g = /** @type {any} */ ({
    beginPath() {},
    stroke() {},
    moveTo: at,
    lineTo: at,
    fillRect() {},
    fillText() {},
    globalAlpha: 1,
    fillStyle: "",
  });
  const tile = new Int16Array(2 * 8192);
  for (let k = 0; k < 8192; k++) tile[2 * k] = tile[2 * k + 1] = k === 3 ? 32767 : 0;
  const peaks = /** @type {any} */ ({ tile: () => tile }),
    take = { id: "a", rate: 1000, offset_s: 2, frames: 10 };
  const view = (/** @type {number} */ perS) => ({
    x0: 0,
    x1: 100,
    mid: 50,
    half: 40,
    perS,
    toPx: (/** @type {number} */ s) => (s - 2) * perS,
    toTime: (/** @type {number} */ px) => 2 + px / perS,
  });
  assert.equal(drawSamples(g, peaks, take, view(100)), false);
  assert.equal(drawSamples(g, peaks, take, view(20_000)), true);
  assert.deepEqual(
    lines.slice(0, 5).map(([x, y]) => [Math.round(x), Math.round(y)]),
    [
      [0, 50],
      [20, 50],
      [40, 50],
      [60, 10],
      [80, 50],
    ],
  );
});
