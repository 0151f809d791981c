"""How a document lies in the history's parts, as JSON values.

Parts: "takes" (placements, bundles, roles, arrivals), "map" (its kind and what was stated of it), "refused"
(proposals that are not made again), "arriving" (what arrivals do), and per take "pace:ID" (knots in the place
of what was heard), "said:ID" (what was stated of its own bars), "onsets:ID" (hand edits), "rule:ID" and
"pegs:ID".
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict
from typing import Any

from combpace.core.clocks import TakeTimes
from combpace.core.fit.rule import HandPeg
from combpace.core.parts.cells import CellEdit
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.session.document.forms import (
    EditsForm,
    NotesForm,
    PaceForm,
    PegsForm,
    PiecesForm,
    RuleForm,
    TakeForm,
)
from combpace.session.document.model import (
    FORMAT,
    Document,
    LaidPiece,
    MapPart,
    NewerFormatError,
    OnsetEdits,
    PartEntry,
    RuleChoice,
    TakeEntry,
    TakePegs,
    TakePieces,
)
from combpace.session.document.stated import Statement, statement_from, statement_part
from combpace.session.document.upgrades import upgraded


def read(parts: Mapping[str, Any], format: int) -> Document:
    """Parts of any known format -> a document. Raises NewerFormatError for a later one."""
    if format > FORMAT:
        raise NewerFormatError(
            "This session was last written by a newer version of Comb Pace (document form "
            f"{format}, this one reads up to {FORMAT}). "
            "It is unchanged; open it with that version."
        )
    parts = upgraded(parts, format)

    def each(prefix: str) -> dict[str, Any]:
        return {
            name.partition(":")[2]: value for name, value in parts.items() if name.startswith(prefix + ":")
        }

    return Document(
        takes=tuple(TakeEntry(**dict(TakeForm.model_validate(entry))) for entry in parts.get("takes", [])),
        map=MapPart.model_validate(parts.get("map") or {}),
        paces={take: pace_from(value) for take, value in each("pace").items()},
        said={take: tuple(map(statement_from, value)) for take, value in each("said").items()},
        edits={take: edits_from(value) for take, value in each("onsets").items()},
        rules={take: rule_from(value) for take, value in each("rule").items()},
        pegs={take: pegs_from(value) for take, value in each("pegs").items()},
        refused=tuple(parts.get("refused", ())),
        arriving=parts.get("arriving", "follow"),
        pieces={take: pieces_from(value) for take, value in each("pieces").items()},
        notes=tuple(_part_from(entry) for entry in parts.get("notes", [])),
    )


def takes_part(takes: tuple[TakeEntry, ...]) -> list[dict[str, Any]]:
    return [asdict(take) for take in takes]


def _part_from(value: Mapping[str, Any]) -> PartEntry:
    form = NotesForm.model_validate(value)
    edits = tuple(CellEdit(one.from_q, one.to_q, tuple(one.starts), one.push) for one in form.edits)
    return PartEntry(**{**dict(form), "edits": edits})


def notes_part(notes: tuple[PartEntry, ...]) -> list[dict[str, Any]]:
    return [asdict(part) for part in notes]


def pieces_part(made: TakePieces) -> dict[str, Any]:
    rows = [
        [
            one.start,
            one.stop,
            one.quarters,
            one.session_s,
            one.home,
            one.level_db,
            one.fade_in_ms,
            one.fade_out_ms,
        ]
        + ([one.own, [list(point) for point in one.curve]] if one.own or one.curve else [])
        for one in made.pieces
    ]
    rendered = {} if made.first_frame is None else {"first_frame": made.first_frame}
    said = {} if made.at is None else {"at": made.at, "stronger": made.stronger, "lay": made.lay}
    return {
        "sha": made.sha,
        "pieces": rows,
        "fade_ms": made.fade_ms,
        "fill": made.fill,
        "meeting": made.meeting,
        **rendered,
        **said,
    }


def pieces_from(value: Mapping[str, Any]) -> TakePieces:
    form = PiecesForm.model_validate(value)
    # The curve of each is a row of points.
    made = tuple(LaidPiece(*row[:9], *(tuple(curve) for curve in row[9:])) for row in form.pieces)
    return TakePieces(
        form.sha,
        made,
        form.fade_ms,
        form.fill,
        form.meeting,
        form.first_frame,
        form.at,
        form.stronger,
        form.lay,
    )


def map_part(chosen: MapPart) -> dict[str, Any]:
    return {**chosen.model_dump(mode="json"), "statements": said_part(chosen.statements)}


def said_part(statements: Iterable[Statement]) -> list[dict[str, Any]]:
    return [statement_part(one) for one in statements]


def pace_part(pace: TempoMap[TakeTimes]) -> dict[str, Any]:
    knots = [
        [
            knot.time_s,
            knot.quarters,
            int(knot.fixed),
            int(knot.locked),
            round(knot.confidence, 4),
            *([knot.ramp] if knot.ramp != 1.0 else []),
        ]
        for knot in pace.knots
    ]
    return {
        "knots": knots,
        "meters": [[meter.bar, meter.numerator, meter.denominator] for meter in pace.meters],
    }


def pace_from(value: Mapping[str, Any]) -> TempoMap[TakeTimes]:
    form = PaceForm.model_validate(value)
    knots = tuple(
        Knot(time, place, bool(fixed), bool(locked), sure, *ramp)
        for time, place, fixed, locked, sure, *ramp in form.knots
    )
    return TempoMap(knots, tuple(Meter(*meter) for meter in form.meters))


def edits_part(edits: OnsetEdits) -> dict[str, Any]:
    return asdict(edits)


def edits_from(value: Mapping[str, Any]) -> OnsetEdits:
    form = EditsForm.model_validate(value)
    lists = {name: tuple(getattr(form, name)) for name in ("added", "removed", "moved", "locked")}
    return OnsetEdits(
        **lists, threshold=form.threshold, listen=form.listen, apart_ms=form.apart_ms, on=form.on
    )


def rule_part(choice: RuleChoice) -> dict[str, Any]:
    return {
        # The session's own copy of a groove: what is done to the library changes no session.
        "rules": [rule.model_dump(mode="json", exclude_none=True) for rule in choice.rules],
        "method": choice.method,
        **({"first": list(choice.first)} if choice.first else {}),
        **({"out": list(choice.out)} if choice.out else {}),
        **({"before": True} if choice.before else {}),
    }


def rule_from(value: Mapping[str, Any]) -> RuleChoice:
    form = RuleForm.model_validate(value)
    return RuleChoice(tuple(form.rules), form.method, tuple(form.first), tuple(form.out), form.before)


def pegs_part(pegs: TakePegs) -> dict[str, Any]:
    return {
        "pegs": [[peg.take_s, peg.quarters, peg.session_s] for peg in pegs.pegs],
        "rides": list(pegs.rides),
    }


def pegs_from(value: Mapping[str, Any]) -> TakePegs:
    form = PegsForm.model_validate(value)
    return TakePegs(tuple(HandPeg(*peg) for peg in form.pegs), tuple(form.rides))
