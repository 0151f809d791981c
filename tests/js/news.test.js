// What is heard of other pages: the words about a change that was refused are not spoken over.
import assert from "node:assert/strict";
import { mock, test } from "node:test";

/** @type {Map<string, (event: {data: string}) => void>} */
const heard = new Map();
globalThis.EventSource = /** @type {any} */ (
  class {
    /** @param {string} kind @param {(event: {data: string}) => void} take */
    addEventListener(kind, take) {
      heard.set(kind, take);
    }
    close() {}
  }
);
const { hearNews } = await import("../../src/combpace/web/static/js/pages/news.js");

/** Tell of version 5 to a page of version 3. @param {{busy?: boolean, refused?: boolean}} now */
function told(now) {
  mock.timers.enable({ apis: ["setTimeout"] });
  /** @type {string[]} */
  const said = [];
  hearNews({
    state: { picture: { version: 3, takes: [] } },
    session: "s",
    jobs: new Map(),
    words: {
      note: (/** @type {string} */ text) => said.push(text),
      saved: () => undefined,
      savedNow: () => "Saved",
    },
    deciding: {
      busy: () => !!now.busy,
      refused: () => !!now.refused,
      offer: (/** @type {[string, () => void][]} */ buttons) => said.push(...buttons.map(([text]) => text)),
      later: () => undefined,
    },
  });
  heard.get("version")?.({ data: "5" });
  mock.timers.tick(2000);
  mock.timers.reset();
  return said;
}

test("another page's change is told, with a way to see it", () => {
  assert.deepEqual(told({}), ["This session was changed in another page.", "Show it"]);
});

test("nothing is said over a refusal, whose words offer to apply the change again", () => {
  assert.deepEqual(told({ refused: true }), []);
});

test("a page whose own change is on its way waits for its answer", () => {
  assert.deepEqual(told({ busy: true }), []);
});
