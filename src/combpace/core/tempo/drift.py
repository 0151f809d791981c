"""How far attacks lie from the lines. Early is negative; a grid that is too slow makes attacks early."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import ClockT, FloatArray, Quarters
from combpace.core.statistics import BIWEIGHT, spread_about
from combpace.core.tempo.grid import GridLike
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


def drift_ms(attacks: ClockT, tempo_map: TempoMap[ClockT], grid: GridLike) -> FloatArray:
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
                first + i,
                start,
                end,
                60.0 * float(quarters[i + 1] - quarters[i]) / (end - start),
                None if near is None else 1000.0 * (near - start),
            )
        )
    return bars


# -- against one steady tempo

# How many quarters of the steady map one beat of the playing may stand for: levels, dotted values, thirds.
BEAT_VALUES = (0.25, 1 / 3, 0.5, 2 / 3, 0.75, 1.0, 1.5, 2.0, 3.0, 4.0)
# A value is believed where the tempi agree so far; else a beat stands for a beat, and what is off is drift.
BELIEVED = 0.06
# The beats about bar 1 that say where the count begins.
FIRST_BEATS = 8
# A beat that nothing carries still has a place in the line.
LEAST_WEIGHT = 0.05
# The line through beats is fitted again until nothing changes, at most so often; its spread is never taken
# for less (seconds), or what lies exactly on it would be all that counts.
MOST_ROUNDS, LEAST_SPREAD = 30, 1e-7


@dataclass(frozen=True, slots=True)
class Course:
    """Beats as they were played against a steady map, followed beat by beat and never wrapped.

    places    quarters of the steady map that each beat stands for, increasing, shape (n,)
    off_ms    beat minus its place's moment, shape (n,); early is negative
    slope_ms  ms a quarter of the straight course through them, start_ms at place 0
    bpm       quarters a minute at which the course would be level
    """

    places: FloatArray
    off_ms: FloatArray
    slope_ms: float
    start_ms: float
    bpm: float

    def at(self, place: float) -> float | None:
        """How far the beats about a place lie from it, ms; None before the first and after the last."""
        if not self.places[0] - 1e-6 <= place <= self.places[-1] + 1e-6:
            return None
        return float(np.interp(place, self.places, self.off_ms))

    def straight_at(self, place: float) -> float:
        """Where the straight course lies at a place, ms."""
        return self.start_ms + self.slope_ms * place

    @property
    def piled_ms(self) -> float:
        """Where the straight course lies at the last beat."""
        return self.straight_at(float(self.places[-1]))

    @property
    def scatter_ms(self) -> float:
        """Robust spread of the beats about the straight course."""
        rest = self.off_ms - (self.start_ms + self.slope_ms * self.places)
        return spread_about(rest, float(np.median(rest)))


def course_against(steady: TempoMap[ClockT], played: TempoMap[ClockT]) -> Course:
    """Follow the beats of a pace against a steady map on the same clock.

    played  a knot on every beat; its level and meter may differ from the steady map's
    Edges   a pace of one span is followed beat by beat as well
    """
    times = np.asarray(played.times_s, dtype=np.float64)
    counted = np.array([played.beats_from_bar_1(place) for place in played.quarters])
    period = float(np.median(np.diff(times) / np.diff(counted)))
    value = _beat_value(period * steady.bpm_at(0.0) / 60.0, steady.meters[0].beat_quarters)
    own = np.asarray(steady.to_quarters(played.to_seconds(played.quarters)))  # type: ignore[arg-type]
    first = int(np.argmin(np.abs(own)))
    near = (
        slice(first, first + FIRST_BEATS)
        if first + FIRST_BEATS <= len(own)
        else slice(max(0, len(own) - FIRST_BEATS), len(own))
    )
    raster = min(value, steady.meters[0].beat_quarters)
    base = round(float(np.median(own[near] - value * counted[near])) / raster) * raster
    places = base + value * counted
    off = times - steady.to_seconds(Quarters(places))
    weight = np.array([max(knot.confidence, LEAST_WEIGHT) for knot in played.knots])
    slope, start, _ = robust_line(places, off, weight)
    bpm = 60.0 / (60.0 / steady.bpm_at(0.0) + slope)
    return Course(places, 1000.0 * off, 1000.0 * slope, 1000.0 * start, bpm)


def _beat_value(measured: float, beat_quarters: float) -> float:
    """What note value a beat that lasts so many quarters is, or the map's own beat where it is none."""
    best = min(BEAT_VALUES, key=lambda value: abs(np.log(measured / value)))
    return best if abs(np.log(measured / best)) < BELIEVED else beat_quarters


def robust_line(x: FloatArray, y: FloatArray, weight: FloatArray) -> tuple[float, float, float]:
    """(slope, intercept, robust standard deviation) of y over x: Tukey's biweight, iterated.

    x, y     shapes (n,), two points or more; weight: shape (n,), above 0
    Source   J. W. Tukey's biweight with the constant 4.685 (Holland and Welsch 1977; from memory)
    """
    robust = weight.copy()
    slope, intercept, spread = 1.0, 0.0, 0.0
    for _ in range(MOST_ROUNDS):
        mean_x, mean_y = np.average(x, weights=robust), np.average(y, weights=robust)
        slope = float(
            (robust * (x - mean_x) * (y - mean_y)).sum()
            / max(float((robust * (x - mean_x) ** 2).sum()), 1e-12)
        )
        intercept = float(mean_y - slope * mean_x)
        residual = y - intercept - slope * x
        spread = max(spread_about(residual), LEAST_SPREAD)
        u = residual / (BIWEIGHT * spread)
        following = weight * np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0) + 1e-9
        if np.allclose(following, robust, rtol=1e-6):
            break
        robust = following
    return slope, intercept, spread


# Playing leaves its tempo where so many beats or more to its end lie so far from where it has them.
LEFT_S, LAST_BEATS = 0.030, 4


def late_s(pace: TempoMap[ClockT], bpm: float, bar_1_s: float) -> FloatArray:
    """How much later than one tempo each beat comes, seconds; shape (beats,).

    bpm      counted beats a minute; bar_1_s: where the tempo has the line of bar 1
    """
    late: FloatArray = pace.times_s - bar_1_s - 60.0 / bpm * pace.quarters / pace.meters[0].beat_quarters
    return late


def leaves_at(pace: TempoMap[ClockT], bpm: float, bar_1_s: float) -> int | None:
    """Index of the beat from which on playing has left one tempo for good; None where it keeps it."""
    if len(pace.knots) < 4 * LAST_BEATS:
        return None
    late = late_s(pace, bpm, bar_1_s)
    left = np.abs(late - np.median(late)) > LEFT_S
    here = len(left) if left[-1] else 0
    while here and left[here - 1]:
        here -= 1
    return None if not left[-1] or len(left) - here < LAST_BEATS else here
