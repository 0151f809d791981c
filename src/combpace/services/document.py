"""A session's document: what the user decided, in typed form, and how it lies in the history's parts.

Parts: "takes" (placements, bundles, roles), "map", and per take "pace:ID" (own pace after corrections), "onsets:ID"
(hand edits), "rule:ID" and "pegs:ID". An older form is brought up on reading; a newer one is refused in a sentence.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError, ParameterError
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter

FORMAT = 2
KINDS = ("unknown", "drums", "chords", "single line", "voice", "full mix", "loop")


class NewerFormatError(CombPaceError):
    """A document that a newer program wrote."""


@dataclass(frozen=True, slots=True)
class TakeEntry:
    """A take in the session.

    role    "lead" (the map is read from it) or "follower"
    pace    "own", or "lead": it was played to the lead and shares its pace
    bundle  name of the bundle it belongs to, or None
    first_bar  bar number of the session on which its own bar 1 lies, where it has its own pace
    """

    id: str
    name: str
    kind: str = "unknown"
    role: str = "follower"
    pace: str = "lead"
    bundle: str | None = None
    offset_s: float = 0.0
    first_bar: int = 1

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise ParameterError(f"A take is one of {', '.join(KINDS)}, not “{self.kind}”.")


@dataclass(frozen=True, slots=True)
class MapChoice:
    """The session's map.

    kind     "own": the lead's own pace (breathing); "steady": one tempo; "auto": as the lead was heard to be
    bpm      of a steady map, quarters a minute; bar_1_s its bar 1 in session time
    """

    kind: str = "auto"
    bpm: float | None = None
    bar_1_s: float | None = None
    meter: tuple[int, int] = (4, 4)


@dataclass(frozen=True, slots=True)
class OnsetEdits:
    """Hand edits of one take's marks, keyed by take time within ±5 ms, and how its attacks are listened for."""

    added: tuple[float, ...] = ()
    removed: tuple[float, ...] = ()
    moved: tuple[tuple[float, float], ...] = ()
    locked: tuple[float, ...] = ()
    threshold: float = 0.0

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
    """The sentence of one take: a rule and a method."""

    rule: Rule
    method: str = "auto"


def default_rule() -> RuleChoice:
    return RuleChoice(Rule(Grid(8), strength=1.0, leave_alone_ms=6.0, ignore_beyond_ms=60.0))


@dataclass(frozen=True, slots=True)
class Document:
    """Everything decided, typed."""

    takes: tuple[TakeEntry, ...] = ()
    map: MapChoice = MapChoice()
    paces: Mapping[str, TempoMap[TakeTimes]] = field(default_factory=dict)
    edits: Mapping[str, OnsetEdits] = field(default_factory=dict)
    rules: Mapping[str, RuleChoice] = field(default_factory=dict)
    pegs: Mapping[str, TakePegs] = field(default_factory=dict)

    @property
    def lead(self) -> TakeEntry | None:
        return next((take for take in self.takes if take.role == "lead"), None)

    def take(self, take_id: str) -> TakeEntry:
        for take in self.takes:
            if take.id == take_id:
                return take
        raise ParameterError("This take is no longer in the session; nothing was changed.")

    def bundle_of(self, take_id: str) -> tuple[TakeEntry, ...]:
        """The take and all that share its timing, in the session's order."""
        take = self.take(take_id)
        return tuple(other for other in self.takes if other.id == take_id or (take.bundle and other.bundle == take.bundle))

    def timing_take(self, take_id: str) -> str:
        """The take whose marks, pace, rule and pegs count for this one: the first of its bundle, the lead before others."""
        together = self.bundle_of(take_id)
        return next((take.id for take in together if take.role == "lead"), together[0].id)


# -- parts


