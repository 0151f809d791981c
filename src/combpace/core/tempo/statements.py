"""What the user stated of the music, apart from what is solved from it: every form of the map obeys it.

A breathing map goes through a stated moment exactly; what one tempo has to obey is in `one_tempo`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction

from combpace.core.clocks import ClockT
from combpace.core.tempo import recount
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index

# A stated moment holds within this; far below what is heard, far above rounding.
HOLDS_S = 0.0005
# How far a confirmed downbeat may lie from its line in a steady map, in beats: farther, the next beat would
# be as near.
FARTHEST_BEATS = 0.25
# How far a downbeat moves the bars that were heard: all, those from it on, its own.
REACHES = ("everywhere", "from here on", "only this bar")


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
    tempo      of one tempo, quarters a minute; a map that breathes has its own
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
    tempo: float | None = None

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
            self.tempo,
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


def numbered(line: TempoMap[ClockT], stated: Stated) -> TempoMap[ClockT]:
    """The same map with its bars numbered as was stated; bars that were only found keep theirs where nothing
    was.
    """
    for time, number in stated.bars[:1]:
        index = recount.nearest_bar(line, line.place(time))
        if index != bar_index(number):
            line = line.counted_from(line.bar_line(index - bar_index(number)))
    return line
