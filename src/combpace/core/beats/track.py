"""Beats: the pulse under the attacks, followed through a whole take and laid on the attacks that carry it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from combpace.core.beats.activations import Activations
from combpace.core.beats.candidates import (
    SURE,
    Chosen,
    TempoSpan,
    best_of,
    heard_at,
    offered_readings,
    sure_of,
    sure_of_clicks,
)
from combpace.core.beats.decoder import Weights
from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.onsets.detect import Onsets

# A moment that the user states to be a beat is one of a click train's this near to it.
CLICKED_S = 0.02
# A beat that nothing carries lies on the course of so many on either side; others that nothing carries count
# so much in it.
COURSE, UNCARRIED = 6, 0.1
# Log odds from which a first or last beat counts though nothing is struck on it.
HEARD = 0.5
# How much less than usual four beats must be heard for them to be free playing before or after the pulse.
FREE = 1.5
LONGEST_ENDING = 0.2
# Two beats nearer than this are one.
SAME_S = 0.001
# How far a beat goes to an attack, in beats.
REACH = 0.2
# An attack is worth its strength and this, so that the softest one counts too.
SOFTEST = 0.05
# An earlier attack is taken before the best one where it is worth this share of it.
DOMINANT = 0.6
# How much any attack carries a beat, beside its strength.
STRUCK = 0.35
# Beats nearer to each other than the first are put apart by the second. Seconds.
LEAST_APART_S, PUT_APART_S = 0.02, 0.03
# The last beat has none after it: as if one came after so long.
USUAL_S = 0.4


@dataclass(frozen=True, slots=True)
class Beats:
    """Beats in order of time.

    times       take time, strictly increasing
    confidence  0-1, how sure each is
    rough       where the pulse put each of them before it was laid on its attack, seconds
    carried     0-1, how much of an attack carries each
    counted     0-1, how sure it is that the take is counted in this way at all
    shared      0-1, how much speaks for ways to count that have each beat: what is only in one of several
                likely ones is doubtful
    others      (rough row, 0-1) of other ways to count, the likeliest first
    """

    times: TakeTimes
    confidence: FloatArray = field(default_factory=lambda: np.zeros(0))
    rough: FloatArray = field(default_factory=lambda: np.zeros(0))
    carried: FloatArray = field(default_factory=lambda: np.zeros(0))
    counted: float = SURE
    shared: FloatArray = field(default_factory=lambda: np.zeros(0))
    others: tuple[tuple[FloatArray, float], ...] = ()

    def __len__(self) -> int:
        return len(self.times)


def no_beats() -> Beats:
    """What silence gives."""
    return Beats(take_times([]))


def _struck_ends(pulse: Activations, rough: FloatArray, carried: FloatArray) -> tuple[int, int]:
    """First and last beat that is struck or well heard: a pulse neither begins nor ends in silence."""
    real = np.flatnonzero((carried > 0) | (heard_at(pulse, rough) > HEARD))
    return (int(real[0]), int(real[-1])) if len(real) else (0, len(rough) - 1)


def _without_free_ends(pulse: Activations, rough: FloatArray) -> FloatArray:
    """Without beats at either end that are heard much less than those between: a free intro or ending was
    counted through.
    """
    if len(rough) < 12:
        return rough
    heard = heard_at(pulse, rough)
    least = float(np.median(heard)) - FREE
    four = np.convolve(heard, np.ones(4) / 4, "valid")
    good = np.flatnonzero(four >= least)
    if not len(good):
        return rough
    last = good[-1] + 4
    # A long end that is heard badly is music that the network does not know.
    return rough[good[0] : last if last > (1 - LONGEST_ENDING) * len(rough) else len(rough)]


def track_beats(
    pulse: Activations,
    onsets: Onsets,
    tempi: Sequence[TempoSpan] = (),
    held: Sequence[float] = (),
    weights: Weights | None = None,
    train: FloatArray | None = None,
) -> Beats:
    """Follow the pulse through a take.

    pulse    what the network heard
    onsets   attack starts; beats are laid on them
    tempi    what may be read, where the user says so
    held     moments that are beats, exactly
    train    the clicks of a take that holds nothing else: they are its beats, but where the user states a
             tempo or other beats
    Returns  strictly increasing beats, none with fewer than three attacks; `confidence` is only what carries
             them
    """
    if len(onsets) < 3 and not len(held):
        return no_beats()
    exact = np.unique(np.asarray(held, np.float64))
    weights = weights or Weights()
    stated = bool(tempi) or any(
        np.abs(train - time).min() >= CLICKED_S for time in exact if train is not None
    )
    if train is not None and not stated:
        chosen = sure_of(train, sure_of_clicks(train))
        rough = train
    else:
        chosen = best_of(pulse, offered_readings(pulse, tempi, exact, weights))
        rough = chosen.row if len(exact) else _without_free_ends(pulse, chosen.row)
    return laid(pulse, onsets, rough, exact, chosen)


def laid(pulse: Activations, onsets: Onsets, rough: FloatArray, exact: FloatArray, chosen: Chosen) -> Beats:
    """A row of beats on the attacks that carry them, without what is not struck at either end; `exact`
    moments are beats as they stand.

    rough    seconds, shape (n,), increasing; exact: shape (k,)
    """
    if len(rough) < 2:
        return no_beats()
    times, carried = lay_on_onsets(rough, onsets)
    for time in exact:
        nearest = int(np.argmin(np.abs(rough - time)))
        times[nearest], carried[nearest] = time, 1.0
    good = np.concatenate([[True], np.diff(times) > SAME_S]) | np.isin(times, exact)
    first, last = _struck_ends(pulse, rough, carried)
    good[:first], good[last + 1 :] = False, False
    times, carried, rough = times[good], carried[good], rough[good]
    shared = chosen.shared[np.searchsorted(chosen.row, rough)]
    return Beats(take_times(times), carried, rough, carried, chosen.counted, shared, chosen.others)


def counted_otherwise(pulse: Activations, onsets: Onsets, row: FloatArray, sure: float) -> Beats:
    """The beats of another way to count a take, so sure that it is the right one.

    row      seconds, shape (n,), increasing; sure: 0-1
    """
    return laid(pulse, onsets, _without_free_ends(pulse, row), np.zeros(0), sure_of(row, sure))


def lay_on_onsets(rough: FloatArray, onsets: Onsets, reach_s: float = 0.045) -> tuple[FloatArray, FloatArray]:
    """Move beats onto the attacks that carry them.

    A beat goes to the dominant early attack within reach: of those at least 0.6 times as strong (nearness
    counted) as the best one, the first. Beats without an attack ride on the course of those about them.
    Returns  (times, how much each is carried, 0-1)
    rough    seconds, shape (n,), increasing; both results have its shape
    """
    times = rough.copy()
    carried = np.zeros(len(rough))
    at, strength = np.asarray(onsets.times), onsets.strength
    for i, time in enumerate(rough):
        gap = min(
            rough[i] - rough[i - 1] if i else np.inf,
            rough[i + 1] - rough[i] if i + 1 < len(rough) else np.inf,
        )
        reach = min(reach_s, REACH * gap)
        lo, hi = np.searchsorted(at, (time - reach, time + reach))
        if hi <= lo:
            continue
        worth = (strength[lo:hi] + SOFTEST) * np.exp(-0.5 * ((at[lo:hi] - time) / (0.5 * reach)) ** 2)
        best = lo + int(np.flatnonzero(worth >= DOMINANT * worth.max())[0])
        times[i], carried[i] = at[best], min(1.0, STRUCK + float(strength[best]))
    held = np.flatnonzero(carried > 0)
    if len(held) >= 2:
        shift = times - rough
        free = np.flatnonzero(carried == 0)
        times[free] += np.interp(free, held, shift[held])
        times[free] = [_on_course(times, carried, int(k)) for k in free]
    return _increasing(times), carried


def _on_course(times: FloatArray, carried: FloatArray, k: int) -> float:
    """Where the beats about one that nothing carries have it: a parabola through them, those counting little
    that nothing carries either.

    What the pulse says of it lies on frames of 10 ms; musicians and machines move more evenly than that.
    """
    first, last = max(0, k - COURSE), min(len(times), k + COURSE + 1)
    away = np.arange(first, last) - k
    weight = (
        np.where(carried[first:last] > 0, 1.0, UNCARRIED) * (1 - (np.abs(away) / (COURSE + 1.0)) ** 3) ** 3
    )
    degree = min(2, len(away) - 2)
    if degree < 1:
        return float(times[k])
    return float(np.polyfit(away, times[first:last], degree, w=np.sqrt(weight))[-1])


def _increasing(times: FloatArray) -> FloatArray:
    """Two beats never share a moment: a later one that would is put a quarter of the way to the next."""
    for i in range(1, len(times)):
        if times[i] <= times[i - 1] + LEAST_APART_S:
            following = times[i + 1] if i + 1 < len(times) else times[i - 1] + USUAL_S
            times[i] = times[i - 1] + max(PUT_APART_S, 0.25 * (following - times[i - 1]))
    return times
