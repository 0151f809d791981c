"""What the pattern of beats says: which open bars, in what meter, and whether they are counted at the right
level.

A second, smaller network that takes a step per beat. What it sees of each beat is what was struck on it and
on its quarters and thirds, how the harmony changes, and how alike beats are that lie one to sixteen apart:
bars repeat themselves (as Foote and Uchihashi 2001 read rhythm from self-similarity). Learnt by
`bench/ear/learn_pattern.py` from the same songs.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import ndimage

from combpace.core.beats.activations import (
    FRAMES_PER_S,
    LEVELS,
    METERS,
    NOVELTY_S,
    PAIR,
    RISES,
    Activations,
    network,
    sigmoid,
    softmax,
)
from combpace.core.clocks import FloatArray
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import Float32Array

# Two networks, learnt from different songs: the mean of what they say is surer of what is right than either.
WEIGHTS, SECOND = "pattern_weights.npz", "pattern_weights_2.npz"
LAGS = (1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 12, 14, 16)
# What is struck is seen on quarters and on thirds of a beat.
PLACES = (0.0, 0.25, 0.5, 0.75, 1 / 3, 2 / 3)
PARTS, PATTERN_GROUPS = len(PLACES), 4
# Beats on either side over which likeness is averaged; at the first lags also over a few, for bars that are
# like no others.
REACH = 12
SHORT_REACH, SHORT_LAGS = 4, LAGS[1:8]
FIRST_LIKENESS = PARTS * PATTERN_GROUPS + LEVELS + 2 * len(NOVELTY_S)
# Columns of how alike beats are.
LIKENESS = slice(FIRST_LIKENESS, FIRST_LIKENESS + len(LAGS))
INPUTS = FIRST_LIKENESS + len(LAGS) + len(SHORT_LAGS) + 4 + len(METERS) + 1


@dataclass(frozen=True, slots=True)
class Pattern:
    """What the networks say of a row of beats.

    downbeat  probability that each opens a bar
    meter     probability of each of METERS, shape (beats, len(METERS))
    level     probability that each is counted at the right level: neither twice nor half as fast, nor off the
              beat
    apart     how far the networks are apart about log odds of a downbeat, 0-10, the meter, 0-1 (total
              variation), and log odds of the level, 0-10, shape (beats, 3): where they were learnt from other
              songs and say other things, neither knows such music
    """

    downbeat: Float32Array
    meter: Float32Array
    level: Float32Array
    apart: FloatArray


def log_odds(p: FloatArray, most: float = 5.0) -> FloatArray:
    """Log odds of probabilities, within bounds.

    p        0-1, any shape; most: bound on either side, nats
    Returns  the same shape
    """
    p = np.clip(p, 1e-4, 1 - 1e-4)
    result: FloatArray = np.clip(np.log(p / (1 - p)), -most, most)
    return result


def inputs_of_beats(pulse: Activations, beats: FloatArray) -> Float32Array:
    """Features of each beat, shape (beats, INPUTS); at least two increasing beats, in seconds."""
    frames = len(pulse.beat)
    gaps = np.diff(beats)
    gaps = np.append(gaps, gaps[-1])
    near, novelty, total = _prepared(pulse)
    parts = beats[:, None] + gaps[:, None] * np.array(PLACES)
    at = np.clip(np.round(parts * FRAMES_PER_S).astype(int), 0, len(near) - 1)
    struck = near[at].reshape(len(beats), PARTS, RISES)
    grouped = (
        struck.reshape(len(beats), PARTS, PATTERN_GROUPS, RISES // PATTERN_GROUPS)
        .mean(axis=3)
        .reshape(len(beats), -1)
    )
    middle = np.clip(
        np.round((beats + 0.5 * gaps) * FRAMES_PER_S / PAIR).astype(int), 0, len(pulse.inputs) - 1
    )
    first = PAIR * RISES
    levels = pulse.inputs[middle, first : first + LEVELS].astype(np.float64)
    change = novelty[np.clip(np.round(beats * FRAMES_PER_S / PAIR).astype(int), 0, len(novelty) - 1)]

    def heard(row: Float32Array, times: FloatArray, reach: int) -> FloatArray:
        index = np.clip(
            np.round(times * FRAMES_PER_S).astype(int)[:, None] + np.arange(-reach, reach + 1), 0, frames - 1
        )
        return log_odds(row[index].max(axis=1).astype(np.float64))

    seen = np.concatenate([struck.reshape(len(beats), -1), 0.5 * levels], axis=1)
    ends = np.clip(np.round((beats + gaps) * FRAMES_PER_S).astype(int), 1, frames)
    starts = np.minimum(np.clip(np.round(beats * FRAMES_PER_S).astype(int), 0, frames - 1), ends - 1)
    meter = (total[ends] - total[starts]) / (ends - starts)[:, None]
    return np.column_stack(
        [
            grouped,
            levels,
            change,
            likeness(seen),
            heard(pulse.beat, beats, 3),
            heard(pulse.beat, beats + 0.5 * gaps, 3),
            np.maximum(heard(pulse.beat, beats + gaps / 3, 3), heard(pulse.beat, beats + 2 * gaps / 3, 3)),
            heard(pulse.downbeat, beats, 4),
            meter,
            np.log2(np.maximum(gaps, 0.05) / 0.5),
        ]
    ).astype(np.float32)


@lru_cache(maxsize=1)
def _prepared(pulse: Activations) -> tuple[FloatArray, FloatArray, FloatArray]:
    """What all ways to count the same take are seen through: rises and changes of harmony with their
    neighbours, sums of the meters.
    """
    rises = pulse.inputs[:, : PAIR * RISES].reshape(-1, RISES).astype(np.float64)
    near: FloatArray = ndimage.maximum_filter1d(rises, 5, axis=0, mode="nearest")
    novelty: FloatArray = ndimage.maximum_filter1d(
        pulse.inputs[:, PAIR * RISES + LEVELS + 1 :], 5, axis=0, mode="nearest"
    )
    total: FloatArray = np.cumsum(np.concatenate([np.zeros((1, len(METERS))), pulse.meter]), axis=0)
    return near, novelty, total


def likeness(rows: FloatArray) -> FloatArray:
    """How alike beats are that lie some beats apart, about each beat, against the mean of all distances.

    Shape (beats, len(LAGS) + len(SHORT_LAGS)): each of LAGS over REACH beats on either side, then SHORT_LAGS
    over SHORT_REACH.

    rows     one a beat, shape (beats, features)
    """
    centred = rows - rows.mean(axis=0)
    unit = centred / (np.linalg.norm(centred, axis=1, keepdims=True) + 1e-6)
    count, lags = len(rows), np.array(LAGS)
    alike = np.zeros((count + 1, len(LAGS)))
    for k, lag in enumerate(LAGS):
        if lag < count:
            alike[1 : count - lag + 1, k] = np.einsum("ij,ij->i", unit[lag:], unit[:-lag])
    total = np.cumsum(alike, axis=0)
    # A pair belongs to the beat half-way between its two.
    place, pairs = np.arange(count)[:, None] - lags // 2, np.maximum(count - lags, 0)
    out = []
    for reach, first, stop in ((REACH, 0, len(LAGS)), (SHORT_REACH, 1, 1 + len(SHORT_LAGS))):
        lo, hi = (np.clip(place + edge, 0, pairs)[:, first:stop] for edge in (-reach, reach + 1))
        sums = np.take_along_axis(total[:, first:stop], hi, 0) - np.take_along_axis(
            total[:, first:stop], lo, 0
        )
        mean = np.where(hi > lo, sums / np.maximum(hi - lo, 1), 0.0)
        out.append(mean - mean.mean(axis=1, keepdims=True))
    return np.concatenate(out, axis=1)


def hear_pattern(pulse: Activations, beats: FloatArray) -> Pattern:
    """What both networks together say of a row of beats (seconds, at least two).

    beats    shape (n,), increasing
    """
    return pattern_from(inputs_of_beats(pulse, beats))


def pattern_from(inputs: Float32Array) -> Pattern:
    """What both networks together say of features that `inputs_of_beats` made.

    inputs   shape (beats, features)
    """
    one, two = (network(inputs, weights_of(name)) for name in (WEIGHTS, SECOND))
    out, last = 0.5 * (one + two), 1 + len(METERS)
    down, level = (np.abs(np.clip(one[:, k], -5, 5) - np.clip(two[:, k], -5, 5)) for k in (0, last))
    meter = 0.5 * np.abs(softmax(one[:, 1:last]) - softmax(two[:, 1:last])).sum(axis=1)
    apart = np.column_stack([down, meter, level]).astype(np.float64)
    return Pattern(sigmoid(out[:, 0]), softmax(out[:, 1:last]), sigmoid(out[:, last]), apart)


def other_levels(beats: FloatArray) -> Iterator[FloatArray]:
    """The same pulse counted otherwise: twice, half, in thirds and against thirds, in every phase.

    beats    seconds, shape (n,), increasing; of fewer than six there is no other way
    Yields   the same, each of its own length
    """
    if len(beats) < 6:
        return

    def finer(count: int) -> FloatArray:
        steps = np.arange((len(beats) - 1) * count + 1) / count
        return np.interp(steps, np.arange(len(beats)), beats)

    yield finer(2)
    for phase in range(2):
        yield beats[phase::2]
    for phase in range(3):
        yield finer(2)[phase::3]
        yield beats[phase::3]
    for phase in range(2):
        yield finer(3)[phase::2]
    yield finer(3)
    yield 0.5 * (beats[1:] + beats[:-1])
