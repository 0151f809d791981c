// @ts-check
// Pace: the weave and the drift under it.
import { mountWeave } from "../views/weave.js";
import { legend, plain } from "./station.js";

/** @type {import("./station.js").StationView} */
export const pace = {
  ...plain, id: "pace", key: 2,
  commands: [{ id: "downbeat", keys: ["KeyD"], shown: "D", words: "this is a downbeat", run: (desk) => desk.steps.downbeat() }],
  mount: (desk, box) => {
    desk.pictures.fetchWeave();
    return mountWeave(box, desk.host);
  },
  tools: () => [legend("<span>a slanting thread is a wrong tempo, a wavy one a breathing performance</span>")],
  refreshed: (desk) => desk.pictures.fetchWeave(),
};
