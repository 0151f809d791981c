// @ts-check
// Which picture a station shows, and the small ones beside the words.
import { binary } from "../api/client.js";
import { drawHistogram, drawSlimWave, drawStrengths } from "../views/charts.js";
import { mountCloseComb } from "../views/close_comb.js";
import { mountComb } from "../views/comb.js";
import { caughtPlace } from "../views/comb_geometry.js";
import { mountCurve } from "../views/curve.js";
import { gridPlaces } from "../views/map.js";
import { gainOf } from "../views/paint.js";
import { mountStrip } from "../views/strip.js";
import { mountWeave } from "../views/weave.js";

const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));

/** @param {import("./host.js").Desk} desk */
export function makePictures(desk) {
  const { state, host, peaks, session, keepView, trouble } = desk;
  /** @type {any} */
  let view = null;
  /** @type {any} */
  let curve = null;

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

  return {
    mount, fetchWeave, drawLedger, drawCharts,
    view: () => view,
    draw() { view?.draw(); curve?.draw(); },
  };
}
