// @ts-check
// The workspace: joins the wire, the pictures and the player. A change of station swaps words; sound and view go on.
import { Refusal, get, html, listen, send } from "../api/client.js";
import { Peaks } from "../api/peaks.js";
import { Player } from "../player/player.js";
import { gridPlaces, makeMap, placeWords } from "../views/map.js";
import { startView } from "./host.js";
import { wireKeys } from "./keys.js";
import { makePictures } from "./pictures.js";
import { mountPlayerBar } from "./player_bar.js";
import { actionOf, drawChosen, drawJobs, wireFields } from "./side.js";
import { makeSteps } from "./steps.js";
import { sendAll, wireDrops, wirePageDrop } from "./uploads.js";

const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));
/** @type {import("./host.js").Picture} */
const firstPicture = JSON.parse($("picture-data").textContent ?? "{}");
const session = firstPicture.session;
const side = () => /** @type {HTMLElement} */ (document.querySelector('[data-region="side"]'));

/** @type {import("./host.js").State} */
const state = {
  picture: firstPicture, station: side().dataset.stationNow ?? "bars", focus: side().dataset.focus ?? "", map: firstPicture.map ? makeMap(firstPicture.map) : null,
  view: startView(JSON.parse($("view-data").textContent ?? "{}")), selection: null, playhead: null, weave: null,
};
/** @type {Map<string, any>} */
const jobs = new Map();
/** @type {{time: number, q: number} | null} */
let pointer = null;
/** @type {Promise<void>} */
let queue = Promise.resolve();
let acting = 0;
let heardFrom = false;
/** @type {import("../views/map.js").TempoMap | null} */
let trial = null;

const peaks = new Peaks(() => { pictures.draw(); pictures.drawLedger(); });

// -- the player

const player = new Player(session, {
  voices: () => state.picture.takes.filter((take) => take.frames && take.sound).map((take) => ({ id: take.id, sound: String(take.sound), offset_s: take.offset_s, fit: fitOf(take) })),
  map: () => trial ?? state.map,
  onChange: () => frame(),
  onTrouble: (text) => say(text, true),
});
player.speed = state.view.speed;
player.clickOn = state.view.click;
player.clickDb = state.view.clickDb;
player.loop = state.view.loop;

/** Names the fitted sound of a take: it follows from everything decided, so the version and what is shown name it. @param {import("./host.js").Take} take */
function fitOf(take) {
  const fit = state.picture.fit;
  const shown = fit && !fit.missing && (take.id === state.focus || take.id === fit.take || (take.bundle && take.bundle === host.take(fit.take)?.bundle));
  if (shown) return fit.key;
  return take.fitted ? `${state.picture.version}` : null;
}

const bar = mountPlayerBar(player, state, { loopThese, keepView, setFitted, toggle: () => (player.playing ? player.stop() : play(player.rest)) });

/**
 * Play; with a map on trial the click follows that one, until something else is played.
 * @param {number} time @param {number | null} [until] @param {{map?: import("../views/map.js").TempoMap | null, after?: () => void}} [more]
 */
function play(time, until = null, more = {}) {
  trial = more.map ?? null;
  player.play(time, until, more.after ?? null).catch((error) => say(`The sound could not be started: ${error.message ?? error}`, true));
}

/** @param {boolean} on */
function setFitted(on) {
  player.setFitted(on);
  state.view.fitted = on;
  bar.show();
}

function loopThese() {
  if (player.loop && !(state.selection?.bar !== undefined && !inLoop(state.selection.bar))) { player.setLoop(null); } else {
    const bars = state.picture.bars;
    const view = pictures.view();
    if (!bars.length || !view) return;
    const chosen = bars.findIndex((one) => one.i === state.selection?.bar);
    let [first, last] = chosen >= 0 ? [chosen, chosen] : view.inSight();
    if (chosen < 0) last = Math.min(last, first + 3);
    player.setLoop([bars[first].s, bars[Math.min(last, bars.length - 1)].e]);
  }
  state.view.loop = player.loop;
  bar.show();
  pictures.draw();
  keepView();
}

/** @param {number} index */
function inLoop(index) {
  const one = state.picture.bars.find((row) => row.i === index);
  return !!(one && player.loop && one.s >= player.loop[0] - 1e-3 && one.e <= player.loop[1] + 1e-3);
}

