// @ts-check
// All stations, in the order of the work.
import { bars } from "./bars.js";
import { fit } from "./fit.js";
import { handOff } from "./handoff.js";
import { onsets } from "./onsets.js";
import { pace } from "./pace.js";
import { pieces } from "./pieces.js";
import { takes } from "./takes.js";

/** @type {Record<string, import("./station.js").StationView>} */
export const STATIONS = Object.fromEntries(
  [takes, pace, bars, onsets, fit, pieces, handOff].map((one) => [one.id, one]),
);
