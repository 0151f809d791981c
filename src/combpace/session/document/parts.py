"""How a document lies in the history's parts, as JSON values.

Parts: "takes" (placements, bundles, roles, arrivals), "map" (its kind and what was stated of it), "refused"
(proposals that are not made again), "arriving" (what arrivals do), and per take "pace:ID" (own pace after
corrections), "onsets:ID" (hand edits), "rule:ID" and "pegs:ID".
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

from combpace.core.clocks import TakeTimes
from combpace.core.fit.groove import GrooveGrid, groove_document, groove_from
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.parts.cells import CellEdit
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
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
        takes=tuple(TakeEntry(**entry) for entry in parts.get("takes", [])),
        map=MapPart.model_validate(parts.get("map") or {}),
        paces={take: pace_from(value) for take, value in each("pace").items()},
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
    edits = tuple(
        CellEdit(one["from_q"], one["to_q"], tuple(one["starts"]), one["push"])
        for one in value.get("edits", ())
    )
    return PartEntry(**{**value, "edits": edits})


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
    return {
        "sha": made.sha,
        "pieces": rows,
        "fade_ms": made.fade_ms,
        "fill": made.fill,
        "meeting": made.meeting,
        **rendered,
    }


def pieces_from(value: Mapping[str, Any]) -> TakePieces:
    curves = [tuple((at, db) for at, db in (row[9] if len(row) > 9 else ())) for row in value["pieces"]]
    made = tuple(
        replace(LaidPiece(*row[:9]), curve=curve) for row, curve in zip(value["pieces"], curves, strict=True)
    )
    return TakePieces(
        value["sha"], made, value["fade_ms"], value["fill"], value["meeting"], value.get("first_frame")
    )


def map_part(chosen: MapPart) -> dict[str, Any]:
    return chosen.model_dump(mode="json")


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
    knots = tuple(
        Knot(time, place, bool(fixed), bool(locked), sure, *ramp)
        for time, place, fixed, locked, sure, *ramp in value["knots"]
    )
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
        value.get("listen", "everything"),
        value.get("apart_ms", 0.0),
        value.get("on", "anywhere"),
    )


def rule_part(choice: RuleChoice) -> dict[str, Any]:
    rule = choice.rule
    return {
        "grid": [rule.grid.value, rule.grid.shape, rule.grid.swing],
        "strength": rule.strength,
        "leave_alone_ms": rule.leave_alone_ms,
        "ignore": {"ms": rule.ignore_beyond_ms, "quarters": rule.ignore_beyond},
        "bars": list(rule.bars) if rule.bars else None,
        **({"keep_lag": True} if rule.keep_lag else {}),
        **({"coarse": True} if rule.coarse else {}),
        # The session's own copy: what is done to the library changes no session.
        **(
            {"groove": groove_document(rule.grid.groove), "groove_start": rule.grid.start}
            if isinstance(rule.grid, GrooveGrid)
            else {}
        ),
        "method": choice.method,
        **({"first": list(choice.first)} if choice.first else {}),
        **({"accent": choice.accent} if choice.accent else {}),
    }


def rule_from(value: Mapping[str, Any]) -> RuleChoice:
    bars = value.get("bars")
    groove = value.get("groove")
    rule = Rule(
        Grid(*value["grid"])
        if groove is None
        else GrooveGrid(groove_from(groove), value.get("groove_start", 0)),
        value["strength"],
        value["leave_alone_ms"],
        value["ignore"]["ms"],
        value["ignore"]["quarters"],
        (bars[0], bars[1]) if bars else None,
        value.get("keep_lag", False),
        value.get("coarse", False),
    )
    return RuleChoice(
        rule, value.get("method", "auto"), tuple(value.get("first", ())), value.get("accent", 0.0)
    )


def pegs_part(pegs: TakePegs) -> dict[str, Any]:
    return {
        "pegs": [[peg.take_s, peg.quarters, peg.session_s] for peg in pegs.pegs],
        "rides": list(pegs.rides),
    }


def pegs_from(value: Mapping[str, Any]) -> TakePegs:
    return TakePegs(tuple(HandPeg(*peg) for peg in value.get("pegs", ())), tuple(value.get("rides", ())))
