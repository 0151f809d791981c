// @ts-check
// What the pictures are given: one plain state, and what they may ask for.

/**
 * @typedef {{id: string, name: string, kind: string, role: string, pace: string, bundle: string | null, offset_s: number, state: string,
 *   rate: number, frames: number | null, channels: number, duration_s: number, peak: number | null, fitted: boolean, sound: string | null, error: string | null}} Take
 * @typedef {{session: string, name: string, version: number, note: string, can_undo: boolean, can_redo: boolean, sentence: string, kind: string, end_s: number,
 *   lead: string | null, focus: string | null, takes: Take[], map: any, bars: import("../views/comb_geometry.js").Bar[],
 *   anchors: {q: number, t: number, locked: boolean, place: string}[], onsets: Record<string, {t: number[], s: number[], c: number[]}>, fit: any}} Picture
 * @typedef {{kind: "onset", take: string, t: number, bar?: number, target?: number} | {kind: "anchor", q: number, bar?: number} | {kind: "bar", bar: number}} Selection
 * @typedef {{top: number, rowPx: number, close: boolean, grid: string, catch: string, loop: [number, number] | null, following: boolean,
 *   stripStart: number, stripSpan: number, sheetTop: number, click: boolean, clickDb: number, speed: number, fitted: boolean, mix: Record<string, import("../player/player.js").Strip>}} View
 * @typedef {{picture: Picture, station: string, focus: string, map: import("../views/map.js").TempoMap | null, view: View, selection: any, playhead: number | null,
 *   weave: import("../views/weave.js").Weave | null}} State
 *
 * @typedef {{
 *   state: State, peaks: import("../api/peaks.js").Peaks,
 *   take: (id: string | null) => any, marks: (id: string) => {times: number[], take: number[], sure: number[]},
 *   select: (selection: Selection | null) => void, seek: (time: number) => void, say: (text: string) => void, show: (index: number) => void, showTime: (time: number) => void,
 *   hear: (time: number) => void, pointAt: (place: {time: number, q: number} | null) => void, placeNow: () => number | null,
 *   pull: (time: number, quarters: number, free?: boolean) => void, peg: (onset: number, quarters: number, free: boolean) => void, moveMark: (take: string, from: number, to: number) => void,
 *   zoom: (direction: number) => void, catchPlaces: (bar: any) => number[] | null, ruleGrid: () => string, fitMove: (bar: any) => number | null
 * }} Host
 *
 * @typedef {{state: State, host: Host, player: import("../player/player.js").Player, peaks: import("../api/peaks.js").Peaks, session: string,
 *   act: (name: string, args?: any, then?: () => void) => Promise<void>, say: (text: string, problem?: boolean) => void, trouble: (error: unknown) => void,
 *   play: (time: number, until?: number | null, more?: {map?: import("../views/map.js").TempoMap | null, after?: () => void}) => void, setFitted: (on: boolean) => void, keepView: () => void, showChosen: () => void, pointer: () => ({time: number, q: number} | null), pictures: any}} Desk
 */

/** @param {any} kept @returns {View} */
export function startView(kept) {
  return {
    top: 0, rowPx: 53, close: false, grid: "1/8", catch: "grid", loop: null, following: true, stripStart: 0, stripSpan: 6, sheetTop: 0,
    click: true, clickDb: -9, speed: 1, fitted: false, mix: {}, ...kept,
  };
}
