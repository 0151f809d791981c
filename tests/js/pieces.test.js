// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { farthest, pieceAt } from "../../src/combpace/web/static/js/views/pieces.js";

const piece = (/** @type {number} */ number, /** @type {number} */ at, /** @type {number} */ length, /** @type {number | null} */ off = null) => ({ number, start: 0, stop: length, at, q: 2 * at, off, db: 0 });

test("of pieces that overlap the one that begins last lies on top", () => {
  const all = [piece(0, 1, 2), piece(1, 2, 1), piece(2, 5, 1)];
  assert.equal(pieceAt(all, 2.5)?.number, 1);
  assert.equal(pieceAt(all, 1.5)?.number, 0);
  assert.equal(pieceAt(all, 3), null);
});

test("a row says its largest distance, and nothing where none was laid", () => {
  const all = [piece(0, 1, 1, 3), piece(1, 1.5, 1, -12), piece(2, 4, 1, 40), piece(3, 1.7, 1)];
  assert.equal(farthest(all, { s: 1, e: 3 }), -12);
  assert.equal(farthest([piece(0, 1, 1)], { s: 1, e: 3 }), null);
});
