import assert from "node:assert/strict";
import { test } from "node:test";
import { asOf } from "../../src/combpace/web/static/js/pages/side.js";

test("what a job does is of the moment at which it was ordered, and says so", () => {
  const noon = new Date(2026, 10, 30, 12, 4, 59).getTime() / 1000;
  for (const kind of ["handoff", "render", "pieces"])
    assert.equal(asOf({ kind, ordered: noon }), " as of 12:04; later changes are not in it");
  // A reading does not depend on decisions.
  for (const kind of ["import", "archive"]) assert.equal(asOf({ kind, ordered: noon }), "");
});
