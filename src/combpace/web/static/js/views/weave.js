// @ts-check
// The weave: the comb of a whole song at one glance; and the drift of every attack under it.
import { OVER } from "./comb_geometry.js";
import { signed } from "./map.js";
import { colours, once, prepared, type } from "./paint.js";

/**
 * @typedef {{rows: number, columns: number, first: number, dark: Uint8Array, map?:
 *   import("./map.js").TempoMap}} Weave map: of one that is only tried; else the session's
 */

/**
 * Darkness as a picture in ink, one image pixel a cell.
 * @param {Weave} weave
 * @param {string} colour a #rrggbb
 */
export function weaveImage(weave, colour) {
  const canvas = document.createElement("canvas");
  canvas.width = weave.columns;
  canvas.height = Math.max(1, weave.rows);
  const g = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  const image = g.createImageData(canvas.width, canvas.height);
  const ink = [1, 3, 5].map((at) => parseInt(colour.slice(at, at + 2), 16));
  for (let k = 0; k < weave.dark.length; k++) {
    image.data[4 * k] = ink[0];
    image.data[4 * k + 1] = ink[1];
    image.data[4 * k + 2] = ink[2];
    image.data[4 * k + 3] = Math.min(255, Math.round(255 * Math.pow(weave.dark[k] / 255, 0.8) * 1.35));
  }
  g.putImageData(image, 0, 0);
  return canvas;
}

/** A weave on a small canvas, for the shelf. @param {HTMLCanvasElement} canvas @param {Weave} weave */
export function drawSmallWeave(canvas, weave) {
  const { g, width, height } = prepared(canvas);
  const c = colours();
  if (!weave.rows) return;
  g.imageSmoothingEnabled = weave.rows > height;
  const lineA = (width * OVER) / (1 + 2 * OVER),
    lineB = (width * (1 + OVER)) / (1 + 2 * OVER);
  g.fillStyle = c.ground;
  g.fillRect(lineA, 0, lineB - lineA, height);
  g.drawImage(weaveImage(weave, c.wave), 0, 0, width, height);
  g.fillStyle = c.ink;
  g.fillRect(lineA - 0.75, 0, 1.5, height);
  g.fillRect(lineB - 0.75, 0, 1.5, height);
}

/**
 * What is left of ys (seconds) at xs (quarters) after the straight line through them.
 * @param {number[]} xs
 * @param {number[]} ys
 */
export function fromOneTempo(xs, ys) {
  const n = xs.length,
    mx = xs.reduce((s, x) => s + x, 0) / n,
    my = ys.reduce((s, y) => s + y, 0) / n;
  const sxx = xs.reduce((s, x) => s + (x - mx) ** 2, 0),
    sxy = xs.reduce((s, x, k) => s + (x - mx) * (ys[k] - my), 0);
  return ys.map((y, k) => y - my - (sxx > 0 ? (sxy / sxx) * (xs[k] - mx) : 0));
}

/**
 * Drift at the start, in the middle and at the end: the middle value of an eighth of the bars each, eight at
 * most.
 * @param {number[]} drifts one a bar
 */
export function threeDrifts(drifts) {
  const count = Math.min(8, Math.max(1, Math.round(drifts.length / 8))),
    half = Math.floor(drifts.length / 2);
  return [0, Math.max(0, half - Math.floor(count / 2)), drifts.length - count].map((from) => {
    const some = drifts.slice(from, from + count).sort((a, b) => a - b);
    return count % 2 ? some[(count - 1) / 2] : (some[count / 2 - 1] + some[count / 2]) / 2;
  });
}

