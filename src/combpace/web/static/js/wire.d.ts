// Made by `make types` from combpace/session/page_forms.py: change that, not this.

/** What the sounds of a take are asked for by: as it was played and fitted, each at its own speed and
 *  drawn out; None where there is none. */
export interface SoundNames {
  played: string | null;
  slowed: string | null;
  fitted: string | null;
  fitted_slowed: string | null;
}

/** A take. peak: largest sample; sounds_s: from when to when it sounds; rounds: where a loop that follows
 *  begins anew, and where its last round ends; source: the take that it was kept of. */
export interface TakeFacts {
  id: string;
  name: string;
  kind: string;
  role: string;
  pace: string;
  first_bar: number;
  bundle: string | null;
  offset_s: number;
  state: string;
  rate: number | null;
  frames: number | null;
  channels: number | null;
  peak: number | null;
  duration_s: number;
  notes: string[];
  error: string | null;
  fitted: boolean;
  pieces: string | null;
  cut_from: string | null;
  sound: string | null;
  sounds_s: number[];
  arrival: boolean;
  source: string | null;
  rounds: number[];
  sounds: SoundNames;
}

/** A take that was not kept yet. fit: names its sound in session time; None while there is no map. */
export interface ArrivalFacts extends TakeFacts {
  fit: string | null;
  keeps: string;
}

/** A part of notes. notes: [start, end, key, velocity, quarters from its own bar 1, 1 where pulled by
 *  hand]. */
export interface PartFacts {
  id: string;
  name: string;
  count: number;
  instruments: string[];
  first_bar: number;
  times: number;
  until_bar: number | null;
  keeps: string;
  offset_s: number;
  grid: string | null;
  strength: number;
  accent: number;
  lengths: string;
  said: string[];
  own_map: boolean;
  in_seconds: boolean;
  frames: number;
  sound: string | null;
  notes: number[][];
  hand: number;
  sounds_s: number[];
}

/** A bar. i: index without a gap, n: its number; q: its line, len: its length in quarters; s and e: its
 *  line and the next; drift: ms; sure: 0-1. */
export interface BarRow {
  i: number;
  n: number;
  q: number;
  len: number;
  beats: number;
  meter: string;
  s: number;
  e: number;
  bpm: number;
  drift: number | null;
  sure: number;
}

/** A map to be evaluated. meters: [index of its first bar, quarters of a bar, beats, quarters of a beat];
 *  bends: logarithm of the ramp of each span, none for steps. */
export interface MapTable {
  times: number[];
  quarters: number[];
  meters: number[][];
  bends?: number[];
}

/** An anchor. place: its words, as "3" or "3·2". */
export interface AnchorRow {
  q: number;
  t: number;
  locked: boolean;
  place: string;
}

/** What was stated of the map. id: by which `take-back` takes it back; what: its kind; take_s: the moment
 *  it is about, on the lead's clock, None for the whole; reach: how far it moved the bars that were heard. */
export interface StatementRow {
  id: string;
  what: string;
  take_s: number | null;
  reach: string | null;
  words: string;
}

/** Marks of a take: take seconds, strength 0-1, confidence 0-1; j: 1 where it stands for its stroke, 0
 *  where the mark of another mic does. */
export interface Marks {
  t: number[];
  s: number[];
  c: number[];
  j: number[];
}

/** A piece. start, stop: its span in the take; at: where it lies; off: ms from where it was laid; fades:
 *  ms, None as the sentence of all pieces has them; alike: how many have its sound. */
export interface PieceRow {
  number: number;
  start: number;
  stop: number;
  at: number;
  q: number;
  off: number | null;
  db: number;
  fadeIn: number | null;
  fadeOut: number | null;
  curve: number[][];
  own: boolean;
  alike: number;
}

/** Places of a groove's bars, quarters from the line; start: index of the bar on which its first one
 *  lies. */
export interface GroovePlaces {
  start: number;
  len: number;
  bars: number[][];
}

/** How tight it was and will be (ms), and which shares of it are stretched (0-1). */
export interface FitNumbers {
  grid: string;
  pulled: number;
  alone: number;
  riding: number;
  largest_ms: number;
  median_ms: number;
  loose_ms: number;
  squeezed: number;
  spread: number;
  least_factor: number;
  most_factor: number;
  beyond: number;
}

/** A sentence of some bars: indices of its first and last bar, its bars as they are written, what it says
 *  in words, in a few letters for the edge of a row, and what is drawn of it as in `FitHead`. */
export interface RangeRule {
  first: number;
  last: number;
  bars: string;
  words: string;
  short: string;
  strength: number;
  alone_ms: number;
  ignore_ms: number | null;
  places: Record<string, number[]>;
  groove: GroovePlaces | null;
}

/** A fit without its points. strength (%), places: the places of the rule's grid in each length of bar,
 *  and so on: of the sentence of all bars; ranges: those of some bars, the later of which counts; edges:
 *  where the fit comes in ranges, the moments at which they begin; names: of each take of its bundle. */
export interface FitHead {
  take: string;
  key: string;
  stated: boolean;
  method: string;
  reason: string;
  rendered: boolean;
  limits: number[];
  strength: number;
  alone_ms: number;
  ignore_ms: number | null;
  places: Record<string, number[]>;
  groove: GroovePlaces | null;
  ranges: RangeRule[];
  numbers: FitNumbers;
  names: Record<string, SoundNames>;
  edges?: number[];
}

/** What of a fit grows with the music. pegs: [take second, where it lay, where it goes, q, kind]; riding:
 *  [take second, why]; source, target: points of the time map; off_ms: each mark against its place. */
export interface FitPoints {
  pegs: any[][];
  riding: any[][];
  source: number[];
  target: number[];
  pauses: number[];
  off_ms: number[];
}

/** The fit of the take in focus. */
export interface FitFacts extends FitHead, FitPoints {}

/** Why there is none, in a sentence. */
export interface NoFit {
  missing: string;
}

/** All that a page draws from. raw: the tempo that was heard, [second, quarters a minute]; muted: takes
 *  and parts that are kept as muted. */
export interface Picture {
  session: string;
  name: string;
  version: number;
  note: string;
  can_undo: boolean;
  can_redo: boolean;
  sentence: string;
  kind: string;
  end_s: number;
  lead: string | null;
  focus: string | null;
  takes: TakeFacts[];
  arrivals: ArrivalFacts[];
  parts: PartFacts[];
  map: MapTable | null;
  bars: BarRow[];
  anchors: AnchorRow[];
  statements: StatementRow[];
  onsets: Record<string, Marks>;
  fit: FitFacts | NoFit | null;
  raw: number[][];
  pieces: PieceRow[];
  muted: string[];
}
