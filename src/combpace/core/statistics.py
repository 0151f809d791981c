"""Constants of robust statistics, named once. All from memory."""

from __future__ import annotations

import numpy as np

from combpace.core.clocks import FloatArray, IntArray

# The median of absolute deviations times this is the standard deviation of normally distributed values.
SIGMA_OF_MAD = 1.4826
# Half of the 95 % interval of normally distributed values, in standard deviations.
HALF_95 = 1.96
# Tukey's biweight gives up values farther away than so many standard deviations (95 % efficiency; Holland and
# Welsch 1977).
BIWEIGHT = 4.685
# Two rows of moments are one where so many of each lie this near to one of the other, seconds (the window of
# MIREX for beats).
SHARED, NEAR_S = 0.8, 0.070


def nearest(row: FloatArray, moments: FloatArray) -> IntArray:
    """The index of the value nearest to each moment, of an increasing row that is not empty; of two as near
    the earlier. Looked for on both sides: of two hours a table of all distances would be gigabytes.
    """
    after = np.searchsorted(row, moments)
    before, behind = np.maximum(after - 1, 0), np.minimum(after, len(row) - 1)
    found: IntArray = np.where(np.abs(row[before] - moments) <= np.abs(row[behind] - moments), before, behind)
    return found


def one_row(a: FloatArray, b: FloatArray) -> bool:
    """Whether two increasing rows of moments are the same beats, or downbeats; an empty one is like none."""
    if not len(a) or not len(b):
        return False
    ours, theirs = np.abs(b[nearest(b, a)] - a), np.abs(a[nearest(a, b)] - b)
    return bool(np.mean(ours < NEAR_S) >= SHARED and np.mean(theirs < NEAR_S) >= SHARED)


def spread_about(values: FloatArray, middle: float = 0.0) -> float:
    """Robust standard deviation of values about a middle that is known; shape (n,), not empty."""
    return SIGMA_OF_MAD * float(np.median(np.abs(values - middle)))