/** @param {HTMLElement} box @param {import("../pages/host.js").Host} host */
export function mountWeave(box, host) {
  const canvas = document.createElement("canvas");
  canvas.tabIndex = 0;
  canvas.setAttribute(
    "aria-label",
    "The weave: every bar as a thin row, and the drift of every attack below it",
  );
  box.append(canvas);
  const { state } = host;
  const ask = once(draw);
  /** @type {HTMLCanvasElement | null} */
  let image = null;
  /**
   * What the image was made of: the weave itself, for its data may come later than the version they belong
   * to.
   * @type {any}
   */
  let imageOf = null;
  let imageInk = "";

  /**
   * What is seen of the weave: from bar 1 on, unless the lead-in is asked for.
   * @type {{of: Weave, leadIn: boolean, weave: Weave} | null}
   */
  let cut = null;
  function seen() {
    const of = state.weave,
      { leadIn } = state.view;
    if (!of || leadIn || of.first >= 0 || of.rows <= -of.first) return of;
    if (cut?.of !== of || cut.leadIn !== leadIn)
      cut = {
        of,
        leadIn,
        weave: { ...of, first: 0, rows: of.rows + of.first, dark: of.dark.subarray(-of.first * of.columns) },
      };
    return cut.weave;
  }

  const x0 = 52;
  const layout = () => {
    const width = canvas.clientWidth,
      height = canvas.clientHeight,
      w = width - x0 - 20;
    return {
      width,
      height,
      w,
      top: 26,
      tall: Math.max(60, Math.round(state.ranging ? height - 40 : (height - 60) * 0.66)),
    };
  };

  function draw() {
    const { g, width, height } = prepared(canvas);
    const c = colours(),
      weave = seen(),
      map = weave?.map ?? state.map;
    if (!weave && map) {
      // The first look at a session: its bars are still being read from its sound.
      type(g, 13, 400);
      g.fillStyle = c.quiet;
      g.fillText("The weave is being drawn …", x0, 44);
    }
    if (!weave || !map || !weave.rows) return;
    if (imageOf !== weave || imageInk !== c.wave) {
      image = weaveImage(weave, c.wave);
      imageOf = weave;
      imageInk = c.wave;
    }
    const { w, top, tall } = layout();
    const lineA = x0 + (w * OVER) / (1 + 2 * OVER),
      lineB = x0 + (w * (1 + OVER)) / (1 + 2 * OVER);
    const rowPx = Math.min(14, tall / weave.rows),
      used = rowPx * weave.rows;
    g.fillStyle = c.panel;
    g.fillRect(x0, top, lineA - x0, used);
    g.fillRect(lineB, top, x0 + w - lineB, used);
    g.imageSmoothingEnabled = rowPx < 1;
    if (image) g.drawImage(image, x0, top, w, used);
    // Where meters change, rows share nothing but their bar lines.
    const [first, ...changes] = map.table.meters,
      beats = changes.length ? 1 : Math.round(first[2]);
    type(g, 12.5, 500, "center");
    for (let beat = 0; beat <= beats; beat++) {
      const x = lineA + ((lineB - lineA) * beat) / beats;
      g.fillStyle = c.quiet;
      g.fillText(String((beat % beats) + 1), x, 17);
      g.fillStyle = c.ink;
      g.globalAlpha = beat % beats === 0 ? 1 : 0.3;
      g.fillRect(x - (beat % beats === 0 ? 1.1 : 0.5), top, beat % beats === 0 ? 2.2 : 1, used);
      g.globalAlpha = 1;
    }
    type(g, 12.5, 500);
    g.fillStyle = c.quiet;
    g.fillText("bar", 14, 17);
    const every = [1, 2, 4, 8, 16, 32, 64, 128].find((step) => step * rowPx >= 15) ?? 256;
    for (let row = 0; row < weave.rows; row++) {
      const index = weave.first + row;
      if (
        index >= 0 &&
        (index % every === 0 || row === weave.rows - 1) &&
        (row !== weave.rows - 1 || index % every > every / 2)
      )
        g.fillText(String(index + 1), 14, top + row * rowPx + Math.min(11, rowPx * 0.5 + 5));
    }
    const place = host.placeNow();
    if (place !== null && map.barOf(map.toQuarters(place)) >= weave.first) {
      const row = map.barOf(map.toQuarters(place)) - weave.first;
      g.strokeStyle = c.field;
      g.lineWidth = 1.5;
      g.strokeRect(x0 - 1, top + row * rowPx - 0.5, w + 2, Math.max(3, rowPx) + 1);
    }
    if (state.playhead !== null) {
      const q = map.toQuarters(state.playhead),
        index = map.barOf(q),
        row = index - weave.first;
      g.fillStyle = c.field;
      if (row >= 0)
        g.fillRect(
          lineA + ((lineB - lineA) * (q - map.barLine(index))) / map.meterAt(index)[1] - 1.5,
          top + row * rowPx,
          3,
          Math.max(3, rowPx),
        );
    }
    drawDrift(g, c, top + used + 34, height - 22, width);
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {ReturnType<typeof colours>} c
   * @param {number} top
   * @param {number} bottom
   * @param {number} width
   */
  function drawDrift(g, c, top, bottom, width) {
    if (state.ranging || bottom - top < 40) return;
    const steady = state.picture.kind === "steady";
    const all = state.picture.bars.filter((bar) => bar.i >= 0 && (!steady || bar.drift !== null));
    // A map that breathes lies on its attacks: what is worth seeing is how far it leaves one steady tempo.
    const away = fromOneTempo(
      all.map((bar) => bar.q),
      all.map((bar) => bar.s),
    );
    const rows = all.map((bar, k) => ({
      i: bar.i,
      ms: steady ? /** @type {number} */ (bar.drift) : 1000 * away[k],
    }));
    if (!rows.length) return;
    const w = width - x0 - 20;
    const most = Math.max(20, ...rows.map((bar) => Math.abs(bar.ms)));
    const scale = [20, 50, 100, 200, 300, 500, 1000].find((value) => value >= most) ?? Math.ceil(most);
    const mid = (top + bottom) / 2,
      half = (bottom - top) / 2;
    g.fillStyle = c.quiet;
    type(g, 12.5);
    g.fillText(
      steady
        ? width > 860
          ? "Drift: the lead's beats against the lines, ms: early below, late above"
          : "Drift, ms: early below, late above"
        : "How far each bar lies from one steady tempo, ms: early below, late above",
      x0,
      top - 8,
    );
    if (steady && rows.length > 2) {
      const [start, middle, end] = threeDrifts(rows.map((bar) => bar.ms));
      g.fillStyle = c.ink;
      type(g, 12.5, 700, "right");
      g.fillText(
        `start ${signed(start)} · middle ${signed(middle)} · end ${signed(end)} ms`,
        x0 + w,
        top - 8,
      );
    }
    for (const value of [scale, 0, -scale]) {
      const y = mid - (value / scale) * half;
      g.fillStyle = c.line;
      g.fillRect(x0, y, w, 1);
      g.fillStyle = c.quiet;
      type(g, 12, 500, "right");
      g.fillText(value > 0 ? `+${value}` : String(value).replace("-", "−"), x0 - 6, y + 4);
    }
    const from = rows[0].i,
      to = Math.max(from + 1, rows[rows.length - 1].i);
    const x = (/** @type {number} */ index) => x0 + ((index - from) / (to - from)) * w;
    g.fillStyle = c.onset;
    for (const bar of rows) {
      const y = mid - (bar.ms / scale) * half;
      g.beginPath();
      g.arc(x(bar.i), y, 2.4, 0, 7);
      g.fill();
    }
    // The straight line through all of them: its slope is the error of the tempo.
    const n = rows.length,
      mx = rows.reduce((s, r) => s + r.i, 0) / n,
      my = rows.reduce((s, r) => s + r.ms, 0) / n;
    const sxx = rows.reduce((s, r) => s + (r.i - mx) ** 2, 0),
      sxy = rows.reduce((s, r) => s + (r.i - mx) * (r.ms - my), 0);
    const slope = sxx > 0 ? sxy / sxx : 0;
    // A line says something only where it explains most of what is seen: else the playing breathes.
    const syy = rows.reduce((s, r) => s + (r.ms - my) ** 2, 0),
      straight = sxx > 0 && syy > 0 && (sxy * sxy) / (sxx * syy) > 0.5;
    if (steady && n > 4 && straight) {
      g.strokeStyle = Math.abs(slope) > 0.3 ? c.problem : c.quiet;
      g.lineWidth = 1.5;
      g.beginPath();
      g.moveTo(x(from), mid - ((my + slope * (from - mx)) / scale) * half);
      g.lineTo(x(to), mid - ((my + slope * (to - mx)) / scale) * half);
      g.stroke();
      if (Math.abs(slope) > 0.3) {
        g.fillStyle = c.ink;
        type(g, 13, 700, "center");
        g.fillText(
          `${signed(slope)} ms a bar: ${slope < 0 ? "raise" : "lower"} the tempo`,
          x0 + w / 2,
          top + 12,
        );
      }
    }
    g.fillStyle = c.quiet;
    type(g, 12, 500, "center");
    // Every bar, or every second, third ... of them: never one left out among its neighbours.
    for (let index = from; index <= to; index += Math.max(1, Math.ceil((to - from) / 6))) {
      g.fillText(`bar ${index + 1}`, Math.min(width - 30, Math.max(x0 + 10, x(index))), bottom + 17);
    }
  }

  /** Bar and place under a pointer, null beside the rows. @param {MouseEvent} event */
  function placeAt(event) {
    const weave = seen(),
      map = weave?.map ?? state.map;
    if (!weave || !map || !weave.rows) return null;
    const frame = canvas.getBoundingClientRect(),
      { w, top, tall } = layout();
    const rowPx = Math.min(14, tall / weave.rows);
    const row = Math.floor((event.clientY - frame.top - top) / rowPx);
    if (row < 0 || row >= weave.rows) return null;
    const index = weave.first + row,
      length = map.meterAt(index)[1];
    const share = ((event.clientX - frame.left - x0) / w) * (1 + 2 * OVER) - OVER;
    return {
      index,
      time: map.toSeconds(map.barLine(index) + share * length),
      inside: map.toSeconds(map.barLine(index) + Math.min(1, Math.max(0, share)) * length),
    };
  }

  let pressedAt = [0, 0];
  canvas.addEventListener("pointerdown", (event) => {
    pressedAt = [event.clientX, event.clientY];
  });

  /** @param {MouseEvent} event */
  function click(event) {
    const place = placeAt(event);
    // What was dragged is no click.
    if (!place || Math.hypot(event.clientX - pressedAt[0], event.clientY - pressedAt[1]) > 8) return;
    host.select({ kind: "bar", bar: place.index });
    host.seek(place.inside);
  }
  canvas.addEventListener("click", click);
  return {
    draw: ask,
    cancel: () => false,
    show: () => ask(),
    inSight: () => [0, state.picture.bars.length - 1],
    destroy() {
      ask.cancel();
      canvas.remove();
    },
    pixelOf: null,
    timeAt: (/** @type {MouseEvent} */ event) => placeAt(event)?.time ?? null,
  };
}
