"""Edits on the grid: stretches of bars and beats repeated, silenced, copied; without stretching, on one take
or on all.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np
from pydantic import Field

from combpace.core.clocks import SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.parts.cells import CellEdit, bars_pushed, later, with_edit
from combpace.core.tempo.map import TempoMap
from combpace.session import notes, pieces, words
from combpace.session.decisions import Args, Change, Quarters, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import LaidPiece, TakePieces
from combpace.session.state import SessionState
from combpace.stations.pieces.now import sound_of

MOST_REPEATS, MOST_PIECES = 500, 20_000
# Places are the same to this, quarters.
SAME_Q = 1e-6
# No piece is cut nearer than this to either of its ends: what is left would be a tick.
CLOSEST_S = 0.005


class CellsArgs(Args):
    """What lies from from_q up to to_q is silenced; repeated `times` after itself; or copied so that it
    begins on at_q.

    takes  ids of takes and of parts
    push   what is there and later goes later by whole bars; else it gives way
    """

    takes: list[TakeId] = Field(min_length=1, max_length=256)
    from_q: Quarters
    to_q: Quarters
    what: Literal["repeat", "silence", "copy"]
    times: int = Field(default=1, ge=1, le=MOST_REPEATS)
    at_q: Quarters | None = None
    push: bool = False


@decision("cells", CellsArgs)
def cells(state: SessionState, args: CellsArgs) -> Change:
    """Repeat, silence or copy a stretch of the grid, on one take or part or on several, as one step."""
    length = args.to_q - args.from_q
    if length < SAME_Q:
        raise ParameterError("The cells end where they begin. Nothing was changed.")
    if args.what == "copy" and args.at_q is None:
        raise ParameterError("Say where the copy begins. Nothing was changed.")
    line = state.need_map()
    starts = {
        "repeat": [args.to_q + k * length for k in range(args.times)],
        "copy": [args.at_q or 0.0],
        "silence": [],
    }[args.what]
    edit = CellEdit(args.from_q, args.to_q, tuple(starts), args.push and args.what != "silence")
    bars = bars_pushed(line, edit) if edit.push else 0
    # Mics of a bundle go together.
    parts_of = {part.id for part in state.document.notes}
    together = [
        mate
        for take_id in args.takes
        if take_id not in parts_of
        for mate in (take_id, *pieces.mates(state, take_id))
    ]
    changed: dict[str, Any] = {}
    for take_id in dict.fromkeys(together):
        made = _in_pieces(state, take_id)
        after = _edited(made, line, pieces.rate_of(state, take_id), edit, bars)
        if len(after) > MOST_PIECES:
            raise ParameterError(
                f"{state.document.take(take_id).name} would be in more than {MOST_PIECES} pieces. "
                "Nothing was changed."
            )
        if not after:
            raise ParameterError(
                f"Nothing would be left of {state.document.take(take_id).name}. Nothing was changed."
            )
        changed[f"pieces:{take_id}"] = forms.pieces_part(replace(made, pieces=tuple(after)))
    edited = [part for part in state.document.notes if part.id in args.takes]
    for part in edited:
        # What cannot be is said before it is kept.
        with_edit(notes.heard(state, part.id), edit, line)
    if edited:
        changed["notes"] = forms.notes_part(
            tuple(
                replace(part, edits=(*part.edits, edit)) if part in edited else part
                for part in state.document.notes
            )
        )
    done = _said(line, args, edit, bars, len(changed) - bool(edited), len(edited))
    return Change(changed, f"{done}. Nothing is stretched.")


def _said(
    line: TempoMap[SessionTimes], args: CellsArgs, edit: CellEdit, bars: int, takes: int, parts: int
) -> str:
    """What an edit does, in words; bars: by how many everything after it goes later."""
    where = f"{words.place(line, args.from_q)} to {words.place(line, args.to_q)}"
    on = " and ".join(words.count(count, what) for count, what in ((takes, "take"), (parts, "part")) if count)
    gives = (
        f"; everything after it moves {words.count(bars, 'bar')} later, the map stays"
        if edit.push
        else ", over what was there"
    )
    copied = words.place(line, edit.starts[0]) if edit.starts else ""
    often = "once" if args.times == 1 else f"{args.times} times"
    return {
        "silence": f"{where} is silent on {on}",
        "repeat": f"{where} is repeated {often} on {on}{gives}",
        "copy": f"{where} is also at {copied} on {on}{gives}",
    }[args.what]


def _in_pieces(state: SessionState, take_id: str) -> TakePieces:
    """The take's pieces; one that is whole yet is one piece where it lies."""
    known = state.document.pieces.get(take_id)
    if known is not None and pieces.in_pieces(state, take_id):
        return known
    sound = sound_of(state, take_id, followers=True)
    whole = TakePieces(sound.sha, (), first_frame=sound.first_frame)
    at = float(pieces.was_s(state, take_id, whole, np.zeros(1))[0])
    return replace(whole, pieces=(LaidPiece(0, sound.frames, None, at, at),))


