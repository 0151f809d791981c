"""The pulse through attacks alone, for music that the network does not know.

A hidden Markov model over (beat period, position in the beat), decoded by the Viterbi algorithm; periods
change only at beats (Krebs, Böck, Widmer 2015, "An efficient state-space model for joint tempo and meter
tracking"). What is observed is how strong attacks are, weighed by where in the beat they fall: half-way is
common, a quarter or a third is not.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.beats.activations import FRAMES_PER_S, PAIR, RISES, Activations
from combpace.core.clocks import FloatArray
from combpace.core.spectra import OnsetStrength

# 50 to 214 BPM, in frames; where a beat is long, single frames do not matter.
PERIODS = np.concatenate([np.arange(28, 60), np.arange(60, 121, 2)])
# What a unit of attack is worth on the beat, half-way, at thirds, at quarters and elsewhere; found by hand on
# a plateau.
ON, HALF, THIRD, QUARTER, OFF = 1.0, 0.20, -0.05, -0.12, -0.30
BEAT_COST, STIFFNESS = 0.55, 90.0
PRIOR, CENTRE_BPM, SPREAD_OCTAVES = 1.4, 108.0, 0.55
# Lows before highs: in the rises of the network's inputs, and in low, middle and high flux.
BAND_WEIGHTS = (1.6, 1.6, 1.0, 1.0, 1.0, 1.0, 0.8, 0.8)
FLUX_WEIGHTS = (1.6, 1.0, 0.8)
# A rise is what lies above the mean about it.
ABOUT_S = 0.3
# Loud is the mean over USUAL_S of what is highest within a second, but never less than LEAST_LOUD of the loud
# places (quantile LOUD); no attack counts for more than MOST times that.
USUAL_S, LEAST_LOUD, LOUD, MOST = 4.0, 0.35, 0.95, 1.5
# What is a strong attack; and how much of one counts a frame before and after it.
STRONG, BESIDE = 0.3, 0.7
# How near to the beat, and to a part of it, an attack is that one's (standard deviations).
BEAT_S, PART_S = 0.018, 0.022
# Scores are brought back to zero so often, in frames.
SETTLED_FRAMES = 1000


def attacks_of(pulse: Activations) -> FloatArray:
    """How strong an attack is at each frame, levelled over some seconds so that a typical strong one is 1.

    Returns  shape (frames,), 0 and more
    """
    rises = pulse.inputs[:, : PAIR * RISES].reshape(-1, RISES).astype(np.float64) ** 2
    total = (rises * np.array(BAND_WEIGHTS)).mean(axis=1)
    return _levelled(_above_usual(total, FRAMES_PER_S))


def activation(heard: OnsetStrength) -> FloatArray:
    """The same of onset strength, for pictures; shape (ceil(duration * FRAMES_PER_S),)."""
    total = _above_usual(heard.flux.astype(np.float64) @ np.array(FLUX_WEIGHTS), heard.frame_rate_hz)
    count = max(1, int(np.ceil(len(total) / heard.frame_rate_hz * FRAMES_PER_S)))
    place = np.minimum(
        (np.arange(len(total)) / heard.frame_rate_hz * FRAMES_PER_S + 0.5).astype(int), count - 1
    )
    pooled = np.zeros(count)
    np.maximum.at(pooled, place, total)
    return _levelled(pooled)


def _above_usual(total: FloatArray, rate_hz: float) -> FloatArray:
    """What rises above the mean of the ABOUT_S about it."""
    result: FloatArray = np.maximum(
        total - ndimage.uniform_filter1d(total, round(ABOUT_S * rate_hz), mode="nearest"), 0.0
    )
    return result


def _levelled(total: FloatArray) -> FloatArray:
    """Strength at FRAMES_PER_S over a level that follows the take over some seconds, but never below a third
    of its loud places.
    """
    if not total.any():
        return total
    loud = ndimage.uniform_filter1d(
        ndimage.maximum_filter1d(total, round(FRAMES_PER_S)), round(USUAL_S * FRAMES_PER_S), mode="nearest"
    )
    reference = np.maximum(loud, LEAST_LOUD * float(np.quantile(total[total > 0], LOUD)))
    levelled: FloatArray = np.minimum(total / reference, MOST)
    return levelled


def attack_pulse(attacks: FloatArray) -> FloatArray:
    """Frames of beats: the best path through (period, position); empty where there is no attack.

    attacks  shape (frames,), as `attacks_of` gives them
    Returns  shape (beats,), increasing
    """
    if not attacks.any():
        return np.zeros(0)
    starts = np.concatenate([[0], np.cumsum(PERIODS)[:-1]])
    ends = starts + PERIODS - 1
    phase = np.concatenate([np.arange(period) / period for period in PERIODS])
    weight = _weights(phase, np.repeat(PERIODS, PERIODS)).astype(np.float32)
    octaves = np.log2(60.0 * FRAMES_PER_S / PERIODS / CENTRE_BPM)
    prior = -PRIOR * 0.5 * (octaves / SPREAD_OCTAVES) ** 2
    transition = (-STIFFNESS * np.abs(np.log(PERIODS[:, None] / PERIODS[None, :]))).astype(np.float32)
    strong = attacks[attacks > STRONG]
    # Paid at every beat in proportion to its length, so that half and double compete fairly.
    toll = (
        prior * (PERIODS / FRAMES_PER_S) - BEAT_COST * (float(np.median(strong)) if len(strong) else 1.0)
    ).astype(np.float32)
    smooth = np.maximum.reduce([attacks, BESIDE * np.roll(attacks, 1), BESIDE * np.roll(attacks, -1)]).astype(
        np.float32
    )
    score = np.repeat(prior, PERIODS).astype(np.float32)
    came_from = np.zeros((len(attacks), len(PERIODS)), np.uint8)
    rows = np.arange(len(PERIODS))
    for t in range(len(attacks)):
        into = transition + score[ends][None, :]
        best = np.argmax(into, axis=1)
        came_from[t] = best
        opened = into[rows, best] + toll
        score[1:] = score[:-1]
        score[starts] = opened
        if smooth[t] > 0:
            score += smooth[t] * weight
        if (t + 1) % SETTLED_FRAMES == 0:
            # Only differences count; without this, hours would run out of digits.
            score -= score.max()
    state = int(np.argmax(score))
    period = int(np.searchsorted(starts, state, "right") - 1)
    position = state - int(starts[period])
    t = len(attacks) - 1
    beats: list[int] = []
    while t >= 0:
        t -= position
        if t < 0:
            break
        beats.append(t)
        period = int(came_from[t, period])
        position = int(PERIODS[period])
    return np.array(beats[::-1], dtype=np.float64)


def _weights(phase: FloatArray, period: FloatArray) -> FloatArray:
    """What a unit of attack is worth at each state, by its place in the beat."""
    seconds = period / FRAMES_PER_S

    def near(place: float, reach_s: float) -> FloatArray:
        distance = np.abs((phase - place + 0.5) % 1.0 - 0.5) * seconds
        bell: FloatArray = np.exp(-0.5 * (distance / reach_s) ** 2)
        return bell

    weight = np.full(len(phase), OFF)
    for place, value in ((0.5, HALF), (1 / 3, THIRD), (2 / 3, THIRD), (0.25, QUARTER), (0.75, QUARTER)):
        weight = np.maximum(weight, OFF + (value - OFF) * near(place, PART_S))
    on = near(0.0, BEAT_S)
    result: FloatArray = weight * (1 - on) + ON * on
    return result
