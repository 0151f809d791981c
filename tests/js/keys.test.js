// Whom a key press belongs to, and that keys, buttons and the help come from one list.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";
import { COMMANDS, commandsOf, helpLines, keyTable } from "../../src/combpace/web/static/js/commands.js";
import { nameOf, ownerOf } from "../../src/combpace/web/static/js/keys.js";
import { STATIONS } from "../../src/combpace/web/static/js/stations/registry.js";

const key = (code, more = {}) => ({
  code,
  key: "",
  shiftKey: false,
  ctrlKey: false,
  metaKey: false,
  ...more,
});

test("names of keys by their position", () => {
  assert.equal(nameOf(key("KeyA")), "KeyA");
  assert.equal(nameOf(key("KeyZ", { metaKey: true, shiftKey: true })), "Ctrl+Shift+KeyZ");
  assert.equal(nameOf(key("Slash", { key: "?", shiftKey: true })), "?");
  assert.equal(nameOf(key("Numpad3")), "Digit3");
  assert.equal(nameOf(key("NumpadEnter", { shiftKey: true })), "Shift+Enter");
});

test("a field keeps what it needs and gives the rest", () => {
  for (const [kind, name, owner] of [
    ["none", "Space", "page"],
    ["button", "Space", "page"],
    ["button", "Enter", "field"],
    ["place", "Enter", "page"],
    ["box", "Space", "field"],
    ["box", "KeyL", "page"],
    ["box", "Enter", "leave and page"],
    ["range", "ArrowLeft", "field"],
    ["range", "Space", "page"],
    ["range", "Enter", "leave and page"],
    ["range", "Escape", "leave"],
    ["box", "Escape", "leave"],
    ["choice", "Space", "field"],
    ["choice", "Escape", "leave"],
    ["text", "KeyL", "field"],
    ["text", "Escape", "field"],
  ])
    assert.equal(ownerOf({ kind }, name), owner, `${kind} ${name}`);
  assert.equal(ownerOf({ kind: "text", changed: false }, "Ctrl+KeyZ"), "page");
  assert.equal(ownerOf({ kind: "text", changed: true }, "Ctrl+KeyZ"), "field");
});

test("no key means two things at once, at any station", () => {
  for (const id of Object.keys(STATIONS)) {
    const commands = commandsOf(STATIONS, id),
      keys = commands.flatMap((one) => one.keys);
    assert.deepEqual(
      keys.filter((name, at) => keys.indexOf(name) !== at),
      [],
      id,
    );
    const desk = {
      done: [],
      steps: {
        downbeat() {
          desk.done.push("downbeat");
        },
      },
    };
    keyTable(commands, desk).get("KeyD")?.({ shiftKey: false });
    assert.deepEqual(desk.done, ["pace", "bars"].includes(id) ? ["downbeat"] : []);
  }
});

test("every key stands in the help, every button's command exists", () => {
  const commands = commandsOf(STATIONS, "bars"),
    lines = helpLines(commands);
  assert.equal(lines.length, commands.filter((one) => one.keys.length).length);
  assert.deepEqual(lines.find((line) => line.words === "undo").keys, ["Ctrl", "Z"]);
  assert.deepEqual(lines.find((line) => line.words.startsWith("zoom in")).keys, ["+"]);
  const page = readFileSync(
    new URL("../../src/combpace/web/templates/workspace.html", import.meta.url),
    "utf-8",
  );
  const named = [...page.matchAll(/data-command="([^"]+)"/g)].map((match) => match[1]);
  assert.ok(named.length > 4);
  for (const name of named)
    assert.ok(
      COMMANDS.some((one) => one.id === name),
      name,
    );
});
