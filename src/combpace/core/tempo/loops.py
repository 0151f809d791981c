"""Loops: what was cut to whole bars is so many bars long, to the frame."""

from __future__ import annotations

from dataclasses import replace

from combpace.core.clocks import ClockT
from combpace.core.tempo.map import Knot, TempoMap

# A loop is shorter than this, begins on bar 1 to within this, and its length is that of whole bars to within
# this.
MOST_BARS, STARTS_S, LENGTH_SHARE = 32, 0.030, 0.01
# Found beats this near to either end, in beats, give way to it.
NEAR_BEATS = 0.4


def loop_bars(pace: TempoMap[ClockT], duration_s: float) -> int | None:
    """How many bars a source of this length is, by its own pace; None where it is no loop."""
    if duration_s <= 0 or abs(pace.second(0.0)) > STARTS_S:
        return None
    bar = pace.meters[0].bar_quarters
    # The tempo of the whole, not of the last beat alone, says how long it is.
    first, last = pace.knots[0], pace.knots[-1]
    a_quarter_s = (last.time_s - first.time_s) / (last.quarters - first.quarters)
    length = (duration_s - pace.second(0.0)) / a_quarter_s / bar
    bars = round(length)
    return (
        bars
        if len(pace.meters) == 1 and 1 <= bars < MOST_BARS and abs(length / bars - 1) < LENGTH_SHARE
        else None
    )


def as_loop(pace: TempoMap[ClockT], duration_s: float) -> TempoMap[ClockT]:
    """The pace of a loop with both its ends on bar lines: its first frame is bar 1, its last ends the bar.
    Any other pace as it is.
    """
    bars = loop_bars(pace, duration_s)
    if bars is None:
        return pace
    end = bars * pace.meters[0].bar_quarters
    near = NEAR_BEATS * pace.meters[0].beat_quarters
    between: tuple[Knot, ...] = tuple(
        knot for knot in pace.knots if near < knot.quarters < end - near and 0.0 < knot.time_s < duration_s
    )
    return replace(pace, knots=(Knot(0.0, 0.0), *between, Knot(duration_s, end)))
