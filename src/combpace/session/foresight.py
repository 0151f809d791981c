"""What a change of the map moves beside its lines: said before it is made, and done with it.

Lead and takes that lie as they were played keep their time; fitted takes and those with a pace of their own
keep their bar; each may be told otherwise.
"""

from __future__ import annotations

import hashlib
import itertools
import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from combpace.core.errors import CombPaceError, MapConflictError
from combpace.core.tempo import anchors
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.recount import nearest_bar
from combpace.core.tempo.statements import FARTHEST_BEATS, HOLDS_S
from combpace.session import fits, notes, words
from combpace.session.decisions import ALONG, Change
from combpace.session.document import parts as forms
from combpace.session.document.model import FORMAT, TakeEntry
from combpace.session.document.upgrades import upgraded
from combpace.session.state import SessionState, as_known

# What moves by less is not heard as moved, and not said.
SAID_S = 0.00005
# So many takes are named one by one.
MOST_NAMED = 3
_numbers = itertools.count(1)


@dataclass(frozen=True, slots=True)
class Foreseen:
    """What a decision would do.

    note   what it says of itself
    lines  (first bar number, last one, by how many ms at most) of the bar lines that move, or None
    takes  (name, by how many ms its sound moves at most) of takes that move, then of parts
    keep   names of takes and parts that would move with their bars but keep their time
    more   how many bar lines there are more
    parts  how many of `takes` are parts; has_parts: whether there are any
    """

    note: str
    lines: tuple[int, int, float] | None
    takes: tuple[tuple[str, float], ...]
    keep: tuple[str, ...]
    parts: int = 0
    more: int = 0
    has_parts: bool = False

    @property
    def sentence(self) -> str:
        """ "Bars 5 to 12 move by up to 41.0 ms. 3 takes move by up to 41.0 ms; the organ keeps its time." """
        said = f"{more_words(self.more)}, the others stay." if self.more else "No bar line moves."
        if self.lines is not None:
            first, last, ms = self.lines
            said = (
                f"Bar {first} moves by {ms:.1f} ms."
                if first == last
                else f"Bars {first} to {last} move by up to {ms:.1f} ms."
            )
        if self.takes:
            said += (
                f" {self._named} {'moves' if len(self.takes) == 1 else 'move'} by up to {self._most:.1f} ms."
            )
        elif self.lines is not None:
            said += " No take or part moves." if self.has_parts else " No take moves."
        if self.keep and self.lines is not None:
            names = ", ".join(self.keep[:MOST_NAMED]) + (
                f" and {len(self.keep) - MOST_NAMED} more" if len(self.keep) > MOST_NAMED else ""
            )
            said += f" {names} {'keeps its' if len(self.keep) == 1 else 'keep their'} time."
        return said

    @property
    def done(self) -> str:
        """What moved beside the lines, once it is done: " The organ moved by up to 41.0 ms." or nothing."""
        return f" {self._named} moved by up to {self._most:.1f} ms." if self.takes else ""

    @property
    def _most(self) -> float:
        return max(ms for _, ms in self.takes)

    @property
    def _named(self) -> str:
        """What moves: its name, or how many takes and parts."""
        if len(self.takes) == 1:
            return self.takes[0][0]
        what = "take" if not self.parts else "part" if self.parts == len(self.takes) else "take or part"
        return words.count(len(self.takes), what).replace("take or parts", "takes and parts")


def lines_more(old: TempoMap[Any], new: TempoMap[Any], until_s: float) -> int:
    """How many bar lines more a map has than another, from the start of the session to a moment."""
    ours, theirs = (line.bar_of(line.place(until_s)) - line.bar_of(line.place(0.0)) for line in (new, old))
    return ours - theirs


def more_words(more: int) -> str:
    """ "3 bar lines more", "1 bar line fewer" """
    return f"{words.count(abs(more), 'bar line')} {'more' if more > 0 else 'fewer'}"


def foreseen(state: SessionState, change: Change) -> Foreseen:
    """What a change (with what goes along) would move, without making it."""
    after = as_if(state, change.parts)
    old, new = state.session_map(), after.session_map()
    moved, more = None, 0
    if old is not None and new is not None:
        more = lines_more(old, new, state.end_s())
        moved = anchors.largest_move_ms(old, new, state.end_s())
    takes, keep = [], []
    for take in state.document.takes:
        if not any(other.id == take.id for other in after.document.takes):
            continue
        by = _moves_s(state, after, take)
        if by > SAID_S:
            takes.append((take.name, 1000.0 * by))
        elif take.role != "lead":
            keep.append(take.name)
    alone = len(takes)
    for part in state.document.notes:
        if any(other.id == part.id for other in after.document.notes):
            moves = _part_moves_s(state, after, part.id)
            if moves > SAID_S:
                takes.append((part.name, 1000.0 * moves))
            elif part.keeps == "time":
                keep.append(part.name)
    lines = (moved[1], moved[2], moved[0]) if moved else None
    of_parts = len(takes) - alone
    return Foreseen(change.note, lines, tuple(takes), tuple(keep), of_parts, more, bool(state.document.notes))


