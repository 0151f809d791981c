"""Which rises of the spectrum are attacks: what is seen of each candidate, and a small learnt network.

It is learnt by `bench/ear/train.py` from performances that this project synthesises itself; its weights lie
beside this module. Three things are seen: figures that can be read (NAMES: how strong a rise is, against what
surrounds it, in which bands, how much louder it is afterwards); whether there is such a rise as well a
regular distance before and after, by which a soft hat that goes on and on is told from noise; and the bands
themselves about it.
"""

from __future__ import annotations

import numpy as np
from scipy import fft, ndimage

from combpace.core.clocks import FloatArray, IntArray
from combpace.core.networks.layers import outputs
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import Float32Array, OnsetStrength, rise_of

WEIGHTS = "attack_weights.npz"
# A rise below this (compressed log units summed over bands) is the noise of the recording.
LEAST_RISE = 0.6
# Candidates lie so far apart at least.
CLOSEST_S = 0.015
# The network was learnt with these: about a rise, what is loud, what is usual, what is loud in a group of
# bands; and what came before it, from LAG_S back for PREVIOUS_S.
LOUD_S, USUAL_S, GROUP_S, LAG_S, PREVIOUS_S = 2.0, 0.25, 1.0, 0.02, 0.10
# What recurs is looked for in rises above their mean over this.
EVEN_S = 0.4
BAND_RANGES = ((0, 8), (8, 24), (24, 36), (36, 48))
NAMES = (
    "rise", "against the loudest within 2 s", "against the usual within 0.25 s", "largest band",
    "bands above 0.3", "bands above 0.1",
    "rise in lows", "in low middle", "in high middle", "in highs",
    "lows against the loudest", "low middle against the loudest", "high middle against the loudest",
    "highs against the loudest",
    "largest gain of level", "six largest gains", "mean gain", "rise just before", "against just before",
    "level",
)  # fmt: skip
# Frames of the bands that are seen before and after a candidate, and those of them that the others are seen
# against.
BACK, AHEAD, BEFORE = 8, 8, 4
# Distances at which rises recur are looked for over REGULAR_S about each STEP_S; so many of them count, in
# lows, middle and highs.
REGULAR_S, STEP_S, SHORTEST_S, LONGEST_S = 8.0, 2.0, 0.09, 1.3
DISTANCES, NEAR_FRAMES, MOST_RISE = 3, 3, 20.0
RECURRING = ((0, 10), (10, 30), (30, 48))
BATCH = 1024


def candidates(heard: OnsetStrength) -> IntArray:
    """Frames of local maxima of the rise, none closer than CLOSEST_S."""
    total = heard.total.astype(np.float64)
    near = 2 * round(CLOSEST_S * heard.frame_rate_hz) + 1
    is_peak = (total >= ndimage.maximum_filter1d(total, near, mode="constant")) & (total > LEAST_RISE)
    frames = np.flatnonzero(is_peak)
    if len(frames):  # a plateau is one peak
        frames = frames[np.concatenate([[True], np.diff(frames) > 1])]
    return frames


def probability(heard: OnsetStrength, frames: IntArray) -> FloatArray:
    """0-1 for each frame of `candidates`: how sure it is an attack.

    frames   shape (n,)
    Returns  shape (n,)
    """
    seen = np.hstack([features(heard, frames), recurrence(heard, frames)]).astype(np.float32)
    sure = np.zeros(len(frames))
    for first in range(0, len(frames), BATCH):
        part = slice(first, first + BATCH)
        logit = outputs(np.hstack([seen[part], about(heard, frames[part])]), weights_of(WEIGHTS))[:, 0]
        sure[part] = 1.0 / (1.0 + np.exp(-logit.astype(np.float64)))
    return sure


