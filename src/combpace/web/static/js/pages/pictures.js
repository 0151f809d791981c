// @ts-check
// The picture of the station that is shown, and the small ones beside the words.
import { binary, get } from "../api/client.js";
import { drawSlimWave } from "../views/charts.js";
import { gainOf } from "../views/paint.js";

const $ = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));

/** @param {any} desk */
export function makePictures(desk) {
  const { state, host, peaks, session, words } = desk;
  /** @type {any} */
  let view = null;
  /** Until the weave that was asked for last is there. */
  let coming = Promise.resolve();

  function mount() {
    view?.destroy();
    view = null;
    // What a pause is may have been said in Hand-off meanwhile.
    paused = null;
    pausesOf = "";
    const box = $("canvas-box"),
      tools = $("picture-tools"),
      station = desk.station();
    box.replaceChildren();
    tools.replaceChildren();
    $("picture").hidden = !station.picture;
    if (!station.picture) {
      drawLedger();
      return;
    }
    const heardAt = [...state.picture.takes, ...(state.map ? state.picture.parts : [])].some(
      (/** @type {any} */ one) => one.frames,
    );
    if (!heardAt || (station.needsMap && !state.map)) {
      const text = document.createElement("p");
      text.className = "canvas-empty";
      const heard =
        state.picture.takes.length &&
        state.picture.takes.every(
          (/** @type {import("../wire.js").TakeFacts} */ take) => take.state === "ready",
        );
      text.textContent = heard
        ? "No pulse was found. Tap along in Pace, measure a range there, or state a tempo."
        : state.picture.takes.length
          ? "Listening: the bars are drawn here as soon as a pulse is found."
          : "Nothing to draw yet. Drop a recording anywhere on this page.";
      box.append(text);
      if (heard) view = station.mapless(desk, box);
      if (view) tools.append(...station.tools(desk));
      return;
    }
    view = station.mount(desk, box);
    tools.append(...station.tools(desk));
    view?.draw();
  }

  function fetchWeave() {
    coming = bringWeave();
    return coming;
  }

  async function bringWeave() {
    try {
      const { data, headers } = await binary(`/api/sessions/${session}/weave?columns=480`);
      state.weave = {
        rows: Number(headers.get("X-Rows")),
        columns: 480,
        first: Number(headers.get("X-First-Bar-Index")),
        dark: new Uint8Array(data),
      };
      view?.draw();
    } catch (error) {
      words.trouble(error);
    }
  }

  /**
   * How strong attacks are in the lead, a byte each hundredth of a second; null until it is there.
   * @type {{lead: string, offset: number, strength: Uint8Array} | null}
   */
  let strength = null;
  let asking = "";

  function attackStrength() {
    const lead = state.picture.lead,
      offset = host.take(lead)?.offset_s ?? 0;
    if (strength?.lead === lead && strength?.offset === offset) return strength;
    if (lead && asking !== `${lead}@${offset}`) {
      asking = `${lead}@${offset}`;
      binary(`/api/sessions/${session}/activation`)
        .then(({ data }) => {
          strength = { lead, offset, strength: new Uint8Array(data) };
          view?.draw();
        })
        .catch(words.trouble);
    }
    return null;
  }

  /**
   * Takes above each other on the grid in sight, as they sound at a version; null until it is there.
   * @type {{key: string, made: any} | null}
   */
  let stacked = null;
  let asked = "";

  function takesStacked() {
    const on = ["bars", "beats"].includes(state.view.grid) ? "1/4" : state.view.grid,
      key = `${state.picture.version}|${on}`;
    if (stacked?.key === key) return stacked.made;
    if (asked !== key) {
      asked = key;
      get(`/api/sessions/${session}/stack?on=${encodeURIComponent(on)}`)
        .then((made) => {
          if (asked === key) {
            stacked = { key, made };
            desk.side.showChosen();
            view?.draw();
          }
        })
        .catch(words.trouble);
    }
    return stacked?.made ?? null;
  }

  /**
   * Pauses of the take in sight as it was played, [from, to] in its seconds; null until they are there.
   * @type {{key: string, made: [number, number][]} | null}
   */
  let paused = null;
  let pausesOf = "";

  function pauses() {
    const key = `${state.focus}|${state.picture.version}`;
    if (paused?.key === key) return paused.made;
    if (pausesOf !== key) {
      pausesOf = key;
      get(`/api/sessions/${session}/takes/${state.focus}/pauses`)
        .then((made) => {
          if (pausesOf === key) {
            paused = { key, made: made.pauses };
            words.say(
              `Pauses quieter than ${made.below_db} dB below the peak for ${made.least_ms} ms or more, as Hand-off has them.`,
            );
            view?.draw();
          }
        })
        .catch(words.trouble);
    }
    return paused?.key.startsWith(`${state.focus}|`) ? paused.made : null;
  }

  /** Slim waveforms of the ledger. */
  function drawLedger() {
    desk.following.draw();
    for (const canvas of /** @type {NodeListOf<HTMLCanvasElement>} */ (
      document.querySelectorAll("canvas[data-take-wave]")
    )) {
      const take = host.take(canvas.dataset.takeWave ?? "");
      if (!take?.frames) continue;
      const end = Math.max(1, state.picture.end_s),
        start = Math.min(0, ...state.picture.takes.map((/** @type {any} */ one) => one.sounds_s[0])),
        span = end - start;
      const [from, to] = take.sounds_s;
      const columns = [],
        out = [0, 0],
        count = Math.max(8, Math.round((canvas.clientWidth * (to - from)) / span));
      let whole = true;
      // In pieces it is drawn as it sounds, from session time 0 on.
      const id = take.pieces ? `${take.id}/laid/${take.pieces}` : take.id,
        low = take.pieces ? from * take.rate : 0,
        frames = take.pieces ? (to - from) * take.rate : take.frames;
      for (let k = 0; k < count && whole; k++) {
        whole = peaks.range(id, 2048, low + (k / count) * frames, low + ((k + 1) / count) * frames, out);
        columns.push({ low: out[0], high: out[1] });
      }
      if (whole) drawSlimWave(canvas, columns, gainOf(take), (from - start) / span, (to - start) / span);
    }
  }

  return {
    mount,
    fetchWeave,
    settled: () => coming,
    /** After a new picture: mounted anew where takes or the map came or went. @param {boolean} changed */
    renew(changed) {
      if (!view || changed || !$("canvas-box").querySelector("canvas")) mount();
      else {
        // What is offered over the picture follows the map, the lead-in for one; whatever has the keys there
        // keeps them.
        const tools = $("picture-tools");
        if (!tools.contains(document.activeElement)) tools.replaceChildren(...desk.station().tools(desk));
        desk.station().refreshed(desk);
      }
    },
    strength: attackStrength,
    stack: takesStacked,
    pauses,
    view: () => view,
    draw() {
      view?.draw();
    },
    /** The charts beside the sentence and the waveforms of the ledger. */
    drawSmall() {
      desk.station().drawSmall(desk);
      drawLedger();
    },
  };
}
