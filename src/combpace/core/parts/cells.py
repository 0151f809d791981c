"""Edits on the grid for notes: a stretch repeated, silenced, copied, over what is there or pushing it
later.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.clocks import Quarters, SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.parts.part import MOST_NOTES, SHORTEST_Q, Heard
from combpace.core.tempo.map import TempoMap

# Places are the same to this, quarters.
SAME_Q = 1e-6


@dataclass(frozen=True, slots=True)
class CellEdit:
    """An edit of a stretch of the session, quarters.

    starts  where copies of it begin; none: the stretch falls silent
    push    what lies there and later goes later by as many whole bars, instead of giving way
    """

    from_q: float
    to_q: float
    starts: tuple[float, ...] = ()
    push: bool = False


def later(line: TempoMap[SessionTimes], place: float, bars: int) -> float:
    """A place so many bars later, as far from its bar's line as it was."""
    index = line.bar_of(place + SAME_Q)
    return line.bar_line(index + bars) + place - line.bar_line(index)


def bars_pushed(line: TempoMap[SessionTimes], edit: CellEdit) -> int:
    """By how many bars what is later goes later. Raises ParameterError where that is no whole number, or
    begins within a bar.
    """
    if not edit.starts:
        raise ParameterError("Nothing is put in, so nothing goes later. Nothing was changed.")
    at, end = edit.starts[0], edit.starts[-1] + edit.to_q - edit.from_q
    first, last = line.bar_of(at + SAME_Q), line.bar_of(end + SAME_Q)
    if abs(line.bar_line(first) - at) > SAME_Q or abs(line.bar_line(last) - end) > SAME_Q:
        raise ParameterError(
            "What goes later goes by whole bars: choose whole bars, put in at a bar line. Nothing "
            "was changed."
        )
    return last - first


def with_edit(notes: Sequence[Heard], edit: CellEdit, line: TempoMap[SessionTimes]) -> list[Heard]:
    """Notes of a part after an edit, in order of their starts.

    A note belongs to the stretch in which it starts; one that is held into a stretch that falls silent, or is
    replaced, ends there. Raises ParameterError for more than MOST_NOTES.
    """
    inside = [note for note in notes if edit.from_q - SAME_Q <= note.start_q < edit.to_q - SAME_Q]
    length = edit.to_q - edit.from_q
    if not edit.starts:
        return _cleared(notes, edit.from_q, edit.to_q, line)
    made = list(notes)
    if edit.push:
        bars, at = bars_pushed(line, edit), edit.starts[0]
        made = _cleared(made, at, at, line)
        made = [
            note if note.start_q < at - SAME_Q else _to(note, later(line, note.start_q, bars), line)
            for note in made
        ]
    else:
        for start in edit.starts:
            made = _cleared(made, start, start + length, line)
    if len(made) + len(inside) * len(edit.starts) > MOST_NOTES:
        raise ParameterError(f"That is more than {MOST_NOTES} notes. Nothing was changed.")
    made += [_to(note, note.start_q + start - edit.from_q, line) for start in edit.starts for note in inside]
    return sorted(made, key=lambda note: (note.start_q, note.key))


def _cleared(notes: Sequence[Heard], from_q: float, to_q: float, line: TempoMap[SessionTimes]) -> list[Heard]:
    """Without the notes that start within a stretch; what is held into it ends where it begins."""
    left = []
    for note in notes:
        if from_q - SAME_Q <= note.start_q < to_q - SAME_Q:
            continue
        if note.start_q < from_q - SAME_Q and note.end_q > from_q + SAME_Q:
            end_q = max(from_q, note.start_q + SHORTEST_Q)
            note = replace(note, end_q=end_q, end_s=line.second(end_q))
        left.append(note)
    return left


def _to(note: Heard, start_q: float, line: TempoMap[SessionTimes]) -> Heard:
    """A note on another place, as long in quarters as it was."""
    end_q = start_q + note.end_q - note.start_q
    start_s, end_s = np.asarray(line.to_seconds(Quarters(np.array([start_q, end_q]))))
    return replace(note, start_q=start_q, end_q=end_q, start_s=float(start_s), end_s=float(end_s))
