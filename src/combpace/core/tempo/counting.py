"""Where bars begin, put right as a whole: a beat later or earlier, a pickup, one bar of another length, a
meter at a bar.
"""

from __future__ import annotations

from dataclasses import replace

from combpace.core.clocks import ClockT
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number
from combpace.core.tempo.recount import (
    SAME_PLACE_Q,
    confirmed_in,
    with_meter_from,
)


def one_beat(pace: TempoMap[ClockT], beats: int) -> TempoMap[ClockT]:
    """All bar lines so many beats later (earlier where negative); beats keep their times.

    Raises MapConflictError where a downbeat is confirmed that this would leave inside a bar
    """
    meter: Meter = pace.meter_of(0)
    moved: TempoMap[ClockT] = pace.counted_from(beats * meter.beat_quarters)
    lost: list[float] = [place for place in confirmed_in(pace) if not _opens(moved, pace.second(place))]
    if lost:
        bar, _ = pace.address(lost[0] + SAME_PLACE_Q)
        raise MapConflictError(
            f"The downbeat of bar {bar} is confirmed at {{0}}, and would lie inside a bar. "
            "The map is unchanged; take it back first, or say from which bar on.",
            pace.second(lost[0]),
        )
    return moved


def pickup(pace: TempoMap[ClockT], time_s: float) -> TempoMap[ClockT]:
    """What lies at this moment is a pickup: bar 1 is the next bar line after it, all before it is lead-in."""
    place: float = pace.place(time_s)
    return pace.counted_from(pace.bar_line(pace.bar_of(place + SAME_PLACE_Q) + 1))


def meter_in(pace: TempoMap[ClockT], first: int, last: int, meter: Meter) -> TempoMap[ClockT]:
    """Bars of indices first to last in another meter, so many of them; what follows keeps its own and is
    counted on from their end.
    """
    if last < first or first < 0:
        raise ParameterError(
            f"Bars {bar_number(first)} to {bar_number(last)} cannot have a meter of their own; "
            "begin with bar 1 or later."
        )
    old: Meter = pace.meter_of(last + 1)
    new: TempoMap[ClockT] = with_meter_from(pace, pace.bar_line(first), meter, confirmed_in(pace))
    return with_meter_from(new, new.bar_line(last + 1), replace(old, bar=1), confirmed_in(new))


def meter_at(pace: TempoMap[ClockT], number: int, meter: Meter) -> TempoMap[ClockT]:
    """Another meter from a bar on, up to the next change that there is."""
    index = bar_index(number)
    later = [bar_index(change.bar) for change in pace.meters if bar_index(change.bar) > index]
    until: float | None = pace.bar_line(later[0]) if later else None
    return with_meter_from(pace, pace.bar_line(index), meter, confirmed_in(pace), until)


def _opens(pace: TempoMap[ClockT], time_s: float) -> bool:
    place: float = pace.place(time_s)
    index: int = pace.bar_of(place + SAME_PLACE_Q)
    return min(abs(place - pace.bar_line(k)) for k in (index, index + 1)) < SAME_PLACE_Q
