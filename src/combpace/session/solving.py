"""The one solver, given what a session keeps: the map of a take, and a steady session's, as a function of
what was heard and what was stated.

What comes out is kept under the names of all that went in, so that undo, a page that looks ahead and the
decision itself solve it once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from combpace.core.beats.activations import Activations
from combpace.core.clocks import Quarters, SessionTimes, TakeTimes, take_times
from combpace.core.errors import CombPaceError, MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo import bars_again
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.recount import nearest_bar
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import FARTHEST_BEATS, HOLDS_S, Stated, steady_as_stated
from combpace.session.analysis_store import TakeAnalysis
from combpace.session.data_folder import DataFolder
from combpace.session.document.stated import Statement, stated_of
from combpace.store.models import TakeRow

# Of longer music bars are counted on from what is said: about two hours, or decisions would take long.
MOST_HEARD_AGAIN = 15000


@dataclass(frozen=True, slots=True)
class Ear:
    """What was kept of a take that was listened to."""

    folder: DataFolder
    row: TakeRow
    analysis: TakeAnalysis

    def heard(self, base: TempoMap[TakeTimes]) -> Heard[TakeTimes]:
        """The take as it was heard, or with a map in the place of that, on its own clock."""
        attacks = self.analysis.onsets
        if len(base.knots) > MOST_HEARD_AGAIN or not self.folder.keeps_pulse(self.row):
            return Heard(base, attacks)
        pulse = _once_asked(self.folder, self.row)
        return Heard(base, attacks, pulse, partial(self._row, pulse))

    def _row(self, pulse: Callable[[], Activations], pace: TempoMap[TakeTimes]) -> bars_again.Row:
        key = ("row", self.row.analysis_sha, _name_of(pace))
        found: bars_again.Row = self.folder.once(key, lambda: bars_again.hear_row(pulse(), pace))
        return found

    def solve(self, base: TempoMap[TakeTimes], stated: Stated) -> TempoMap[TakeTimes]:
        """The take's map. Raises MapConflictError where none holds all of it."""
        key = ("solved", self.row.analysis_sha, self.folder.keeps_pulse(self.row), _name_of(base), stated)
        found: TempoMap[TakeTimes] = self.folder.solution(key, lambda: solved(self.heard(base), stated))
        return found


def _once_asked(folder: DataFolder, row: TakeRow) -> Callable[[], Activations]:
    """What was heard of a pulse, read once where it is asked for."""
    found: list[Activations] = []

    def read() -> Activations:
        if not found:
            kept = folder.activations(row)
            assert kept is not None
            found.append(kept)
        return found[0]

    return read


def _name_of(pace: TempoMap[Any]) -> str:
    knots = repr([(k.time_s, k.quarters, k.fixed, k.locked, k.confidence, k.ramp) for k in pace.knots])
    return hashlib.sha256(f"{knots}{[str(one) for one in pace.meters]}{pace.meters}".encode()).hexdigest()