let animating = false;
/** Once a frame while it plays: playhead, read-outs, and the picture follows. */
function frame() {
  state.playhead = player.playing ? player.position() : null;
  bar.show();
  const view = pictures.view();
  if (player.playing && state.map && view && state.view.following) {
    if (state.station === "onsets") {
      if (state.playhead !== null && (state.playhead < state.view.stripStart || state.playhead > state.view.stripStart + state.view.stripSpan)) state.view.stripStart = state.playhead - state.view.stripSpan * 0.1;
    } else view.show(state.map.barOf(state.map.toQuarters(state.playhead ?? 0)));
  }
  pictures.draw();
  if (player.playing && !animating) {
    animating = true;
    requestAnimationFrame(() => { animating = false; frame(); });
  }
}

// -- what pictures may ask for

/** @type {Map<string, {times: number[], take: number[], sure: number[], strength: number[]}>} */
let markCache = new Map();

/** @type {import("./host.js").Host} */
const host = {
  state, peaks,
  take: (id) => state.picture.takes.find((take) => take.id === id) ?? null,
  marks: (id) => {
    const known = markCache.get(id);
    if (known) return known;
    const raw = state.picture.onsets[id] ?? { t: [], s: [], c: [] }, offset = host.take(id)?.offset_s ?? 0;
    const made = { times: raw.t.map((time) => time + offset), take: raw.t, sure: raw.c, strength: raw.s };
    markCache.set(id, made);
    return made;
  },
  select: (selection) => { state.selection = selection; showChosen(); pictures.draw(); },
  seek: (time) => { player.seek(time); state.view.following = true; bar.show(); },
  say: (text) => say(text),
  show: (index) => pictures.view()?.show(index),
  showTime: (time) => {
    if (time < state.view.stripStart + state.view.stripSpan * 0.1 || time > state.view.stripStart + state.view.stripSpan * 0.9) state.view.stripStart = time - state.view.stripSpan * 0.35;
    pictures.draw();
  },
  hear: (time) => play(Math.max(-1000, time - 0.04), time + 0.32),
  pointAt: (place) => { pointer = place; },
  placeNow: () => steps.placeNow(),
  pull: (time, quarters, free = false) => act("pull", { time_s: time, quarters, free }),
  peg: (onset, quarters, free) => {
    const take = state.focus, mark = host.marks(take).take[onset];
    if (mark === undefined || !state.map) return;
    act("peg", free ? { take, take_s: mark, session_s: state.map.toSeconds(quarters) } : { take, take_s: mark, quarters });
  },
  moveMark: (take, from, to) => { act("onset-move", { take, from_s: from, to_s: to }, () => { if (state.selection?.kind === "onset") state.selection = { ...state.selection, t: to }; }); },
  zoom: (direction) => zoom(direction),
  catchPlaces: (one) => (state.view.catch === "nothing" ? null : gridPlaces(state.view.catch === "grid" ? state.view.grid : state.view.catch, one.len, one.len / one.beats)),
  ruleGrid: () => {
    const grid = state.picture.fit?.numbers?.grid ?? "1/8";
    return ["1/8", "1/8t", "1/16", "1/16t", "1/32"].includes(grid) ? grid : grid === "1/4" ? "beats" : grid === "1/1" ? "bars" : "1/16";
  },
  fitMove: (one) => {
    const fit = state.picture.fit;
    if (!fit || fit.missing) return null;
    let most = null;
    for (const [, own, goal, , kind] of fit.pegs) {
      if (kind === "held" || goal < one.s - 0.02 || goal >= one.e - 0.02) continue;
      if (most === null || Math.abs(goal - own) > Math.abs(most)) most = goal - own;
    }
    return most === null ? null : 1000 * most;
  },
};

/** @param {number} direction */
function zoom(direction) {
  if (state.station === "onsets") {
    const middle = state.selection?.kind === "onset" ? state.selection.t + (host.take(state.focus)?.offset_s ?? 0) : state.view.stripStart + state.view.stripSpan / 2;
    state.view.stripSpan *= direction > 0 ? 0.6 : 1 / 0.6;
    state.view.stripStart = middle - state.view.stripSpan / 2;
  } else state.view.rowPx = Math.min(150, Math.max(22, state.view.rowPx * (direction > 0 ? 1.2 : 1 / 1.2)));
  pictures.draw();
}

