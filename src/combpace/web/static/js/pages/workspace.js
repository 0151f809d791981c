// @ts-check
// The workspace: joins the wire, the pictures and the player. A change of station swaps words; sound and view go on.
import { Refusal, binary, get, html, listen, send } from "../api/client.js";
import { Peaks } from "../api/peaks.js";
import { Player } from "../player/player.js";
import { drawHistogram, drawSlimWave, drawStrengths } from "../views/charts.js";
import { mountCloseComb } from "../views/close_comb.js";
import { mountComb } from "../views/comb.js";
import { caughtPlace } from "../views/comb_geometry.js";
import { mountCurve } from "../views/curve.js";
import { gridPlaces, makeMap, placeWords } from "../views/map.js";
import { gainOf } from "../views/paint.js";
import { mountStrip } from "../views/strip.js";
import { mountWeave } from "../views/weave.js";
import { startView } from "./host.js";
import { wireKeys } from "./keys.js";
import { mountPlayerBar } from "./player_bar.js";
import { actionOf, drawChosen, drawJobs, drawLookButtons, readPlaces, wireFields } from "./side.js";
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
/** @type {any} */
let view = null;
/** @type {any} */
let curve = null;
/** @type {{time: number, q: number} | null} */
let pointer = null;
let places = readPlaces();
let placeAt = -1;
/** @type {Promise<void>} */
let queue = Promise.resolve();
let acting = 0;

const peaks = new Peaks(() => { view?.draw(); drawLedger(); });

// -- the player

const player = new Player(session, {
  voices: () => state.picture.takes.filter((take) => take.frames && take.sound).map((take) => ({ id: take.id, sound: String(take.sound), offset_s: take.offset_s, fit: fitOf(take) })),
  map: () => state.map,
  onChange: () => frame(),
  onTrouble: (text) => say(text, true),
});
player.speed = state.view.speed;
player.clickOn = state.view.click;
player.clickDb = state.view.clickDb;
player.loop = state.view.loop;
player.rest = state.map ? Math.max(0, state.map.toSeconds(0)) : 0;

/** Names the fitted sound of a take: it follows from everything decided, so the version and what is shown name it. @param {import("./host.js").Take} take */
function fitOf(take) {
  const fit = state.picture.fit;
  const shown = fit && !fit.missing && (take.id === state.focus || take.id === fit.take || (take.bundle && take.bundle === host.take(fit.take)?.bundle));
  if (shown) return fit.key;
  return take.fitted ? `${state.picture.version}` : null;
}

const bar = mountPlayerBar(player, state, { loopThese, keepView, setFitted, toggle: () => (player.playing ? player.stop() : play(player.rest)) });

/** @param {number} time @param {number | null} [until] */
function play(time, until = null) {
  player.play(time, until).catch((error) => say(`The sound could not be started: ${error.message ?? error}`, true));
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
    if (!bars.length || !view) return;
    const chosen = bars.findIndex((one) => one.i === state.selection?.bar);
    let [first, last] = chosen >= 0 ? [chosen, chosen] : view.inSight();
    if (chosen < 0) last = Math.min(last, first + 3);
    player.setLoop([bars[first].s, bars[Math.min(last, bars.length - 1)].e]);
  }
  state.view.loop = player.loop;
  bar.show();
  view?.draw();
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
  if (player.playing && state.map && view && state.view.following) {
    if (state.station === "onsets") {
      if (state.playhead !== null && (state.playhead < state.view.stripStart || state.playhead > state.view.stripStart + state.view.stripSpan)) state.view.stripStart = state.playhead - state.view.stripSpan * 0.1;
    } else view.show(state.map.barOf(state.map.toQuarters(state.playhead ?? 0)));
  }
  view?.draw();
  curve?.draw();
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
  select: (selection) => { state.selection = selection; showChosen(); view?.draw(); },
  seek: (time) => { player.seek(time); state.view.following = true; bar.show(); },
  say: (text) => say(text),
  show: (index) => view?.show(index),
  showTime: (time) => {
    if (time < state.view.stripStart + state.view.stripSpan * 0.1 || time > state.view.stripStart + state.view.stripSpan * 0.9) state.view.stripStart = time - state.view.stripSpan * 0.35;
    view?.draw();
  },
  hear: (time) => play(Math.max(-1000, time - 0.04), time + 0.32),
  pointAt: (place) => { pointer = place; },
  placeNow: () => (placeAt >= 0 ? places[placeAt]?.time ?? null : null),
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
  gainAt: (take) => gainOf(take) * 1.2,
};

