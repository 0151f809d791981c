"""A tempo map from a file, as the session's map or as the lead's pace."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from combpace.core.clocks import SessionTimes
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_number
from combpace.media.mapforms import read_any
from combpace.session import words
from combpace.session.decisions import Args, Change, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart
from combpace.session.map_changes import effect_of
from combpace.session.reach import near_audio
from combpace.session.state import SessionState

Number = int | float | bool


class MapArgs(Args):
    """knots and meters as `map-file` read them; use: "session" or "lead"."""

    knots: list[list[Number]] = Field(min_length=2, max_length=20000)
    meters: list[list[int]] = Field(min_length=1, max_length=5000)
    name: str = Field(default="", max_length=200)
    use: Literal["session", "lead"] = "session"


def read_file(path: Path, name: str) -> dict[str, Any]:
    """What a file holds, as arguments of `map-in` and a sentence. Raises MediaError."""
    found = read_any(path, name)
    pace: Any = TempoMap(found.line.knots, found.line.meters)
    last = found.line.bar_of(found.line.place(found.end_s) - 1e-6)
    sentence = (
        f"{name}: {words.map_sentence(found.line, 'given', found.end_s)}, bars up to {bar_number(last)}"
    )
    return {
        **forms.pace_part(pace),
        "name": name,
        "sentence": sentence + (f"; {found.said}." if found.said else "."),
    }


@decision("map-in", MapArgs)
def map_in(state: SessionState, args: MapArgs) -> Change:
    """A map that was read from a file is the session's, or the lead's pace; the file's zero is session zero.
    What was stated before gives way.
    """
    found = forms.pace_from({"knots": args.knots, "meters": args.meters})
    line: TempoMap[SessionTimes] = TempoMap(found.knots, found.meters)
    near_audio(state, line.second(0.0))
    old, chosen = state.session_map(), state.map_choice()
    called = args.name or "The file"
    moved = "" if old is None else f"; {effect_of(old, line)}"
    gone = " What was stated of the map before gives way to it." if chosen.statements else ""
    if args.use == "lead":
        lead = state.need_lead()
        kept = MapPart(kind="own", limit_ms=chosen.limit_ms)
        pace = found.shifted(-lead.offset_s)
        return Change(
            {"map": forms.map_part(kept), f"pace:{lead.id}": forms.pace_part(pace)},
            f"{called} is the pace of {lead.name}{moved}.{gone}",
        )
    kept = MapPart(kind="given", given=forms.pace_part(found), limit_ms=chosen.limit_ms)
    return Change({"map": forms.map_part(kept)}, f"{called} is the session's map{moved}.{gone}")
