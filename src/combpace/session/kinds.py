"""The session's map, whatever its kind: what is known of it before anything is stated, and the map that holds
what is stated.

A breathing map is the lead's own pace; a steady one is a tempo, where bar 1 lies, and meters; a given one has
knots of its own. Only here is it asked which: a decision changes the list of statements, and this solves it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from combpace.core.clocks import ClockT, FloatArray, SessionTimes, TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo import anchors, one_tempo, solve
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.solve import Heard
from combpace.core.tempo.statements import Stated
from combpace.core.tempo.sure import sure_given
from combpace.session.document import parts as forms
from combpace.session.saying import SAME_MOMENT_S
from combpace.session.solving import Ear

# Of longer music it is not asked how sure bars are after every decision.
MOST_SURE = 6000


class Kind(Protocol):
    """A map before anything is stated; on the session's clock."""

    @property
    def breathes(self) -> bool:
        """Whether its tempo may change from beat to beat."""

    def solve(self, stated: Stated) -> TempoMap[SessionTimes]:
        """The map. Raises MapConflictError, naming what is stated, where none holds all of it."""

    def heard_s(self, stated: Stated, place: float, now: TempoMap[SessionTimes]) -> float:
        """Where a place of the map in force lies before anything is tied, seconds."""

    def named(self, stated: Stated) -> TempoMap[SessionTimes]:
        """The map before anything is tied: by its times ties name their places."""

    def until(self, now: TempoMap[SessionTimes], line: float, bars: int, meter: Meter) -> float:
        """The moment at which so many bars in a meter end that begin at a bar line of the map in force."""

    def sure(self, stated: Stated, now: TempoMap[SessionTimes]) -> FloatArray | None:
        """How sure the line of each bar from bar 1 on is in the map in force, 0-1; None where nothing says so
        but its knots.
        """

    def loosened(self, moments: Sequence[float], *, back: bool) -> tuple[dict[str, Any], dict[str, Any]]:
        """(fields of the map, parts) in which the knots that are kept no longer hold what was put on these
        moments; back: and beats there go back to where they were found. Raises CombPaceError where one is
        locked.
        """


@dataclass(frozen=True, slots=True)
class Breathing:
    """The lead's own pace.

    base  as it was heard, or knots in the place of that, on the lead's clock; kept: the latter, or None
    """

    ear: Ear
    lead_id: str
    offset_s: float
    base: TempoMap[TakeTimes]
    kept: TempoMap[TakeTimes] | None
    breathes = True

    def solve(self, stated: Stated) -> TempoMap[SessionTimes]:
        try:
            pace = self.ear.solve(self.base, stated.shifted(-self.offset_s)).shifted(self.offset_s)
        except MapConflictError as error:
            raise error.later(self.offset_s) from error
        return TempoMap(pace.knots, pace.meters)

    def heard_s(self, stated: Stated, place: float, now: TempoMap[SessionTimes]) -> float:
        on_lead = stated.shifted(-self.offset_s)
        on_clock: TempoMap[Any] = now.shifted(-self.offset_s)
        return solve.place_heard(self.ear.heard(self.base), on_lead, place, on_clock) + self.offset_s

    def named(self, stated: Stated) -> TempoMap[SessionTimes]:
        before = solve.untied(self.ear.heard(self.base), stated.shifted(-self.offset_s))
        return TempoMap(before.shifted(self.offset_s).knots, before.meters)

    def until(self, now: TempoMap[SessionTimes], line: float, bars: int, meter: Meter) -> float:
        return beats_on(now, line, bars * meter.beats)

    def sure(self, stated: Stated, now: TempoMap[SessionTimes]) -> FloatArray | None:
        if stated == Stated(tempo=stated.tempo) or len(now.knots) > MOST_SURE:
            return None
        heard, on_lead = self.ear.heard(self.base), stated.shifted(-self.offset_s)
        on_clock: TempoMap[Any] = now.shifted(-self.offset_s)
        return sure_given(on_clock, heard, on_lead)

    def loosened(self, moments: Sequence[float], *, back: bool) -> tuple[dict[str, Any], dict[str, Any]]:
        if self.kept is None:
            return {}, {}
        on_lead = [time - self.offset_s for time in moments]
        heard = self.ear.analysis
        made = _loosened(self.kept, on_lead, heard.onsets, heard.pace, back=back)
        return {}, {} if made is self.kept else {f"pace:{self.lead_id}": forms.pace_part(made)}


