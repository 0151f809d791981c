"""Constants of robust statistics, named once. All from memory."""

from __future__ import annotations

import numpy as np

from combpace.core.clocks import FloatArray

# The median of absolute deviations times this is the standard deviation of normally distributed values.
SIGMA_OF_MAD = 1.4826
# Half of the 95 % interval of normally distributed values, in standard deviations.
HALF_95 = 1.96
# Tukey's biweight gives up values farther away than so many standard deviations (95 % efficiency; Holland and
# Welsch 1977).
BIWEIGHT = 4.685


def spread_about(values: FloatArray, middle: float = 0.0) -> float:
    """Robust standard deviation of values about a middle that is known; shape (n,), not empty."""
    return SIGMA_OF_MAD * float(np.median(np.abs(values - middle)))
