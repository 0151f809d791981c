"""Which rises of the spectrum are attacks: features of each candidate, and a logistic model of few weights.

The weights are learnt by `bench/ear/train.py` from performances that this project synthesises itself, and lie in
`attack_weights.py`. What they weigh can be read: how strong a rise is, against what surrounds it, in which bands, how
many of them, and how much louder it is afterwards.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.attack_weights import BIAS, CENTRE, SPREAD, WEIGHTS
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.spectra import OnsetStrength, rise_of

# A rise below this (compressed log units summed over bands) is the noise of the recording.
LEAST_RISE = 0.6
GROUPS = ((0, 8), (8, 24), (24, 36), (36, 48))
NAMES = (
    "rise", "against the loudest within 2 s", "against the usual within 0.25 s", "largest band", "bands above 0.3", "bands above 0.1",
    "rise in lows", "in low middle", "in high middle", "in highs",
    "lows against the loudest", "low middle against the loudest", "high middle against the loudest", "highs against the loudest",
    "largest gain of level", "six largest gains", "mean gain", "rise just before", "against just before", "level",
)  # fmt: skip


def candidates(heard: OnsetStrength) -> IntArray:
    """Frames of local maxima of the rise, none closer than 15 ms."""
    total = heard.total.astype(np.float64)
    near = 2 * round(0.015 * heard.frame_rate_hz) + 1
    is_peak = (total >= ndimage.maximum_filter1d(total, near, mode="constant")) & (total > LEAST_RISE)
    frames = np.flatnonzero(is_peak)
    if len(frames):  # a plateau is one peak
        frames = frames[np.concatenate([[True], np.diff(frames) > 1])]
    return frames


def features(heard: OnsetStrength, frames: IntArray) -> FloatArray:
    """One row a candidate, columns as in NAMES; finite for any sound."""
    rate = heard.frame_rate_hz
    total = heard.total.astype(np.float64)
    count = len(total)

    def spread_of(seconds: float) -> int:
        return 2 * round(seconds * rate) + 1

    rise = rise_of(heard.bands)
    loudest = ndimage.maximum_filter1d(total, spread_of(2.0))
    usual = ndimage.uniform_filter1d(total, spread_of(0.25))
    groups = np.stack([rise[:, lo:hi].sum(axis=1) for lo, hi in GROUPS], axis=1).astype(np.float64)
    group_loudest = ndimage.maximum_filter1d(groups, spread_of(1.0), axis=0)
    at = np.clip(frames[:, None] + np.arange(-1, 2), 0, count - 1)
    around = rise[at].max(axis=1).astype(np.float64)
    in_groups = np.stack([around[:, lo:hi].sum(axis=1) for lo, hi in GROUPS], axis=1)
    after = heard.bands[np.clip(frames[:, None] + np.arange(0, 5), 0, count - 1)].mean(axis=1).astype(np.float64)
    before = heard.bands[np.clip(frames[:, None] + np.arange(-6, -2), 0, count - 1)].mean(axis=1).astype(np.float64)
    gain = after - before
    lag = round(0.02 * rate)
    window = round(0.10 * rate)
    running = ndimage.maximum_filter1d(total, window, origin=(window - 1) // 2, mode="constant")
    previous = running[np.clip(frames - lag, 0, count - 1)]
    here = total[frames]
    return np.column_stack(
        [
            np.log(here),
            np.log(here / np.maximum(loudest[frames], 1e-6)),
            np.log(here / (usual[frames] + 0.1)),
            around.max(axis=1),
            (around > 0.3).mean(axis=1),
            (around > 0.1).mean(axis=1),
            np.log1p(in_groups),
            np.log((in_groups + 0.05) / (group_loudest[frames] + 0.05)),
            gain.max(axis=1),
            np.sort(gain, axis=1)[:, -6:].mean(axis=1),
            gain.mean(axis=1),
            np.log1p(previous),
            np.log((here + 0.1) / (previous + 0.1)),
            np.log(heard.level[frames].astype(np.float64) + 1e-4),
        ]
    )


def probability(rows: FloatArray) -> FloatArray:
    """0-1 for each row of features: how sure it is an attack."""
    scaled = np.clip((rows - np.array(CENTRE)) / np.array(SPREAD), -5.0, 5.0)
    result: FloatArray = 1.0 / (1.0 + np.exp(-(scaled @ np.array(WEIGHTS) + BIAS)))
    return result
