// The browser's map against Python's: shared vectors, to 1e-9 s.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";
import {
  clockWords,
  gridPlaces,
  makeMap,
  placeWords,
  readClock,
  readPlace,
  signed,
} from "../../src/combpace/web/static/js/views/map.js";

const vectors = JSON.parse(readFileSync(new URL("map_vectors.json", import.meta.url)));

test("seconds, places, bars and lines are Python's", () => {
  for (const { table, places, seconds, bars, lines, named, words } of vectors) {
    const map = makeMap(table);
    places.forEach((place, k) => {
      assert.ok(Math.abs(map.toSeconds(place) - seconds[k]) < 1e-9);
      assert.ok(Math.abs(map.toQuarters(seconds[k]) - place) < 1e-9);
      assert.equal(map.barOf(place), bars[k], `bar of ${place}`);
    });
    lines.forEach((line, k) => assert.equal(map.barLine(k - 3), line));
    named.forEach((place, k) => assert.equal(placeWords(map, place), words[k], `name of ${place}`));
  }
});

test("numbers are written as Python writes them, halves too", () => {
  const numbers = JSON.parse(readFileSync(new URL("number_vectors.json", import.meta.url)));
  for (const [value, text] of numbers.clock) assert.equal(clockWords(value), text, `${value} s`);
  for (const [value, text] of numbers.ms) assert.equal(signed(value), text, `${value} ms`);
});

test("words", () => {
  const map = makeMap(vectors[0].table);
  assert.equal(placeWords(map, 5.5), "2·2.5");
  assert.equal(placeWords(map, -1), "lead-in −1·4");
  assert.equal(placeWords(map, -0.004), "1·1");
  assert.equal(placeWords(map, 3.994), "1·4.99");
  assert.equal(clockWords(15.8421), "0:15.842");
  assert.equal(clockWords(-0.5), "−0:00.500");
  assert.equal(signed(-24.14), "−24.1");
  assert.equal(readClock("1:02,5"), 62.5);
  assert.ok(Number.isNaN(readClock("soon")));
});

test("grids start and end at the lines", () => {
  assert.deepEqual(gridPlaces("beats", 4, 1), [0, 1, 2, 3, 4]);
  assert.deepEqual(gridPlaces("bars", 3.5, 0.5), [0, 3.5]);
  assert.equal(gridPlaces("1/8t", 4, 1).length, 13);
});

test("a place is read as it is written", () => {
  const map = makeMap(vectors[0].table);
  for (const q of [0, 1.5, 6, 13.25])
    assert.ok(Math.abs(readPlace(map, placeWords(map, q)) - q) < 0.006 * map.meterAt(map.barOf(q))[3]);
  assert.equal(readPlace(map, "3"), map.barLine(2));
  assert.equal(readPlace(map, "2.2"), map.barLine(1) + map.meterAt(1)[3]);
  for (const text of ["", "0·1", "x", "2·0.5", "2·99"]) assert.equal(readPlace(map, text), null);
});
