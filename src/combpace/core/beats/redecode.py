"""Beats solved again about what the user states, without following the whole take anew.

A pulse that is known is kept where it agrees with what is stated; where it does not, it is followed again
between the beats about the place, which then are held. A statement far from all others therefore changes
nothing far from it, and costs what a few seconds cost.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from combpace.core.beats.activations import FRAMES_PER_S
from combpace.core.beats.decoder import LONGEST, SHORTEST, Weights, follow, joined
from combpace.core.clocks import FloatArray

# How far a beat may lie from a moment that is stated and be moved there, as a share of its gap and in
# seconds.
NEAR, NEAR_S = 0.2, 0.045
# Beats on either side of a disagreement that are followed again.
ABOUT = 6
Gaps = tuple[float, float, float, float]


def solved_again(
    odds: FloatArray, row: FloatArray, held: FloatArray, tempi: Sequence[Gaps], weights: Weights
) -> FloatArray | None:
    """A row of beats that agrees with what is stated.

    odds    log odds of a beat at each frame of FRAMES_PER_S
    row     beats as they are known, frames, increasing
    held    frames that are beats
    tempi   (from frame, to frame, shortest gap, longest gap), as `following.follow` takes them
    Returns frames; None where so much disagrees that the take is to be followed as a whole
    """
    if len(row) < 2 * ABOUT:
        return None
    row = row.copy()
    gaps = np.diff(row)
    wrong: list[tuple[float, float]] = []
    for time in held:
        nearest = int(np.argmin(np.abs(row - time)))
        gap = float(gaps[min(nearest, len(gaps) - 1)])
        if abs(row[nearest] - time) <= min(NEAR * gap, NEAR_S * FRAMES_PER_S):
            row[nearest] = time
        else:
            wrong.append((time - ABOUT * gap, time + ABOUT * gap))
    for start, stop, low, high in tempi:
        inside = (row[1:] >= start) & (row[1:] <= stop)
        if np.any(inside & ((gaps < low) | (gaps > high))):
            wrong.append((start - ABOUT * low, min(stop, float(row[-1])) + ABOUT * low))
    spans = _merged(wrong)
    if sum(b - a for a, b in spans) > 0.5 * (row[-1] - row[0]):
        return None
    for start, stop in reversed(spans):
        before, after = int(np.searchsorted(row, start)) - 1, int(np.searchsorted(row, stop))
        edges = [row[before]] if before >= 0 else []
        edges += [row[after]] if after < len(row) else []
        first = int(row[before]) if before >= 0 else 0
        last = int(row[after]) + 1 if after < len(row) else len(odds)
        fixed = np.array([*edges, *(t for t in held if first < t < last - 1)]) - first
        asked = [(a - first, b - first, low, high) for a, b, low, high in tempi]
        usual = float(np.median(gaps[max(before - ABOUT, 0) : after + ABOUT]))
        # Half to double what is usual there, and whatever the user states.
        low = max(min([0.45 * usual, *(t[2] for t in tempi)]), SHORTEST)
        high = min(max([2.2 * usual, *(t[3] for t in tempi)]), LONGEST)
        runs = follow(odds[first:last], weights, asked, fixed, (low, high))
        if not runs:
            return None
        row = np.concatenate([row[: max(before, 0)], joined(runs) + first, row[after + 1 :]])
        row = row[np.append(True, np.diff(row) > 0)]
    return row


def _merged(spans: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Spans in order, those that touch as one."""
    out: list[tuple[float, float]] = []
    for start, stop in sorted(spans):
        if out and start <= out[-1][1]:
            out[-1] = (out[-1][0], max(out[-1][1], stop))
        else:
            out.append((start, stop))
    return out
