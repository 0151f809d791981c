"""Musical time: knots, meters, bars and the map between seconds and quarter notes.

Conventions: quarter note 0 is the line of bar 1, whatever the meter. Bars are numbered ... -2, -1, 1, 2 ...:
there is
no bar 0, so bars also have an *index* without the gap (bar 1 has index 0, bar -1 has index -1). Between two
knots a map keeps one
tempo (a step), or its tempo runs in a straight line over the quarters between them (a ramp); beyond both ends
it runs on
at the tempo it has there.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from math import isfinite
from typing import Generic

import numpy as np

from combpace.core.clocks import ClockT, FloatArray, Quarters, as_floats
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.meters import Meter, bar_index, bar_number

MIN_BPM, MAX_BPM = 5.0, 1000.0
# Musical positions closer than this are the same place; far below a sample, far above rounding noise.
SAME_PLACE = 1e-9
# The tempo at the end of a ramp may be so many times that at its start.
LEAST_RAMP, MOST_RAMP = 0.1, 10.0


@dataclass(frozen=True, slots=True)
class Knot:
    """A place where seconds and musical time are tied together.

    time_s      seconds, on the clock of the map it belongs to
    quarters    musical time; lead-in is negative
    fixed       an anchor: the user's, exact always. Otherwise found, and may be solved again
    locked      guards an anchor against drag, delete and tidying
    confidence  0-1, how sure a found knot is; 1 for anchors
    ramp        tempo just before the next knot over the tempo just after this one; 1 is a step
    """

    time_s: float
    quarters: float
    fixed: bool = False
    locked: bool = False
    confidence: float = 1.0
    ramp: float = 1.0

    def __post_init__(self) -> None:
        if not LEAST_RAMP <= self.ramp <= MOST_RAMP:
            raise ParameterError(
                f"A ramp ends at {LEAST_RAMP:g} to {MOST_RAMP:g} times the tempo that it starts "
                f"with, not at {self.ramp!r} times."
            )
        if not (isfinite(self.time_s) and isfinite(self.quarters)):
            raise ParameterError(f"A knot needs finite numbers, got {self!r}.")
        if not 0.0 <= self.confidence <= 1.0:
            raise ParameterError(f"A confidence lies between 0 and 1, got {self.confidence!r}.")


@dataclass(frozen=True, slots=True)
class TempoMap(Generic[ClockT]):
    """Seconds <-> musical time.

    knots   at least two, strictly increasing in both seconds and quarters
    meters  in order of their bars, the first at bar 1; default 4/4
    """

    knots: tuple[Knot, ...]
    meters: tuple[Meter, ...] = (Meter(1, 4, 4),)
    times_s: FloatArray = field(init=False, repr=False, compare=False)
    quarters: FloatArray = field(init=False, repr=False, compare=False)
    bends: FloatArray = field(init=False, repr=False, compare=False)
    # Of each meter the index of its first bar, the quarters of that bar's line, and the beats before it.
    _bars: tuple[int, ...] = field(init=False, repr=False, compare=False)
    _lines: tuple[float, ...] = field(init=False, repr=False, compare=False)
    _beats: tuple[int, ...] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        if len(self.knots) < 2:
            raise ParameterError("A tempo map needs at least two knots.")
        object.__setattr__(self, "times_s", np.array([knot.time_s for knot in self.knots]))
        object.__setattr__(self, "quarters", np.array([knot.quarters for knot in self.knots]))
        # Natural logarithm of each span's ramp, 0 for a step.
        object.__setattr__(self, "bends", np.log([knot.ramp for knot in self.knots[:-1]]))
        if not np.all(np.diff(self.times_s) > 0) or not np.all(np.diff(self.quarters) > SAME_PLACE):
            raise ParameterError("The knots of a tempo map must follow each other in time and in beats.")
        bpm = np.concatenate(self.span_ends_bpm)
        if bpm.min() < MIN_BPM or bpm.max() > MAX_BPM:
            raise ParameterError(
                f"A span of this map would run at {bpm.min():.1f} to {bpm.max():.1f} BPM; "
                f"{MIN_BPM:g} to {MAX_BPM:g} is what a map can hold."
            )
        if not self.meters or self.meters[0].bar != 1:
            raise ParameterError("A tempo map's first meter starts at bar 1.")
        if any(a.bar >= b.bar for a, b in zip(self.meters, self.meters[1:], strict=False)):
            raise ParameterError("Meters must follow each other, one for each bar at most.")
        bars, lines, beats = [0], [0.0], [0]
        for before, following in pairwise(self.meters):
            held = bar_index(following.bar) - bars[-1]
            bars.append(bars[-1] + held)
            lines.append(lines[-1] + held * before.bar_quarters)
            beats.append(beats[-1] + held * before.beats)
        for name, values in (("_bars", bars), ("_lines", lines), ("_beats", beats)):
            object.__setattr__(self, name, tuple(values))

    # -- the two clocks

    @property
    def span_bpm(self) -> FloatArray:
        """Quarter notes per minute of every span, shape (knots - 1,); of a ramp over the whole of it."""
        return 60.0 * np.diff(self.quarters) / np.diff(self.times_s)

    @property
    def span_ends_bpm(self) -> tuple[FloatArray, FloatArray]:
        """Quarter notes per minute just after the start and just before the end of every span, each of shape
        (knots - 1,).
        """
        start = self.span_bpm * _over(self.bends, np.expm1(self.bends))
        return start, start * np.exp(self.bends)

    @property
    def is_steady(self) -> bool:
        """Whether one tempo describes the whole map."""
        return len(self.knots) == 2 and not self.has_ramps

    @property
    def has_ramps(self) -> bool:
        """Whether its tempo runs anywhere in a straight line."""
        return bool(np.any(self.bends))

    def to_quarters(self, times: ClockT) -> Quarters:
        """Musical time of each moment; exact at knots, strictly increasing, extended beyond both ends."""
        return Quarters(_along(as_floats(times), self.times_s, self.quarters, self.bends, _share_of_quarters))

    def to_seconds(self, places: Quarters) -> FloatArray:
        """Seconds on the map's clock of each musical place; the inverse of `to_quarters`."""
        return _along(as_floats(places), self.quarters, self.times_s, self.bends, _share_of_time)

    def second(self, place: float) -> float:
        """Seconds of one musical place."""
        return float(self.to_seconds(Quarters(as_floats(place)))[0])

    def place(self, time_s: float) -> float:
        """Musical time of one moment on the map's clock."""
        return float(
            _along(as_floats(time_s), self.times_s, self.quarters, self.bends, _share_of_quarters)[0]
        )

    def bpm_at(self, place: float) -> float:
        """Quarter notes per minute just after a musical place."""
        span = int(np.clip(np.searchsorted(self.quarters, place, "right") - 1, 0, len(self.knots) - 2))
        start, end = self.span_ends_bpm
        share = np.clip(
            (place - self.quarters[span]) / (self.quarters[span + 1] - self.quarters[span]), 0.0, 1.0
        )
        return float(start[span] + share * (end[span] - start[span]))

    def with_knot(self, place: float) -> TempoMap[ClockT]:
        """The same map with a found knot at a place: nothing moves, a ramp goes on through it."""
        if np.any(np.abs(self.quarters - place) <= SAME_PLACE):
            return self
        time_s = self.second(place)
        after: int = int(np.searchsorted(self.quarters, place))
        if after in (0, len(self.knots)):
            # Beyond both ends the map runs on straight.
            knots = (
                (Knot(time_s, place, confidence=0.5), *self.knots)
                if after == 0
                else (*self.knots, Knot(time_s, place, confidence=0.5))
            )
            return replace(self, knots=knots)
        before = self.knots[after - 1]
        share = (place - before.quarters) / (self.knots[after].quarters - before.quarters)
        first = 1.0 + (before.ramp - 1.0) * share
        confidence = min(before.confidence, self.knots[after].confidence)
        new = Knot(time_s, place, confidence=confidence, ramp=before.ramp / first)
        return replace(
            self, knots=(*self.knots[: after - 1], replace(before, ramp=first), new, *self.knots[after:])
        )

    def through(self, knots: Iterable[Knot]) -> TempoMap[ClockT]:
        """The same meters through other knots. Raises MapConflictError where no map goes through all of
        them.
        """
        try:
            return replace(self, knots=tuple(knots))
        except ParameterError as error:
            raise MapConflictError(
                f"No tempo map goes through all of these places: {error} The map is unchanged."
            ) from error

    def shifted(self, offset_s: float) -> TempoMap[ClockT]:
        """The same map with every knot `offset_s` later."""
        if offset_s == 0.0:
            return self
        knots = (
            Knot(knot.time_s + offset_s, knot.quarters, knot.fixed, knot.locked, knot.confidence, knot.ramp)
            for knot in self.knots
        )
        return replace(self, knots=tuple(knots))

    # -- bars

    def meter_of(self, index: int) -> Meter:
        """The meter that holds in the bar of this index."""
        return self.meters[max(0, bisect_right(self._bars, index) - 1)]

    def bar_line(self, index: int) -> float:
        """Quarters of the line that opens the bar of this index."""
        if index <= 0:
            return index * self.meters[0].bar_quarters
        k = bisect_right(self._bars, index) - 1
        return self._lines[k] + (index - self._bars[k]) * self.meters[k].bar_quarters

    def bar_of(self, place: float) -> int:
        """Index of the bar in which a musical place lies."""
        if place < -SAME_PLACE:
            return int(np.floor(place / self.meters[0].bar_quarters + SAME_PLACE))
        k = max(0, bisect_right(self._lines, place + SAME_PLACE) - 1)
        return self._bars[k] + int(
            np.floor((place - self._lines[k]) / self.meters[k].bar_quarters + SAME_PLACE)
        )

    def bar_lines(self, first: int, count: int) -> Quarters:
        """Quarters of `count` + 1 lines: those that open `count` bars from index `first` on, and the one
        after them.
        """
        return Quarters(self._lines_of(np.arange(first, first + count + 1))[0])

    def _lines_of(self, indices: np.ndarray) -> tuple[FloatArray, np.ndarray]:
        """(quarters of the lines that open these bars, which meter each is in)."""
        k = np.maximum(np.searchsorted(np.array(self._bars), indices, "right") - 1, 0)
        lengths = np.array([meter.bar_quarters for meter in self.meters])
        lines: FloatArray = np.array(self._lines)[k] + (indices - np.array(self._bars)[k]) * lengths[k]
        return lines, k

    def beats_between(self, low: float, high: float) -> FloatArray:
        """Places of the counted beats from `low` up to, but without, `high`."""
        first, last = self.bar_of(low), self.bar_of(high) + 1
        if last < first:
            return np.zeros(0)
        lines, k = self._lines_of(np.arange(first, last + 1))
        counts, units = (
            np.array([getattr(meter, name) for meter in self.meters])[k]
            for name in ("beats", "beat_quarters")
        )
        within = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts)
        found: FloatArray = np.repeat(lines, counts) + within * np.repeat(units, counts)
        return found[(found > low - SAME_PLACE) & (found < high - SAME_PLACE)]

    def beats_from_bar_1(self, place: float) -> float:
        """How many counted beats lie between the line of bar 1 and a place; negative in the lead-in."""
        index = self.bar_of(place)
        within = (place - self.bar_line(index)) / self.meter_of(index).beat_quarters
        if index < 0:
            return index * self.meters[0].beats + within
        k = bisect_right(self._bars, index) - 1
        return self._beats[k] + (index - self._bars[k]) * self.meters[k].beats + within

    def beat_near(self, place: float) -> float:
        """The place of the counted beat nearest to a place."""
        index = self.bar_of(place)
        line, meter = self.bar_line(index), self.meter_of(index)
        return line + min(meter.beats, round((place - line) / meter.beat_quarters)) * meter.beat_quarters

    def counted_later(self, quarters: float) -> TempoMap[ClockT]:
        """The same beats, so many quarters later in the count; the bars stay where they are in it."""
        knots = tuple(replace(knot, quarters=knot.quarters + quarters) for knot in self.knots)
        return replace(self, knots=knots)

    def counted_from(self, place: float) -> TempoMap[ClockT]:
        """The same map with bar 1 at a place; changes of meter stay on the lines nearest to where they
        were.
        """
        index = self.bar_of(place + 1e-6)
        current = self.meter_of(index)
        if (
            index < 0
            and len(self.meters) > 1
            and self.meters[1].bar == 2
            and current.bar_quarters <= 0.5 * self.meters[1].bar_quarters
        ):
            # One short bar at the beginning is not what the lead-in is counted in.
            current = self.meters[1]
        meters = [Meter(1, current.numerator, current.denominator)]
        line, at = place, 0
        for change in self.meters[1:]:
            where = self.bar_line(bar_index(change.bar))
            if where <= place + 1e-6:
                continue
            bars = round((where - line) / meters[-1].bar_quarters)
            if bars < 1:
                meters.pop()
            line, at = line + bars * current.bar_quarters, at + bars
            current = change
            meters.append(replace(change, bar=bar_number(at)))
        knots = tuple(replace(knot, quarters=knot.quarters - place) for knot in self.knots)
        return replace(self, knots=knots, meters=tuple(meters))

    def address(self, place: float) -> tuple[int, float]:
        """(bar number, beat in the bar counted from 1) of a musical place."""
        index = self.bar_of(place)
        meter = self.meter_of(index)
        return bar_number(index), 1.0 + max(0.0, place - self.bar_line(index)) / meter.beat_quarters