def with_kept_bars(state: SessionState, change: Change) -> Change:
    """A change of the map together with the takes that keep their bar though they lie as they were played:
    their starts move along.
    """
    held = [
        take for take in state.document.takes if take.keeps == "bar" and not fits.is_fitted(state, take.id)
    ]
    if not held or not _changes_map(change) or "takes" in change.parts:
        return change
    old, new = state.session_map(), as_if(state, change.parts).session_map()
    if old is None or new is None:
        return change
    starts = {take.id: new.second(old.place(take.offset_s)) for take in held}
    moved = [take for take in held if abs(starts[take.id] - take.offset_s) > SAID_S]
    if not moved:
        return change
    takes = tuple(
        replace(take, offset_s=starts[take.id]) if take.id in starts else take
        for take in state.document.takes
    )
    return replace(change, parts={**change.parts, "takes": forms.takes_part(takes)})


def _changes_map(change: Change) -> bool:
    return any(name == "map" or name.startswith(("pace:", "said:")) for name in change.parts)


def with_what_moved(state: SessionState, change: Change) -> Change:
    """A change of the map that says which takes and parts it moves, as `foreseen` says it before."""
    if not _changes_map(change):
        return change
    return replace(change, note=f"{change.note}{foreseen(state, change).done}")


def _moves_s(before: SessionState, after: SessionState, take: TakeEntry) -> float:
    """By how much what is heard of a take moves at most, seconds."""
    moments = np.linspace(0.0, max(1e-3, before.duration_s(take.id)), 64)
    try:
        return float(np.max(np.abs(_heard_at(after, take.id, moments) - _heard_at(before, take.id, moments))))
    except CombPaceError:
        return 0.0


def _part_moves_s(before: SessionState, after: SessionState, part_id: str) -> float:
    """By how much the notes of a part move at most, seconds."""
    try:
        was, now = ([note.start_s for note in notes.heard(one, part_id)] for one in (before, after))
    except CombPaceError:
        return 0.0
    if len(was) != len(now):
        return abs(max(now, default=0.0) - max(was, default=0.0))
    return max((abs(a - b) for a, b in zip(was, now, strict=True)), default=0.0)


def _heard_at(state: SessionState, take_id: str, moments: np.ndarray) -> np.ndarray:
    """Where moments of a take sound in the session: as placed, or through its own pace where it is fitted."""
    entry, pace = state.document.take(take_id), state.own_pace(take_id)
    if pace is None or state.session_map() is None or not fits.is_fitted(state, take_id):
        return moments + entry.offset_s
    return state.lies(take_id, pace, state.duration_s(take_id))(moments)


def as_if(state: SessionState, parts: Mapping[str, Any]) -> SessionState:
    """The session as it would be with other parts; nothing of it is kept, and nothing that is kept is taken
    for it. A decision and what goes along with it ask for the same one several times.
    """
    name = hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()
    found: SessionState = state.folder.tried((state.key, name), lambda: _as_if(state, parts))
    return replace(found, behind=state.behind)


def _as_if(state: SessionState, parts: Mapping[str, Any]) -> SessionState:
    opened = state.opened
    merged = {**upgraded(opened.revision.parts, opened.revision.format), **parts}
    document = forms.read({name: value for name, value in merged.items() if value is not None}, FORMAT)
    revision = replace(opened.revision, id=-next(_numbers))
    return replace(
        state,
        opened=replace(opened, revision=revision, document=as_known(document, state.rows, state.folder)),
    )


def with_what_holds(state: SessionState, change: Change) -> Change:
    """The change, where every bar and downbeat that is stated after it holds in its map. Raises
    MapConflictError, naming what does not.
    """
    if not any(name in ("map", "takes") or name.startswith(("pace:", "said:")) for name in change.parts):
        return change
    after = as_if(state, change.parts)
    line, chosen = after.session_map(), after.map_choice()
    if line is None:
        return change
    for time, number in chosen.stated.bars:
        there = line.second(line.bar_line(bar_index(number)))
        if abs(there - time) > HOLDS_S:
            raise MapConflictError(
                f"This and bar {number}, stated at {words.clock(time)}, cannot both hold: its line "
                f"would lie at {words.clock(there)}. "
                "Nothing was changed; take that bar back first (choose its clip, Del), or state it anew.",
                time,
            )
    for time in chosen.stated.downbeats:
        place = line.place(time)
        at = line.second(line.bar_line(nearest_bar(line, place)))
        beat_s = 60.0 * line.meter_of(line.bar_of(place)).beat_quarters / line.bpm_at(place)
        # In a steady map a downbeat may lie beside its line by what the playing leaves the one tempo.
        if abs(at - time) > (FARTHEST_BEATS * beat_s if after.one_tempo is not None else HOLDS_S):
            raise MapConflictError(
                f"This and the downbeat confirmed at {words.clock(time)} cannot both hold: it would "
                "lie inside a bar. "
                "Nothing was changed; take that downbeat back first (choose its clip, Del).",
                time,
            )
    return change


ALONG += (with_kept_bars, with_what_holds, with_what_moved)
