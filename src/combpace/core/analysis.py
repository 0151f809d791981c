"""Everything the audio says, in one pass: onset strength, onsets, beats, bars, own pace, steady tempo."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from combpace.core import solving
from combpace.core.audio import Source
from combpace.core.bars import own_pace, read_bars
from combpace.core.beats import Beats, BeatSettings, no_beats, track_beats
from combpace.core.clocks import TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.harmony import beat_chroma, change_of
from combpace.core.onsets import Onsets, OnsetSettings, detect_onsets, nearest_onset
from combpace.core.spectra import OnsetStrength, onset_strength
from combpace.core.tempo import SteadyTempo, steady_tempo
from combpace.core.tempomap import Meter, TempoMap, steady_map

# A hint of the user goes to an attack this near, and is taken as it stands where there is none.
HINT_REACH_S = 0.060


@dataclass(frozen=True, slots=True)
class Hints:
    """What the user knows; hard constraints all of them.

    bars       (seconds, bar number): this moment is the line of that bar
    downbeats  seconds: this moment is a downbeat
    meter      for the whole take
    bpm_range  beats per minute that may be read
    steady     one tempo describes the whole take
    """

    bars: tuple[tuple[float, int], ...] = ()
    downbeats: tuple[float, ...] = ()
    meter: Meter | None = None
    bpm_range: tuple[float, float] | None = None
    steady: bool = False


@dataclass(frozen=True, slots=True)
class Analysis:
    """What was heard in one take.

    pace    its own pace, or None where no pulse was found
    steady  the fit of one tempo, or None
    sure    0-1, how much better the bars were read than the next reading
    """

    onsets: Onsets
    beats: Beats
    pace: TempoMap[TakeTimes] | None
    steady: SteadyTempo | None
    sure: float
    heard: OnsetStrength = field(repr=False)


def analyse(
    source: Source,
    hints: Hints | None = None,
    onset_settings: OnsetSettings | None = None,
    on_progress: Callable[[str, float], None] | None = None,
) -> Analysis:
    """Listen to a whole source.

    on_progress  called with a phase in words and the share of it that is done
    Returns      an analysis without pace for silence or fewer than three attacks
    Raises       MapConflictError for hints that contradict each other, ParameterError for hints outside the take
    """
    hints = hints or Hints()
    tell = on_progress or (lambda phase, share: None)
    heard = onset_strength(source, lambda share: tell("listening for attacks", share))
    tell("placing attacks", 0.0)
    onsets = detect_onsets(source, heard, onset_settings)
    tell("following the pulse", 0.0)
    beats = track_beats(heard, onsets, BeatSettings(bpm_range=hints.bpm_range))
    if len(beats) < 2:
        return Analysis(onsets, no_beats(), None, None, 0.0, heard)
    tell("finding the bars", 0.0)
    bars = read_bars(heard, beats, hints.meter, change_of(beat_chroma(source, np.asarray(beats.times))))
    pace = own_pace(beats, bars, hints.meter)
    duration_s = source.frames / source.sample_rate_hz
    pace = apply_hints(pace, hints, onsets, duration_s)
    steady = steady_tempo(pace, onsets, duration_s)
    if hints.steady:
        # The line's own tempo, as quarter notes a minute, through the downbeat the fit names.
        bpm = steady.bpm * pace.meters[0].beat_quarters
        pace = steady_map(bpm, steady.first_downbeat_s, pace.meters, confidence=bars.confidence)
        pace = apply_hints(pace, hints, onsets, duration_s)
    return Analysis(onsets, beats, pace, steady, bars.confidence, heard)


def apply_hints(pace: TempoMap[TakeTimes], hints: Hints, onsets: Onsets, duration_s: float) -> TempoMap[TakeTimes]:
    """Solve a pace again around what the user knows; each hint goes to the attack nearest to it within 60 ms."""
    for time_s, number in sorted(hints.bars):
        pace = solving.set_bar(pace, caught(time_s, onsets, duration_s), number, onsets)
    for time_s in sorted(hints.downbeats):
        pace = solving.set_downbeat(pace, caught(time_s, onsets, duration_s), onsets)
    return pace


def caught(time_s: float, onsets: Onsets, duration_s: float, reach_s: float = HINT_REACH_S) -> float:
    """The nearest onset within reach, or the moment itself."""
    if not 0.0 <= time_s <= duration_s:
        raise ParameterError(f"{time_s:g} s lies outside the take, which is {duration_s:.3f} s long. Nothing was changed.")
    at = nearest_onset(onsets.times, time_s, reach_s)
    return time_s if at is None else float(onsets.times[at])
