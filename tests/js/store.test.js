// One state for the page, and who is told of what.
import assert from "node:assert/strict";
import { test } from "node:test";
import { makeStore } from "../../src/combpace/web/static/js/store.js";
import { makeTimeMap } from "../../src/combpace/web/static/js/views/map.js";

test("changes are told by part, selections belong to their station, what is kept is kept", () => {
  const store = makeStore({
    picture: {},
    station: "bars",
    focus: "",
    map: null,
    kept: { speed: 0.7, grid: "1/16", loop: [1, 2], top: 9 },
  });
  const told = [];
  const end = store.subscribe((part) => told.push(part));
  store.sound({ click: false });
  store.view({ rowPx: 60 });
  store.select({ kind: "bar", bar: 3 });
  store.state.station = "takes";
  assert.equal(store.state.selection, null, "what is chosen in Bars is not chosen in Takes");
  store.state.station = "bars";
  assert.deepEqual(store.state.selection, { kind: "bar", bar: 3 });
  end();
  store.view({ top: 1 });
  assert.deepEqual(told, ["sound", "view", "selection"]);
  assert.deepEqual(store.kept(), {
    grid: "1/16",
    catch: "grid",
    close: false,
    rowPx: 60,
    leadIn: false,
    big: false,
    rowsOf: "",
    drawn: "",
    ticks: false,
    below: "sheet",
    pauses: false,
    piecePx: 53,
    loop: [1, 2],
    click: false,
    clickDb: -9,
    speed: 0.7,
    mix: {},
  });
});

test("where a take's moments come to lie, and back", () => {
  const way = makeTimeMap([0, 1, 3], [10, 10.5, 13]);
  for (const [source, target] of [
    [-1, 9],
    [0, 10],
    [0.5, 10.25],
    [1, 10.5],
    [2, 11.75],
    [3, 13],
    [4, 14],
  ]) {
    assert.ok(Math.abs(way.toTarget(source) - target) < 1e-12);
    assert.ok(Math.abs(way.toSource(target) - source) < 1e-12);
  }
});

test("bars before bar 1 are seen only where they are asked for, and where there is nothing else", () => {
  const bars = [-1, 0, 1].map((i) => ({ i })),
    store = makeStore({ picture: { bars }, station: "bars", focus: "", map: null, kept: {} });
  const seen = () => store.state.picture.bars.map((bar) => bar.i);
  assert.deepEqual(seen(), [0, 1]);
  store.view({ leadIn: true });
  assert.deepEqual(seen(), [-1, 0, 1]);
  store.view({ leadIn: false });
  store.picture({ picture: { bars: [{ i: -2 }, { i: 0 }] }, map: null });
  assert.deepEqual(seen(), [0]);
  store.picture({ picture: { bars: [{ i: -2 }] }, map: null });
  assert.deepEqual(seen(), [-2]);
});
