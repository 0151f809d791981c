"""Readings: the likeliest ways to count a take that differ in kind, each with its beats, bars and
probability.

The ear weighs some forty rows of beats and keeps one; the others are kept here with what spoke for them. For
each the bars are read anew, and beside them the meters and first beats that are nearly as likely.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from combpace.core.analysis.bundle import on_strokes_of
from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.analysis.take import Analysis, trust_in
from combpace.core.beats.activations import Activations
from combpace.core.beats.bars import BarReading, in_one_unit, own_pace, read_bars, ways_to_bar
from combpace.core.beats.meter_network import hear_pattern, other_levels
from combpace.core.beats.track import Beats, counted_otherwise
from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import one_row
from combpace.core.tempo.map import TempoMap

MOST, LEAST_PROBABILITY = 6, 0.02
# How much sharper the bars of a whole take are told apart than one beat tells them; learnt from generated
# songs, see docs/decisions/pace.md.
SHARPER = 14.0
# Nobody counts slower or faster than this (common practice).
SLOWEST_BPM, FASTEST_BPM = 25.0, 320.0


@dataclass(frozen=True, slots=True)
class Reading:
    """One way to count a take.

    rank         1 is the likeliest as analysed; ranks never change with what is chosen
    probability  0-1 that this is how it is counted
    pace         beats and bars, a knot on every beat
    """

    rank: int
    probability: float
    pace: TempoMap[TakeTimes]

    @property
    def bpm(self) -> float:
        """Counted beats a minute, the median."""
        counted = np.array([self.pace.beats_from_bar_1(place) for place in self.pace.quarters])
        return float(60.0 / np.median(np.diff(self.pace.times_s) / np.diff(counted)))

    @property
    def meter(self) -> str:
        """The meter of most of it."""
        names = [
            str(self.pace.meter_of(self.pace.bar_of(float(place) + 1e-6))) for place in self.pace.quarters
        ]
        return max(dict.fromkeys(names), key=names.count)

    def downbeats(self) -> FloatArray:
        """Take time of every bar's first beat that is a knot."""
        lines = [self.pace.bar_line(self.pace.bar_of(float(place) + 1e-6)) for place in self.pace.quarters]
        return np.asarray(self.pace.times_s[np.abs(self.pace.quarters - np.array(lines)) < 1e-6])


def readings(heard: Analysis) -> tuple[Reading, ...]:
    """The readings of an analysed take; the beats of a bundle's mic lie on its own strokes. As
    `readings_of`.
    """
    found = readings_of(heard.pulse, heard.struck, heard.beats, heard.pace)
    if heard.struck is heard.onsets:
        return found
    return tuple(
        replace(one, pace=on_strokes_of(one.pace, heard.onsets)) if one.rank > 1 else one for one in found
    )


def as_read(heard: Analysis, reading: Reading, duration_s: float) -> Analysis:
    """The analysis of a take that is counted as in `reading`: pace and steady fit are its own."""
    if reading.rank == 1:
        return heard
    beats = replace(heard.beats, times=take_times(reading.pace.times_s), counted=reading.probability)
    return replace(
        heard, beats=beats, pace=reading.pace, steady=steady_tempo(reading.pace, heard.onsets, duration_s)
    )


def alike(a: TempoMap[TakeTimes], b: TempoMap[TakeTimes]) -> bool:
    """Whether two paces have the same beats and the same bars."""
    return one_row(a.times_s, b.times_s) and one_row(
        Reading(1, 1.0, a).downbeats(), Reading(1, 1.0, b).downbeats()
    )


def readings_of(
    activations: Activations, onsets: Onsets, beats: Beats, pace: TempoMap[TakeTimes] | None
) -> tuple[Reading, ...]:
    """The likeliest readings of a take, the one that was kept first.

    beats, pace  the reading that was kept, as `take.read` gives it
    Returns      at most MOST, each at least LEAST_PROBABILITY but the first; none where there is no pulse
    """
    if pace is None or len(beats) < 4:
        return ()
    rows = [(beats, float(beats.counted))]
    rows += [
        (counted_otherwise(activations, onsets, row, sure), sure)
        for row, sure in beats.others
        if sure >= LEAST_PROBABILITY
    ]
    if len(rows) == 1 and not beats.others:
        # Nothing was compared: what is left of the probability lies on its half, double and thirds.
        levels = [row for row in other_levels(beats.rough) if len(row) >= 4]
        rows += [
            (counted_otherwise(activations, onsets, row, 0.5), (1.0 - beats.counted) / len(levels))
            for row in levels
        ]
    total = sum(sure for _, sure in rows) or 1.0
    found: list[_Way] = []
    for number, (way, sure) in enumerate(rows):
        if len(way) < 4 or (
            number > 0 and not SLOWEST_BPM <= 60.0 / float(np.median(np.diff(way.times))) <= FASTEST_BPM
        ):
            continue
        pattern = hear_pattern(activations, way.rough)
        main = in_one_unit(read_bars(pattern, trust=trust_in(activations, way)), way.rough)
        barred: list[tuple[BarReading, float]] = [(main, 0.0), *ways_to_bar(pattern, main)]
        odds = np.exp(SHARPER * np.array([min(0.0, worth) for _, worth in barred]))
        for (bars, _), share in zip(barred, odds / odds.sum(), strict=True):
            if bars is main or sure / total * share >= LEAST_PROBABILITY / 2:
                found.append(
                    _Way(
                        sure / total * float(share), way, bars, pace if number == 0 and bars is main else None
                    )
                )
    kinds: list[_Way] = []
    for one in [found[0], *sorted(found[1:], key=lambda one: -one.probability)]:
        alike = next((known for known in kinds if one.is_like(known)), None)
        if alike is not None:
            alike.probability += one.probability
        elif one.is_playable():
            kinds.append(one)
    kept = [
        kinds[0],
        *(
            one
            for one in sorted(kinds[1:], key=lambda one: -one.probability)
            if one.probability >= LEAST_PROBABILITY
        ),
    ]
    return tuple(
        Reading(rank, min(1.0, one.probability), one.pace)
        for rank, one in enumerate(kept[:MOST], 1)
        if one.pace is not None
    )


@dataclass(slots=True)
class _Way:
    """A row of beats with one way to bar it; its pace is built only where it is not one in kind with a
    likelier way.
    """

    probability: float
    beats: Beats
    bars: BarReading
    pace: TempoMap[TakeTimes] | None

    def is_like(self, other: _Way) -> bool:
        """Whether both have the same beats and the same bars."""
        return one_row(self.beats.times, other.beats.times) and one_row(self._opens(), other._opens())

    def _opens(self) -> FloatArray:
        return np.asarray(self.beats.times[[start for start in self.bars.starts if start < len(self.beats)]])

    def is_playable(self) -> bool:
        """Whether a map can hold it: none that runs faster or slower than maps go."""
        if self.pace is None:
            try:
                self.pace = own_pace(self.beats, self.bars)
            except ParameterError:
                return False
        return True