// -- words

/** @param {string} text @param {boolean} [problem] */
function say(text, problem = false) {
  const words = document.getElementById("last-words");
  if (words) words.textContent = text;
  $("last").classList.toggle("problem", problem);
  $("picture-words").textContent = text;
}

/** @param {unknown} error */
function trouble(error) {
  say(error instanceof Refusal ? error.message : `This did not work out: ${error}`, true);
}

function showChosen() {
  let mark = null;
  const selection = state.selection;
  if (selection?.kind === "onset") {
    const own = /** @type {any} */ (host.marks(selection.take));
    const k = own.take.findIndex((/** @type {number} */ time) => Math.abs(time - selection.t) < 2e-5);
    if (k >= 0) mark = { time: own.times[k], strength: own.strength[k], sure: own.sure[k] };
    else state.selection = null;
  }
  drawChosen(state, mark, (name, args) => {
    if (name === "hear") steps.hearChosen();
    else if (name === "loop") loopThese();
    else act(name, args);
  });
}

function showJobs() {
  drawJobs(jobs, (id) => send(`/api/jobs/${id}/cancel`, {}).catch(trouble), (id) => host.take(id)?.name ?? state.picture.name);
  for (const job of jobs.values()) {
    const cell = document.querySelector(`[data-take-state="${job.subject}"]`);
    if (cell && job.kind === "import" && (job.state === "running" || job.state === "queued")) cell.textContent = `${job.phase} ${job.progress > 0 ? `${Math.round(job.progress * 100)} %` : ""}`;
  }
}

// -- decisions

/**
 * Take a decision; decisions follow each other in the order in which they were made.
 * @param {string} name @param {any} [args] @param {() => void} [then]
 */
function act(name, args = {}, then) {
  acting++;
  $("kept").textContent = "keeping …";
  queue = queue.then(async () => {
    try {
      const done = await send(`/api/sessions/${session}/act/${name}`, { version: state.picture.version, args });
      then?.();
      if (name === "keep") for (const take of state.picture.takes) if (take.id === args.take || (take.bundle && take.bundle === host.take(args.take)?.bundle)) mute(take.id);
      await refresh(done.note);
      $("kept").textContent = "All kept";
      $("kept").classList.remove("problem");
    } catch (error) {
      if (error instanceof Refusal && error.status === 409) offerAgain(error, name, args);
      else { trouble(error); await refresh().catch(() => {}); say(error instanceof Refusal ? error.message : String(error), true); }
      $("kept").textContent = "not kept";
      $("kept").classList.add("problem");
    } finally { acting--; }
  });
  return queue;
}

/** As the server has done: what was kept as a take of its own does not sound twice. @param {string} id */
function mute(id) {
  state.view.mix[id] = { .../** @type {any} */ (player.mix.get(id) ?? { level: 0, pan: 0, solo: false }), mute: true };
}

/** Another page was quicker. @param {Refusal} error @param {string} name @param {any} args */
function offerAgain(error, name, args) {
  say(error.message, true);
  const row = document.createElement("span");
  for (const [text, run] of /** @type {[string, () => void][]} */ ([["Reload", () => location.reload()], ["Apply mine again", async () => { await refresh(); act(name, args); }]])) {
    const button = document.createElement("button");
    button.type = "button";
    button.className = "link";
    button.textContent = text;
    button.addEventListener("click", run);
    row.append(" ", button);
  }
  $("last").append(row);
}

/** Fetch what is true now and show it: words by the server, pictures from its data. @param {string} [note] */
async function refresh(note) {
  const focus = state.focus ? `take=${state.focus}&` : "";
  const [words, picture] = await Promise.all([html(`/sessions/${session}/${state.station}?${focus}part=1`), get(`/api/sessions/${session}/picture?focus=${state.focus}`)]);
  const before = state.picture;
  state.picture = picture;
  markCache = new Map();
  state.map = picture.map ? makeMap(picture.map) : null;
  if (!before.map && picture.map) toBar1();
  swap(words);
  if (note) say(note);
  const had = before.takes.filter((take) => take.frames).length, has = picture.takes.filter((/** @type {any} */ take) => take.frames).length;
  if (!pictures.view() || !before.map !== !picture.map || had !== has || !$("canvas-box").querySelector("canvas")) pictures.mount();
  if (state.station === "pace") pictures.fetchWeave();
  if (JSON.stringify(before.map) !== JSON.stringify(picture.map) || before.fit?.key !== picture.fit?.key || had !== has) player.again();
  bar.takesChanged();
  frame();
}