def _piecewise(x: FloatArray, xs: FloatArray, ys: FloatArray) -> FloatArray:
    """Linear interpolation, extended with the slopes of the first and last span."""
    span = np.clip(np.searchsorted(xs, x, "right") - 1, 0, len(xs) - 2)
    share = (x - xs[span]) / (xs[span + 1] - xs[span])
    # Written from both ends, so that a knot gives back its own value to the last bit.
    result: FloatArray = np.where(
        share < 0.5,
        ys[span] + share * (ys[span + 1] - ys[span]),
        ys[span + 1] - (1 - share) * (ys[span + 1] - ys[span]),
    )
    return result


def _along(
    x: FloatArray,
    xs: FloatArray,
    ys: FloatArray,
    bends: FloatArray,
    shares: Callable[[FloatArray, FloatArray], FloatArray],
) -> FloatArray:
    """As `_piecewise`, through ramps: `shares` says how far a span is run through in y where x is so far
    through it.
    """
    if not np.any(bends):
        return _piecewise(x, xs, ys)
    span = np.clip(np.searchsorted(xs, x, "right") - 1, 0, len(xs) - 2)
    share = (x - xs[span]) / (xs[span + 1] - xs[span])
    way = shares(share, bends[span])
    result: FloatArray = np.where(
        way < 0.5,
        ys[span] + way * (ys[span + 1] - ys[span]),
        ys[span + 1] - (1 - way) * (ys[span + 1] - ys[span]),
    )
    return result