def _edited(
    made: TakePieces, line: TempoMap[SessionTimes], rate: int, edit: CellEdit, bars: int
) -> list[LaidPiece]:
    """The pieces after an edit. Everything is cut at the stretch's edges and at its beats, and at the edges
    of where copies go.
    """
    length = edit.to_q - edit.from_q
    edges = {edit.from_q, edit.to_q, *_beats(line, edit.from_q, edit.to_q), *edit.starts}
    if not edit.push:
        edges |= {start + length for start in edit.starts}
    now = _split(list(made.pieces), line, rate, sorted(edges), ends=made.meeting == "ends")
    inside = [one for one in now if _lies(one, line, edit.from_q, edit.to_q)]
    if not edit.starts:
        return [one for one in now if one not in inside]
    if edit.push:
        now = [
            one
            if _place(one, line) < line.place(line.second(edit.starts[0]) - CLOSEST_S)
            else _later(one, line, bars)
            for one in now
        ]
    for start in edit.starts:
        if not edit.push:
            now = [one for one in now if not _lies(one, line, start, start + length)]
        now += [
            replace(one, quarters=_place(one, line) + start - edit.from_q, session_s=None, home=None)
            for one in inside
        ]
    return sorted(now, key=lambda one: _place(one, line))


def _later(one: LaidPiece, line: TempoMap[SessionTimes], bars: int) -> LaidPiece:
    return replace(one, quarters=later(line, _place(one, line), bars), session_s=None, home=None)


def _beats(line: TempoMap[SessionTimes], from_q: float, to_q: float) -> list[float]:
    return [
        float(place) for place in line.beats_between(from_q, to_q) if from_q + SAME_Q < place < to_q - SAME_Q
    ]


def _place(one: LaidPiece, line: TempoMap[SessionTimes]) -> float:
    return one.quarters if one.quarters is not None else line.place(float(one.session_s or 0.0))


def _lies(one: LaidPiece, line: TempoMap[SessionTimes], from_q: float, to_q: float) -> bool:
    """Whether a piece begins within a stretch: an attack that starts a hair before a line belongs to what it
    opens.
    """
    first, last = (line.place(line.second(edge) - CLOSEST_S) for edge in (from_q, to_q))
    return first <= _place(one, line) < last


def _split(
    every: list[LaidPiece], line: TempoMap[SessionTimes], rate: int, edges: list[float], *, ends: bool
) -> list[LaidPiece]:
    """Pieces cut wherever an edge lies inside of one; the part behind an edge lies on it.

    ends  a piece ends where the next begins: what lies behind an edge that is reached only after that was not
          heard, and is left away
    """
    made: list[LaidPiece] = []
    moments = [(edge, round(line.second(edge) * rate)) for edge in edges]
    begins = [
        round((line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)) * rate)
        for one in every
    ]
    ordered, closest = np.unique(begins), round(CLOSEST_S * rate)
    for one, at in zip(every, begins, strict=True):
        following = ordered[np.searchsorted(ordered, at, side="right") :][:1]
        silent = float(following[0]) if ends and len(following) else np.inf
        rest: LaidPiece | None = one
        for edge, frame in moments:
            cut = 0 if rest is None else rest.start + frame - at
            if rest is None or not rest.start + closest <= cut <= rest.stop - closest:
                continue
            made.append(replace(rest, stop=cut, fade_out_ms=None))
            if silent <= frame:
                rest = None
                continue
            rest, at = (
                replace(rest, start=cut, quarters=edge, session_s=None, home=None, fade_in_ms=None),
                frame,
            )
        if rest is not None:
            made.append(rest)
    return made
