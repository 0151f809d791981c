"""How far attacks lie from the lines. Early is negative; a grid that is too slow makes attacks early."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import ClockT, FloatArray
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import TempoMap


@dataclass(frozen=True, slots=True)
class BarLine:
    """A bar of a map, with its first attack.

    index      gapless index of the bar
    start_s    its line, on the map's clock; end_s the next line
    bpm        quarters per minute over the bar
    drift_ms   its first attack within an eighth of a bar of the line, against the line; None if there is none
    """

    index: int
    start_s: float
    end_s: float
    bpm: float
    drift_ms: float | None


def drift_ms(attacks: ClockT, tempo_map: TempoMap[ClockT], grid: Grid) -> FloatArray:
    """Distance of each attack from its nearest grid place, ms.

    attacks  shape (n,), on the map's clock, any order
    Returns  shape (n,); empty for none
    """
    places = grid.nearest(tempo_map.to_quarters(attacks), tempo_map)
    return 1000.0 * (np.asarray(attacks) - tempo_map.to_seconds(places))


def bars_between(tempo_map: TempoMap[ClockT], start_s: float, end_s: float, attacks: ClockT) -> list[BarLine]:
    """All bars whose lines lie in [start_s, end_s), each with its drift.

    attacks  sorted, on the map's clock
    """
    first = tempo_map.bar_of(tempo_map.place(start_s))
    if tempo_map.second(tempo_map.bar_line(first)) < start_s - 1e-6:
        first += 1
    last = tempo_map.bar_of(tempo_map.place(end_s) - 1e-6)
    if last < first:
        return []
    quarters = tempo_map.bar_lines(first, last - first + 1)
    lines = tempo_map.to_seconds(quarters)
    times = np.asarray(attacks)
    bars: list[BarLine] = []
    for i in range(last - first + 1):
        start, end = float(lines[i]), float(lines[i + 1])
        reach = (end - start) / 8
        lo, hi = np.searchsorted(times, (start - reach, start + reach))
        # The attack that opens the bar is the one nearest to its line.
        near = float(times[lo + int(np.argmin(np.abs(times[lo:hi] - start)))]) if hi > lo else None
        bars.append(
            BarLine(
                first + i, start, end, 60.0 * float(quarters[i + 1] - quarters[i]) / (end - start), None if near is None else 1000.0 * (near - start)
            )
        )
    return bars