def read(parts: Mapping[str, Any], format: int) -> Document:
    """Parts of any known format -> a document. Raises NewerFormatError for a later one."""
    if format > FORMAT:
        raise NewerFormatError(
            f"This session was last written by a newer version of Comb Pace (document form {format}, this one reads up to {FORMAT}). "
            "It is unchanged; open it with that version."
        )
    parts = upgraded(parts, format)

    def each(prefix: str) -> dict[str, Any]:
        return {name.partition(":")[2]: value for name, value in parts.items() if name.startswith(prefix + ":")}

    choice = parts.get("map") or {}
    return Document(
        takes=tuple(TakeEntry(**entry) for entry in parts.get("takes", [])),
        map=MapChoice(choice.get("kind", "auto"), choice.get("bpm"), choice.get("bar_1_s"), tuple(choice.get("meter", (4, 4)))),
        paces={take: pace_from(value) for take, value in each("pace").items()},
        edits={take: edits_from(value) for take, value in each("onsets").items()},
        rules={take: rule_from(value) for take, value in each("rule").items()},
        pegs={take: pegs_from(value) for take, value in each("pegs").items()},
    )


def upgraded(parts: Mapping[str, Any], format: int) -> Mapping[str, Any]:
    """Bring parts of an older form up, one form after the other.

    1 -> 2: takes know on which bar they begin; what a rule ignores is a limit of its own, in ms or as a note value.
    """
    if format >= 2:
        return parts
    made = dict(parts)
    made["takes"] = [{**take, "first_bar": 1} for take in parts.get("takes", [])]
    for name, value in parts.items():
        if name.startswith("rule:"):
            rest = {key: entry for key, entry in value.items() if key != "ignore_beyond_ms"}
            made[name] = {**rest, "ignore": {"ms": value.get("ignore_beyond_ms"), "quarters": None}}
    return made


def takes_part(takes: tuple[TakeEntry, ...]) -> list[dict[str, Any]]:
    return [asdict(take) for take in takes]


def map_part(choice: MapChoice) -> dict[str, Any]:
    return {"kind": choice.kind, "bpm": choice.bpm, "bar_1_s": choice.bar_1_s, "meter": list(choice.meter)}


def pace_part(pace: TempoMap[TakeTimes]) -> dict[str, Any]:
    knots = [[knot.time_s, knot.quarters, int(knot.fixed), int(knot.locked), round(knot.confidence, 4)] for knot in pace.knots]
    return {"knots": knots, "meters": [[meter.bar, meter.numerator, meter.denominator] for meter in pace.meters]}


def pace_from(value: Mapping[str, Any]) -> TempoMap[TakeTimes]:
    knots = tuple(Knot(time, place, bool(fixed), bool(locked), sure) for time, place, fixed, locked, sure in value["knots"])
    return TempoMap(knots, tuple(Meter(*meter) for meter in value["meters"]))


def edits_part(edits: OnsetEdits) -> dict[str, Any]:
    return asdict(edits)


def edits_from(value: Mapping[str, Any]) -> OnsetEdits:
    return OnsetEdits(
        tuple(value.get("added", ())),
        tuple(value.get("removed", ())),
        tuple((a, b) for a, b in value.get("moved", ())),
        tuple(value.get("locked", ())),
        value.get("threshold", 0.0),
    )


def rule_part(choice: RuleChoice) -> dict[str, Any]:
    rule = choice.rule
    return {
        "grid": [rule.grid.value, rule.grid.shape, rule.grid.swing],
        "strength": rule.strength,
        "leave_alone_ms": rule.leave_alone_ms,
        "ignore": {"ms": rule.ignore_beyond_ms, "quarters": rule.ignore_beyond},
        "bars": list(rule.bars) if rule.bars else None,
        "method": choice.method,
    }


def rule_from(value: Mapping[str, Any]) -> RuleChoice:
    bars = value.get("bars")
    rule = Rule(
        Grid(*value["grid"]),
        value["strength"],
        value["leave_alone_ms"],
        value["ignore"]["ms"],
        value["ignore"]["quarters"],
        (bars[0], bars[1]) if bars else None,
    )
    return RuleChoice(rule, value.get("method", "auto"))


def pegs_part(pegs: TakePegs) -> dict[str, Any]:
    return {"pegs": [[peg.take_s, peg.quarters, peg.session_s] for peg in pegs.pegs], "rides": list(pegs.rides)}


def pegs_from(value: Mapping[str, Any]) -> TakePegs:
    return TakePegs(tuple(HandPeg(*peg) for peg in value.get("pegs", ())), tuple(value.get("rides", ())))
