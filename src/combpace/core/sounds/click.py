"""The click: two short tones, the higher one on downbeats, placed to the sample."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Samples, zero_padded
from combpace.core.errors import ParameterError

LENGTH_S = 0.030

# Pitch in Hz (B6, and E6 for the other beats) and level of a click.
DOWNBEAT, BEAT = (1960.0, 0.9), (1318.5, 0.6)
# A click falls to 1/e in this time, and its last frames to nothing.
FALL_S, FADE = 0.006, 32
# The highest pitch, as a share of the rate.
HIGHEST = 0.45


@dataclass(frozen=True, slots=True)
class ClickBeat:
    """One click: seconds from the first frame of what is written, and whether it opens a bar."""

    time_s: float
    downbeat: bool


def click_sound(sample_rate_hz: int, *, downbeat: bool) -> Samples:
    """One click, shape (frames,); its first sample is its attack."""
    t = np.arange(round(LENGTH_S * sample_rate_hz)) / sample_rate_hz
    pitch, level = DOWNBEAT if downbeat else BEAT
    # At few frames a second an octave lower, and another.
    while pitch > HIGHEST * sample_rate_hz:
        pitch /= 2
    # A cosine starts at its full level: the attack is the first sample, so what is heard is where the beat
    # is.
    sound = level * np.cos(2 * np.pi * pitch * t) * np.exp(-t / FALL_S)
    fade = min(FADE, len(sound) // 2)
    sound[len(sound) - fade :] *= np.linspace(1, 0, fade)
    return sound.astype(np.float32)


class ClickTrack:
    """A `Source` of clicks; nothing is held but the two sounds."""

    def __init__(self, beats: Iterable[ClickBeat], frames: int, sample_rate_hz: int) -> None:
        if frames < 0:
            raise ParameterError("A click track cannot be shorter than nothing.")
        self.sample_rate_hz = sample_rate_hz
        self.frames = frames
        self.channels = 1
        self._sounds = (
            click_sound(sample_rate_hz, downbeat=False),
            click_sound(sample_rate_hz, downbeat=True),
        )
        placed = sorted((round(beat.time_s * sample_rate_hz), beat.downbeat) for beat in beats)
        self._beats = [(frame, downbeat) for frame, downbeat in placed if 0 <= frame < frames]

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`: clicks that begin in it, and the tails of those before."""
        return zero_padded(start, stop, self.frames, 1, self._render)

    def _render(self, start: int, stop: int) -> Samples:
        block = np.zeros((1, stop - start), np.float32)
        for frame, downbeat in self._beats:
            sound = self._sounds[downbeat]
            lo, hi = max(frame, start), min(frame + len(sound), stop)
            if hi > lo:
                block[0, lo - start : hi - start] += sound[lo - frame : hi - frame]
        return block