def _share_of_time(share: FloatArray, bend: FloatArray) -> FloatArray:
    """How far a span is run through in time where it is so far run through in quarters.

    The tempo runs in a straight line over the quarters, b(u) = b0 (1 + (r - 1) u), and time is the integral
    of 1 / b: t(u) = ln(1 + (r - 1) u) / ln r of the whole (time maps as integrals of the reciprocal of tempo:
    D. Jaffe, Ensemble timing in computer music, Computer Music Journal 9(4), 1985, from memory; the integral
    is elementary). Outside of the span it goes on at the tempo of that end.
    """
    grown = np.expm1(bend)
    inside = np.clip(share, 0.0, 1.0)
    way = _over(np.log1p(grown * inside), bend, inside)
    # Exact at both ends; beyond them on in a straight line.
    way = np.where(share >= 1.0, 1.0 + (share - 1.0) * _over(grown, bend) * np.exp(-bend), way)
    return np.where(share <= 0.0, share * _over(grown, bend), way)


def _share_of_quarters(share: FloatArray, bend: FloatArray) -> FloatArray:
    """The inverse of `_share_of_time`: u(s) = (r^s - 1) / (r - 1)."""
    grown = np.expm1(bend)
    inside = np.clip(share, 0.0, 1.0)
    way = _over(np.expm1(bend * inside), grown, inside)
    way = np.where(share >= 1.0, 1.0 + (share - 1.0) * _over(bend, grown) * np.exp(bend), way)
    return np.where(share <= 0.0, share * _over(bend, grown), way)


