"""Bleed in a close mic: strokes that do not sound like the one instrument it stands at.

The loud strokes that no other mic of the bundle hears better show what that instrument sounds like there: how
its rise is spread over nine bands. A mic whose loud strokes differ much hears many instruments (an overhead,
a room): it has no bleed, everything in it is its own.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray
from combpace.core.onsets.detect import Onsets

# Edges of the bands in Hz, and how far below the strongest band one still counts, dB.
EDGES_HZ = (30, 80, 160, 320, 640, 1250, 2500, 5000, 10000, 20000)
FLOOR_DB = -40.0
# Frames of a picture, and how far it keeps from the attack on both sides, seconds.
WINDOW_S, BEFORE_S, AFTER_S = 0.046, 0.004, 0.001
# A loud stroke: this near to the mic's loudest; and no other mic hears it better by more.
LOUD_DB, BETTER_DB = -8.0, 3.0
# The rise of a stroke is measured over this time after it, against this time before it.
RISE_S, QUIET_S, STEP_S = 0.030, 0.012, 0.006
# Loud strokes of one instrument differ by no more than this in nine of ten cases; and so much farther from
# their middle is another one. dB.
ONE_INSTRUMENT_DB, OTHER_DB = 6.0, 11.0
# Without so many loud strokes nothing is known of an instrument.
LEAST_LOUD = 6
# In a few milliseconds bands are told apart from here on; a part of a sound is at least so long.
UPPER_HZ, SHORTEST_S = 320, 0.004
# What rises by no more than this beside loud strokes is no stroke at all here.
SILENT_DB = -60.0


def bleed_in(sources: Sequence[Source], each: Sequence[Onsets]) -> list[np.ndarray]:
    """For each mic which of its onsets are bleed, shape (n,); none for mics that hear many instruments, or
    fewer than two mics.

    sources  of one sample rate, with a common start; each: what each mic hears
    """
    none = [np.zeros(len(onsets), dtype=bool) for onsets in each]
    if len(sources) < 2:
        return none
    rises = [
        np.array([[_rise_db(source, float(time)) for source in sources] for time in onsets.times]).reshape(
            -1, len(sources)
        )
        for onsets in each
    ]
    if any(not len(rise) for rise in rises):
        return none
    loud = np.array([np.quantile(rise[:, mic], 0.95) for mic, rise in enumerate(rises)])
    found = []
    for mic, (source, onsets) in enumerate(zip(sources, each, strict=True)):
        beside = rises[mic] - loud[None, :]
        better = np.max(np.delete(beside, mic, axis=1), axis=1) - beside[:, mic]
        own = (beside[:, mic] > LOUD_DB) & (better < BETTER_DB)
        if own.sum() < LEAST_LOUD:
            found.append(none[mic])
            continue
        shapes = np.array([_shape(source, float(time)) for time in onsets.times])
        away = np.sqrt(np.mean((shapes - np.median(shapes[own], axis=0)) ** 2, axis=1))
        if float(np.quantile(away[own], 0.9)) > ONE_INSTRUMENT_DB:
            found.append(none[mic])
            continue
        found.append((away > OTHER_DB) | (beside[:, mic] < SILENT_DB))
    return found


def sounds_apart_db(source: Source, start_s: float, turn_s: float) -> float:
    """How differently a sound is spread over the upper bands before and after a moment: up to turn_s, and as
    long from there on; dB (RMS).
    """
    rate = source.sample_rate_hz
    first, turn = round(start_s * rate), round(turn_s * rate)
    before, after = (
        _spread(source, lo, hi)
        for lo, hi in ((first, turn), (turn, turn + max(turn - first, round(SHORTEST_S * rate))))
    )
    return float(np.sqrt(np.mean((before - after) ** 2)))


def _spread(source: Source, first: int, stop: int) -> FloatArray:
    """Levels of the bands that so few frames can tell apart, dB below the strongest, not below FLOOR_DB."""
    sound = source.read(first, stop).mean(axis=0)
    size = max(1024, len(sound))
    power, hz = (
        np.abs(np.fft.rfft(sound * np.hanning(len(sound)), size)) ** 2,
        np.fft.rfftfreq(size, 1 / source.sample_rate_hz),
    )
    edges = [edge for edge in EDGES_HZ if edge >= UPPER_HZ]
    bands = np.array(
        [
            10 * np.log10(float(power[(hz >= low) & (hz < high)].sum()) + 1e-15)
            for low, high in itertools.pairwise(edges)
        ]
    )
    return np.asarray(np.maximum(bands - bands.max(), FLOOR_DB))


def _rise_db(source: Source, time_s: float) -> float:
    """How much energy comes within RISE_S of a moment, less what was there before, dB."""
    rate = source.sample_rate_hz
    first = round(time_s * rate)
    before = (
        source.read(first - round((0.002 + QUIET_S) * rate), first - round(0.002 * rate))
        .mean(axis=0)
        .astype(np.float64)
    )
    after = source.read(first, first + round(RISE_S * rate)).mean(axis=0).astype(np.float64)
    step = max(1, round(STEP_S * rate))
    blocks = [
        float(np.mean(after[k : k + step] ** 2))
        for k in range(0, max(1, len(after) - step + 1), max(1, step // 2))
    ]
    return float(10 * np.log10(max(max(blocks) - float(np.mean(before**2)), 1e-14)))


def _shape(source: Source, time_s: float) -> FloatArray:
    """How the rise at a moment is spread over the bands: dB below the strongest, not below FLOOR_DB."""
    rate = source.sample_rate_hz
    size = 2 * round(0.5 * WINDOW_S * rate)
    window, at = np.hanning(size), round(time_s * rate)
    after = source.read(at - round(AFTER_S * rate), at - round(AFTER_S * rate) + size).mean(axis=0)
    before = source.read(at - round(BEFORE_S * rate) - size, at - round(BEFORE_S * rate)).mean(axis=0)
    power = np.abs(np.fft.rfft(after * window)) ** 2
    rise = np.maximum(power - np.abs(np.fft.rfft(before * window)) ** 2, 1e-12 * power.max() + 1e-15)
    hz = np.fft.rfftfreq(size, 1 / rate)
    bands = np.array(
        [
            10 * np.log10(float(rise[(hz >= low) & (hz < high)].sum()) + 1e-15)
            for low, high in itertools.pairwise(EDGES_HZ)
        ]
    )
    return np.asarray(np.maximum(bands - bands.max(), FLOOR_DB))
