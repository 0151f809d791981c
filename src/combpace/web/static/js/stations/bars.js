// @ts-check
// Bars: the comb or the close comb, with the pace curve over it.
import { sendBytes } from "../api/client.js";
import { mountCloseComb } from "../views/close_comb.js";
import { mountComb } from "../views/comb.js";
import { mountCurve } from "../views/curve.js";
import { howDrawn } from "../views/paint.js";
import {
  field,
  gridTools,
  leadInTool,
  legend,
  msField,
  plain,
  removeMark,
  startFields,
  swatch,
} from "./station.js";

/**
 * Forms beside the comb: tidying, and a map from a file. Wired once, they outlive every swap.
 * @param {any} desk
 */
function wire(desk) {
  if (desk.barsWired) return;
  desk.barsWired = true;
  document.addEventListener("submit", (event) => {
    const form = event.target instanceof HTMLFormElement ? event.target : null;
    if (form?.id !== "tidy" && form?.id !== "map-in") return;
    event.preventDefault();
    if (form.id !== "tidy") return;
    desk.act("tidy", tidyArgs(form));
  });
  // What the buttons beside the form would move is said before, with what stands in it now.
  for (const kind of ["input", "change"])
    document.addEventListener(kind, (event) => {
      const form = event.target instanceof Element ? event.target.closest("form") : null;
      if (form?.id !== "tidy") return;
      const args = tidyArgs(form),
        put = (/** @type {HTMLElement} */ button, /** @type {any} */ more) => {
          button.dataset.args = JSON.stringify({ ...JSON.parse(button.dataset.args ?? "{}"), ...more });
        };
      for (const button of /** @type {NodeListOf<HTMLElement>} */ (
        document.querySelectorAll("[data-do=curve]")
      ))
        put(button, { within_ms: args.within_ms });
      const own = /** @type {HTMLElement | null} */ (form.querySelector("[data-foresee=tidy]"));
      if (own) put(own, args);
    });
  document.addEventListener("change", (event) => {
    const select =
      event.target instanceof HTMLSelectElement && event.target.matches("[data-bars-of]")
        ? event.target
        : null;
    if (!select) return;
    desk.state.of = select.value || null;
    desk.store.select(null);
    desk.goTo(desk.state.station, false);
  });
  document.addEventListener("change", async (event) => {
    const input =
        event.target instanceof HTMLInputElement && event.target.type === "file" ? event.target : null,
      form = input?.closest("form");
    const file = input?.files?.[0];
    if (!input || !file || form?.id !== "map-in") return;
    const use = String(new FormData(form).get("use"));
    input.value = "";
    try {
      const { sentence, ...args } = await sendBytes(
        `/api/sessions/${desk.session}/map-file?name=${encodeURIComponent(file.name)}`,
        file,
      );
      desk.words.say(sentence);
      desk.act("map-in", { ...args, use });
    } catch (error) {
      desk.words.trouble(error);
    }
  });
}

/** What the form of Tidy asks for. @param {HTMLFormElement} form */
function tidyArgs(form) {
  const data = new FormData(form);
  return {
    within_ms: String(data.get("within_ms")),
    ramps: Boolean(data.get("ramps")),
    on_beats: Boolean(data.get("on_beats")),
  };
}

/** How near bar lines stay, as the form beside says. */
const within = () =>
  /** @type {HTMLInputElement | null} */ (document.querySelector("#tidy [name=within_ms]"))?.value ?? "10";

