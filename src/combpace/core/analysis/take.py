"""Everything the audio says, in one pass: onset strength, onsets, beats, bars, own pace, steady tempo."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from combpace.core.analysis.opening import listen
from combpace.core.analysis.steady_tempo import SteadyTempo, steady_tempo
from combpace.core.audio import Source
from combpace.core.beats.activations import Activations
from combpace.core.beats.bars import BarHints, in_one_unit, own_pace, read_bars
from combpace.core.beats.candidates import TempoSpan, heard_at
from combpace.core.beats.click_track import click_train
from combpace.core.beats.confidence import bar_confidence, bar_features, beat_confidence, beat_features
from combpace.core.beats.meter_network import hear_pattern
from combpace.core.beats.track import Beats, no_beats, track_beats
from combpace.core.clocks import FloatArray, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets, OnsetSettings, nearest_onset
from combpace.core.spectra import OnsetStrength
from combpace.core.tempo import anchors, counting
from combpace.core.tempo.bars_again import hear_row
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.one_tempo import steady_as_stated
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated

# A hint of the user goes to an attack this near, and is taken as it stands where there is none.
HINT_REACH_S = 0.060
# A loop's first attack so near to its first frame is what it was cut to.
LOOP_STARTS_S = 0.030
# How much less, in log odds, a beat is trusted on which nothing is struck.
UNSTRUCK = 2.0


@dataclass(frozen=True, slots=True)
class Hints:
    """What the user knows; hard constraints all of them, in any number.

    bars       (seconds, bar number): this moment is the line of that bar
    downbeats  seconds: this moment is a downbeat
    others     seconds: the beat nearest to this moment is no downbeat
    meter      for the whole take
    meters     (seconds, meter): holds from there on; that moment is a downbeat
    tempi      what may be read between two moments
    steady     one tempo describes the whole take
    exact      these moments are meant as they stand; else each goes to the attack nearest to it
    is_loop    it was cut to begin on bar 1: an attack at its very start is that downbeat, unless a bar is
               stated
    beats_later  all bar lines lie so many beats later than they are read (earlier where negative)
    pickups    seconds: what lies at this moment is a pickup, bar 1 is the next bar line
    meters_at  (bar number, meter): as the bars are counted after all of the above, from there on to the next
               change
    """

    bars: tuple[tuple[float, int], ...] = ()
    downbeats: tuple[float, ...] = ()
    others: tuple[float, ...] = ()
    meter: Meter | None = None
    meters: tuple[tuple[float, Meter], ...] = ()
    tempi: tuple[TempoSpan, ...] = ()
    steady: bool = False
    exact: bool = False
    is_loop: bool = False
    beats_later: int = 0
    pickups: tuple[float, ...] = ()
    meters_at: tuple[tuple[int, Meter], ...] = ()


@dataclass(frozen=True, slots=True)
class Analysis:
    """What was heard in one take.

    pace    its own pace, or None where no pulse was found
    steady  the fit of one tempo, or None
    sure    0-1, how sure the reading of the bars is
    pulse   what was heard of the pulse: with it, `read` reads anew what the user states more of
    struck  the attacks that the beats were read from: of all mics of a bundle, else its own
    """

    onsets: Onsets
    beats: Beats
    pace: TempoMap[TakeTimes] | None
    steady: SteadyTempo | None
    sure: float
    heard: OnsetStrength = field(repr=False)
    pulse: Activations = field(repr=False)
    struck: Onsets = field(repr=False)


def analyse(
    source: Source,
    hints: Hints | None = None,
    onset_settings: OnsetSettings | None = None,
    on_progress: Callable[[str, float], None] | None = None,
) -> Analysis:
    """Listen to a whole source.

    on_progress  called with a phase in words and the share of it that is done
    Returns      an analysis without pace for silence or fewer than three attacks
    Raises       MapConflictError for hints that contradict each other, ParameterError for hints outside the
                 take
    """
    tell = on_progress or (lambda phase, share: None)
    found = listen(source, onset_settings, lambda share: tell("listening for attacks", share))
    heard, onsets = found.heard, found.onsets
    tell("following the pulse", 0.0)
    pulse = found.activations(source)
    tell("finding the bars", 0.0)
    beats, pace, steady, sure = read(
        pulse,
        onsets,
        hints or Hints(),
        source.frames / source.sample_rate_hz,
        train=click_train(heard, onsets),
    )
    return Analysis(onsets, beats, pace, steady, sure, heard, pulse, onsets)


def read(
    pulse: Activations,
    onsets: Onsets,
    hints: Hints,
    duration_s: float,
    train: FloatArray | None = None,
) -> tuple[Beats, TempoMap[TakeTimes] | None, SteadyTempo | None, float]:
    """Beats, bars and tempo of what was heard, as the user's hints have it: (beats, pace, steady fit, how
    sure the bars are).

    What is stated of bars is solved for as everywhere (`tempo.solve`); only tempi, and where a loop begins,
    are heard with. Each hint goes to the attack nearest to it within 60 ms where it is not exact. No pace and
    no fit where there is no pulse. `train` is as `trains.click_train` gives it.
    """
    begins = hints.is_loop and not hints.bars and len(onsets) and float(onsets.times[0]) < LOOP_STARTS_S
    loop_s = float(onsets.times[0]) if begins else None
    beats, pace, sure = _heard(pulse, onsets, hints.tempi, loop_s, train)
    if pace is None:
        return no_beats(), None, None, 0.0
    stated = _stated(hints, onsets, duration_s)
    if stated != Stated():
        known = Heard(pace, onsets, lambda: pulse, partial(hear_row, pulse))
        pace = solved(known, stated)
    pace = _counted(pace, hints, duration_s)
    steady = steady_tempo(pace, onsets, duration_s)
    if hints.steady:
        # The line's own tempo, as quarter notes a minute, through the downbeat the fit names.
        bpm = steady.bpm * pace.meters[0].beat_quarters
        line: TempoMap[TakeTimes] = steady_as_stated(
            bpm, steady.first_downbeat_s, pace.meters, Stated(bars=stated.bars), free_tempo=not hints.tempi
        )
        pace = replace(line, knots=tuple(replace(knot, confidence=sure) for knot in line.knots))
        pace = _counted(pace, replace(hints, beats_later=0, pickups=()), duration_s)
    return beats, pace, steady, sure


def _heard(
    pulse: Activations,
    onsets: Onsets,
    tempi: tuple[TempoSpan, ...],
    loop_s: float | None,
    train: FloatArray | None,
) -> tuple[Beats, TempoMap[TakeTimes] | None, float]:
    """(beats, pace, how sure its bars are) before anything is stated of bars; loop_s: where a loop begins its
    bar 1.
    """
    beats = track_beats(pulse, onsets, tempi, [] if loop_s is None else [loop_s], train=train)
    if len(beats) < 2:
        return no_beats(), None, 0.0
    opens: frozenset[int] = frozenset()
    if loop_s is not None:
        opens = frozenset({int(np.argmin(np.abs(np.asarray(beats.times) - loop_s)))})
    pattern = hear_pattern(pulse, beats.rough)
    reading = in_one_unit(
        read_bars(pattern, BarHints(downbeats=opens), trust=trust_in(pulse, beats)), beats.rough
    )
    beats = replace(beats, confidence=beat_confidence(beat_features(pulse, pattern, beats)))
    sure = bar_confidence(bar_features(pattern, reading, beats.confidence))
    pace = own_pace(beats, reading, sure)
    if loop_s is not None:
        pace = anchors.set_bar_1(pace, loop_s, onsets)
    return beats, pace, float(np.mean(sure))


def _stated(hints: Hints, onsets: Onsets, duration_s: float) -> Stated:
    """What hints say of bars, each moment on the attack that it means. Raises ParameterError."""
    reach_s = 0.0 if hints.exact else HINT_REACH_S

    def at(time: float) -> float:
        return caught(time, onsets, duration_s, reach_s)

    changes = sorted((at(time), meter) for time, meter in hints.meters)
    opening = {*map(at, hints.downbeats), *(time for time, _ in changes)}
    bars = tuple(sorted((at(time), number) for time, number in hints.bars))
    return Stated(
        bars=bars,
        downbeats=tuple(sorted(opening - {time for time, _ in bars})),
        meters=(*(((None, hints.meter),) if hints.meter else ()), *changes),
        others=tuple(sorted(map(at, hints.others))),
    )


def _counted(pace: TempoMap[TakeTimes], hints: Hints, duration_s: float) -> TempoMap[TakeTimes]:
    """A pace with its bars put right as a whole, as hints have it. Raises MapConflictError,
    ParameterError.
    """
    if hints.beats_later:
        pace = counting.one_beat(pace, hints.beats_later)
    for time in hints.pickups:
        if not 0.0 <= time <= duration_s:
            raise ParameterError(
                f"{time:g} s lies outside the take, which is {duration_s:.3f} s long. Nothing was changed."
            )
        pace = counting.pickup(pace, time)
    for number, meter in sorted(hints.meters_at):
        pace = counting.meter_at(pace, number, meter)
    return pace


def trust_in(pulse: Activations, beats: Beats) -> FloatArray:
    """How well each beat is heard, in log odds: a bar of a free intro may be counted like any other, but
    little is struck on its beats.

    Returns  shape (beats,)
    """
    trust: FloatArray = heard_at(pulse, beats.rough) - np.where(beats.carried > 0, 0.0, UNSTRUCK)
    return trust


def caught(time_s: float, onsets: Onsets, duration_s: float, reach_s: float = HINT_REACH_S) -> float:
    """The nearest onset within reach, or the moment itself."""
    if not 0.0 <= time_s <= duration_s:
        raise ParameterError(
            f"{time_s:g} s lies outside the take, which is {duration_s:.3f} s long. Nothing was changed."
        )
    at = nearest_onset(onsets.times, time_s, reach_s)
    return time_s if at is None else float(onsets.times[at])