/** Put the regions of a server-rendered partial in place; what is typed in keeps the focus. @param {string} text */
function swap(text) {
  const page = document.createElement("template");
  page.innerHTML = text;
  const active = document.activeElement instanceof HTMLElement ? document.activeElement : null;
  const key = active?.dataset.act ? `[data-act="${active.dataset.act}"][data-name="${active.dataset.name}"]${active.dataset.take ? `[data-take="${active.dataset.take}"]` : ""}` : active?.id ? `#${active.id}` : null;
  const scroll = side().scrollTop;
  for (const fresh of /** @type {NodeListOf<HTMLElement>} */ (page.content.querySelectorAll("[data-region]"))) {
    const old = /** @type {HTMLElement | null} */ (document.querySelector(`[data-region="${fresh.dataset.region}"]`));
    if (!old) continue;
    old.innerHTML = fresh.innerHTML;
    old.hidden = fresh.hidden;
    for (const [name, value] of Object.entries(fresh.dataset)) old.dataset[name] = value;
  }
  state.station = side().dataset.stationNow ?? state.station;
  state.focus = side().dataset.focus ?? "";
  side().scrollTop = scroll;
  afterSwap();
  if (key) /** @type {HTMLElement | null} */ (document.querySelector(key))?.focus();
}

function afterSwap() {
  steps.renew();
  wireDrops($("canvas-box").ownerDocument.querySelector('[data-region="ledger"]') ?? document, receive);
  for (const select of /** @type {NodeListOf<HTMLSelectElement>} */ (document.querySelectorAll("select[data-view]"))) select.value = String(/** @type {any} */ (state.view)[select.dataset.view ?? ""]);
  showChosen();
  showJobs();
  pictures.drawCharts();
  pictures.drawLedger();
}

/** @param {string} station @param {boolean} [push] @param {string} [take] */
async function goTo(station, push = true, take) {
  try {
    const query = take ? `take=${take}&` : "";
    const words = await html(`/sessions/${session}/${station}?${query}part=1`);
    const page = document.createElement("template");
    page.innerHTML = words;
    const focus = /** @type {HTMLElement} */ (page.content.querySelector('[data-region="side"]')).dataset.focus ?? "";
    const picture = await get(`/api/sessions/${session}/picture?focus=${focus}`);
    state.station = station;
    state.picture = picture;
    markCache = new Map();
    state.map = picture.map ? makeMap(picture.map) : null;
    steps.leave();
    if (push) history.pushState({ station, take }, "", `/sessions/${session}/${station}${take ? `?take=${take}` : ""}`);
    swap(words);
    pictures.mount();
    bar.takesChanged();
    if (player.fitted) player.again();
    frame();
  } catch (error) { trouble(error); }
}

/** @type {import("./host.js").Desk} */
const desk = { state, host, player, peaks, session, act, say, trouble, play, setFitted, keepView, showChosen, pointer: () => pointer, pictures: /** @type {any} */ (null) };
const pictures = makePictures(desk);
desk.pictures = pictures;
const steps = makeSteps(desk);

/** @param {string} station */
const station = (station) => () => { if (station !== state.station) goTo(station); };