/** @param {number} direction */
function zoom(direction) {
  if (state.station === "onsets") {
    const middle = state.selection?.kind === "onset" ? state.selection.t + (host.take(state.focus)?.offset_s ?? 0) : state.view.stripStart + state.view.stripSpan / 2;
    state.view.stripSpan *= direction > 0 ? 0.6 : 1 / 0.6;
    state.view.stripStart = middle - state.view.stripSpan / 2;
  } else state.view.rowPx = Math.min(150, Math.max(22, state.view.rowPx * (direction > 0 ? 1.2 : 1 / 1.2)));
  view?.draw();
  curve?.draw();
}

// -- pictures by station

function mount() {
  view?.destroy();
  curve?.destroy();
  view = curve = null;
  const box = $("canvas-box"), tools = $("picture-tools");
  box.replaceChildren();
  tools.replaceChildren();
  document.querySelector("#curve-box")?.remove();
  const empty = !state.picture.takes.some((take) => take.frames) || (state.station !== "onsets" && !state.map);
  $("picture").hidden = state.station === "takes" || state.station === "hand-off";
  if ($("picture").hidden) { drawLedger(); return; }
  if (empty) {
    const words = document.createElement("p");
    words.className = "canvas-empty";
    words.textContent = state.picture.takes.length ? "Listening: the bars are drawn here as soon as a pulse is found." : "Nothing to draw yet. Drop a recording anywhere on this page.";
    box.append(words);
    return;
  }
  if (state.station === "pace") { view = mountWeave(box, host); fetchWeave(); }
  if (state.station === "onsets") view = mountStrip(box, host);
  if (state.station === "bars" && state.view.close) view = mountCloseComb(box, host);
  if (state.station === "fit" || (state.station === "bars" && !state.view.close)) view = mountComb(box, host);
  if (state.station === "bars") {
    const holder = document.createElement("div");
    holder.id = "curve-box";
    holder.className = "curve-box canvas-box";
    $("picture").insertBefore(holder, box);
    const now = view;
    curve = mountCurve(holder, host, () => now.inSight());
  }
  drawTools(tools);
  view?.draw();
  curve?.draw();
}

/** @param {HTMLElement} tools */
function drawTools(tools) {
  const seg = document.createElement("span");
  seg.className = "seg";
  const legend = document.createElement("span");
  legend.className = "legend";
  const key = (/** @type {string} */ kind, /** @type {string} */ text) => `<span class="long"><span class="swatch ${kind}"></span>${text}</span>`;
  if (state.station === "bars") {
    for (const [close, text] of /** @type {[boolean, string][]} */ ([[false, "Comb"], [true, "Close comb, ±60 ms"]])) {
      const button = document.createElement("button");
      button.type = "button";
      button.textContent = text;
      button.setAttribute("aria-pressed", String(state.view.close === close));
      button.addEventListener("click", () => { state.view.close = close; mount(); keepView(); });
      seg.append(button);
    }
    tools.append(seg);
    legend.innerHTML = key("onset", "attack") + key("anchor", "anchor") + "<span>pull an attack onto a tooth</span>";
  } else if (state.station === "fit") legend.innerHTML = `${key("squeezed", "squeezed")}${key("spread", "spread")}<span class="long">no ribbon: untouched</span><span class="long">thin foot: as played</span>${key("anchor", "pulled to its place")}`;
  else if (state.station === "onsets") legend.innerHTML = "<span>wheel zooms, drag moves a mark, <kbd>C</kbd> adds one</span>";
  else legend.innerHTML = "<span>a slanting thread is a wrong tempo, a wavy one a breathing performance</span>";
  tools.append(legend);
}

async function fetchWeave() {
  try {
    const { data, headers } = await binary(`/api/sessions/${session}/weave?columns=480`);
    state.weave = { rows: Number(headers.get("X-Rows")), columns: 480, first: Number(headers.get("X-First-Bar-Index")), dark: new Uint8Array(data) };
    view?.draw();
  } catch (error) { trouble(error); }
}

