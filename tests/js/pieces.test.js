// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { levelScale } from "../../src/combpace/web/static/js/views/piece_marks.js";
import {
  cellAt,
  cutMoment,
  farthest,
  pieceAt,
} from "../../src/combpace/web/static/js/views/piece_geometry.js";
import { pieceRows } from "../../src/combpace/web/static/js/stations/pieces_list.js";

const piece = (
  /** @type {number} */ number,
  /** @type {number} */ at,
  /** @type {number} */ length,
  /** @type {number | null} */ off = null,
) => ({ number, start: 0, stop: length, at, q: 2 * at, off, db: 0 });

test("of pieces that overlap the one that begins last lies on top", () => {
  const all = [piece(0, 1, 2), piece(1, 2, 1), piece(2, 5, 1)];
  assert.equal(pieceAt(all, 2.5)?.number, 1);
  assert.equal(pieceAt(all, 1.5)?.number, 0);
  assert.equal(pieceAt(all, 3), null);
});

test("a cut catches as a drag does: on a place, on an attack of its piece, or freed just there", () => {
  const what = {
    pieces: [{ ...piece(0, 2, 2), start: 10, stop: 12 }],
    marks: [],
    places: [4, 4.5, 5],
    map: { toQuarters: (/** @type {number} */ s) => 2 * s, toSeconds: (/** @type {number} */ q) => q / 2 },
    free: false,
  };
  assert.deepEqual(cutMoment(2.33, what), { session_s: 2.25, on_place: true });
  assert.deepEqual(cutMoment(2.33, { ...what, free: true }), { session_s: 2.33 });
  // Its attacks at 10.4 and 10.9 of the take sound at 2.4 and 2.9; the one at 8 is another piece's.
  const struck = cutMoment(2.33, { ...what, marks: [8, 10.4, 10.9] });
  assert.ok(Math.abs(struck.session_s - 2.4) < 1e-9 && !struck.on_place);
  assert.deepEqual(cutMoment(2.33, { ...what, places: [] }), { session_s: 2.33 });
  assert.deepEqual(cutMoment(7, what), { session_s: 7 });
});

test("a row says its largest distance, and nothing where none was laid", () => {
  const all = [piece(0, 1, 1, 3), piece(1, 1.5, 1, -12), piece(2, 4, 1, 40), piece(3, 1.7, 1)];
  assert.equal(farthest(all, { s: 1, e: 3 }), -12);
  assert.equal(farthest([piece(0, 1, 1)], { s: 1, e: 3 }), null);
});

test("the list says how far a piece reaches over what came before, or the gap", () => {
  const piece = (/** @type {number} */ number, /** @type {number} */ at, /** @type {number} */ long) =>
    /** @type {any} */ ({ number, at, start: 0, stop: long, alike: 1 });
  const rows = pieceRows([piece(0, 4, 1), piece(1, 0, 2), piece(2, 1.5, 0.2), piece(3, 2.25, 1)]);
  assert.deepEqual(
    rows.map((one) => [
      one.piece.number,
      Math.round(one.ms),
      one.over === null ? null : Math.round(one.over),
    ]),
    [
      [1, 2000, null],
      [2, 200, 500],
      [3, 1000, -250],
      [0, 1000, -750],
    ],
  );
});

test("a level and its height are each other's inverse, within what can be drawn", () => {
  const scale = levelScale(100, 58);
  for (const db of [12, 0, -6.5, -36]) assert.ok(Math.abs(scale.dbOf(scale.yOf(db)) - db) < 0.06);
  assert.equal(scale.dbOf(0), 12);
  assert.equal(scale.dbOf(900), -36);
});

test("a cell is what lies between two places of the grid", () => {
  const bar = { q: 8, len: 4 };
  assert.deepEqual(cellAt(9.2, bar, [0, 1, 2, 3, 4]), [9, 10]);
  assert.deepEqual(cellAt(8, bar, [0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5, 4]), [8, 8.5]);
  assert.deepEqual(cellAt(13, bar, [0, 4]), [8, 12]);
  assert.deepEqual(cellAt(11.9, bar, [0, 2]), [10, 12]);
});