def features(heard: OnsetStrength, frames: IntArray) -> FloatArray:
    """One row a candidate, columns as in NAMES; finite for any sound.

    frames   shape (n,)
    Returns  shape (n, len(NAMES))
    """
    rate = heard.frame_rate_hz
    total = heard.total.astype(np.float64)
    count = len(total)

    def spread_of(seconds: float) -> int:
        return 2 * round(seconds * rate) + 1

    rise = rise_of(heard.bands)
    loudest = ndimage.maximum_filter1d(total, spread_of(LOUD_S))
    usual = ndimage.uniform_filter1d(total, spread_of(USUAL_S))
    groups = np.stack([rise[:, lo:hi].sum(axis=1) for lo, hi in BAND_RANGES], axis=1).astype(np.float64)
    group_loudest = ndimage.maximum_filter1d(groups, spread_of(GROUP_S), axis=0)
    at = np.clip(frames[:, None] + np.arange(-1, 2), 0, count - 1)
    around = rise[at].max(axis=1).astype(np.float64)
    in_groups = np.stack([around[:, lo:hi].sum(axis=1) for lo, hi in BAND_RANGES], axis=1)
    after = (
        heard.bands[np.clip(frames[:, None] + np.arange(0, 5), 0, count - 1)].mean(axis=1).astype(np.float64)
    )
    before = (
        heard.bands[np.clip(frames[:, None] + np.arange(-6, -2), 0, count - 1)]
        .mean(axis=1)
        .astype(np.float64)
    )
    gain = after - before
    lag = round(LAG_S * rate)
    window = round(PREVIOUS_S * rate)
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


def about(heard: OnsetStrength, frames: IntArray) -> Float32Array:
    """The bands about each frame against what they were before it, shape (frames, (BACK + 1 + AHEAD) *
    bands).
    """
    bands = heard.bands[np.clip(frames[:, None] + np.arange(-BACK, AHEAD + 1), 0, len(heard.bands) - 1)]
    rise: Float32Array = bands - bands[:, :BEFORE].mean(axis=1, keepdims=True)
    return rise.reshape(len(frames), rise.shape[1] * rise.shape[2])


def recurrence(heard: OnsetStrength, frames: IntArray) -> FloatArray:
    """How strong rises are the same distance before and after each frame (the weaker of both, log), for the
    DISTANCES that rises recur at most in the music about it; shape (frames, DISTANCES * len(RECURRING)),
    zeros where there are none.
    """
    rate, count = heard.frame_rate_hz, len(heard.bands)
    rise = rise_of(heard.bands)
    groups = np.stack(
        [np.minimum(rise[:, lo:hi].sum(axis=1), MOST_RISE) for lo, hi in RECURRING], axis=1
    ).astype(np.float64)
    groups = ndimage.maximum_filter1d(groups, 3, axis=0)
    uneven = np.sqrt(groups) - ndimage.uniform_filter1d(np.sqrt(groups), round(EVEN_S * rate), axis=0)
    nearby = ndimage.maximum_filter1d(groups, 2 * NEAR_FRAMES + 1, axis=0)
    shortest, longest = round(SHORTEST_S * rate), round(LONGEST_S * rate)
    size, step, half = (
        fft.next_fast_len(round(REGULAR_S * rate) + longest, real=True),
        round(STEP_S * rate),
        round(REGULAR_S * rate / 2),
    )
    found = np.zeros((len(frames), DISTANCES, len(RECURRING)))
    for begin in range(0, count, step):
        own = np.flatnonzero((frames >= begin) & (frames < begin + step))
        middle = begin + step // 2
        part = uneven[max(0, middle - half) : middle + half]
        if not len(own) or not part.any():
            continue
        same = fft.irfft(np.square(np.abs(fft.rfft(part, size, axis=0))).sum(axis=1), size)[: longest + 1]
        same = ndimage.uniform_filter1d(same / same[0], 3)[shortest:]
        peaks = 1 + np.flatnonzero((same[1:-1] > same[:-2]) & (same[1:-1] >= same[2:]))
        for k, distance in enumerate(shortest + peaks[np.argsort(-same[peaks], kind="stable")[:DISTANCES]]):
            sides = [np.clip(frames[own] + way, 0, count - 1) for way in (-distance, distance)]
            found[own, k] = np.log1p(np.minimum(nearby[sides[0]], nearby[sides[1]]))
    return found.reshape(len(frames), DISTANCES * len(RECURRING))
