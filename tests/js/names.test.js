import assert from "node:assert/strict";
import { test } from "node:test";
import { toldApart } from "../../src/combpace/web/static/js/pages/names.js";

test("what long names begin with alike is left out", () => {
  assert.deepEqual(toldApart(["Third Street 04 tub", "Third Street 04 board", "Organ"]), [
    "… tub",
    "… board",
    "Organ",
  ]);
  // Only whole words, and each against whichever it is most alike.
  assert.deepEqual(toldApart(["harbour_night_verse_low", "harbour_night_verse_lower", "harbour_night_end"]), [
    "… low",
    "… lower",
    "… end",
  ]);
});

test("short names, names like no other, and the same name twice stay", () => {
  assert.deepEqual(toldApart(["Tub left", "Tub right"]), ["Tub left", "Tub right"]);
  assert.deepEqual(toldApart(["Washboard and bells", "Copper tub, near"]), [
    "Washboard and bells",
    "Copper tub, near",
  ]);
  assert.deepEqual(toldApart(["Long name of a take", "Long name of a take"]), [
    "Long name of a take",
    "Long name of a take",
  ]);
  // A name that another one goes on from keeps what tells them apart.
  assert.deepEqual(toldApart(["Evening rehearsal one", "Evening rehearsal one fitted"]), [
    "… one",
    "… one fitted",
  ]);
  assert.deepEqual(toldApart([]), []);
});
