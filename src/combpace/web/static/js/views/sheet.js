// @ts-check
// The sheet: every attack around its mark, doubtful ones first.
import { placeWords } from "./map.js";
import { DOUBTFUL, gainOf, type, wave } from "./paint.js";

export const CELL_W = 126,
  CELL_H = 92;
const SHEET_S = 0.06;

/** Order of the sheet: doubtful marks first, each group by time. @param {number[]} sure */
export function sheetOrder(sure) {
  const all = sure.map((_, k) => k);
  return [...all.filter((k) => sure[k] < DOUBTFUL), ...all.filter((k) => sure[k] >= DOUBTFUL)];
}

/** How many cells stand side by side. @param {number} width */
export const cellsIn = (width) => Math.max(1, Math.floor((width - 20) / CELL_W));

/**
 * A cell shows the shape of its attack, however soft: its own loudest place fills it.
 * @param {import("../pages/host.js").Host} host
 * @param {import("../store.js").ReadyTake} take
 * @param {number} time
 */
function localGain(host, take, time) {
  const out = [0, 0],
    at = (time - take.offset_s) * take.rate;
  if (!host.peaks.range(take.id, 32, at - 0.02 * take.rate, at + 0.04 * take.rate, out)) return gainOf(take);
  return Math.min(200, 0.95 / Math.max(0.002, Math.abs(out[0]), Math.abs(out[1])));
}

/**
 * Every attack of a take around its mark.
 * @param {CanvasRenderingContext2D} g
 * @param {Record<string, string>} c
 * @param {import("../pages/host.js").Host} host
 * @param {any} shown
 * @param {{tall: number, width: number, height: number}} box tall: where it begins
 */
export function drawSheet(g, c, host, shown, { tall, width, height }) {
  const { state } = host;
  // Of all its marks the doubtful ones stand first.
  host.need(-Infinity, Infinity);
  const own = host.marks(shown.id),
    order = sheetOrder(own.sure),
    top = tall + 26,
    count = cellsIn(width);
  g.save();
  g.beginPath();
  g.rect(0, tall, width, height - tall);
  g.clip();
  const rows = Math.ceil(order.length / count),
    seen = (height - top) / CELL_H;
  state.view.sheetTop = Math.min(Math.max(0, state.view.sheetTop), Math.max(0, rows - seen + 0.1));
  const first = Math.floor(state.view.sheetTop) * count;
  for (let k = first; k < Math.min(order.length, first + (Math.ceil(seen) + 1) * count); k++) {
    const mark = order[k],
      x = 14 + (k % count) * CELL_W,
      y = top + (Math.floor(k / count) - state.view.sheetTop) * CELL_H;
    const w = CELL_W - 12,
      h = CELL_H - 26,
      time = own.times[mark];
    const doubtful = own.sure[mark] < DOUBTFUL,
      chosen = state.selection?.kind === "onset" && Math.abs(state.selection.t - own.take[mark]) < 1e-5;
    g.fillStyle = c.panel;
    g.fillRect(x, y, w, h);
    g.fillStyle = c.wave;
    // A third before the mark, two thirds after it: where an attack starts is judged by the silence before.
    wave(g, host.peaks, shown, {
      x0: Math.round(x),
      x1: Math.round(x + w),
      mid: y + h / 2,
      half: h * 0.46,
      gain: localGain(host, shown, time),
      timeAt: (px) => time - SHEET_S / 3 + ((px - x) / w) * SHEET_S,
    });
    g.strokeStyle = c.onset;
    g.lineWidth = 1.6;
    g.setLineDash(doubtful ? [4, 3] : []);
    g.beginPath();
    g.moveTo(x + w / 3, y);
    g.lineTo(x + w / 3, y + h);
    g.stroke();
    g.setLineDash([]);
    if (chosen) {
      g.strokeStyle = c.ink;
      g.lineWidth = 2;
      g.strokeRect(x - 1, y - 1, w + 2, h + 2);
    }
    g.fillStyle = doubtful ? c.ink : c.quiet;
    type(g, 12, doubtful ? 700 : 500);
    const words = state.map ? placeWords(state.map, state.map.toQuarters(time)) : time.toFixed(3);
    const short = words.replace("lead-in ", "");
    g.fillText(doubtful ? `${short}  ${Math.round(100 * own.sure[mark])} % sure` : words, x, y + h + 15);
  }
  g.fillStyle = c.ground;
  g.fillRect(0, tall, width, 22);
  g.fillStyle = c.ink;
  type(g, 13, 700);
  g.fillText(`The sheet: every attack around its mark, 60 ms wide, doubtful first`, 14, tall + 16);
  g.fillStyle = c.quiet;
  type(g, 12.5, 500, "right");
  g.fillText(`${order.length} marks`, width - 14, tall + 16);
  g.restore();
}
