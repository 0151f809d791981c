"""What the user stated of the music, apart from what is solved from it: every form of the map obeys it.

A breathing map goes through a stated moment exactly. A steady one has bar 1 exactly where it was stated; a
downbeat opens a bar of it, and may lie beside its line by what the playing leaves the one tempo, but never by
a quarter of a beat.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from combpace.core.clocks import ClockT
from combpace.core.errors import MapConflictError
from combpace.core.tempo import counting, recount
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import Meter, bar_index

# A stated moment holds within this; far below what is heard, far above rounding.
HOLDS_S = 0.0005
# How far a confirmed downbeat may lie from its line in a steady map, in beats: farther, the next beat would
# be as near.
FARTHEST_BEATS = 0.25
# How far a downbeat moves the bars that were heard: all, those from it on, its own.
REACHES = ("everywhere", "from here on", "only this bar")
# Two stated bars set a tempo that was found where it differs by no more than this share.
SAME_TEMPO = 0.1


@dataclass(frozen=True, slots=True)
class Tie:
    """A beat or a place tied to a moment by hand.

    time_s   where it lies
    heard_s  where it lies before anything is tied: among the beats as they were heard
    alone    no other bar line moves
    """

    time_s: float
    heard_s: float
    alone: bool = False


@dataclass(frozen=True, slots=True)
class Stated:
    """Statements on one clock, seconds.

    bars       (moment, bar number): this is the line of that bar
    downbeats  moments that open a bar
    meters     (moment, meter): from the bar line there on; None as moment: everywhere
    others     moments that open none
    ranges     (moment, end, meter): from the bar line there to the one at the end; what follows is counted on
    ties       what was put on a moment by hand; of a bar or downbeat, which beat is meant
    reach      (moment of a downbeat, one of REACHES): how far it moves the bars that were heard
    locked     moments whose ties are guarded
    levels     (moment, factor): from the bar line there on, or everywhere, so many times as many beats as
               were heard
    """

    bars: tuple[tuple[float, int], ...] = ()
    downbeats: tuple[float, ...] = ()
    meters: tuple[tuple[float | None, Meter], ...] = ()
    others: tuple[float, ...] = ()
    ranges: tuple[tuple[float, float, Meter], ...] = ()
    ties: tuple[Tie, ...] = ()
    reach: tuple[tuple[float, str], ...] = ()
    locked: tuple[float, ...] = ()
    levels: tuple[tuple[float | None, Fraction], ...] = ()

    def moved(self, to: Callable[[float], float]) -> Stated:
        """The same statements about other moments; what a tie was heard as stays."""
        return Stated(
            tuple((to(time), bar) for time, bar in self.bars),
            tuple(to(time) for time in self.downbeats),
            tuple((None if time is None else to(time), meter) for time, meter in self.meters),
            tuple(to(time) for time in self.others),
            tuple((to(start), to(stop), meter) for start, stop, meter in self.ranges),
            tuple(replace(tie, time_s=to(tie.time_s)) for tie in self.ties),
            tuple((to(time), reach) for time, reach in self.reach),
            tuple(to(time) for time in self.locked),
            tuple((None if time is None else to(time), factor) for time, factor in self.levels),
        )

    def shifted(self, offset_s: float) -> Stated:
        """The same statements on a clock that shows `offset_s` more."""
        if not offset_s:
            return self
        made = self.moved(lambda time: time + offset_s)
        ties = tuple(replace(tie, heard_s=tie.heard_s + offset_s) for tie in made.ties)
        return replace(made, ties=ties)

    @property
    def everywhere(self) -> Meter | None:
        """The meter that was stated for the whole map."""
        return next((meter for time, meter in self.meters if time is None), None)

    @property
    def changes(self) -> list[tuple[float, Meter]]:
        """Meters stated from a moment on, in order of time."""
        return sorted(
            ((time, meter) for time, meter in self.meters if time is not None), key=lambda change: change[0]
        )

    @property
    def opening(self) -> list[float]:
        """Moments that open bars, in order."""
        return sorted({*(time for time, _ in self.bars), *self.downbeats})


def steady_as_stated(
    bpm: float, start_s: float, meters: tuple[Meter, ...], stated: Stated, *, free_tempo: bool
) -> TempoMap[Any]:
    """A steady map that obeys what was stated.

    bpm         quarters a minute
    start_s     where bar 1 lies if nothing says where
    meters      those of the map where none were stated
    free_tempo  the tempo was found and not stated: two bars that are stated set it
    Raises      MapConflictError, naming both, where one tempo cannot
    """
    meters = (replace(stated.everywhere, bar=1),) if stated.everywhere else meters
    line: TempoMap[Any] = steady_map(bpm, start_s, meters)
    confirmed: list[float] = []
    if stated.bars:
        line, confirmed = _through_bars(line, stated, free_tempo)
    elif stated.downbeats:
        first = stated.downbeats[0]
        nearest = line.second(line.bar_line(recount.nearest_bar(line, line.place(first))))
        line = line.shifted(first - nearest)
    for time in stated.downbeats:
        at = line.beat_near(line.place(time))
        off_s = abs(line.second(at) - time)
        if off_s > FARTHEST_BEATS * 60.0 * line.meter_of(line.bar_of(at)).beat_quarters / line.bpm_at(at):
            beat = line.meters[0].beat_quarters
            raise MapConflictError(
                f"The downbeat confirmed at {time:.3f} s and a steady {line.bpm_at(0.0) / beat:.2f} "
                f"BPM with bar 1 at {line.second(0.0):.3f} s "
                f"cannot both hold: the downbeat would lie {1000 * off_s:.0f} ms from the nearest beat. "
                "The map is unchanged; take the downbeat back first, or choose another tempo."
            )
        before = line
        line, at = recount.with_downbeat(line, at, confirmed, numbered=bool(stated.bars))
        # Counting anew may have moved bar 1: what is confirmed is found again at its moment.
        confirmed = [line.place(before.second(place)) for place in confirmed]
        confirmed.append(at)
    return numbered(_with_changes(line, stated, confirmed), stated)


def _through_bars(line: TempoMap[Any], stated: Stated, free_tempo: bool) -> tuple[TempoMap[Any], list[float]]:
    """A steady map with its stated bars where they were stated, and their places."""
    (time, number), *others = sorted(stated.bars)
    line = line.shifted(time - line.second(line.bar_line(bar_index(number))))
    place = line.bar_line(bar_index(number))
    confirmed = [place]
    for other, bar in others:
        there = line.bar_line(bar_index(bar))
        if abs(line.second(there) - other) > HOLDS_S:
            between = 60.0 * (there - place) / (other - time)
            near = abs(between / line.bpm_at(0.0) - 1) < SAME_TEMPO
            if not free_tempo or not near or len(others) > 1:
                raise MapConflictError(
                    f"Bar {number} at {time:.3f} s and bar {bar} at {other:.3f} s cannot both hold "
                    "at one tempo of "
                    f"{line.bpm_at(0.0) / line.meters[0].beat_quarters:.2f} BPM: bar {bar} would "
                    f"lie at {line.second(there):.3f} s. "
                    "The map is unchanged; state another tempo, or one of the two bars anew."
                )
            start = time - (place / between) * 60.0
            line = steady_map(between, start, line.meters)
        confirmed.append(there)
    return line, confirmed


def _with_changes(
    line: TempoMap[ClockT], stated: Stated, confirmed: tuple[float, ...] | list[float]
) -> TempoMap[ClockT]:
    """Meters that hold from a moment on, each to the next one."""
    for time, meter in stated.changes:
        moments = [line.second(place) for place in confirmed]
        line = recount.with_meter_from(line, line.place(time), meter, confirmed)
        confirmed = [line.place(moment) for moment in moments]
    for start, stop, meter in stated.ranges:
        first = recount.nearest_bar(line, line.place(start))
        bars = max(1, round((line.place(stop) - line.bar_line(first)) / meter.bar_quarters))
        line = counting.meter_in(line, first, first + bars - 1, meter)
    return line


def numbered(line: TempoMap[ClockT], stated: Stated) -> TempoMap[ClockT]:
    """The same map with its bars numbered as was stated; bars that were only found keep theirs where nothing
    was.
    """
    for time, number in stated.bars[:1]:
        index = recount.nearest_bar(line, line.place(time))
        if index != bar_index(number):
            line = line.counted_from(line.bar_line(index - bar_index(number)))
    return line
