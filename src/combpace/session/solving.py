"""The one solver, given what a session keeps: the map of a take, and a steady session's, as a function of
what was heard and what was stated.

What comes out is kept under the names of all that went in, so that undo, a page that looks ahead and the
decision itself solve it once.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from combpace.core.beats.activations import Activations
from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError
from combpace.core.tempo import bars_again
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
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
) -> tuple[TempoMap[Any], tuple[Statement, ...]]:
    """(a map with the statements that hold, those that do not): the newest quarter leaves first where not all
    can, which no decision lets happen, but another way of listening may.

    by_s  the clock of `solve` shows so much more than theirs
    """
    kept = list(statements)
    while kept:
        try:
            return solve(stated_of(kept).shifted(by_s)), tuple(statements[len(kept) :])
        except CombPaceError:
            kept = kept[: 3 * len(kept) // 4]
    return base, tuple(statements)
