// @ts-check
// Takes: a ledger, no picture.
import { plain } from "./station.js";

/** @type {import("./station.js").StationView} */
export const takes = { ...plain, id: "takes", key: 1, picture: false };
