"""A tempo map from a file, as the session's map or as the lead's pace."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from combpace.core.clocks import SessionTimes
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_number
from combpace.media.mapfiles import read_json_start
from combpace.media.mapforms import read_any
from combpace.session import words
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Args, Change, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart
from combpace.session.document.stated import LevelStatement, ReadingStatement
from combpace.session.holding import with_what_holds_in
from combpace.session.map_changes import effect_of
from combpace.session.reach import near_audio
from combpace.session.saying import without
from combpace.session.state import SessionState, session_state
from combpace.store import rows

Number = int | float | bool


class MapArgs(Args):
    """knots and meters as `map-file` read them; use: "session" or "lead"."""

    knots: list[list[Number]] = Field(min_length=2, max_length=20000)
    meters: list[list[int]] = Field(min_length=1, max_length=5000)
    name: str = Field(default="", max_length=200)
    use: Literal["session", "lead"] = "session"


def read_file(folder: DataFolder, session_id: str, path: Path, name: str) -> dict[str, Any]:
    """What a file holds, as arguments of `map-in` and a sentence. Raises MediaError.

    A map that this session handed off lies where it was, whatever its files began with; the zero of any other
    is session zero.
    """
    found = read_any(path, name)
    line, said = found.line, found.said
    handed_off = _handed_off(folder, session_id, path)
    if handed_off is not None:
        line, said = handed_off, "this session handed it off; it lies where it was"
    elif start_s := _says_its_start(folder, session_id, path, name):
        line = line.shifted(start_s)
        said = f"its files began at {words.clock(start_s)} of this session"
    end_s = found.end_s + line.second(0.0) - found.line.second(0.0)
    last = line.bar_of(line.place(end_s) - 1e-6)
    pace: Any = TempoMap(line.knots, line.meters)
    sentence = f"{name}: {words.map_sentence(line, 'given', end_s)}, bars up to {bar_number(last)}"
    return {**forms.pace_part(pace), "name": name, "sentence": sentence + (f"; {said}." if said else ".")}


def _handed_off(folder: DataFolder, session_id: str, path: Path) -> TempoMap[SessionTimes] | None:
    """The map of this session that a file was written of; None for a file that it did not write."""
    sha = hashlib.sha256(path.read_bytes()).hexdigest()
    for file in rows.files_like(folder.database, session_id, "handoff map"):
        if file.sha == sha and (revision := json.loads(file.details or "{}").get("revision")):
            return session_state(folder, session_id, int(revision)).session_map()
    return None


def _says_its_start(folder: DataFolder, session_id: str, path: Path, name: str) -> float:
    """Where the files of a map's JSON began in this session; 0 where it is another's, or does not say so."""
    said = read_json_start(path) if Path(name).suffix.lower() == ".json" else None
    return said[1] if said is not None and said[0] == folder.open(session_id).row.name else 0.0


@decision("map-in", MapArgs)
def map_in(state: SessionState, args: MapArgs) -> Change:
    """A map that was read from a file is the session's, or the lead's pace; the file's zero is session zero.
    What is stated and does not hold in it leaves, named.
    """
    found = forms.pace_from({"knots": args.knots, "meters": args.meters})
    line: TempoMap[SessionTimes] = TempoMap(found.knots, found.meters)
    near_audio(state, line.second(0.0))
    old, chosen = state.session_map(), state.map_choice()
    called = args.name or "The file"
    moved = "" if old is None else f"; {effect_of(old, line)}"
    stays, gone = with_what_holds_in(line, chosen)
    if args.use == "lead":
        lead = state.need_lead()
        # How the lead was read gave way to these knots.
        read = [one for one in stays.statements if isinstance(one, ReadingStatement | LevelStatement)]
        kept = MapPart(kind="own", limit_ms=chosen.limit_ms, statements=without(stays, read).statements)
        pace = found.shifted(-lead.offset_s)
        return Change(
            {"map": forms.map_part(kept), f"pace:{lead.id}": forms.pace_part(pace)},
            f"{called} is the pace of {lead.name}{moved}.{gone}",
        )
    kept = MapPart(
        kind="given",
        given=forms.pace_part(found),
        limit_ms=chosen.limit_ms,
        statements=stays.statements,
    )
    return Change({"map": forms.map_part(kept)}, f"{called} is the session's map{moved}.{gone}")