wireKeys({
  Space: () => (player.playing ? player.stop() : play(player.rest)),
  Digit1: station("takes"), Digit2: station("pace"), Digit3: station("bars"), Digit4: station("onsets"), Digit5: station("fit"), Digit7: station("hand-off"),
  KeyA: steps.back, KeyS: steps.on,
  KeyQ: () => steps.stepOnset(-1), KeyE: () => steps.stepOnset(1), KeyW: steps.hearChosen,
  KeyD: () => { const time = steps.chosenTime() ?? pointer?.time ?? player.position(); if (state.station === "bars" || state.station === "pace") act("downbeat", { time_s: time }); },
  KeyC: () => {
    const take = state.station === "onsets" ? state.focus : state.picture.lead, time = (player.playing ? player.position() : pointer?.time ?? player.position()) - (host.take(take)?.offset_s ?? 0);
    if (take) act("onset-add", { take, time_s: time }, () => { state.selection = { kind: "onset", take, t: time }; });
  },
  KeyL: loopThese, KeyG: () => bar.setClick(!player.clickOn), KeyV: () => setFitted(!player.fitted),
  ArrowLeft: (event) => steps.arrow(-1, event.shiftKey), ArrowRight: (event) => steps.arrow(1, event.shiftKey),
  ArrowUp: () => steps.byBars(-1), ArrowDown: () => steps.byBars(1), PageUp: () => steps.byBars(-8), PageDown: () => steps.byBars(8),
  Enter: steps.enter, "Shift+Enter": steps.keepPlace, Delete: steps.remove, Backspace: steps.remove,
  Escape: () => {
    if (!$("keys").hidden || !$("mixer").hidden) { $("keys").hidden = $("mixer").hidden = true; return; }
    if (pictures.view()?.cancel()) { say("Cancelled; nothing was changed."); return; }
    if (state.selection?.target !== undefined) { host.select({ ...state.selection, target: undefined }); return; }
    host.select(null);
  },
  "+": () => zoom(1), "-": () => zoom(-1), "?": () => { $("keys").hidden = !$("keys").hidden; },
  "Ctrl+KeyZ": (event) => act(event.shiftKey ? "redo" : "undo"), "Ctrl+Shift+KeyZ": () => act("redo"),
}, () => /** @type {HTMLInputElement} */ ($("single-keys")).checked);

const singleKeys = /** @type {HTMLInputElement} */ ($("single-keys"));
try { singleKeys.checked = localStorage.getItem("single-keys") !== "off"; } catch { /* private window */ }
singleKeys.addEventListener("change", () => { try { localStorage.setItem("single-keys", singleKeys.checked ? "on" : "off"); } catch { /* private window */ } });

// -- clicks on words

document.addEventListener("click", async (event) => {
  const target = event.target instanceof Element ? event.target : null;
  const link = /** @type {HTMLAnchorElement | null} */ (target?.closest("a[data-station]"));
  if (link && event instanceof MouseEvent && !event.ctrlKey && !event.metaKey && event.button === 0) { event.preventDefault(); goTo(link.dataset.station ?? "bars"); return; }
  const place = /** @type {HTMLElement | null} */ (target?.closest(".place"));
  if (place) { steps.lookAt(Number(place.dataset.place)); return; }
  const button = /** @type {HTMLButtonElement | null} */ (target?.closest("[data-do]"));
  if (button) {
    const name = button.dataset.do ?? "", args = JSON.parse(button.dataset.args || "{}");
    if (name === "listen-again") { send(`/api/sessions/${session}/takes/${args.take}/listen-again`, {}).then(() => refresh()).catch(trouble); return; }
    act(name, args);
    return;
  }
  const render = /** @type {HTMLElement | null} */ (target?.closest("[data-render]"));
  if (render) {
    try { await send(`/api/sessions/${session}/render`, { take: render.dataset.render, version: state.picture.version }); await refresh("The render has begun; go on meanwhile."); } catch (error) { trouble(error); }
  }
  if (target?.closest("#preview-bars")) previewBars();
});

/** Hear the bars in view as they will be. */
function previewBars() {
  const rows = state.picture.bars;
  const view = pictures.view();
  if (!view || !rows.length) return;
  const [first, last] = view.inSight();
  player.fitted = true;
  player.setLoop(null);
  play(rows[first].s, rows[Math.min(last, first + 3)].e);
  say(`Bars ${rows[first].n} to ${rows[Math.min(last, first + 3)].n} as they will be; V compares.`);
}

wireFields((field) => {
  field.classList.remove("wrong");
  if (field instanceof HTMLInputElement && field.value === field.defaultValue) return;
  const action = actionOf(field);
  if ("wrong" in action) { field.classList.add("wrong"); say(action.wrong, true); return; }
  act(action.name, action.args);
});

