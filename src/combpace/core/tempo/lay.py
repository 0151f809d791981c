"""Laying beats on the attacks near their expected times, by dynamic programming."""

from __future__ import annotations

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.onsets.detect import Onsets

# How far a beat reaches for an attack, in beats: a triplet beside it would be a third away.
REACH = 0.18
# What any attack is worth beside its strength, and what it costs at the end of that reach.
STRUCK, AWAY = 0.35, 2.0
# How uneven two neighbouring beats may be before it costs 1, in beats.
UNEVEN = 0.06
# Beats never come nearer to each other than this share of their expected gap, nor to what is exact than this.
LEAST_GAP, LEAST_GAP_S = 0.2, 0.010
# What cannot be is dearer than anything else.
NEVER = 1e9


def lay_beats(
    expected: FloatArray, attacks: Onsets, ends: tuple[float | None, float | None], period_s: float
) -> FloatArray:
    """Lay beats on attacks near their expected times.

    expected  shape (n,), seconds, increasing
    ends      moments before the first and after the last beat that are exact, or None
    Returns   shape (n,), strictly increasing; a beat with no fitting attack keeps its expected time
    """
    n = len(expected)
    if not n:
        return expected
    reach = REACH * period_s
    at, strength = np.asarray(attacks.times), np.asarray(attacks.strength)
    choices: list[FloatArray] = []
    worths: list[FloatArray] = []
    lows, highs = np.searchsorted(at, expected - reach), np.searchsorted(at, expected + reach)
    for time, lo, hi in zip(expected, lows, highs, strict=True):
        times = np.concatenate([[time], at[lo:hi]])
        gain = np.concatenate([[0.0], STRUCK + strength[lo:hi]]) - AWAY * ((times - time) / reach) ** 2
        choices.append(times)
        worths.append(gain)
    stiff = 1.0 / (UNEVEN * period_s) ** 2
    gaps = np.diff(expected)

    def step(index: int) -> FloatArray:
        """Cost of every pair of choices of two neighbouring beats, shape (choices, choices)."""
        gap = choices[index][None, :] - choices[index - 1][:, None]
        cost: FloatArray = stiff * (gap - gaps[index - 1]) ** 2 + np.where(
            gap <= LEAST_GAP * gaps[index - 1], NEVER, 0.0
        )
        return cost

    score = worths[0].copy()
    if ends[0] is not None:
        score -= np.where(choices[0] - ends[0] <= LEAST_GAP_S, NEVER, stiff * (choices[0] - expected[0]) ** 2)
    back: list[np.ndarray] = []
    for i in range(1, n):
        total = score[:, None] - step(i)
        best = np.argmax(total, axis=0)
        back.append(best)
        score = total[best, np.arange(len(choices[i]))] + worths[i]
    if ends[1] is not None:
        score -= np.where(
            ends[1] - choices[-1] <= LEAST_GAP_S, NEVER, stiff * (choices[-1] - expected[-1]) ** 2
        )
    pick = int(np.argmax(score))
    result = np.empty(n)
    for i in range(n - 1, -1, -1):
        result[i] = choices[i][pick]
        if i:
            pick = int(back[i - 1][pick])
    return result
