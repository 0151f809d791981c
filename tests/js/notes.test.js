// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { drawNotes, keysOf, noteAt, thickness } from "../../src/combpace/web/static/js/views/notes.js";

test("keys have at least an octave of room, louder notes are thicker", () => {
  assert.deepEqual(
    keysOf([
      [0, 1, 60, 90],
      [1, 2, 64, 90],
    ]),
    [56, 68],
  );
  assert.deepEqual(
    keysOf([
      [0, 1, 40, 90],
      [1, 2, 64, 90],
    ]),
    [40, 64],
  );
  assert.ok(thickness(127) > thickness(20));
});

test("a row shows the notes that sound in it, cut at its lines; muted parts are not drawn", () => {
  const drawn = /** @type {number[][]} */ ([]),
    g = /** @type {any} */ ({ fillRect: (/** @type {number[]} */ ...at) => drawn.push(at) });
  const comb = /** @type {any} */ ({ xOf: (/** @type {number} */ q) => 100 * q }),
    bar = { i: 1, q: 4, len: 4, s: 2, e: 4 };
  const parts = [
    {
      id: "a",
      notes: [
        [0, 1, 60, 90],
        [1.5, 2.5, 62, 90],
        [3, 3.5, 64, 90],
        [4.5, 5, 65, 90],
      ],
    },
  ];
  const host = /** @type {any} */ ({
    state: {
      map: { toQuarters: (/** @type {number} */ s) => 2 * s },
      picture: { parts },
      sound: { mix: {} },
    },
  });
  drawNotes(g, { ink: "k" }, comb, host, bar, 0, 60);
  assert.deepEqual(
    drawn.map(([x, , w]) => [x, w]),
    [
      [400, 99],
      [600, 99],
    ],
  );
  assert.ok(drawn[1][1] < drawn[0][1], "higher is higher");
  host.state.sound.mix.a = { mute: true };
  drawNotes(g, { ink: "k" }, comb, host, bar, 0, 60);
  assert.equal(drawn.length, 2);
});

test("the note under a point is the one whose line is there", () => {
  const comb = /** @type {any} */ ({ xOf: (/** @type {number} */ q) => 100 * q, yOf: () => 0, rowPx: 60 }),
    bar = { i: 0, q: 0, len: 4, s: 0, e: 2 };
  const parts = [
    {
      id: "a",
      keeps: "bar",
      notes: [
        [0, 0.5, 60, 90, 0, 0],
        [0.5, 1, 72, 90, 1, 0],
      ],
    },
  ];
  const host = /** @type {any} */ ({
    state: {
      map: { toQuarters: (/** @type {number} */ s) => 2 * s },
      picture: { parts },
      sound: { mix: {} },
    },
  });
  assert.equal(noteAt(comb, host, bar, 0, { x: 120, y: 6 })?.note[2], 72);
  assert.equal(noteAt(comb, host, bar, 0, { x: 40, y: 43 })?.note[2], 60);
  assert.equal(noteAt(comb, host, bar, 0, { x: 40, y: 6 }), null);
});
