"""A bundle heard as one: several mics of one performance share beats, bars and tempo; each keeps the attacks
that are its own.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from combpace.core.analysis.bleed import ONE_INSTRUMENT_DB, bleed_in, sounds_apart_db
from combpace.core.analysis.opening import listen
from combpace.core.analysis.take import Analysis, Hints, analyse, read
from combpace.core.audio import Samples, Source
from combpace.core.beats.click_track import click_train
from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets, OnsetSettings
from combpace.core.onsets.refine import StartFinder
from combpace.core.statistics import nearest
from combpace.core.tempo.map import Knot, TempoMap

# Sound takes 3 ms for a metre: what arrives later than this after another mic is another stroke.
ARRIVAL_S = 0.015
# A mic is nearest to what it hears first, or nearly first, and at least this much louder against its own loud
# strokes than others do.
NEARLY_S, LOUDER_DB = 0.001, 6.0
# No beat moves nearer than this to the one before.
CLOSEST_S = 0.120
# A stroke is at its loudest within this time.
STROKE_S = 0.030
# What a close mic hears just before its drum is struck may be another drum's: it is softer than the stroke
# by so much, and lasts so much longer than the soft beginning that this drum's strokes usually have.
LEAD_DB, LEAD_S = 12.0, 0.0025
# Of fewer strokes nothing is called usual.
LEAST_STROKES = 8


class Together:
    """Mics mixed to one channel, each as loud as the others; all start together, the longest ends it."""

    def __init__(self, sources: Sequence[Source]) -> None:
        if not sources:
            raise ParameterError("A bundle needs at least one file.")
        rates = {source.sample_rate_hz for source in sources}
        if len(rates) > 1:
            raise ParameterError(
                "The mics of a bundle have one sample rate, not "
                f"{', '.join(f'{rate} Hz' for rate in sorted(rates))}. Nothing was changed."
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
    levels = [
        float(np.sqrt(np.mean(np.square(source.read(at, at + size), dtype=np.float64))))
        for at in range(0, source.frames, 5 * size)
    ]
    return float(np.quantile(levels, 0.9)) if levels else 0.0


def analyse_bundle(
    sources: Sequence[Source],
    hints: Hints | None = None,
    onset_settings: OnsetSettings | None = None,
    on_progress: Callable[[str, float], None] | None = None,
) -> list[Analysis]:
    """Listen to the mics of one performance.

    sources  of one sample rate, with a common start
    Returns  one analysis for each: beats, count and steady fit are the same for all, read from the mics
             together; onsets are those of its own mic without bleed, and the beats of its pace lie on them.
             Raises as `analyse`, and ParameterError for differing rates
    """
    whole = Together(sources)
    if len(sources) == 1:
        return [analyse(sources[0], hints, onset_settings, on_progress)]
    tell = on_progress or (lambda phase, share: None)
    together = listen(whole, onset_settings, lambda share: tell("listening to the bundle", share))
    heard, onsets = together.heard, together.onsets
    tell("following the pulse", 0.0)
    pulse = together.activations(whole)
    beats, pace, steady, sure = read(
        pulse, onsets, hints or Hints(), whole.frames / whole.sample_rate_hz, train=click_train(heard, onsets)
    )
    each, strengths = [], []
    for number, source in enumerate(sources):
        mic = listen(source, onset_settings)
        strengths.append(mic.heard)
        each.append(mic.onsets)
        tell("placing attacks", (number + 1) / len(sources))
    bled = bleed_in(sources, each)
    each = [_without(onsets, bleed) for onsets, bleed in zip(each, bled, strict=True)]
    levels = [levels_of(source, found) for source, found in zip(sources, each, strict=True)]
    alone = without_bleed(each, [level - _loud(level) for level in levels])
    loud = [_loud(levels_of(source, found)) for source, found in zip(sources, alone, strict=True)]
    own = [on_own_strokes(number, sources, found, each, loud) for number, found in enumerate(alone)]
    # A mic of which bleed was told apart stands at one instrument.
    own = [
        on_loud_starts(source, found) if bleed.any() else found
        for source, found, bleed in zip(sources, own, bled, strict=True)
    ]
    paces = [pace and on_strokes_of(pace, found) for found in own]
    return [
        Analysis(found, beats, mine, steady, sure, strength, pulse, onsets)
        for found, mine, strength in zip(own, paces, strengths, strict=True)
    ]


def on_strokes_of(pace: TempoMap[TakeTimes], onsets: Onsets) -> TempoMap[TakeTimes]:
    """A bundle's pace with its beats on one mic's own strokes, where that mic has one with the beat.

    In the mix a beat lies on the first of the instruments that share it; a mic may hear its own up to
    ARRIVAL_S later or earlier. Of several the strongest counts. What is fixed stays, and so does a beat that
    would come within `CLOSEST_S` of the one before.
    """
    if pace.is_steady:
        # One tempo is read from all of the mics; no single stroke moves it.
        return pace
    at = np.asarray(onsets.times)
    knots: list[Knot] = []
    for knot in pace.knots:
        first, stop = np.searchsorted(at, (knot.time_s - ARRIVAL_S, knot.time_s + ARRIVAL_S))
        if stop > first and not knot.fixed:
            stroke = float(at[first + int(np.argmax(onsets.strength[first:stop]))])
            if not knots or stroke > knots[-1].time_s + CLOSEST_S:
                knot = replace(knot, time_s=stroke)
        knots.append(knot)
    return TempoMap(tuple(knots), pace.meters)


def _without(onsets: Onsets, gone: np.ndarray) -> Onsets:
    return replace(
        onsets,
        times=take_times(onsets.times[~gone]),
        strength=onsets.strength[~gone],
        confidence=onsets.confidence[~gone],
    )


def levels_of(source: Source, onsets: Onsets) -> FloatArray:
    """How loud each onset is over STROKE_S, in dB.

    Returns  shape (n,), dB below full scale; one for each onset
    """
    return np.array([_level_db(source, float(time), STROKE_S) for time in onsets.times])


def without_bleed(each: Sequence[Onsets], levels: Sequence[FloatArray]) -> list[Onsets]:
    """Each mic's onsets without those that another mic hears no later and much louder against its own loud
    strokes.

    each, levels  of every mic its onsets and their levels in dB, shapes (n,)
    Returns       as many onsets or fewer for each mic, in the order of `each`
    """
    out = []
    for mine, onsets in enumerate(each):
        keep = np.ones(len(onsets), bool)
        for other, others in enumerate(each):
            if other == mine or not len(others) or not len(onsets):
                continue
            near = nearest(np.asarray(others.times), np.asarray(onsets.times))
            later = np.asarray(onsets.times) - np.asarray(others.times)[near]
            keep &= ~(
                (later > -NEARLY_S) & (later < ARRIVAL_S) & (levels[other][near] > levels[mine] + LOUDER_DB)
            )
        out.append(
            replace(
                onsets,
                times=take_times(onsets.times[keep]),
                strength=onsets.strength[keep],
                confidence=onsets.confidence[keep],
            )
        )
    return out


def on_own_strokes(
    mine: int, sources: Sequence[Source], onsets: Onsets, each: Sequence[Onsets], loud: Sequence[float]
) -> Onsets:
    """A mic's own onsets, on what is its own: where one starts softly, another mic hears a stroke there
    first, and hears it much louder against its own loud strokes, the soft part is that stroke's bleed. The
    onset lies where the loud part begins.

    onsets  its own, without bleed; each: all that each mic hears; loud: how loud loud strokes are in each
            mic, in dB
    """
    times = np.array(onsets.times, dtype=np.float64)
    finder = StartFinder(sources[mine])
    ends = np.append(times[1:], np.inf)
    for other, others in enumerate(each):
        if other == mine or not len(others):
            continue
        for k, time in enumerate(np.asarray(onsets.times)):
            near = float(others.times[int(np.argmin(np.abs(np.asarray(others.times) - time)))])
            if not -NEARLY_S < time - near < ARRIVAL_S or times[k] > time:
                continue
            begins = finder.loud_start(float(time), float(min(time + STROKE_S, ends[k] - NEARLY_S)))
            if begins is None:
                continue
            here, there = (
                _level_db(sources[mic], at, begins - time) - loud[mic]
                for mic, at in ((mine, time), (other, near))
            )
            if there > here + LOUDER_DB:
                times[k] = begins
    return replace(onsets, times=take_times(times))


def on_loud_starts(source: Source, onsets: Onsets) -> Onsets:
    """Onsets of a mic that stands at one instrument, each where that is struck and not where another's softer
    stroke is heard just before.

    How long its strokes start softly is the instrument's own; what starts softly for longer than three in
    four of them do by LEAD_S begins with another one.
    """
    times = np.array(onsets.times, dtype=np.float64)
    if len(times) < LEAST_STROKES:
        return onsets
    finder, ends = StartFinder(source), np.append(times[1:], np.inf)
    found = [
        finder.loud_start(float(time), float(min(time + STROKE_S, end - NEARLY_S)), LEAD_DB)
        for time, end in zip(times, ends, strict=True)
    ]
    leads = np.array(
        [0.0 if begins is None else begins - time for begins, time in zip(found, times, strict=True)]
    )
    usual = float(np.quantile(leads, 0.75))
    for k in np.flatnonzero(leads > usual + LEAD_S):
        # A flam's first stroke is the same instrument's.
        if sounds_apart_db(source, times[k], times[k] + leads[k]) > ONE_INSTRUMENT_DB:
            times[k] += leads[k] - usual
    return replace(onsets, times=take_times(times))


def _level_db(source: Source, start_s: float, length_s: float) -> float:
    first = round(start_s * source.sample_rate_hz)
    sound = source.read(first, first + max(1, round(length_s * source.sample_rate_hz)))
    return float(10 * np.log10(np.mean(np.square(sound, dtype=np.float64)) + 1e-14))


def _loud(levels: FloatArray) -> float:
    """What counts as loud among a mic's strokes."""
    return float(np.quantile(levels, 0.9)) if len(levels) else 0.0