/** Slim waveforms of the ledger and the charts beside the sentence. */
function drawLedger() {
  for (const canvas of /** @type {NodeListOf<HTMLCanvasElement>} */ (document.querySelectorAll("canvas[data-take-wave]"))) {
    const take = host.take(canvas.dataset.takeWave ?? "");
    if (!take?.frames) continue;
    const end = Math.max(1, state.picture.end_s), start = Math.min(0, ...state.picture.takes.map((one) => one.offset_s)), span = end - start;
    const columns = [], out = [0, 0], count = Math.max(8, Math.round((canvas.clientWidth * take.duration_s) / span));
    let whole = true;
    for (let k = 0; k < count && whole; k++) { whole = peaks.range(take.id, 2048, (k / count) * take.frames, ((k + 1) / count) * take.frames, out); columns.push({ low: out[0], high: out[1] }); }
    if (whole) drawSlimWave(canvas, columns, gainOf(take), (take.offset_s - start) / span, (take.offset_s + take.duration_s - start) / span);
  }
}

function drawCharts() {
  const strengths = /** @type {HTMLCanvasElement | null} */ (document.getElementById("strengths"));
  const threshold = /** @type {HTMLInputElement | null} */ (document.querySelector('[data-act="threshold"]'));
  if (strengths && threshold) drawStrengths(strengths, state.picture.onsets[state.focus]?.s ?? [], Number(threshold.value) || 0);
  const histogram = /** @type {HTMLCanvasElement | null} */ (document.getElementById("histogram")), fit = state.picture.fit;
  if (histogram && fit && !fit.missing && state.map) {
    const value = (/** @type {string} */ name) => /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-act="rule"][data-name="${name}"]`))?.value ?? "";
    const places = host.ruleGrid(), map = state.map;
    const drifts = host.marks(fit.take).times.map((time) => {
      const q = map.toQuarters(time), one = state.picture.bars.find((row) => q >= row.q && q < row.q + row.len);
      return one ? 1000 * (time - map.toSeconds(caughtPlace(q, one, gridPlaces(places, one.len, one.len / one.beats)))) : NaN;
    }).filter((ms) => !Number.isNaN(ms));
    drawHistogram(histogram, { drifts, alone: Number(value("leave_alone")) || 0, ignore: Number(value("ignore")) || null });
  }
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
    if (name === "hear") hearChosen();
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
  swap(words);
  if (note) say(note);
  const had = before.takes.filter((take) => take.frames).length, has = picture.takes.filter((/** @type {any} */ take) => take.frames).length;
  if (!view || !before.map !== !picture.map || had !== has || !$("canvas-box").querySelector("canvas")) mount();
  if (state.station === "pace") fetchWeave();
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
  const was = placeAt >= 0 ? places[placeAt] : null;
  places = readPlaces();
  // Taking one goes on to the next: the list has closed up, so the same position is the next place.
  placeAt = was ? Math.min(placeAt, places.length - 1) : -1;
  showPlace();
  wireDrops($("canvas-box").ownerDocument.querySelector('[data-region="ledger"]') ?? document, receive);
  for (const select of /** @type {NodeListOf<HTMLSelectElement>} */ (document.querySelectorAll("select[data-view]"))) select.value = String(/** @type {any} */ (state.view)[select.dataset.view ?? ""]);
  showChosen();
  showJobs();
  drawCharts();
  drawLedger();
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
    placeAt = -1;
    if (push) history.pushState({ station, take }, "", `/sessions/${session}/${station}${take ? `?take=${take}` : ""}`);
    swap(words);
    mount();
    bar.takesChanged();
    if (player.fitted) player.again();
    frame();
  } catch (error) { trouble(error); }
}

// -- look here

function showPlace() {
  document.querySelectorAll("#look .place").forEach((button, k) => button.classList.toggle("here", k === placeAt));
  drawLookButtons(placeAt >= 0 ? places[placeAt] : null, places, act);
}

/** Step to a place and play it, from one bar before. @param {number} index @param {boolean} [sounding] */
function lookAt(index, sounding = true) {
  if (!places.length) { say("Nothing here looks doubtful."); return; }
  placeAt = (index + places.length) % places.length;
  showPlace();
  document.querySelectorAll("#look .place")[placeAt]?.scrollIntoView({ block: "nearest" });
  const time = places[placeAt].time;
  if (time === null || !state.map) return;
  const map = state.map, index_ = map.barOf(map.toQuarters(time) + 1e-6);
  if (state.station === "onsets") {
    const own = host.marks(state.focus);
    const k = own.times.findIndex((one) => Math.abs(one - time) < 1e-4);
    if (k >= 0) state.selection = { kind: "onset", take: state.focus, t: own.take[k], bar: index_ };
    host.showTime(time);
  } else state.selection = { kind: "bar", bar: index_ };
  showChosen();
  view?.show(index_);
  view?.draw();
  state.view.following = true;
  if (sounding) play(map.toSeconds(map.barLine(index_ - 1)), map.toSeconds(map.barLine(index_ + 1)) + 0.05);
}

// -- keys

/** Marks that Q, E and arrows go through. */
const ownTake = () => (state.station === "onsets" || state.station === "fit" ? state.focus : state.picture.lead ?? "");

/** @param {number} step */
function stepOnset(step) {
  const id = ownTake(), own = host.marks(id);
  if (!own.times.length) return;
  const now = state.selection?.kind === "onset" && state.selection.take === id ? own.take.findIndex((time) => Math.abs(time - state.selection.t) < 2e-5) : -1;
  let next;
  if (now >= 0) next = now + step;
  else {
    const from = state.selection?.kind === "bar" ? state.picture.bars.find((one) => one.i === state.selection.bar)?.s ?? player.position() : player.position();
    next = own.times.findIndex((time) => time >= from - 0.03);
    if (step < 0) next = (next < 0 ? own.times.length : next) - 1;
  }
  next = Math.min(own.times.length - 1, Math.max(0, next));
  const index = state.map ? state.map.barOf(state.map.toQuarters(own.times[next]) + 0.05) : 0;
  host.select({ kind: "onset", take: id, t: own.take[next], bar: index });
  if (state.station === "onsets") host.showTime(own.times[next]); else view?.show(index);
}

function chosenTime() {
  if (state.selection?.kind !== "onset") return null;
  return state.selection.t + (host.take(state.selection.take)?.offset_s ?? 0);
}

function hearChosen() {
  const time = chosenTime() ?? pointer?.time ?? player.position();
  host.hear(time);
}

/** Arrows: the tooth for the chosen attack, or the mark itself. @param {number} step @param {boolean} fine */
function arrow(step, fine) {
  const selection = state.selection, map = state.map;
  if (selection?.kind !== "onset" || !map) return;
  if (state.station === "onsets") {
    const to = selection.t + step * (fine ? 0.0001 : 0.001);
    act("onset-move", { take: selection.take, from_s: selection.t, to_s: to });
    state.selection = { ...selection, t: to };
    return;
  }
  const time = chosenTime() ?? 0, q = selection.target ?? map.toQuarters(time), index = map.barOf(q + 0.02), meter = map.meterAt(index), line = map.barLine(index);
  const grid = state.station === "fit" ? host.ruleGrid() : state.view.catch === "grid" ? state.view.grid : state.view.catch === "bars" ? "bars" : "beats";
  const teeth = [...gridPlaces(grid, meter[1], meter[3]).map((place) => line + place), map.barLine(index - 1) + meter[1] - meter[3], line - meter[3]].sort((a, b) => a - b);
  const shift = fine ? 0.01 * step : 0;
  let target;
  if (fine) target = q + shift;
  else if (selection.target === undefined) target = teeth.reduce((best, tooth) => (Math.abs(tooth - q) < Math.abs(best - q) ? tooth : best));
  else target = step > 0 ? teeth.find((tooth) => tooth > q + 1e-6) ?? q : [...teeth].reverse().find((tooth) => tooth < q - 1e-6) ?? q;
  host.select({ ...selection, target });
  say(`Enter pulls the attack to ${placeWords(map, target)}, Esc lets it be.`);
}

function enter() {
  const selection = state.selection;
  if (selection?.kind === "onset" && selection.target !== undefined) {
    const time = chosenTime() ?? 0, target = selection.target;
    state.selection = { ...selection, target: undefined };
    if (state.station === "fit") act("peg", { take: state.focus, take_s: selection.t, quarters: target });
    else host.pull(time, target);
    return;
  }
  const place = placeAt >= 0 ? places[placeAt] : null;
  if (place?.do) { act(place.do.name, place.do.args).then(() => { if (places.length) lookAt(placeAt); }); return; }
  if (selection?.kind === "onset" && (state.station === "bars" || state.station === "fit")) { arrow(0, false); return; }
  if (places.length && placeAt < 0) lookAt(0);
}

function remove() {
  const selection = state.selection;
  if (selection?.kind === "anchor") act("release", { quarters: selection.q });
  else if (selection?.kind === "onset" && state.station === "fit") act("ride", { take: selection.take, times_s: [selection.t] });
  else if (selection?.kind === "onset" && state.station === "onsets") act("onset-remove", { take: selection.take, times_s: [selection.t] }, () => { state.selection = null; });
  else if (selection?.kind === "onset") say("Delete removes anchors here; marks are removed in Onsets.");
}

/** @param {number} bars */
function byBars(bars) {
  const rows = state.picture.bars;
  if (!rows.length || !state.map) return;
  const now = state.selection?.bar ?? state.map.barOf(state.map.toQuarters(player.position()) + 1e-3);
  const at = Math.min(rows.length - 1, Math.max(0, rows.findIndex((one) => one.i === now) + bars));
  host.select({ kind: "bar", bar: rows[at].i });
  state.view.following = false;
  view?.show(rows[at].i);
  if (!player.playing) player.seek(rows[at].s);
}

/** @param {string} station */
const station = (station) => () => { if (station !== state.station) goTo(station); };

wireKeys({
  Space: () => (player.playing ? player.stop() : play(player.rest)),
  Digit1: station("takes"), Digit2: station("pace"), Digit3: station("bars"), Digit4: station("onsets"), Digit5: station("fit"), Digit7: station("hand-off"),
  KeyA: () => lookAt(placeAt < 0 ? places.length - 1 : placeAt - 1), KeyS: () => lookAt(placeAt + 1),
  KeyQ: () => stepOnset(-1), KeyE: () => stepOnset(1), KeyW: hearChosen,
  KeyD: () => { const time = chosenTime() ?? pointer?.time ?? player.position(); if (state.station === "bars" || state.station === "pace") act("downbeat", { time_s: time }); },
  KeyC: () => {
    const take = state.station === "onsets" ? state.focus : state.picture.lead, time = (player.playing ? player.position() : pointer?.time ?? player.position()) - (host.take(take)?.offset_s ?? 0);
    if (take) act("onset-add", { take, time_s: time }, () => { state.selection = { kind: "onset", take, t: time }; });
  },
  KeyL: loopThese, KeyG: () => bar.setClick(!player.clickOn), KeyV: () => setFitted(!player.fitted),
  ArrowLeft: (event) => arrow(-1, event.shiftKey), ArrowRight: (event) => arrow(1, event.shiftKey),
  ArrowUp: () => byBars(-1), ArrowDown: () => byBars(1), PageUp: () => byBars(-8), PageDown: () => byBars(8),
  Enter: enter, "Shift+Enter": () => { const place = placeAt >= 0 ? places[placeAt] : null; if (place?.keep) act(place.keep.name, place.keep.args); },
  Delete: remove, Backspace: remove,
  Escape: () => {
    if (!$("keys").hidden || !$("mixer").hidden) { $("keys").hidden = $("mixer").hidden = true; return; }
    if (view?.cancel()) { say("Cancelled; nothing was changed."); return; }
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
  if (place) { lookAt(Number(place.dataset.place)); return; }
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
  if (select?.dataset.view) { /** @type {any} */ (state.view)[select.dataset.view] = select.value; view?.draw(); keepView(); }
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
addEventListener("theme", () => { view?.draw(); curve?.draw(); drawCharts(); drawLedger(); });
new ResizeObserver(() => { view?.draw(); curve?.draw(); drawCharts(); drawLedger(); }).observe($("picture"));

// A door for tests and benches: reads only.
Object.assign(window, { combpace: { state, player, view: () => view, idle: () => queue, placeWords } });

if (state.map && state.picture.bars.length) state.view.top = Math.max(0, state.picture.bars.findIndex((one) => one.i >= 0) - 1);
afterSwap();
mount();
bar.takesChanged();
frame();
document.fonts.ready.then(() => { view?.draw(); curve?.draw(); drawCharts(); });