/** @type {import("./station.js").StationView} */
export const bars = {
  ...plain,
  id: "bars",
  key: 3,
  pulls: true,
  ofTake: true,
  commands: [
    {
      id: "downbeat",
      keys: ["KeyD"],
      shown: "D",
      words: "this is a downbeat",
      run: (desk) => desk.steps.downbeat(),
    },
  ],
  mount(desk, box) {
    wire(desk);
    const view = desk.state.view.close ? mountCloseComb(box, desk.host) : mountComb(box, desk.host),
      holder = document.createElement("div");
    holder.id = "curve-box";
    holder.className = "curve-box canvas-box";
    box.before(holder);
    const curve = mountCurve(holder, desk.host, () => view.inSight());
    const draw = () => {
      view.draw();
      curve.draw();
    };
    return {
      ...view,
      draw,
      destroy() {
        curve.destroy();
        holder.remove();
        view.destroy();
      },
    };
  },
  tools(desk) {
    const seg = document.createElement("span");
    seg.className = "seg";
    for (const [close, text] of /** @type {[boolean, string][]} */ ([
      [false, "Comb"],
      [true, "Close comb"],
    ])) {
      const button = document.createElement("button");
      button.type = "button";
      button.textContent = text;
      button.setAttribute("aria-pressed", String(desk.state.view.close === close));
      button.addEventListener("click", () => {
        desk.store.view({ close });
        desk.pictures.mount();
      });
      seg.append(button);
    }
    return [
      seg,
      ...rowsTools(desk),
      ...gridTools(desk),
      ...leadInTool(desk),
      legend(`${swatch("onset", "attack")}${swatch("anchor", "anchor")}`),
    ];
  },
  remove(desk, selection) {
    if (selection?.kind === "anchor") desk.act("release", { quarters: selection.q });
    else removeMark(desk, selection);
  },
  chosenOnset(desk, selection, mark, button, row) {
    const at = { time_s: mark.time };
    button("This is bar 1", "", () => desk.act("bar-1", at), ["bar-1", at]);
    button("This is a downbeat", "D", () => desk.act("downbeat", at), ["downbeat", at]);
    button("This is the pickup", "", () => desk.act("pickup", at), ["pickup", at]);
    button("Remove the mark", "Del", () => removeMark(desk, selection));
    startFields(desk, selection, mark, row);
  },
  chosenMany(desk, selection, { head, text, button, row }) {
    if (selection.kind === "anchors") {
      const chosen = desk.state.picture.anchors.filter((/** @type {any} */ one) =>
        selection.qs.includes(one.q),
      );
      if (!chosen.length) return false;
      head.textContent = `${chosen.length} anchors`;
      text.textContent =
        `From ${chosen[0].place} to ${chosen[chosen.length - 1].place}, ` +
        `${chosen.filter((/** @type {any} */ one) => one.locked).length} of them locked. Shift and ` +
        `click adds one or takes it out.`;
      anchorButtons(desk, { quarters: selection.qs }, button, row);
      return true;
    }
    if (selection.kind !== "bars") return false;
    const bars = desk.state.picture.bars.filter(
      (/** @type {import("../wire.js").BarRow} */ bar) => bar.i >= selection.bar && bar.i <= selection.to,
    );
    if (!bars.length) return false;
    const first = bars[0],
      last = bars[bars.length - 1],
      span = { from_bar: first.n, to_bar: last.n };
    const beats = bars.reduce(
        (/** @type {number} */ sum, /** @type {import("../wire.js").BarRow} */ bar) => sum + bar.beats,
        0,
      ),
      bpm = (60 * beats) / (last.e - first.s);
    head.textContent = `Bars ${first.n} to ${last.n}`;
    text.textContent =
      `${bars.length} bars, ${bpm.toFixed(2)} BPM on the whole. Drag over the numbers, or Shift and ` +
      `click, chooses others.`;
    button("Loop them", "L", () => desk.store.sound({ loop: [first.s, last.e] }));
    row.append(
      nudged(
        desk,
        span,
        field("tempo", bpm.toFixed(2), "w5", (value) => desk.act("tempo", { ...span, bpm: value })),
      ),
      field("ramp to", "", "w5", (value) => desk.act("tempo", { ...span, bpm: first.bpm, to_bpm: value })),
      field("meter", first.meter, "w3", (value) => desk.act("meter-range", { meter: value, ...span })),
    );
    for (const [label, factor] of [
      ["Twice as fast", 2],
      ["Half as fast", -2],
    ])
      button(String(label), "", () => desk.act("scale", { factor, bar: first.n, to_bar: last.n }), [
        "scale",
        { factor, bar: first.n, to_bar: last.n },
      ]);
    button(
      "Steps between anchors",
      "",
      () => desk.act("curve", { shape: "steps", within_ms: within(), ...span }),
      ["curve", { shape: "steps", within_ms: within(), ...span }],
    );
    button(
      "Ramps between anchors",
      "",
      () => desk.act("curve", { shape: "ramps", within_ms: within(), ...span }),
      ["curve", { shape: "ramps", within_ms: within(), ...span }],
    );
    button("Smooth", "", () => desk.act("curve", { shape: "smooth", within_ms: within(), ...span }), [
      "curve",
      { shape: "smooth", within_ms: within(), ...span },
    ]);
    if (
      desk.state.picture.anchors.some(
        (/** @type {any} */ one) => one.q >= first.q - 1e-6 && one.q < last.q + last.len - 1e-6,
      )
    )
      anchorButtons(desk, span, button, row);
    return true;
  },
  chosenBar(desk, bar, button, row) {
    const { act, state } = desk,
      breathing = state.picture.kind !== "steady";
    button("This is bar 1", "", () => act("bar-1", { time_s: bar.s }));
    button("Lock its line", "", () => act("lock", { quarters: bar.q, locked: true }));
    button("Loop it", "L", () => desk.loopThese());
    const does = (/** @type {string} */ label, /** @type {string} */ name, /** @type {any} */ args) =>
      button(label, "", () => act(name, args), [name, args]);
    if (bar.i > 0) does("No bar begins here", "not-downbeat", { time_s: bar.s });
    does("One beat earlier from here", "one-beat", { direction: "earlier", bar: bar.n });
    does("One beat later from here", "one-beat", { direction: "later", bar: bar.n });
    if (bar.i === 0) does("This is the pickup", "pickup", { time_s: bar.s + 0.01 });
    if (breathing) {
      does("Twice as fast from here", "scale", { factor: 2, bar: bar.n });
      does("Half as fast from here", "scale", { factor: -2, bar: bar.n });
    }
    row.append(
      field("meter from here on", bar.meter, "w3", (meter) => act("meter", { meter, bar: bar.n })),
      field("beats in this bar", String(bar.beats), "w3", (beats) =>
        act("odd-bar", { bar: bar.n, beats: Number(beats) }),
      ),
      nudged(
        desk,
        { from_bar: bar.n, to_bar: bar.n },
        field("tempo of this bar", bar.bpm.toFixed(2), "w5", (bpm) =>
          act("tempo", { from_bar: bar.n, to_bar: bar.n, bpm }),
        ),
      ),
    );
    return "Pull an attack onto a tooth, or press D on a downbeat.";
  },
};