def _over(top: FloatArray, bottom: FloatArray, straight: FloatArray | float = 1.0) -> FloatArray:
    """top / bottom, and what it tends to where both are 0."""
    flat = np.abs(bottom) < 1e-12
    return np.where(flat, straight, top / np.where(flat, 1.0, bottom))


def steady_map(
    bpm: float, bar_1_s: float, meters: Sequence[Meter] = (Meter(1, 4, 4),), confidence: float = 1.0
) -> TempoMap[ClockT]:
    """One found span: `bpm` quarter notes a minute, the line of bar 1 at `bar_1_s`."""
    if not (isfinite(bpm) and MIN_BPM <= bpm <= MAX_BPM):
        raise ParameterError(f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {bpm!r}.")
    # Far apart, so that the tempo read back from the knots is the one that was given.
    far = 4096.0
    return TempoMap(
        (
            Knot(bar_1_s, 0.0, confidence=confidence),
            Knot(bar_1_s + far * 60.0 / bpm, far, confidence=confidence),
        ),
        tuple(meters),
    )


def lines_only(pace: TempoMap[ClockT]) -> TempoMap[ClockT]:
    """The bar lines of a map with even division between them, first whole bar to last; the map itself where
    it has fewer than two lines.
    """
    first, last = pace.bar_of(float(pace.quarters[0]) - SAME_PLACE) + 1, pace.bar_of(float(pace.quarters[-1]))
    if first == 0 and pace.bar_line(first - 1) >= float(pace.quarters[0]) - SAME_PLACE:
        first -= 1
    if last - first < 1:
        return pace
    places = np.asarray(pace.bar_lines(first, last - first))
    moments = np.asarray(pace.to_seconds(Quarters(places)))
    return TempoMap(
        tuple(Knot(float(time), float(place)) for time, place in zip(moments, places, strict=True)),
        pace.meters,
    )
