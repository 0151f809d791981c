"""Why a mark may be no attack: what the sound does at it, in a word."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray

# What is looked at before and after a mark, and how long a level is taken over. Seconds.
BEFORE_S, AFTER_S, LEVEL_S = 0.060, 0.070, 0.010
# Pitches are compared over stretches that keep clear of the mark, where a new note is still noise.
PITCH_S, CLEAR_S = 0.050, 0.012
# Less than this is no rise; a rise that takes longer than this is a slow one.
NO_RISE_DB, FALLS_DB, SLOW_S = 3.0, -1.0, 0.025
# A stretch has a pitch where it is so much like itself one period later; pitches this far apart are two.
# Semitones.
PITCHED, OTHER_PITCH = 0.75, 0.6
LOWEST_HZ, HIGHEST_HZ = 60.0, 1200.0


@dataclass(frozen=True, slots=True)
class Doubt:
    """What was found at a mark.

    kind     "decay": it gets softer there; "legato": the pitch changes and the level hardly rises (a slide, a
             bound note); "level": it hardly gets louder; "slow": it rises, slowly; "soft": it rises at once,
             but by little beside others
    rise_db  how much louder the loudest 10 ms after it are than the 10 ms before it
    """

    kind: str
    rise_db: float


def doubt(source: Source, time_s: float) -> Doubt:
    """Look at a mark. `time_s` is on the source's clock; beyond its ends is silence."""
    rate = source.sample_rate_hz
    at, before, after = round(time_s * rate), round(BEFORE_S * rate), round(AFTER_S * rate)
    sound = source.read(at - before, at + after).mean(axis=0).astype(np.float64)
    step = max(1, round(LEVEL_S * rate))
    levels = _levels(sound[before:], step)
    stood = float(_levels(sound[before - step : before], step)[0])
    rise = float(levels.max()) - stood
    if rise < NO_RISE_DB:
        two = [
            _pitch(part, rate)
            for part in (
                sound[: round(PITCH_S * rate)],
                sound[before + round(CLEAR_S * rate) :][: round(PITCH_S * rate)],
            )
        ]
        if two[0] and two[1] and abs(12 * np.log2(two[1] / two[0])) > OTHER_PITCH:
            return Doubt("legato", rise)
        return Doubt(
            "decay" if float(levels[len(levels) // 3 :].mean()) - stood < FALLS_DB else "level", rise
        )
    half = step // 2
    fine = _levels(sound[before:], max(1, half))
    slow = int(np.argmax(fine >= fine.max() - NO_RISE_DB)) * half / rate > SLOW_S
    return Doubt("slow" if slow else "soft", rise)


def _levels(sound: FloatArray, step: int) -> FloatArray:
    """Level of one stretch of `step` frames after another, dB; shape (n,), at least one."""
    count = max(1, len(sound) // step)
    power = [float(np.mean(sound[k * step : (k + 1) * step] ** 2)) for k in range(count)]
    return np.asarray(10 * np.log10(np.maximum(power, 1e-12)))


def _pitch(sound: FloatArray, rate: int) -> float | None:
    """The pitch of a stretch by its autocorrelation, Hz; None where it has none."""
    sound = sound - sound.mean()
    shortest, longest = int(rate / HIGHEST_HZ), min(int(rate / LOWEST_HZ), len(sound) // 2)
    if longest <= shortest or not np.any(np.abs(sound) > 1e-5):
        return None
    size = len(sound) - longest
    alike = np.empty(longest - shortest)
    for k, lag in enumerate(range(shortest, longest)):
        a, b = sound[:size], sound[lag : lag + size]
        alike[k] = float(a @ b) / np.sqrt(max(float(a @ a) * float(b @ b), 1e-20))
    # The first lag that is nearly as good as the best: a period, not two of them.
    good = np.flatnonzero(alike >= max(PITCHED, 0.95 * float(alike.max())))
    if not len(good):
        return None
    first = int(good[0])
    while first + 1 < len(alike) and alike[first + 1] >= alike[first]:
        first += 1
    return rate / (shortest + first)
