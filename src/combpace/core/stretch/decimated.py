"""Sound that holds nothing above a few kilohertz, at a fraction of its rate and back: a quarter of the rate
is a quarter of the work.
"""

from __future__ import annotations

from functools import cache

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray

# What is folded back, and how far the band that is kept moves from 1.
STOP_DB = 80.0
# Sound is filtered so many slow frames at a time, by one product of matrices.
BLOCK = 32


class Decimation:
    """To every `by`-th frame and back, through one symmetric filter (Kaiser's window) each way: what lies
    below `highest_hz` stays.

    by      a power of two, 1 where the rate leaves no room
    reach   slow frames that are looked at on either side
    """

    def __init__(self, rate_hz: int, highest_hz: float) -> None:
        # Half a second to import: only where sound is made.
        from scipy import signal

        self.by = 1
        while rate_hz / (4 * self.by) > 1.1 * highest_hz:
            self.by *= 2
        by, self.reach = self.by, 0
        if by == 1:
            return
        count, beta = signal.kaiserord(STOP_DB, (rate_hz / by - 2 * highest_hz) / (rate_hz / 2))
        self.reach = -(-count // (2 * by))
        half = by * self.reach
        taps = signal.firwin(2 * half + 1, 1 / by, window=("kaiser", beta))
        self._fewer = decimating(taps, by)
        self._all = np.zeros((BLOCK + 2 * self.reach, by * BLOCK), np.float32)
        for fast in range(by * BLOCK):
            slows = np.arange(-(-fast // by), (fast + 2 * half) // by + 1)
            self._all[slows, fast] = by * taps[fast + 2 * half - by * slows]

    def fewer(self, sound: Samples) -> Samples:
        """Every `by`-th frame of a sound, shape (channels, by * (n + 2 * reach)) to (channels, n)."""
        count = sound.shape[1] // self.by - 2 * self.reach
        return filtered(sound, self._fewer, self.by * BLOCK, count) if self.by > 1 else sound

    def all(self, sound: Samples) -> Samples:
        """All frames of a slow sound, shape (channels, n + 2 * reach) to (channels, by * n)."""
        count = sound.shape[1] - 2 * self.reach
        return filtered(sound, self._all, BLOCK, self.by * count) if self.by > 1 else sound


# The matrices depend on the rate alone.
decimation = cache(Decimation)


def decimating(taps: FloatArray, by: int) -> Samples:
    """The matrix for `filtered` that gives every `by`-th frame of what a filter of an odd number of taps
    makes; its step is by * BLOCK.

    taps     shape (odd,)
    """
    matrix = np.zeros((by * (BLOCK - 1) + len(taps), BLOCK), np.float32)
    for slow in range(BLOCK):
        matrix[by * slow : by * slow + len(taps), slow] = taps[::-1]
    return matrix


def filtered(sound: Samples, matrix: Samples, step: int, count: int) -> Samples:
    """Blocks of a sound, `step` frames apart, each through the matrix; shape (channels, count). Ten times as
    fast as `scipy.signal.upfirdn`.
    """
    size, made = matrix.shape
    blocks = -(-count // made)
    room = (blocks - 1) * step + size
    if room > sound.shape[1]:
        sound = np.pad(sound, ((0, 0), (0, room - sound.shape[1])))
    view = np.lib.stride_tricks.sliding_window_view(sound, size, axis=1)[:, : (blocks - 1) * step + 1 : step]
    out = np.ascontiguousarray(view).reshape(-1, size) @ matrix
    return np.asarray(out.reshape(sound.shape[0], blocks * made)[:, :count], np.float32)


class Decimated:
    """A `Source` of every `by`-th frame of another, beginning with its first."""

    def __init__(self, source: Source, how: Decimation) -> None:
        self._source, self._how = source, how
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz // how.by,
            source.channels,
            -(-source.frames // how.by),
        )

    def read(self, start: int, stop: int) -> Samples:
        """Slow frames [start, stop), shape (channels, stop - start)."""
        by, reach = self._how.by, self._how.reach
        return self._how.fewer(self._source.read(by * (start - reach), by * (stop + reach)))
