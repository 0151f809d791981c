import assert from "node:assert/strict";
import { test } from "node:test";
import {
  caughtPlace,
  hitComb,
  lowerBound,
  makeCloseComb,
  makeComb,
  mostTop,
  topFor,
} from "../../src/combpace/web/static/js/views/comb_geometry.js";
import { sheetOrder } from "../../src/combpace/web/static/js/views/sheet.js";
import { makeStrip } from "../../src/combpace/web/static/js/views/strip.js";
import { fromOneTempo, threeDrifts } from "../../src/combpace/web/static/js/views/weave.js";
import { readBars } from "../../src/combpace/web/static/js/pages/player_bar.js";
import { stepped } from "../../src/combpace/web/static/js/pages/side.js";

const bars = Array.from({ length: 20 }, (_, i) => ({
  i,
  n: i + 1,
  q: 4 * i,
  len: 4,
  beats: 4,
  s: 2 * i,
  e: 2 * i + 2,
  bpm: 120,
  drift: 0,
  sure: 1,
}));
const things = {
  onsets: [0.01, 1.0, 2.02, 4.5],
  toQuarters: (s) => s * 2,
  toSeconds: (q) => q / 2,
  anchors: [{ q: 4 }],
};

test("a place and its pixel are each other's inverse", () => {
  const comb = makeComb({ width: 940, height: 600, bars, top: 3.5, rowPx: 50 });
  for (const bar of [bars[3], bars[10]])
    for (const share of [-0.1, 0, 0.5, 1.1]) {
      const q = bar.q + share * bar.len;
      assert.ok(Math.abs(comb.qOf(comb.xOf(q, bar), bar) - q) < 1e-9);
    }
  assert.equal(comb.rowAt(comb.yOf(5) + 1), 5);
  assert.equal(comb.rowAt(3), -1);
  assert.equal(comb.first, 3);
});

test("the pointer finds attacks and anchors", () => {
  const comb = makeComb({ width: 940, height: 600, bars, top: 0, rowPx: 50 });
  const hit = hitComb(comb, bars, { x: comb.xOf(4.04, bars[1]) + 2, y: comb.yOf(1) + 40 }, things);
  assert.equal(hit.onset, 2);
  assert.equal(hit.anchor, -1);
  assert.equal(hitComb(comb, bars, { x: comb.xOf(4, bars[1]), y: comb.yOf(1) + 5 }, things).anchor, 0);
  assert.equal(hitComb(comb, bars, { x: comb.xOf(6, bars[1]), y: comb.yOf(1) + 30 }, things).onset, -1);
  assert.equal(hitComb(comb, bars, { x: 300, y: 5 }, things), null);
});

test("a drag catches the nearest tooth, also over the ends of the row", () => {
  assert.equal(caughtPlace(5.1, bars[1], [0, 1, 2, 3, 4]), 5);
  assert.equal(caughtPlace(8.2, bars[1], [0, 1, 2, 3, 4]), 8);
  assert.equal(caughtPlace(3.6, bars[1], [0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5, 4]), 3.5);
});

test("the close comb's cells", () => {
  const comb = makeCloseComb({ width: 940, height: 600, beats: 4, top: 0, rowPx: 58, bars: 20 });
  const cell = comb.at(comb.xOf(2, 0.02), comb.yOf(3) + 10);
  assert.deepEqual([cell.row, cell.beat], [3, 2]);
  assert.ok(Math.abs(cell.offset - 0.02) < 1e-9);
  assert.equal(comb.at(20, 100), null);
});

test("scrolling ends at the last row, searching at the first that is not smaller", () => {
  assert.equal(mostTop(3, 600, 50), 0);
  assert.ok(mostTop(100, 600, 50) > 85);
  assert.equal(lowerBound([1, 2, 2, 5], 2), 1);
  assert.equal(lowerBound([], 1), 0);
});

test("rows are scrolled only to what is out of sight", () => {
  // A preview that begins in the row at the upper edge leaves the picture where it is.
  for (const row of [2, 3, 8]) assert.equal(topFor(row, 2, 8), 2);
  assert.equal(topFor(2, 2.1, 8), 2.1);
  assert.equal(topFor(2, 2.5, 8), 0);
  assert.equal(topFor(9, 2, 8), 9 - 8 / 3);
  assert.equal(topFor(40, 2, 30), 37);
});

test("strip and sheet", () => {
  const strip = makeStrip({ startS: 2, endS: 4, x0: 100, width: 910 });
  assert.equal(strip.toPx(2), 100);
  assert.ok(Math.abs(strip.toTime(strip.toPx(3.3)) - 3.3) < 1e-12);
  assert.deepEqual(sheetOrder([0.9, 0.1, 0.8, 0.2]), [1, 3, 0, 2]);
});

test("fields step by their own step", () => {
  const field = (value, step, fine) => ({ value, dataset: { step, fine } });
  assert.equal(stepped(field("97.25", "0.1", "0.01"), 1, false), "97.35");
  assert.equal(stepped(field("97,2", "0.1", "0.01"), -1, true), "97.19");
  assert.equal(stepped(field("0:06.206", "0.001"), 1, false), "0:06.207");
  assert.equal(stepped(field("all", "1"), 1, false), null);
});

test("what is left beside one tempo", () => {
  assert.ok(fromOneTempo([0, 1, 2, 3], [1, 3.5, 6, 8.5]).every((value) => Math.abs(value) < 1e-12));
  assert.ok(Math.abs(fromOneTempo([0, 1, 2], [0, 0.3, 0])[1] - 0.2) < 1e-12);
  // 4/4, then 3/4, at one tempo: bars differ in length, and nothing is left.
  assert.ok(fromOneTempo([0, 4, 8, 11, 14], [0, 2, 4, 5.5, 7]).every((value) => Math.abs(value) < 1e-12));
});

test("drift at start, middle and end is the middle value of some bars there", () => {
  assert.deepEqual(threeDrifts([0, 1, 2]), [0, 1, 2]);
  // A straight course of 65 bars, one stray among the first.
  const course = Array.from({ length: 65 }, (_, k) => k);
  course[2] = 400;
  assert.deepEqual(threeDrifts(course), [4.5, 31.5, 60.5]);
});

test("bars that a text names", () => {
  for (const [text, bars] of [
    ["5", [4, 4]],
    ["5-8", [4, 7]],
    [" 5 – 8 ", [4, 7]],
    ["−2", [-2, -2]],
    ["-2-3", [-2, 2]],
    ["", null],
    ["off", null],
  ])
    assert.deepEqual(readBars(text), bars);
  for (const text of ["0", "8-5", "5-", "a", "5-0"]) assert.equal(readBars(text), undefined);
});
