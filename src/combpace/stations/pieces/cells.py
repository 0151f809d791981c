"""Edits on the grid: stretches of bars and beats repeated, silenced, copied; without stretching, on one take or on all."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np
from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.core.tempo.map import TempoMap
from combpace.session import pieces, words
from combpace.session.decisions import Args, Change, Quarters, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import LaidPiece, TakePieces
from combpace.session.state import SessionState
from combpace.stations.pieces.now import sound_of

MOST_REPEATS, MOST_PIECES = 500, 20_000
# Places are the same to this, quarters.
SAME_Q = 1e-6


class CellsArgs(Args):
    """What lies from from_q up to to_q is silenced; repeated `times` after itself; or copied so that it begins on at_q; over what is there."""

    takes: list[TakeId] = Field(min_length=1, max_length=256)
    from_q: Quarters
    to_q: Quarters
    what: Literal["repeat", "silence", "copy"]
    times: int = Field(default=1, ge=1, le=MOST_REPEATS)
    at_q: Quarters | None = None


@decision("cells", CellsArgs)
def cells(state: SessionState, args: CellsArgs) -> Change:
    """Repeat, silence or copy a stretch of the grid, on one take or several, as one step."""
    length = args.to_q - args.from_q
    if length < SAME_Q:
        raise ParameterError("The stretch ends where it begins. Nothing was changed.")
    if args.what == "copy" and args.at_q is None:
        raise ParameterError("Say where the copy begins. Nothing was changed.")
    line = state.need_map()
    starts = {"repeat": [args.to_q + k * length for k in range(args.times)], "copy": [args.at_q or 0.0], "silence": []}[args.what]
    parts: dict[str, Any] = {}
    # Mics of a bundle go together.
    together = [mate for take_id in args.takes for mate in (take_id, *pieces.mates(state, take_id))]
    for take_id in dict.fromkeys(together):
        made = _in_pieces(state, take_id)
        changed = _edited(made, line, pieces.rate_of(state, take_id), args.from_q, args.to_q, starts, silence=args.what == "silence")
        if len(changed) > MOST_PIECES:
            raise ParameterError(f"{state.document.take(take_id).name} would be in more than {MOST_PIECES} pieces. Nothing was changed.")
        if not changed:
            raise ParameterError(f"Nothing would be left of {state.document.take(take_id).name}. Nothing was changed.")
        parts[f"pieces:{take_id}"] = forms.pieces_part(replace(made, pieces=tuple(changed)))
    where = f"{words.place(line, args.from_q)} to {words.place(line, args.to_q)}"
    names = words.count(len(parts), "take")
    done = {
        "silence": f"{where} is silent on {names}",
        "repeat": f"{where} is repeated {'once' if args.times == 1 else f'{args.times} times'} on {names}, over what was there",
        "copy": f"{where} is also at {words.place(line, starts[0]) if starts else ''} on {names}, over what was there",
    }[args.what]
    return Change(parts, f"{done}. Nothing is stretched.")


def _in_pieces(state: SessionState, take_id: str) -> TakePieces:
    """The take's pieces; one that is whole yet is one piece where it lies."""
    known = state.document.pieces.get(take_id)
    if known is not None and pieces.in_pieces(state, take_id):
        return known
    sound = sound_of(state, take_id, followers=True)
    whole = TakePieces(sound.sha, (), first_frame=sound.first_frame)
    at = float(pieces.was_s(state, take_id, whole, np.zeros(1))[0])
    return replace(whole, pieces=(LaidPiece(0, sound.frames, None, at, at),))


def _edited(made: TakePieces, line: TempoMap[Any], rate: int, from_q: float, to_q: float, starts: list[float], *, silence: bool) -> list[LaidPiece]:
    """The pieces after an edit. Everything is cut at the stretch's edges and at its beats, and at the edges of where copies go."""
    length = to_q - from_q
    edges = {from_q, to_q, *_beats(line, from_q, to_q)}
    for start in starts:
        edges |= {start, start + length}
    now = _split(list(made.pieces), line, rate, sorted(edges))
    inside = [one for one in now if _lies(one, line, from_q, to_q)]
    if silence:
        return [one for one in now if one not in inside]
    for start in starts:
        now = [one for one in now if not _lies(one, line, start, start + length)]
        now += [replace(one, quarters=_place(one, line) + start - from_q, session_s=None, home=None) for one in inside]
    return sorted(now, key=lambda one: _place(one, line))


def _beats(line: TempoMap[Any], from_q: float, to_q: float) -> list[float]:
    return [float(place) for place in line.beats_between(from_q, to_q) if from_q + SAME_Q < place < to_q - SAME_Q]


def _place(one: LaidPiece, line: TempoMap[Any]) -> float:
    return one.quarters if one.quarters is not None else line.place(float(one.session_s or 0.0))


def _lies(one: LaidPiece, line: TempoMap[Any], from_q: float, to_q: float) -> bool:
    """Whether a piece begins within a stretch; to half a sample or so."""
    return from_q - 1e-4 <= _place(one, line) < to_q - 1e-4


def _split(every: list[LaidPiece], line: TempoMap[Any], rate: int, edges: list[float]) -> list[LaidPiece]:
    """Pieces cut wherever an edge lies inside of one; the part behind an edge lies on it."""
    made: list[LaidPiece] = []
    moments = [(edge, round(line.second(edge) * rate)) for edge in edges]
    for one in every:
        at = round((line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)) * rate)
        rest = one
        for edge, frame in moments:
            cut = rest.start + frame - at
            if rest.start < cut < rest.stop:
                made.append(replace(rest, stop=cut, fade_out_ms=None))
                rest, at = replace(rest, start=cut, quarters=edge, session_s=None, home=None, fade_in_ms=None), frame
        made.append(rest)
    return made
