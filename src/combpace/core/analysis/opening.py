"""Listening to a source, also where it begins inside an attack.

A loop that was trimmed to its first stroke has nothing before it that the stroke could rise from. Such a
source is heard with some silence before it, and what was heard is given back on its own clock: the stroke's
onset lies at its first frame.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.beats.activations import FRAMES_PER_S, PAIR, Activations, hear_activations
from combpace.core.clocks import take_times
from combpace.core.onsets.detect import Onsets, OnsetSettings, detect_onsets
from combpace.core.spectra import OnsetStrength, onset_strength

# The silence that is put before, in seconds, at least and at most: a whole number of hops and of pairs of the
# activations' frames.
LEAST_SILENCE_S, MOST_SILENCE_S = 0.5, 4.0
# What sounds so soon after the first frame, against what is loud in the beginning of the source, is no rise.
FIRST_S, LOUD_SHARE, LOOKED_AT_S = 0.004, 0.1, 4.0
# An attack dies away: its first moments are so much brighter than what follows.
ATTACK_S, LATER_S, DIES = 0.012, (0.060, 0.120), 1.2
# An onset this near to the first frame is the attack's own.
NEAR_S = 0.030
# A source of at most this length may be a loop; it is heard anew whether or not it begins with a rise that
# was found.
LOOP_S = 16.0


@dataclass(frozen=True, slots=True)
class Listened:
    """What was heard in a source, on its own clock.

    heard    onset strength
    onsets   attack starts
    before   frames of silence that the source was heard with
    """

    heard: OnsetStrength
    onsets: Onsets
    before: int
    _whole: OnsetStrength

    def activations(self, source: Source) -> Activations:
        """What the network says of the source."""
        if not self.before:
            return hear_activations(source, self._whole)
        said = hear_activations(Delayed(source, self.before), self._whole)
        first = round(self.before / source.sample_rate_hz * FRAMES_PER_S / PAIR)
        rows = slice(first * PAIR, None)
        return Activations(said.beat[rows], said.downbeat[rows], said.meter[rows], said.inputs[first:])


class Delayed:
    """A source with silence before it."""

    def __init__(self, source: Source, frames: int) -> None:
        self._source, self._before = source, frames
        self.sample_rate_hz = source.sample_rate_hz
        self.channels = source.channels
        self.frames = source.frames + frames

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), zeros before the source."""
        return self._source.read(start - self._before, stop - self._before)


def listen(
    source: Source, settings: OnsetSettings | None = None, on_progress: Callable[[float], None] | None = None
) -> Listened:
    """Onset strength and onsets of a source, the one at its very start included."""
    heard = onset_strength(source, on_progress)
    onsets = detect_onsets(source, heard, settings)
    if not _begins_inside(source, onsets):
        return Listened(heard, onsets, 0, heard)
    before, hops = _silence(source.sample_rate_hz, heard.frame_rate_hz)
    delayed = Delayed(source, before)
    whole = onset_strength(delayed)
    later = detect_onsets(delayed, whole, settings)
    times = np.maximum(np.asarray(later.times) - before / source.sample_rate_hz, 0.0)
    # The stroke that opens the source starts at its first frame, wherever in it the cut went.
    times[times < NEAR_S] = 0.0
    first = np.concatenate([[True], np.diff(times) > 0]) if len(times) else np.zeros(0, bool)
    found = Onsets(take_times(times[first]), later.strength[first], later.confidence[first])
    own = replace(whole, bands=whole.bands[hops:], flux=whole.flux[hops:], level=whole.level[hops:])
    return Listened(own, found, before, whole)


def _begins_inside(source: Source, onsets: Onsets) -> bool:
    """Whether a source sounds from its first frame on as an attack does, and that attack was not found."""
    rate = source.sample_rate_hz
    start = np.asarray(source.read(0, round(LOOKED_AT_S * rate)).mean(axis=0), dtype=np.float64)
    size = max(1, round(FIRST_S * rate))
    levels = np.sqrt(np.mean(np.square(start[: len(start) // size * size].reshape(-1, size)), axis=1))
    if not len(levels) or levels[0] <= LOUD_SHARE * max(float(np.quantile(levels, 0.95)), 1e-6):
        return False
    if source.frames <= LOOP_S * rate:
        return True
    bright = np.diff(start)
    early, later = (
        bright[: round(ATTACK_S * rate)],
        bright[round(LATER_S[0] * rate) : round(LATER_S[1] * rate)],
    )
    dies = (
        np.sqrt(np.mean(np.square(early))) > DIES * np.sqrt(np.mean(np.square(later))) if len(later) else True
    )
    return bool(dies) and not np.any(np.asarray(onsets.times) < NEAR_S)


def _silence(rate: int, hop_rate_hz: float) -> tuple[int, int]:
    """(frames, hops) of the silence: as near to whole pairs of the activations' frames as whole hops come."""
    hop = round(rate / hop_rate_hz)
    hops = np.arange(int(np.ceil(LEAST_SILENCE_S * rate / hop)), int(MOST_SILENCE_S * rate / hop) + 1)
    pairs = hops * hop / rate * FRAMES_PER_S / PAIR
    best = int(hops[int(np.argmin(np.round(np.abs(pairs - np.round(pairs)), 9)))])
    return best * hop, best
