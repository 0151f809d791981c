"""What a session is: everything that the user decided, typed. Sounds and what was heard in them lie
elsewhere.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError, ParameterError
from combpace.core.fit.ranges import Rules, base_of
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.onsets.choose import Choice
from combpace.core.parts.cells import CellEdit
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.statements import Stated
from combpace.session.document.stated import LevelStatement, Part, Statement, TempoStatement, stated_of

FORMAT = 10
KINDS = ("unknown", "drums", "chords", "single line", "voice", "full mix", "loop")


MOST_TIMES = 2000


class NewerFormatError(CombPaceError):
    """A document that a newer program wrote."""


@dataclass(frozen=True, slots=True)
class TakeEntry:
    """A take in the session.

    role    "lead" (the map is read from it) or "follower"
    pace    "own", or "lead": it was played to the lead and shares its pace
    bundle  name of the bundle it belongs to, or None
    first_bar  bar number of the session on which its own bar 1 lies, where it has its own pace
    times   how often a loop that follows the session at its own pace is heard; until_bar: the bar before
            whose line it ends instead, or None
    keeps   what it keeps where the map changes: "time", "bar", or "" for what is usual: fitted takes and
            those with a pace of their own keep their bar, all others their time
    arrival it came into a session that had takes already, and was not kept by hand yet: see
    `session.arrivals`
    from_bpm, to_bpm  where no pulse is known of it: it is stretched from the one tempo to the other
    source  of a take that was kept as it sounded, fitted or in pieces: the id of the take it was made of
    """

    id: str
    name: str
    kind: str = "unknown"
    role: str = "follower"
    pace: str = "lead"
    bundle: str | None = None
    offset_s: float = 0.0
    first_bar: int = 1
    keeps: str = ""
    times: int = 1
    until_bar: int | None = None
    arrival: bool = False
    from_bpm: float | None = None
    to_bpm: float | None = None
    source: str | None = None

    @property
    def comes_round(self) -> bool:
        return self.times > 1 or self.until_bar is not None or self.arrival

    @property
    def two_tempi(self) -> float | None:
        """By how much it is drawn out by the two tempi that were typed; None without both."""
        return self.from_bpm / self.to_bpm if self.from_bpm and self.to_bpm else None

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise ParameterError(f"A take is one of {', '.join(KINDS)}, not “{self.kind}”.")
        if self.keeps not in ("", "time", "bar"):
            raise ParameterError(f"A take keeps its time or its bar, not “{self.keeps}”.")
        if not 1 <= self.times <= MOST_TIMES:
            raise ParameterError(f"A loop is heard 1 to {MOST_TIMES} times, not {self.times}.")


@dataclass(frozen=True, slots=True)
class PartEntry:
    """A part: notes of one track of a MIDI file, that follow the session's map.

    sha        the file's bytes; number: which of its parts, from 0
    first_bar  bar number of the session on which its bar 1 lies, or where it keeps its time `offset_s`:
               seconds of the session at which that lies
    times      how often it is heard; until_bar: the bar number before whose line it ends instead, or None
    keeps      "bar" or "time", where the map changes
    accent     0-1, how much of a groove's accents its velocities take
    lengths    as in `core.parts.part.Laying`
    edits      on the session's grid, in the order in which they were made
    """

    id: str
    name: str
    sha: str
    number: int
    first_bar: int = 1
    times: int = 1
    until_bar: int | None = None
    keeps: str = "bar"
    offset_s: float = 0.0
    accent: float = 0.0
    lengths: str = "kept"
    edits: tuple[CellEdit, ...] = ()


# -- the map


class MapPart(Part):
    """The session's map, and what the user stated of it: statements hold in every kind of map.

    edited      of a given map: it was made of the session's own by editing, not from a file
    kind        "own": the lead's own pace (breathing); "steady": one tempo; "given": from a file; "auto": as
                the lead was heard to be
    bpm         of a steady map, quarters a minute; bar_1_s its bar 1 in session time; meters its (bar,
                numerator, denominator)
    statements  in the order in which they were made; a newer one replaces an older one about the same place
    limit_ms    what may pile up at the end before a rounder tempo is no longer proposed
    given       of a given map its knots and meters in session time, as a pace is kept
    """

    kind: Literal["auto", "own", "steady", "given"] = "auto"
    bpm: float | None = None
    bar_1_s: float | None = None
    meters: tuple[tuple[int, int, int], ...] = ((1, 4, 4),)
    statements: tuple[Statement, ...] = ()
    limit_ms: float = 10.0
    given: dict[str, Any] | None = None
    edited: bool = False

    @property
    def said(self) -> str:
        """Its kind, as a sentence says it: a map that was edited here is not one from a file."""
        return "edited" if self.kind == "given" and self.edited else self.kind

    @property
    def steady_meters(self) -> tuple[Meter, ...]:
        return tuple(Meter(*meter) for meter in self.meters)

    @property
    def to_solve(self) -> tuple[Statement, ...]:
        """The statements that the map is solved for: how fast a take is read counts no more where the knots
        were made so.
        """
        return tuple(one for one in self.statements if not (isinstance(one, LevelStatement) and one.knotted))

    @property
    def stated(self) -> Stated:
        """What is stated as the core takes it, in session time."""
        return stated_of(self.to_solve)

    @property
    def settled(self) -> bool:
        """Whether the knots that were given, or the steady map, hold everything that is stated."""
        return all(one.knotted or self._as_it_is(one) for one in self.statements)

    def _as_it_is(self, one: Statement) -> bool:
        """Whether a statement is of a tempo that the map has, or has none of."""
        return isinstance(one, TempoStatement) and (self.kind != "steady" or one.bpm == self.bpm)

    @property
    def stated_bpm(self) -> float | None:
        """The tempo that was stated, quarters a minute."""
        return next((one.bpm for one in self.statements if isinstance(one, TempoStatement)), None)


# -- takes


@dataclass(frozen=True, slots=True)
class OnsetEdits:
    """Hand edits of one take's marks, keyed by take time within ±5 ms, and the sentence that chooses among
    its attacks.

    threshold, listen, apart_ms, on  as in `core.onsets.choose.Choice`
    """

    added: tuple[float, ...] = ()
    removed: tuple[float, ...] = ()
    moved: tuple[tuple[float, float], ...] = ()
    locked: tuple[float, ...] = ()
    threshold: float = 0.0
    listen: str = "everything"
    apart_ms: float = 0.0
    on: str = "anywhere"

    @property
    def choice(self) -> Choice:
        return Choice(self.threshold, self.listen, self.apart_ms / 1000.0, self.on)

    @property
    def count(self) -> int:
        return len(self.added) + len(self.removed) + len(self.moved)


@dataclass(frozen=True, slots=True)
class TakePegs:
    """Pegs by hand, and onsets that are to ride whatever the rule says."""

    pegs: tuple[HandPeg, ...] = ()
    rides: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class RuleChoice:
    """What is said of how one take is pulled: sentences and a method.

    rules  one of all bars first, where there is one; then those of some bars, the later of which counts where
           they overlap; at least one
    before it was stated when rules read what lies beside the beats, and nobody heard it since
    first  of a bundle: ids of the takes whose marks count first, in this order; the others follow, the
           clearest first
    out    of a bundle: ids of the takes whose marks do not count; their sound goes along
    """

    rules: Rules
    method: str = "auto"
    first: tuple[str, ...] = ()
    out: tuple[str, ...] = ()
    before: bool = False

    @property
    def rule(self) -> Rule:
        """The sentence of all bars, else the first."""
        return base_of(self.rules)


@dataclass(frozen=True, slots=True)
class LaidPiece:
    """A piece: frames [start, stop) of the take's sound, laid on a musical place of the session, or on a
    moment of it; exactly one of the two.

    home      where the sentence laid it, as a moment was or a place is, so that a move by hand can be told;
              level in dB
    fade_in_ms, fade_out_ms  its own fades, within it; None: as the sentence has them
    own     the sha of its own copy of the sound, which no change of others touches; None: it refers to the
            take's
    curve   points (ms after its start, dB) of its own level
    """

    start: int
    stop: int
    quarters: float | None = None
    session_s: float | None = None
    home: float | None = None
    level_db: float = 0.0
    fade_in_ms: float | None = None
    fade_out_ms: float | None = None
    own: str | None = None
    curve: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        if (self.quarters is None) == (self.session_s is None):
            raise ParameterError("A piece lies on a place or on a moment.")


@dataclass(frozen=True, slots=True)
class TakePieces:
    """A take in pieces: stored, not derived.

    sha          the sound they are cut from: the take's own, or the render that it sounded as
    first_frame  of a render: the frame of the session's clock on which its first one lies; None: the take's
                 own sound
    at, stronger, lay  the sentence that cut them, as `stations.pieces.decisions.CutArgs` has it; None where
                 none did, or an older form did not keep it
    The rest is as in `core.pieces.laying.Pieces`.
    """

    sha: str
    pieces: tuple[LaidPiece, ...]
    fade_ms: float = 5.0
    fill: str = "nothing"
    meeting: str = "ends"
    first_frame: int | None = None
    at: str | None = None
    stronger: float = 0.0
    lay: str | None = None


def default_rule() -> RuleChoice:
    return RuleChoice((Rule(grid="1/8", leave_alone_ms=6.0, ignore_beyond_ms=60.0),))


def as_played_rule() -> RuleChoice:
    """A sentence that moves nothing by itself and holds every onset where the maps have it."""
    return RuleChoice((Rule(grid="1/8", strength=0.0),))


@dataclass(frozen=True, slots=True)
class Document:
    """Everything decided, typed.

    paces    knots in the place of what was heard of takes, by their ids
    said     what was stated of the bars of takes with a pace of their own, on the clock of each; of the lead
             it stands with the map
    notes    parts: what came in as MIDI files
    pieces   takes that sound in pieces, by their ids
    arrivals loops that are heard before they are kept; they are no takes yet (`session.arrivals`)
    arriving what arrivals do: "follow" the map, or "stay" as they are
    refused  names of takes, in order and with "+" between, whose proposal as a bundle was refused for good
    """

    takes: tuple[TakeEntry, ...] = ()
    map: MapPart = field(default_factory=MapPart)
    paces: Mapping[str, TempoMap[TakeTimes]] = field(default_factory=dict)
    said: Mapping[str, tuple[Statement, ...]] = field(default_factory=dict)
    edits: Mapping[str, OnsetEdits] = field(default_factory=dict)
    rules: Mapping[str, RuleChoice] = field(default_factory=dict)
    pegs: Mapping[str, TakePegs] = field(default_factory=dict)
    refused: tuple[str, ...] = ()
    notes: tuple[PartEntry, ...] = ()
    pieces: Mapping[str, TakePieces] = field(default_factory=dict)
    arrivals: tuple[TakeEntry, ...] = ()
    arriving: str = "follow"

    @property
    def lead(self) -> TakeEntry | None:
        return next((take for take in self.takes if take.role == "lead"), None)

    def part(self, part_id: str) -> PartEntry:
        for part in self.notes:
            if part.id == part_id:
                return part
        raise ParameterError("This part is no longer in the session; nothing was changed.")

    def take(self, take_id: str) -> TakeEntry:
        for take in (*self.takes, *self.arrivals):
            if take.id == take_id:
                return take
        raise ParameterError("This take is no longer in the session; nothing was changed.")

    @property
    def names(self) -> set[str]:
        """What takes, arrivals and parts are called."""
        return {take.name for take in (*self.takes, *self.arrivals)} | {part.name for part in self.notes}

    @property
    def replaced(self) -> frozenset[str]:
        """Ids of takes that were kept as they sounded, as takes of their own that are there."""
        return frozenset(take.source for take in self.takes if take.source is not None)

    def bundle_of(self, take_id: str) -> tuple[TakeEntry, ...]:
        """The take and all that share its timing, in the session's order."""
        take = self.take(take_id)
        if take in self.arrivals:
            return (take,)
        return tuple(
            other
            for other in self.takes
            if other.id == take_id or (take.bundle and other.bundle == take.bundle)
        )

    def timing_take(self, take_id: str) -> str:
        """The take whose marks, pace, rule and pegs count for this one: the first of its bundle, the lead
        before others.
        """
        together = self.bundle_of(take_id)
        return next((take.id for take in together if take.role == "lead"), together[0].id)
