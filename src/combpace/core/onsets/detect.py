"""Attack starts: where they are, how strong, how sure.

Rises of the spectrum say *that* there may be an attack, and a small learnt model (`attacks.py`) which of them
are; the waveform says *when* (`starts.py`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.candidates import candidates, probability
from combpace.core.onsets.refine import StartFinder
from combpace.core.spectra import OnsetStrength

ANALYSIS_VERSION = 13
# How sure an attack must be at thresholds of 0, the usual one and 1.
USUAL_THRESHOLD, PROBABILITIES = 0.3, (0.15, 0.5, 0.97)
# Where lows or highs alone are listened to, a peak is the highest within NEAR_S on either side. It stands
# above the mean of WIDE_S by ABOVE_USUAL, and by the threshold above a share of what is loud within LOUD_S;
# that is never less than LEAST_LOUD of the loud peaks (quantile LOUDEST) of the whole take.
NEAR_S, WIDE_S, LOUD_S = 0.015, 0.25, 2.0
ABOVE_USUAL, ABOVE_LOUD, LEAST_LOUD, LOUDEST = 1.25, 0.22, 0.35, 0.98
# Below this rise (compressed log units, summed over bands) there is only noise of the recording.
LEAST_RISE = 1.2
# A peak that rises above its floor by so many times that floor is sure by 1 - 1/e.
SURE_RISE = 1.5
# Strength 1 is that of the loud peaks: this quantile.
LOUD = 0.95
# Of two too near to each other the second is marked where it is so many times as strong: else the first is
# the attack, and the second its body.
STRONGER = 1.5


@dataclass(frozen=True, slots=True)
class OnsetSettings:
    """How attacks are looked for.

    threshold  0-1; higher keeps only surer attacks (of stronger ones when listening to lows or highs)
    listen     "everything", "lows" or "highs"
    min_gap_s  shortest distance between two onsets
    """

    threshold: float = 0.3
    listen: str = "everything"
    min_gap_s: float = 0.030

    def __post_init__(self) -> None:
        if not 0.0 <= self.threshold <= 1.0:
            raise ParameterError(f"The threshold lies between 0 and 1, not at {self.threshold!r}.")
        if self.listen not in ("everything", "lows", "highs"):
            raise ParameterError(f"Listen to everything, lows or highs, not to “{self.listen}”.")
        if not 0.005 <= self.min_gap_s <= 2.0:
            raise ParameterError(
                f"The shortest gap lies between 5 ms and 2 s, not at {self.min_gap_s * 1000:.0f} ms."
            )


@dataclass(frozen=True, slots=True)
class Onsets:
    """Attack starts in order of time; three arrays of one length, strength and confidence 0-1."""

    times: TakeTimes
    strength: FloatArray
    confidence: FloatArray

    def __len__(self) -> int:
        return len(self.times)


def no_onsets() -> Onsets:
    """What silence gives."""
    return Onsets(take_times([]), np.zeros(0), np.zeros(0))


def detect_onsets(source: Source, heard: OnsetStrength, settings: OnsetSettings | None = None) -> Onsets:
    """Find attack starts.

    source    the sound, for the exact moments
    heard     its onset strength (`spectra.onset_strength`)
    settings  threshold, band, shortest gap
    Returns   strictly increasing times within the source; empty for silence or a held tone; loud steady noise
              gets marks, though nothing is struck in it
    """
    settings = settings or OnsetSettings()
    if settings.listen == "everything":
        frames = candidates(heard)
        sure = probability(heard, frames)
        kept = sure > least_probability(settings.threshold)
        peaks, height, sure = (
            frames[kept].astype(np.float64),
            heard.total[frames[kept]].astype(np.float64),
            sure[kept],
        )
    else:
        peaks, height, floor = _peaks(_listened(heard, settings.listen), heard.frame_rate_hz, settings)
        sure = 1.0 - np.exp(-np.maximum(height / np.maximum(floor, 1e-9) - 1.0, 0.0) / SURE_RISE)
    if not len(peaks):
        return no_onsets()
    times = StartFinder(source).starts(peaks / heard.frame_rate_hz)
    scale = max(float(np.quantile(height, LOUD)), 1e-9)
    loud = np.clip(height / scale, 0.0, 1.0)
    return _spaced(times, loud, np.clip(sure, 0.0, 1.0), settings.min_gap_s)


def least_probability(threshold: float) -> float:
    """How sure an attack must be for a threshold: 0.5 at the usual 0.3, 0.15 at 0, 0.97 at 1."""
    return float(np.interp(threshold, (0.0, USUAL_THRESHOLD, 1.0), PROBABILITIES))


def _listened(heard: OnsetStrength, listen: str) -> FloatArray:
    if listen == "lows":
        return np.asarray(heard.flux[:, 0], dtype=np.float64)
    if listen == "highs":
        return np.asarray(heard.flux[:, 2], dtype=np.float64)
    return np.asarray(heard.total, dtype=np.float64)


def _peaks(
    strength: FloatArray, frame_rate_hz: float, settings: OnsetSettings
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Frames of local maxima above a moving floor; their heights and the floor they rose above."""
    near = 2 * round(NEAR_S * frame_rate_hz) + 1
    wide = 2 * round(WIDE_S * frame_rate_hz) + 1
    highest = ndimage.maximum_filter1d(strength, near, mode="constant")
    typical = ndimage.uniform_filter1d(strength, wide, mode="nearest")
    # What counts as loud follows the take over some seconds, so that a soft verse keeps its attacks beside a
    # loud chorus.
    loudest = ndimage.maximum_filter1d(strength, 2 * round(LOUD_S * frame_rate_hz) + 1, mode="constant")
    whole = float(np.quantile(strength[strength > 0], LOUDEST)) if np.any(strength > 0) else 0.0
    reference = np.maximum(loudest, LEAST_LOUD * whole)
    floor = ABOVE_USUAL * typical + settings.threshold * ABOVE_LOUD * reference
    is_peak = (strength >= highest) & (strength > floor) & (strength > LEAST_RISE)
    frames = np.flatnonzero(is_peak)
    if len(frames):  # a plateau is one peak
        frames = frames[np.concatenate([[True], np.diff(frames) > 1])]
    return frames.astype(np.float64), strength[frames], np.maximum(floor[frames], LEAST_RISE)


def _spaced(times: FloatArray, strength: FloatArray, confidence: FloatArray, gap_s: float) -> Onsets:
    """Sorted, with the stronger of any two that lie closer than `gap_s`."""
    order = np.argsort(times, kind="stable")
    times, strength, confidence = times[order], strength[order], confidence[order]
    kept: list[int] = []
    for i in range(len(times)):
        if kept and times[i] - times[kept[-1]] < gap_s:
            if strength[i] > STRONGER * strength[kept[-1]] and (
                len(kept) < 2 or times[i] - times[kept[-2]] >= gap_s
            ):
                kept[-1] = i
            continue
        kept.append(i)
    return Onsets(take_times(times[kept]), strength[kept], confidence[kept])


def nearest_onset(times: TakeTimes, time_s: float, within_s: float) -> int | None:
    """Index of the onset nearest to a moment, or None where none lies within `within_s`."""
    if not len(times):
        return None
    i = int(np.argmin(np.abs(times - time_s)))
    return i if abs(float(times[i]) - time_s) <= within_s else None


__all__ = [
    "ANALYSIS_VERSION",
    "OnsetSettings",
    "Onsets",
    "Samples",
    "detect_onsets",
    "nearest_onset",
    "no_onsets",
]