/**
 * What the rows draw: all mics of the bundle or one of them; sound, or how strong attacks are.
 * @param {any} desk
 * @returns {Node[]}
 */
function rowsTools(desk) {
  const { state, store, host } = desk,
    lead = host.take(state.picture.lead),
    made = document.createElement("span");
  made.className = "grid-tools";
  const choice = (
    /** @type {string} */ name,
    /** @type {string} */ title,
    /** @type {[string, string][]} */ options,
  ) => {
    const select = document.createElement("select");
    select.className = "field";
    select.title = title;
    select.setAttribute("aria-label", title);
    for (const [value, text] of options)
      select.add(
        new Option(
          text,
          value,
          false,
          (name === "drawn" ? howDrawn(state.view.drawn, lead) : state.view[name]) === value,
        ),
      );
    select.addEventListener("change", () => {
      store.view({ [name]: select.value });
      desk.pictures.draw();
    });
    made.append(select);
  };
  const mics = lead?.bundle
    ? state.picture.takes.filter(
        (/** @type {import("../wire.js").TakeFacts} */ take) => take.bundle === lead.bundle && take.frames,
      )
    : [];
  if (mics.length > 1)
    choice("rowsOf", "Whose sound the rows draw", [
      ["", "all mics"],
      ...mics.map(
        (/** @type {any} */ mic) => /** @type {[string, string]} */ ([mic.id, mic.name.split(" - ").pop()]),
      ),
    ]);
  choice("drawn", "Rows drawn as sound, or as the strength of attacks: clearer in a dense mix", [
    ["sound", "sound"],
    ["attacks", "attacks"],
  ]);
  return [made];
}

/**
 * Arrows up and down in a field of tempo nudge it by 0.1, with Shift by 0.01.
 * @param {any} desk
 * @param {{from_bar: number, to_bar: number}} span
 * @param {HTMLElement} label
 */
function nudged(desk, span, label) {
  const box = /** @type {HTMLInputElement} */ (label.querySelector("input"));
  // Its id gives it the keys back when the words are written anew.
  box.id = "nudged-tempo";
  box.addEventListener("keydown", (event) => {
    if (event.key !== "ArrowUp" && event.key !== "ArrowDown") return;
    event.preventDefault();
    const by = (event.key === "ArrowUp" ? 1 : -1) * (event.shiftKey ? 0.01 : 0.1);
    box.value = (Number(box.value.replace(",", ".")) + by).toFixed(2);
    desk.act("tempo", { ...span, by, nudged: true });
  });
  return label;
}

/**
 * What several anchors do as one.
 * @param {any} desk
 * @param {any} which
 * @param {import("./station.js").Button} button
 * @param {HTMLElement} row
 */
function anchorButtons(desk, which, button, row) {
  for (const [label, what] of [
    ["Lock", "lock"],
    ["Unlock", "unlock"],
    ["Release", "release"],
  ])
    button(
      `${label} anchors`,
      "",
      () => desk.act("anchors", { what, ...which }),
      what === "release" ? ["anchors", { what, ...which }] : undefined,
    );
  row.append(msField("shift anchors by, ms", (ms) => desk.act("anchors", { what: "shift", ms, ...which })));
}