document.addEventListener("change", (event) => {
  const select = event.target instanceof HTMLSelectElement ? event.target : null;
  if (select?.matches("[data-focus-choice]")) goTo(state.station, true, select.value);
  if (select?.dataset.view) { /** @type {any} */ (state.view)[select.dataset.view] = select.value; pictures.draw(); keepView(); }
});

document.addEventListener("submit", async (event) => {
  if (!(event.target instanceof HTMLFormElement) || event.target.id !== "handoff") return;
  event.preventDefault();
  const form = new FormData(event.target);
  try {
    await send(`/api/sessions/${session}/hand-off`, { takes: form.getAll("take"), kind: form.get("kind"), start: form.get("start"), extras: form.getAll("extra") });
    say("The files are being written; go on meanwhile.");
  } catch (error) { trouble(error); }
});

/** @param {File[]} files @param {HTMLElement | null} [list] */
async function receive(files, list = document.querySelector("[data-uploads]")) {
  const arrived = await sendAll(session, files, list, (text) => say(text, true));
  if (arrived) await refresh(`${arrived === 1 ? files[0].name : `${arrived} takes`} came in.`).catch(trouble);
}
wirePageDrop((files) => receive(files));

// -- what goes on meanwhile

let viewTimer = 0;
/** Levels, loop and the like are kept, but are no steps of undo. */
function keepView() {
  clearTimeout(viewTimer);
  viewTimer = window.setTimeout(() => {
    const { grid, catch: catching, close, rowPx, loop, click, clickDb, speed, mix } = state.view;
    send(`/api/sessions/${session}/levels`, { grid, catch: catching, close, rowPx, loop, click, clickDb, speed, mix }, "PUT").catch(() => {});
  }, 400);
}

listen(session, {
  jobs: (list) => {
    let ended = false;
    for (const job of list) {
      const before = jobs.get(job.id);
      jobs.set(job.id, job);
      if (job.state === "done") { jobs.delete(job.id); ended = true; if (job.kind === "handoff" && state.station !== "hand-off") say("The hand-off is ready: see Hand-off."); }
      else if (before?.state !== job.state || (job.kind === "import" && before?.phase !== job.phase && host.take(job.subject)?.state === "waiting")) ended = ended || job.state !== "queued";
    }
    showJobs();
    if (ended) queue = queue.then(() => refresh()).catch(trouble);
  },
  version: (version) => {
    // What ended between the page's making and this first news is fetched now.
    if (!heardFrom) { heardFrom = true; if (state.picture.takes.some((take) => take.state === "waiting" || take.state === "listening")) queue = queue.then(() => refresh()).catch(trouble); }
    if ($("kept").textContent === "waiting for the server") $("kept").textContent = "All kept";
    if (version <= state.picture.version || acting) return;
    // What this page does itself arrives with its own answer first.
    setTimeout(() => {
      if (version <= state.picture.version || acting) return;
      say("This session was changed in another page.", true);
      const button = document.createElement("button");
      button.type = "button";
      button.className = "link";
      button.textContent = "Show it";
      button.addEventListener("click", () => refresh().catch(trouble));
      $("last").append(" ", button);
    }, 600);
  },
  lost: () => { $("kept").textContent = "waiting for the server"; },
});

addEventListener("popstate", () => { const match = /\/sessions\/[^/]+\/([\w-]+)/.exec(location.pathname); if (match) goTo(match[1], false, new URLSearchParams(location.search).get("take") ?? undefined); });
addEventListener("theme", () => { pictures.draw(); pictures.drawCharts(); pictures.drawLedger(); });
new ResizeObserver(() => { pictures.draw(); pictures.drawCharts(); pictures.drawLedger(); }).observe($("picture"));

// A door for tests and benches: reads only.
Object.assign(window, { combpace: { state, player, view: () => pictures.view(), idle: () => queue, placeWords } });

/** Pictures and player begin at bar 1, one bar of what comes before it in sight. */
function toBar1() {
  if (!state.map) return;
  state.view.stripStart = state.map.toSeconds(0) - 0.6;
  state.view.top = Math.max(0, state.picture.bars.findIndex((one) => one.i >= 0) - 1);
  if (!player.playing) player.rest = Math.max(0, state.map.toSeconds(0));
}

toBar1();
afterSwap();
pictures.mount();
bar.takesChanged();
frame();
document.fonts.ready.then(() => { pictures.draw(); pictures.drawCharts(); });
