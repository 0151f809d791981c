"""The marks of a bundle as one: its mics move along one time map, by the strokes of all of them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from combpace.core.clocks import take_times
from combpace.core.onsets.detect import Onsets, no_onsets

# Marks of several mics this near together are one stroke, or strokes that were played as one.
ONE_S = 0.025


def union(each: Sequence[Onsets], order: Sequence[int] | None = None) -> tuple[Onsets, np.ndarray]:
    """Marks of several mics on one clock, those that coincide as one.

    each     of each mic
    order    whose mark counts first, indices into `each`; without it those that are struck most clearly first
             (`clearest_first`)
    Returns  (marks, index of the mic whose mark it is): of marks within ONE_S the earliest of the first mic
             in the order that was struck there; the others keep their distance to it, for one time map moves
             them all
    """
    if not each:
        return no_onsets(), np.zeros(0, dtype=int)
    rank = {mic: k for k, mic in enumerate(order if order is not None else clearest_first(each))}
    rows = sorted(
        (float(time), mic, float(strength), float(sure))
        for mic, onsets in enumerate(each)
        for time, strength, sure in zip(onsets.times, onsets.strength, onsets.confidence, strict=True)
    )
    kept: list[tuple[float, int, float, float]] = []
    at = 0
    while at < len(rows):
        stop = at
        while stop < len(rows) and rows[stop][0] - rows[at][0] <= ONE_S:
            stop += 1
        group = rows[at:stop]
        first = min(group, key=lambda row: (rank[row[1]], row[0]))
        kept.append((first[0], first[1], max(row[2] for row in group), max(row[3] for row in group)))
        at = stop
    kept.sort()
    times, mics, strength, sure = (
        (np.array(column) for column in zip(*kept, strict=True)) if kept else (np.zeros(0),) * 4
    )
    return Onsets(take_times(times), strength, sure), np.asarray(mics, dtype=int)


def nearest_marks(times_s: Sequence[float], marks: Onsets, within_s: float = np.inf) -> list[int | None]:
    """Of each moment the index of the mark nearest to it; None where none lies within `within_s`."""
    at = np.asarray(marks.times)
    if not len(at):
        return [None] * len(times_s)
    found = [int(np.argmin(np.abs(at - time))) for time in times_s]
    return [k if abs(at[k] - time) <= within_s else None for k, time in zip(found, times_s, strict=True)]


def clearest_first(each: Sequence[Onsets]) -> list[int]:
    """The mics in the order in which their strokes stand out: by the typical strength of what each marks."""
    clear = [float(np.median(onsets.strength)) if len(onsets) else 0.0 for onsets in each]
    return sorted(range(len(each)), key=lambda mic: (-clear[mic], mic))