def as_far_as_it_holds(
    solve: Callable[[Stated], TempoMap[Any]],
    base: TempoMap[Any],
    statements: Sequence[Statement],
    by_s: float,
) -> TempoMap[Any]:
    """A map with the statements that hold; the newest quarter leaves first where not all can, which no
    decision lets happen, but another way of listening may.

    by_s  the clock of `solve` shows so much more than theirs
    """
    kept = list(statements)
    while kept:
        try:
            return solve(stated_of(kept).shifted(by_s))
        except CombPaceError:
            kept = kept[: 3 * len(kept) // 4]
    return base


# -- steady


def steady_solved(
    base: TempoMap[SessionTimes],
    stated: Stated,
    stated_bpm: float | None,
    ear: Ear | None,
    offset_s: float,
    duration_s: float,
) -> TempoMap[SessionTimes]:
    """The one tempo that obeys what is stated, with its bars as the ear has them.

    base        where the tempo and bar 1 lie with nothing stated
    stated_bpm  the tempo that is stated, quarters a minute
    ear         what was heard of the lead, at `offset_s` and so long
    Raises MapConflictError, naming what cannot both hold
    """
    if not (stated.bars or stated.downbeats or stated.meters or stated.ranges or stated.others):
        return base
    if _holds(base, stated):
        return base
    everywhere = stated.everywhere
    share = 1.0 if everywhere is None else everywhere.beat_quarters / base.meters[0].beat_quarters
    line = steady_as_stated(
        base.bpm_at(0.0) * share,
        base.second(0.0),
        base.meters,
        stated,
        free_tempo=stated_bpm is None,
    )
    return _by_ear(line, base, stated, ear, offset_s, duration_s)


def _holds(line: TempoMap[SessionTimes], stated: Stated) -> bool:
    """Whether bars and downbeats lie where they are stated, and the meters are as stated."""
    if stated.ranges or stated.others or stated.changes:
        return False
    if stated.everywhere is not None and [str(one) for one in line.meters] != [str(stated.everywhere)]:
        return False
    for time, number in stated.bars:
        if abs(line.second(line.bar_line(bar_index(number))) - time) > HOLDS_S / 1000:
            return False
    for time in stated.downbeats:
        place = line.place(time)
        at = line.second(line.bar_line(nearest_bar(line, place)))
        if abs(at - time) > FARTHEST_BEATS * 60.0 * line.meters[0].beat_quarters / line.bpm_at(place):
            return False
    return True


def _by_ear(
    line: TempoMap[SessionTimes],
    base: TempoMap[SessionTimes],
    stated: Stated,
    ear: Ear | None,
    offset_s: float,
    duration_s: float,
) -> TempoMap[SessionTimes]:
    """A steady map with its bars as the ear has them; as it is where the ear has kept nothing, or no count
    goes through all of it.
    """
    if ear is None or not ear.folder.keeps_pulse(ear.row):
        return line
    try:
        pace, before = _on_beats(line, offset_s, duration_s), _on_beats(base, offset_s, duration_s)
        if len(pace.knots) > MOST_HEARD_AGAIN:
            return line
        heard = ear.heard(pace)
        if heard.pulse is None or heard.row is None:
            return line
        row, on_lead = partial(heard.row, pace), stated.shifted(-offset_s)
        lines = bars_again.lines_of(before)
        made = bars_again.bars_again(pace, row, heard.pulse, lines, _on_lines(pace, on_lead), even=True)
    except MapConflictError:
        if stated.others:
            raise
        return line
    bpm = line.bpm_at(0.0) * made.meters[0].beat_quarters / line.meters[0].beat_quarters
    return steady_map(bpm, made.second(0.0) + offset_s, made.meters)


def _on_lines(pace: TempoMap[TakeTimes], stated: Stated) -> Stated:
    """Statements about the beats nearest to their moments: one tempo leaves room beside its lines."""

    def to(time: float) -> float:
        return pace.second(pace.beat_near(pace.place(time)))

    return replace(stated.moved(to), ties=(), levels=())


def _on_beats(line: TempoMap[SessionTimes], offset_s: float, duration_s: float) -> TempoMap[TakeTimes]:
    """The part of a steady map that the lead is heard in, with a knot on each beat, on the lead's clock.
    Raises MapConflictError where that holds fewer than two.
    """
    first, last = line.place(offset_s), line.place(offset_s + duration_s)
    places = line.beats_between(first, last)
    if len(places) < 2:
        raise MapConflictError("The lead holds no two beats of this tempo. Nothing was changed.")
    times = np.asarray(line.to_seconds(Quarters(places))) - offset_s
    knots = tuple(
        Knot(float(time), float(place), confidence=0.5) for time, place in zip(times, places, strict=True)
    )
    return TempoMap(knots, line.meters)


def given_solved(
    base: TempoMap[SessionTimes], stated: Stated, attacks: Onsets | None, offset_s: float
) -> TempoMap[SessionTimes]:
    """A map that was given, with what is stated on top of it, counted on: the ear was not asked for it."""
    return solved(given_heard(base, attacks, offset_s), stated)


def given_heard(base: TempoMap[SessionTimes], attacks: Onsets | None, offset_s: float) -> Heard[SessionTimes]:
    """A given map as what is known before anything is stated, with the lead's attacks on its clock."""
    struck = attacks if attacks is not None else Onsets(take_times([]), np.zeros(0), np.zeros(0))
    return Heard(base, replace(struck, times=take_times(np.asarray(struck.times) + offset_s)))
