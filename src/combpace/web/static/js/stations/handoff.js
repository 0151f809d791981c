// @ts-check
// Hand-off: a ledger, no picture.
import { plain } from "./station.js";

/** @type {import("./station.js").StationView} */
export const handOff = { ...plain, id: "hand-off", key: 7, picture: false };
