// @ts-check
// Every command of the page: its keys, its words, what it does. Keys, buttons (data-command) and the "?"
// panel are made from this list and from the list of the station that is shown.

/**
 * @typedef {{id: string, keys: string[], shown: string, words: string, run: (desk: any, event: {shiftKey:
 *   boolean}) => void}} Command
 *   keys: names as keys.js has them; shown: the same for people, "+" between keys that are held together, " "
 *   between several
 */

/** @type {Command[]} */
export const COMMANDS = [
  { id: "play", keys: ["Space"], shown: "Space", words: "play, stop", run: (desk) => desk.playOrStop() },
  {
    id: "back",
    keys: ["KeyA"],
    shown: "A",
    words: "previous place to look at, plays it; another arrival while it plays",
    run: (desk) => desk.arrivals.step(-1) || desk.steps.back(),
  },
  {
    id: "on",
    keys: ["KeyS"],
    shown: "S",
    words: "next place to look at, plays it; another arrival while it plays",
    run: (desk) => desk.arrivals.step(1) || desk.steps.on(),
  },
  {
    id: "take",
    keys: ["Enter"],
    shown: "Enter",
    words: "take the proposal, keep the arrival that sounds, or pull the chosen attack onto its tooth",
    run: (desk) => desk.arrivals.keep() || desk.steps.enter(),
  },
  {
    id: "right",
    keys: ["Shift+Enter"],
    shown: "Shift+Enter",
    words: "it is right, lock it",
    run: (desk) => desk.steps.keepPlace(),
  },
  {
    id: "onset-back",
    keys: ["KeyQ"],
    shown: "Q",
    words: "previous onset",
    run: (desk) => desk.steps.stepOnset(-1),
  },
  { id: "onset-on", keys: ["KeyE"], shown: "E", words: "next onset", run: (desk) => desk.steps.stepOnset(1) },
  { id: "hear", keys: ["KeyW"], shown: "W", words: "hear it", run: (desk) => desk.steps.hearChosen() },
  {
    id: "mark",
    keys: ["KeyC"],
    shown: "C",
    words: "add a mark at the pointer or the playhead",
    run: (desk) => desk.addMark(),
  },
  {
    id: "left",
    keys: ["ArrowLeft"],
    shown: "←",
    words: "choose the tooth before for the chosen attack; Shift finer",
    run: (desk, event) => desk.steps.arrow(-1, event.shiftKey),
  },
  {
    id: "right-tooth",
    keys: ["ArrowRight"],
    shown: "→",
    words: "choose the next tooth for the chosen attack; Shift finer",
    run: (desk, event) => desk.steps.arrow(1, event.shiftKey),
  },
  { id: "up", keys: ["ArrowUp"], shown: "↑", words: "the bar before", run: (desk) => desk.steps.byBars(-1) },
  { id: "down", keys: ["ArrowDown"], shown: "↓", words: "the next bar", run: (desk) => desk.steps.byBars(1) },
  {
    id: "page-up",
    keys: ["PageUp"],
    shown: "Page Up",
    words: "eight bars back",
    run: (desk) => desk.steps.byBars(-8),
  },
  {
    id: "page-down",
    keys: ["PageDown"],
    shown: "Page Down",
    words: "eight bars on",
    run: (desk) => desk.steps.byBars(8),
  },
  {
    id: "remove",
    keys: ["Delete", "Backspace"],
    shown: "Delete",
    words: "remove the chosen anchor, mark or peg; drop the arrival that sounds",
    run: (desk) => desk.arrivals.drop() || desk.steps.remove(),
  },
  { id: "loop", keys: ["KeyL"], shown: "L", words: "loop these bars", run: (desk) => desk.loopThese() },
  {
    id: "click",
    keys: ["KeyG"],
    shown: "G",
    words: "click",
    run: (desk) => desk.store.sound({ click: !desk.state.sound.click }),
  },
  {
    id: "fitted",
    keys: ["KeyV"],
    shown: "V",
    words: "original, fitted",
    run: (desk) => desk.store.sound({ fitted: !desk.state.sound.fitted }),
  },
  {
    id: "larger",
    keys: ["+"],
    shown: "+",
    words: "zoom in; also the wheel with Ctrl",
    run: (desk) => desk.zoom(1),
  },
  { id: "smaller", keys: ["-"], shown: "−", words: "zoom out", run: (desk) => desk.zoom(-1) },
  { id: "undo", keys: ["Ctrl+KeyZ"], shown: "Ctrl+Z", words: "undo", run: (desk) => desk.act("undo") },
  {
    id: "redo",
    keys: ["Ctrl+Shift+KeyZ"],
    shown: "Ctrl+Shift+Z",
    words: "redo",
    run: (desk) => desk.act("redo"),
  },
  {
    id: "leave",
    keys: ["Escape"],
    shown: "Esc",
    words: "cancel a drag, let go of what is chosen",
    run: (desk) => desk.leave(),
  },
  {
    id: "choose-files",
    keys: [],
    shown: "",
    words: "bring in sound files",
    run: (desk) => desk.chooseFiles(),
  },
  { id: "levels", keys: [], shown: "", words: "levels of the takes", run: (desk) => desk.bar.toggleMixer() },
  { id: "help", keys: ["?"], shown: "?", words: "all keys", run: (desk) => desk.toggleHelp() },
];

/**
 * Everything that can be done where the page is: general commands, those of the station, and one that goes to
 * each station.
 * @param {Record<string, import("./stations/station.js").StationView>} stations
 * @param {string} here
 * @returns {Command[]}
 */
export function commandsOf(stations, here) {
  const goes = Object.values(stations).map((one) => ({
    id: `go-${one.id}`,
    keys: [`Digit${one.key}`],
    shown: String(one.key),
    words: `station ${one.id}`,
    run: (/** @type {any} */ desk) => {
      if (desk.station() !== one) desk.goTo(one.id);
    },
  }));
  const own = stations[here]?.commands ?? [],
    taken = new Set(own.flatMap((one) => one.keys));
  return [...own, ...COMMANDS.filter((one) => !one.keys.some((key) => taken.has(key))), ...goes];
}

/**
 * What each key does.
 * @param {Command[]} commands
 * @param {any} desk
 * @returns {Map<string, (event: KeyboardEvent) => void>}
 */
export function keyTable(commands, desk) {
  return new Map(
    commands.flatMap((one) =>
      one.keys.map((key) => [key, (/** @type {KeyboardEvent} */ event) => one.run(desk, event)]),
    ),
  );
}

/**
 * The "?" panel: a line a command that has a key.
 * @param {Command[]} commands
 * @returns {{keys: string[], words: string}[]}
 */
export function helpLines(commands) {
  return commands
    .filter((one) => one.shown)
    .map((one) => ({ keys: one.shown === "+" ? ["+"] : one.shown.split("+"), words: one.words }));
}
