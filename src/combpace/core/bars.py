"""Bars: which beats are downbeats, in what meter, and where bar 1 is.

For every meter and phase the beats are compared by low-band energy, change of sound and strength, and bars by their
likeness to each other; the best reading names meter and downbeats (in the spirit of Goto 2001, who reads bars from
drum patterns and chord changes).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from combpace.core.beats import Beats
from combpace.core.clocks import FloatArray, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.spectra import OnsetStrength
from combpace.core.tempomap import Knot, Meter, TempoMap

# How common each number of beats is before anything is heard (common practice).
METER_PRIOR = {4: 0.55, 3: 0.0, 5: -0.45, 7: -0.45}
# What it is worth when the first beat that can be trusted opens a bar: most music starts on a downbeat (common practice).
OPENING = 0.4
# The share of a change of harmony in the accent of a beat, in standard deviations.
HARMONY = 0.5


@dataclass(frozen=True, slots=True)
class BarReading:
    """The bars of a take.

    beats_in_bar  of the meter that was read
    phase         index, modulo beats_in_bar, of the beats that are downbeats
    first         index of the beat that opens bar 1
    confidence    0-1, how much better this reading is than the next one
    """

    beats_in_bar: int
    phase: int
    first: int
    confidence: float


@dataclass(frozen=True, slots=True)
class _Features:
    accent: FloatArray
    backbeat: FloatArray
    colour: FloatArray


def read_bars(heard: OnsetStrength, beats: Beats, meter: Meter | None = None, harmony: FloatArray | None = None) -> BarReading:
    """Find meter, downbeats and bar 1.

    meter    when given, only its number of beats is considered
    harmony  how much the harmony changes at each beat (`harmony.change_of`), shape (beats,); chords change at bar lines
    Returns  for fewer than four beats: one bar that starts at the first of them, confidence 0
    """
    wanted = [meter.beats] if meter else list(METER_PRIOR)
    if len(beats) < 4:
        return BarReading(wanted[0], 0, 0, 0.0)
    features = _features(heard, np.asarray(beats.times), harmony)
    opening = _first_trusted(beats)
    scores: dict[tuple[int, int], float] = {}
    for count in wanted:
        alike = _likeness(features.colour, count)
        for phase in range(count):
            opens = OPENING if (opening - phase) % count == 0 else 0.0
            scores[count, phase] = _phase_score(features, count, phase) + 2.0 * alike + METER_PRIOR.get(count, -0.45) + opens
    best = max(scores, key=lambda key: scores[key])
    others = [score for key, score in scores.items() if key != best]
    lead = scores[best] - max(others) if others else 1.0
    return BarReading(best[0], best[1], _first_bar(beats, *best), float(1.0 - np.exp(-max(lead, 0.0) / 0.35)))


def _features(heard: OnsetStrength, times: FloatArray, harmony: FloatArray | None) -> _Features:
    rate = heard.frame_rate_hz
    frames = len(heard.flux)
    centre = np.clip((times * rate).round().astype(int), 0, frames - 1)
    reach = round(0.03 * rate)
    window = np.clip(centre[:, None] + np.arange(-reach, reach + 1), 0, frames - 1)
    peaks = heard.flux[window].max(axis=1).astype(np.float64)
    edges = np.concatenate([centre, [min(frames - 1, centre[-1] + int(np.median(np.diff(centre))))]])
    colours = np.stack([heard.bands[a : max(b, a + 1)].mean(axis=0) for a, b in itertools.pairwise(edges)]).astype(np.float64)
    change = np.concatenate([[0.0], np.abs(np.diff(colours[:, 4:32], axis=0)).mean(axis=1)])
    accent = 0.9 * _standard(peaks[:, 0]) + 0.5 * _standard(change) + 0.25 * _standard(peaks.sum(axis=1))
    if harmony is not None:
        accent = accent + HARMONY * _standard(harmony)
    return _Features(accent, _standard(peaks[:, 1] + peaks[:, 2] - peaks[:, 0]), np.concatenate([colours, peaks * 0.15], axis=1))


def _standard(values: FloatArray) -> FloatArray:
    spread = float(values.std())
    scaled: FloatArray = np.clip((values - values.mean()) / spread, -2.5, 2.5) if spread > 1e-9 else np.zeros_like(values)
    return scaled


def _likeness(colour: FloatArray, lag: int) -> float:
    """How alike beats are one bar apart, as a correlation; 0 where the take is shorter than two bars."""
    if len(colour) < 2 * lag:
        return 0.0
    centred = colour - colour.mean(axis=0)
    norm = np.linalg.norm(centred, axis=1) + 1e-9
    return float(np.mean((centred[lag:] * centred[:-lag]).sum(axis=1) / (norm[lag:] * norm[:-lag])))


def _phase_score(features: _Features, count: int, phase: int) -> float:
    place = (np.arange(len(features.accent)) - phase) % count
    on = place == 0
    if not on.any() or on.all():
        return 0.0
    score = float(features.accent[on].mean() - features.accent[~on].mean())
    if count == 4:
        back = place % 2 == 1
        score += 0.5 * float(features.backbeat[back].mean() - features.backbeat[~back].mean())
        score += 0.25 * float(features.accent[place == 2].mean()) if (place == 2).any() else 0.0
    return score


def _first_trusted(beats: Beats) -> int:
    """Index of the first beat that is nearly as sure as a typical one: a free intro lies before it."""
    return int(np.argmax(beats.confidence >= 0.6 * float(np.median(beats.confidence))))


def _first_bar(beats: Beats, count: int, phase: int) -> int:
    """The first downbeat from which on the pulse can be trusted: a free intro before it is lead-in."""
    typical = float(np.median(beats.confidence))
    for i in range(phase, len(beats), count):
        if float(beats.confidence[i : i + count].mean()) >= 0.6 * typical:
            return i
    return phase if phase < len(beats) else 0


def own_pace(beats: Beats, bars: BarReading, meter: Meter | None = None) -> TempoMap[TakeTimes]:
    """The take's own pace: a found knot on every beat, musical time counted from bar 1.

    Raises ParameterError for fewer than two beats.
    """
    if len(beats) < 2:
        raise ParameterError("No pulse was found in this take; tap one, or state a tempo.")
    meter = meter or Meter(1, bars.beats_in_bar, 4)
    places = (np.arange(len(beats)) - bars.first) * meter.beat_quarters
    knots = tuple(
        Knot(float(time), float(place), confidence=float(sure)) for time, place, sure in zip(beats.times, places, beats.confidence, strict=True)
    )
    return TempoMap(knots, (Meter(1, meter.numerator, meter.denominator),))
