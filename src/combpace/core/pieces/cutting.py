"""Where a sound is cut: at its attacks, at a zero crossing within 1 ms where there is one; or on a grid, on
the very frame of each place.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray, IntArray, Quarters, TakeTimes
from combpace.core.tempo.grid import GridLike
from combpace.core.tempo.map import TempoMap

ZERO_CROSSING_S = 0.001
# Cuts nearer to each other, or to either end, are one.
CLOSEST_S = 0.005


def cut_frames(source: Source, times_s: Sequence[float] | FloatArray, *, on_places: bool = False) -> IntArray:
    """Frames of cuts at moments of a source: each at the zero crossing nearest to it within 1 ms; in order,
    none twice, none at the very ends.

    A crossing is the first sample of another sign than the one before it, of all channels together.

    times_s    seconds from its first frame, shape (n,)
    on_places  they are places of a grid: each cut lies on its frame, so that a bar has the frames of a bar
    Returns    shape (m,), increasing
    """
    rate = source.sample_rate_hz
    closest = round(CLOSEST_S * rate)
    found: list[int] = []
    for time in sorted(float(one) for one in times_s):
        at = round(time * rate)
        if not on_places:
            at = _crossing(source, at, round(ZERO_CROSSING_S * rate))
        if closest <= at <= source.frames - closest and (not found or at - found[-1] >= closest):
            found.append(at)
    return np.array(found, dtype=np.int64)


def has_lead(times_s: FloatArray) -> bool:
    """Whether something lies before the first of these cuts that is a piece of its own; else the first piece
    is the first cut's.

    times_s  shape (n,), increasing
    """
    return len(times_s) > 0 and float(np.min(times_s)) >= CLOSEST_S


def grid_times(pace: TempoMap[TakeTimes], grid: GridLike, length_s: float) -> FloatArray:
    """Moments of a grid's places within a source, by its own pace; those before its bar 1 too.

    Returns  seconds, shape (n,), increasing, within [0, length_s)
    """
    first, last = pace.bar_of(pace.place(0.0)), pace.bar_of(pace.place(length_s))
    places = [
        pace.bar_line(index) + grid.in_bar(pace.meter_of(index).bar_quarters)[:-1]
        for index in range(first, last + 1)
    ]
    times = np.asarray(pace.to_seconds(Quarters(np.concatenate(places))))
    return times[(times >= -1e-9) & (times < length_s)]


def _crossing(source: Source, at: int, reach: int) -> int:
    lo = max(1, at - reach)
    mix = source.read(lo - 1, at + reach + 1).mean(axis=0)
    signs = np.signbit(mix)
    crossings = lo + np.flatnonzero(signs[1:] != signs[:-1])
    return int(crossings[np.argmin(np.abs(crossings - at))]) if len(crossings) else at


def places_apart(own: FloatArray, goal: FloatArray) -> FloatArray:
    """Where pieces are laid, quarters: each on its goal, and of several with one goal the nearest; the others
    stay as far from it as they were.

    own  where each was played; goal: the place of a grid that is nearest to it; shapes (n,)
    """
    made = goal.copy()
    for place in np.unique(np.round(goal, 6)):
        here = np.flatnonzero(np.abs(goal - place) < 1e-6)
        first = here[int(np.argmin(np.abs(own[here] - goal[here])))]
        for k in here:
            if k != first:
                made[k] = goal[first] + own[k] - own[first]
    return made
