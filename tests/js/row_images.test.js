// @ts-check
import assert from "node:assert/strict";
import { test } from "node:test";
import { makeRowImages } from "../../src/combpace/web/static/js/views/row_images.js";

/** A page as small as rows need it; what is shown is [row's canvas, y, height]. */
function page() {
  const made = { shown: /** @type {any[]} */ ([]), timers: /** @type {(() => void)[]} */ ([]) };
  Object.assign(globalThis, {
    window: { devicePixelRatio: 1, setTimeout: (/** @type {() => void} */ run) => made.timers.push(run) },
    document: { createElement: () => ({ width: 0, height: 0, getContext: () => ({ setTransform() {} }) }) },
  });
  const g = /** @type {any} */ ({
    drawImage: (
      /** @type {any} */ image,
      /** @type {number} */ _x,
      /** @type {number} */ y,
      /** @type {number} */ _w,
      /** @type {number} */ height,
    ) => made.shown.push([image, y, height]),
  });
  return { made, g };
}

test("a row is painted once while nothing changes, and anew when its map does", () => {
  const { made, g } = page(),
    map = {};
  let painted = 0;
  const images = makeRowImages(() => {});
  const draw = (/** @type {unknown} */ of, /** @type {number} */ y) => {
    images.begin(40);
    images.draw(g, 3, { x: 10, y, wide: 200, tall: 40 }, [of], 0, () => {
      painted++;
      return true;
    });
  };
  draw(map, 0);
  draw(map, 17);
  assert.equal(painted, 1);
  assert.equal(made.shown[0][0], made.shown[1][0]);
  assert.equal(made.shown[1][1], 17);
  draw({}, 17);
  assert.equal(painted, 2);
});

test("a row of which a part was there is painted again when more came in", () => {
  const { g } = page(),
    from = [{}];
  let painted = 0;
  const images = makeRowImages(() => {});
  const draw = (/** @type {number} */ arrived, /** @type {boolean} */ whole) => {
    images.begin(40);
    images.draw(g, 0, { x: 0, y: 0, wide: 50, tall: 40 }, from, arrived, () => {
      painted++;
      return whole;
    });
  };
  draw(0, false);
  draw(0, false);
  assert.equal(painted, 1);
  draw(1, true);
  draw(2, true);
  assert.equal(painted, 2);
});

test("while one zooms rows are stretched, and painted at their height when it ends", () => {
  const { made, g } = page(),
    from = [{}];
  const tall = /** @type {number[]} */ ([]);
  let asked = 0;
  const images = makeRowImages(() => {
    asked++;
  });
  const draw = (/** @type {number} */ height) => {
    images.begin(height);
    images.draw(g, 0, { x: 0, y: 0, wide: 50, tall: height }, from, 0, (_, at) => {
      tall.push(at);
      return true;
    });
  };
  draw(40);
  draw(50);
  draw(60);
  assert.deepEqual(tall, [40, 63]);
  assert.equal(made.shown.at(-1)[2], 60);
  made.timers.at(-1)?.();
  assert.equal(asked, 1);
  draw(60);
  assert.deepEqual(tall, [40, 63, 60]);
});