@dataclass(frozen=True, slots=True)
class Steady:
    """One tempo, with what was heard of the lead under it."""

    base: TempoMap[SessionTimes]
    ear: Ear | None
    offset_s: float
    duration_s: float
    breathes = False

    def solve(self, stated: Stated) -> TempoMap[SessionTimes]:
        return one_tempo.one_tempo(self.base, stated, self._under())

    def heard_s(self, stated: Stated, place: float, now: TempoMap[SessionTimes]) -> float:
        return one_tempo.place_heard(self.base, stated, place, now)

    def named(self, stated: Stated) -> TempoMap[SessionTimes]:
        return one_tempo.places_named(self.base, stated)

    def until(self, now: TempoMap[SessionTimes], line: float, bars: int, meter: Meter) -> float:
        # Of one tempo a quarter stays as long as it is, whatever is counted.
        return now.second(line + bars * meter.bar_quarters)

    def loosened(self, moments: Sequence[float], *, back: bool) -> tuple[dict[str, Any], dict[str, Any]]:
        return {}, {}

    def sure(self, stated: Stated, now: TempoMap[SessionTimes]) -> FloatArray | None:
        return None

    def _under(self) -> one_tempo.Under | None:
        pace = None if self.ear is None else self.ear.analysis.pace
        if self.ear is None or pace is None:
            return None
        return one_tempo.Under(self.ear.heard(pace), self.offset_s, self.duration_s)


@dataclass(frozen=True, slots=True)
class Given:
    """Knots that were given; the ear is not asked for them."""

    base: TempoMap[SessionTimes]
    struck: Onsets
    breathes = True

    def solve(self, stated: Stated) -> TempoMap[SessionTimes]:
        return solve.solved(self._heard(), stated)

    def heard_s(self, stated: Stated, place: float, now: TempoMap[SessionTimes]) -> float:
        return solve.place_heard(self._heard(), stated, place, now)

    def named(self, stated: Stated) -> TempoMap[SessionTimes]:
        return solve.untied(self._heard(), stated)

    def until(self, now: TempoMap[SessionTimes], line: float, bars: int, meter: Meter) -> float:
        return beats_on(now, line, bars * meter.beats)

    def loosened(self, moments: Sequence[float], *, back: bool) -> tuple[dict[str, Any], dict[str, Any]]:
        made: TempoMap[Any] = _loosened(self.base, moments, self.struck, None, back=back)
        return {} if made is self.base else {"given": forms.pace_part(made)}, {}

    def sure(self, stated: Stated, now: TempoMap[SessionTimes]) -> FloatArray | None:
        return None

    def _heard(self) -> Heard[SessionTimes]:
        return Heard(self.base, self.struck)


def _loosened(
    kept: TempoMap[ClockT],
    moments: Sequence[float],
    attacks: Onsets,
    found: TempoMap[ClockT] | None,
    *,
    back: bool,
) -> TempoMap[ClockT]:
    for time in moments:
        here = next((one for one in anchors.anchors(kept) if abs(one.time_s - time) < SAME_MOMENT_S), None)
        if here is not None and back:
            kept = anchors.release(kept, here.quarters, attacks, found)
        elif here is not None:
            kept = anchors.unfixed(kept, here)
    return kept


def beats_on(line: TempoMap[SessionTimes], place: float, beats: int) -> float:
    """The moment so many counted beats after a place, or before it."""
    if beats < 0:
        low = line.bar_line(line.bar_of(place - 1e-6) + min(0, beats) // 2 - 1)
        before = line.beats_between(low, place - 1e-6)
        return line.second(float(before[beats]))
    high = place + (beats + 2) * max(meter.beat_quarters for meter in line.meters)
    return line.second(float(line.beats_between(place, high + 1e-6)[beats]))
