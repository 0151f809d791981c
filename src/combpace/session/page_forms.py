"""What a page is sent, field by field: the picture of a session and its parts.

The types of the scripts are made from these (`make types`), so that both sides check the same names.
Times are seconds of the session where nothing else is said; q: quarters from the line of bar 1.
"""

# No postponed annotations here: which fields may be missing is read when a form is made.
from typing import Any, NotRequired, TypedDict


class SoundNames(TypedDict):
    """What the sounds of a take are asked for by: as it was played and fitted, each at its own speed and
    drawn out; None where there is none.
    """

    played: str | None
    slowed: str | None
    fitted: str | None
    fitted_slowed: str | None


class TakeFacts(TypedDict):
    """A take. peak: largest sample; sounds_s: from when to when it sounds; rounds: where a loop that follows
    begins anew, and where its last round ends; source: the take that it was kept of.
    """

    id: str
    name: str
    kind: str
    role: str
    pace: str
    first_bar: int
    bundle: str | None
    offset_s: float
    state: str
    rate: int | None
    frames: int | None
    channels: int | None
    peak: float | None
    duration_s: float
    notes: list[str]
    error: str | None
    fitted: bool
    pieces: str | None
    cut_from: str | None
    sound: str | None
    sounds_s: list[float]
    arrival: bool
    source: str | None
    rounds: list[float]
    sounds: SoundNames


class ArrivalFacts(TakeFacts):
    """A take that was not kept yet. fit: names its sound in session time; None while there is no map."""

    fit: str | None
    keeps: str


class PartFacts(TypedDict):
    """A part of notes. notes: [start, end, key, velocity, quarters from its own bar 1, 1 where pulled by
    hand].
    """

    id: str
    name: str
    count: int
    instruments: list[str]
    first_bar: int
    times: int
    until_bar: int | None
    keeps: str
    offset_s: float
    grid: str | None
    strength: float
    accent: float
    lengths: str
    said: list[str]
    own_map: bool
    in_seconds: bool
    frames: int
    sound: str | None
    notes: list[list[float]]
    hand: int
    sounds_s: list[float]


class BarRow(TypedDict):
    """A bar. i: index without a gap, n: its number; q: its line, len: its length in quarters; s and e: its
    line and the next; drift: ms; sure: 0-1.
    """

    i: int
    n: int
    q: float
    len: float
    beats: int
    meter: str
    s: float
    e: float
    bpm: float
    drift: float | None
    sure: float


class MapTable(TypedDict):
    """A map to be evaluated. meters: [index of its first bar, quarters of a bar, beats, quarters of a beat];
    bends: logarithm of the ramp of each span, none for steps.
    """

    times: list[float]
    quarters: list[float]
    meters: list[list[float]]
    bends: NotRequired[list[float]]


class AnchorRow(TypedDict):
    """An anchor. place: its words, as "3" or "3·2"."""

    q: float
    t: float
    locked: bool
    place: str


class StatementRow(TypedDict):
    """What was stated of the map. id: by which `take-back` takes it back; what: its kind; take_s: the moment
    it is about, on the lead's clock, None for the whole; reach: how far it moved the bars that were heard.
    """

    id: str
    what: str
    take_s: float | None
    reach: str | None
    words: str


class Marks(TypedDict):
    """Marks of a take: take seconds, strength 0-1, confidence 0-1; j: 1 where it stands for its stroke, 0
    where the mark of another mic does.
    """

    t: list[float]
    s: list[float]
    c: list[float]
    j: list[int]


class PieceRow(TypedDict):
    """A piece. start, stop: its span in the take; at: where it lies; off: ms from where it was laid; fades:
    ms, None as the sentence of all pieces has them; alike: how many have its sound.
    """

    number: int
    start: float
    stop: float
    at: float
    q: float
    off: float | None
    db: float
    fadeIn: float | None
    fadeOut: float | None
    curve: list[list[float]]
    own: bool
    alike: int


class GroovePlaces(TypedDict):
    """Places of a groove's bars, quarters from the line; start: index of the bar on which its first one
    lies.
    """

    start: int
    len: float
    bars: list[list[float]]


class FitNumbers(TypedDict):
    """How tight it was and will be (ms), and which shares of it are stretched (0-1)."""

    grid: str
    pulled: int
    alone: int
    riding: int
    largest_ms: float
    median_ms: float
    loose_ms: float
    squeezed: float
    spread: float
    least_factor: float
    most_factor: float
    beyond: int


class RangeRule(TypedDict):
    """A sentence of some bars: indices of its first and last bar, its bars as they are written, what it says
    in words, in a few letters for the edge of a row, and what is drawn of it as in `FitHead`.
    """

    first: int
    last: int
    bars: str
    words: str
    short: str
    strength: float
    alone_ms: float
    ignore_ms: float | None
    places: dict[str, list[float]]
    groove: GroovePlaces | None


class FitHead(TypedDict):
    """A fit without its points. strength (%), places: the places of the rule's grid in each length of bar,
    and so on: of the sentence of all bars; ranges: those of some bars, the later of which counts; edges:
    where the fit comes in ranges, the moments at which they begin; names: of each take of its bundle.
    """

    take: str
    key: str
    stated: bool
    method: str
    reason: str
    rendered: bool
    limits: list[float]
    strength: float
    alone_ms: float
    ignore_ms: float | None
    places: dict[str, list[float]]
    groove: GroovePlaces | None
    ranges: list[RangeRule]
    numbers: FitNumbers
    names: dict[str, SoundNames]
    edges: NotRequired[list[float]]


class FitPoints(TypedDict):
    """What of a fit grows with the music. pegs: [take second, where it lay, where it goes, q, kind]; riding:
    [take second, why]; source, target: points of the time map; off_ms: each mark against its place.
    """

    pegs: list[list[Any]]
    riding: list[list[Any]]
    source: list[float]
    target: list[float]
    pauses: list[float]
    off_ms: list[float]


class FitFacts(FitHead, FitPoints):
    """The fit of the take in focus."""


class NoFit(TypedDict):
    """Why there is none, in a sentence."""

    missing: str


class Picture(TypedDict):
    """All that a page draws from. raw: the tempo that was heard, [second, quarters a minute]; muted: takes
    and parts that are kept as muted.
    """

    session: str
    name: str
    version: int
    note: str
    can_undo: bool
    can_redo: bool
    sentence: str
    kind: str
    end_s: float
    lead: str | None
    focus: str | None
    takes: list[TakeFacts]
    arrivals: list[ArrivalFacts]
    parts: list[PartFacts]
    map: MapTable | None
    bars: list[BarRow]
    anchors: list[AnchorRow]
    statements: list[StatementRow]
    onsets: dict[str, Marks]
    fit: FitFacts | NoFit | None
    raw: list[list[float]]
    pieces: list[PieceRow]
    muted: list[str]
