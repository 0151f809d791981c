"""A bundle heard as one: several mics of one performance share beats, bars and tempo; each keeps the attacks that are its own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from combpace.core.analysis import Analysis, Hints, analyse, read
from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets import Onsets, OnsetSettings, detect_onsets
from combpace.core.pulse import hear_pulse
from combpace.core.spectra import OnsetStrength, onset_strength
from combpace.core.starts import StartFinder

# Sound takes 3 ms for a metre: what arrives later than this after another mic is another stroke.
ARRIVAL_S = 0.015
# A mic is nearest to what it hears first, or nearly first, and at least this much louder against its own loud strokes than others do.
NEARLY_S, LOUDER_DB = 0.001, 6.0
# A stroke is at its loudest within this time.
STROKE_S = 0.030


class Together:
    """Mics mixed to one channel, each as loud as the others; all start together, the longest ends it."""

    def __init__(self, sources: Sequence[Source]) -> None:
        if not sources:
            raise ParameterError("A bundle needs at least one file.")
        rates = {source.sample_rate_hz for source in sources}
        if len(rates) > 1:
            raise ParameterError(
                f"The mics of a bundle have one sample rate, not {', '.join(f'{rate} Hz' for rate in sorted(rates))}. Nothing was changed."
            )
        self._sources = tuple(sources)
        self.sample_rate_hz = sources[0].sample_rate_hz
        self.channels = 1
        self.frames = max(source.frames for source in sources)
        self._gains = [1.0 / max(_loudness(source), 1e-6) for source in sources]

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), shape (1, stop - start); zeros wherever there is no sound."""
        out = np.zeros((1, max(0, stop - start)), np.float32)
        for source, gain in zip(self._sources, self._gains, strict=True):
            out[0] += np.float32(0.25 * gain / len(self._sources)) * source.read(start, stop).mean(axis=0)
        return out


def _loudness(source: Source) -> float:
    """RMS of the louder tenths of seconds."""
    size = max(1, source.sample_rate_hz // 10)
    levels = [float(np.sqrt(np.mean(np.square(source.read(at, at + size), dtype=np.float64)))) for at in range(0, source.frames, 5 * size)]
    return float(np.quantile(levels, 0.9)) if levels else 0.0


def analyse_bundle(
    sources: Sequence[Source],
    hints: Hints | None = None,
    onset_settings: OnsetSettings | None = None,
    on_progress: Callable[[str, float], None] | None = None,
) -> list[Analysis]:
    """Listen to the mics of one performance.

    sources  of one sample rate, with a common start
    Returns  one analysis for each: beats, pace and steady fit are the same for all, read from the mics together; onsets are
             those of its own mic without bleed. Raises as `analyse`, and ParameterError for differing rates
    """
    whole = Together(sources)
    if len(sources) == 1:
        return [analyse(sources[0], hints, onset_settings, on_progress)]
    tell = on_progress or (lambda phase, share: None)
    heard = onset_strength(whole, lambda share: tell("listening to the bundle", share))
    onsets = detect_onsets(whole, heard, onset_settings)
    tell("following the pulse", 0.0)
    pulse = hear_pulse(whole, heard)
    beats, pace, steady, sure = read(pulse, onsets, hints or Hints(), whole.frames / whole.sample_rate_hz)
    each, strengths = [], []
    for number, source in enumerate(sources):
        strengths.append(onset_strength(source))
        each.append(detect_onsets(source, strengths[-1], onset_settings))
        tell("placing attacks", (number + 1) / len(sources))
    own = without_bleed(each, [levels_of(found, strength) for found, strength in zip(each, strengths, strict=True)])
    own = [on_own_strokes(number, sources, own, each) for number in range(len(sources))]
    return [Analysis(found, beats, pace, steady, sure, strength, pulse) for found, strength in zip(own, strengths, strict=True)]


def levels_of(onsets: Onsets, heard: OnsetStrength) -> FloatArray:
    """How loud each onset is within 30 ms, in dB against the loud onsets of its own mic."""
    if not len(onsets):
        return np.zeros(0)
    at = np.round(np.asarray(onsets.times) * heard.frame_rate_hz).astype(int)[:, None] + np.arange(0, round(0.03 * heard.frame_rate_hz) + 1)
    level = heard.level[np.clip(at, 0, len(heard.level) - 1)].max(axis=1).astype(np.float64)
    decibels = 20 * np.log10(np.maximum(level, 1e-7))
    result: FloatArray = decibels - float(np.quantile(decibels, 0.9))
    return result


def without_bleed(each: Sequence[Onsets], levels: Sequence[FloatArray]) -> list[Onsets]:
    """Each mic's onsets without those that another mic hears no later and much louder against its own loud strokes."""
    out = []
    for mine, onsets in enumerate(each):
        keep = np.ones(len(onsets), bool)
        for other, others in enumerate(each):
            if other == mine or not len(others) or not len(onsets):
                continue
            near = np.argmin(np.abs(np.asarray(others.times)[None, :] - np.asarray(onsets.times)[:, None]), axis=1)
            later = np.asarray(onsets.times) - np.asarray(others.times)[near]
            keep &= ~((later > -NEARLY_S) & (later < ARRIVAL_S) & (levels[other][near] > levels[mine] + LOUDER_DB))
        out.append(replace(onsets, times=take_times(onsets.times[keep]), strength=onsets.strength[keep], confidence=onsets.confidence[keep]))
    return out


def on_own_strokes(mine: int, sources: Sequence[Source], own: Sequence[Onsets], each: Sequence[Onsets]) -> Onsets:
    """A mic's own onsets, on what is its own: where one starts softly, another mic hears a stroke there first, and hears it
    much louder against its own loud strokes, the soft part is that stroke's bleed. The onset lies where the loud part begins.

    own   onsets of all mics without bleed; each: all that they hear
    """
    onsets = own[mine]
    times = np.array(onsets.times, dtype=np.float64)
    finder = StartFinder(sources[mine])
    ends = np.append(times[1:], np.inf)
    loud = [_loud_db(source, found) for source, found in zip(sources, own, strict=True)]
    for other, others in enumerate(each):
        if other == mine or not len(others) or not len(own[other]):
            continue
        for k, time in enumerate(np.asarray(onsets.times)):
            near = float(others.times[int(np.argmin(np.abs(np.asarray(others.times) - time)))])
            if not -NEARLY_S < time - near < ARRIVAL_S or times[k] > time:
                continue
            begins = finder.loud_start(float(time), float(min(time + STROKE_S, ends[k] - NEARLY_S)))
            if begins is None:
                continue
            here, there = (_level_db(sources[mic], at, begins - time) - loud[mic] for mic, at in ((mine, time), (other, near)))
            if there > here + LOUDER_DB:
                times[k] = begins
    return replace(onsets, times=take_times(times))


def _level_db(source: Source, start_s: float, length_s: float) -> float:
    first = round(start_s * source.sample_rate_hz)
    sound = source.read(first, first + max(1, round(length_s * source.sample_rate_hz)))
    return float(10 * np.log10(np.mean(np.square(sound, dtype=np.float64)) + 1e-14))


def _loud_db(source: Source, onsets: Onsets) -> float:
    """How loud the loud strokes of a mic are within 30 ms."""
    return float(np.quantile([_level_db(source, float(time), 0.03) for time in onsets.times], 0.9)) if len(onsets) else 0.0
