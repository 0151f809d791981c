"""What sounds on through attacks, apart from what strikes: a pad under drums must not start anew at every
hit.

A partial belongs to the sustained part while it has been there for a moment and will go on for one: at each
place of the spectrum the lesser of the median over the frames before and after (median filters over time as
in Fitzgerald 2010, but one on either side, so that a note's beginning and a hit stay whole on the other
side). Only peaks far above what lies about them count, and only while their level stays even. Sustained part
and rest add up to the source exactly.
"""

from __future__ import annotations

from collections import OrderedDict
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.stretch.decimated import Decimated, decimation
from combpace.core.stretch.remembered import measured

WINDOW_S, OVERLAP = 0.1858, 4
# Frames on either side, this one included, whose median a partial must reach.
FRAMES = 5
HIGHEST_HZ = 5000.0
# A peak stands this much above the median of its surroundings, so many bins to either side.
CLEAR, ABOUT = 5.0, 24
# A partial is sustained where its upper quartile is less than EVEN times its lower one: what decays and is
# struck again moves more. VERY_EVEN decides whether anything in the sound is sustained at all.
VERY_EVEN, EVEN = 1.4, 1.7
LOBE = 2
# Share of the power before attacks that makes what sounds on a layer of its own.
SOUNDS_ON = 0.65
BLOCK_S, KEPT_BLOCKS = 2.0, 6


class Sustained:
    """The sustained part of a source, itself a `Source`: any range read is the same as the whole, to
    rounding.

    It is found at a fraction of the rate, where that holds all of it; `slow` is the part at that rate.
    """

    def __init__(self, source: Source, even: float = EVEN, block_s: float = BLOCK_S) -> None:
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz,
            source.channels,
            source.frames,
        )
        self._how = decimation(self.sample_rate_hz, HIGHEST_HZ)
        self.slow = _Slow(Decimated(source, self._how), even, block_s)

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), shape (channels, n); zeros outside of the source."""
        out = np.zeros((self.channels, max(0, stop - start)), np.float32)
        lo, hi = max(0, start), min(stop, self.frames)
        if hi > lo:
            by, reach = self._how.by, self._how.reach
            first = lo // by
            sound = self._how.all(self.slow.read(first - reach, -(-hi // by) + reach))
            out[:, lo - start : hi - start] = sound[:, lo - by * first : hi - by * first]
        return out


class _Slow:
    """The sustained part of a source at a low rate, found a block at a time; the latest blocks are kept."""

    def __init__(self, source: Source, even: float, block_s: float) -> None:
        self._source, self._even = source, even
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz,
            source.channels,
            source.frames,
        )
        self._window = 1 << max(6, round(np.log2(WINDOW_S * self.sample_rate_hz)))
        self._hop = self._window // OVERLAP
        # Every other frame is looked at below: blocks of an even number of them look at the same ones.
        self._block = max(1, 2 * round(block_s * self.sample_rate_hz / (2 * self._hop))) * self._hop
        self._kept: OrderedDict[int, Samples] = OrderedDict()

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), shape (channels, n); zeros outside of the source."""
        out = np.zeros((self.channels, max(0, stop - start)), np.float32)
        lo, hi = max(0, start), min(stop, self.frames)
        for index in range(lo // self._block, -(-hi // self._block)) if hi > lo else ():
            first = index * self._block
            a, b = max(lo, first), min(hi, first + self._block)
            out[:, a - start : b - start] = self._at(index)[:, a - first : b - first]
        return out

    def _at(self, index: int) -> Samples:
        if index not in self._kept:
            self._kept[index] = self._make(index)
            while len(self._kept) > KEPT_BLOCKS:
                self._kept.popitem(last=False)
        self._kept.move_to_end(index)
        return self._kept[index]

    def _make(self, index: int) -> Samples:
        window, hop, reach = self._window, self._hop, FRAMES - 1
        begin = index * self._block
        # Frames that reach into the block, and those that their medians look at.
        count = self._block // hop + OVERLAP - 1
        first = begin - window + hop
        sound = self._source.read(first - reach * hop, first + (count + reach - 1) * hop + window)
        shape = np.hanning(window + 1)[:window].astype(np.float32)
        view = np.lib.stride_tricks.sliding_window_view(sound, window, axis=1)[:, ::hop]
        spectra = fft.rfft(view * shape, axis=-1)
        used = min(spectra.shape[-1], int(HIGHEST_HZ * window / self.sample_rate_hz))
        levels = np.sqrt(np.square(np.abs(spectra[..., :used])).sum(axis=0))
        middle = _median_of_five([levels[k : k + count + reach] for k in range(FRAMES)])
        stays = np.minimum(middle[:count], middle[reach:])
        # What lies about a peak changes slowly: every fourth bin of every second frame tells.
        about = _median_about(stays[::2, ::4], ABOUT // 4).repeat(4, axis=1).repeat(2, axis=0)[:count, :used]
        peaks = (stays >= _greatest_about(stays)) & (stays > CLEAR * about)
        at, bins = np.nonzero(peaks)
        course = np.sort(levels[at[:, None] + np.arange(2 * reach + 1), bins[:, None]], axis=1)
        peaks[at, bins] = course[:, 2 * reach - reach // 2] < self._even * course[:, reach // 2]
        tonal = _greatest_about(peaks)
        mask = np.where(
            tonal, np.minimum(1, stays / np.maximum(levels[reach : reach + count], 1e-12)), 0
        ).astype(np.float32)
        kept = np.zeros((self.channels, count, window // 2 + 1), np.complex64)
        kept[..., :used] = spectra[:, reach : reach + count, :used] * mask
        frames = fft.irfft(kept, window, axis=-1) * shape
        made = np.zeros((self.channels, (count - 1) * hop + window), np.float32)
        for k in range(count):
            made[:, k * hop : k * hop + window] += frames[:, k]
        # Squared Hann windows a quarter apart add up to 3/2.
        return np.asarray(made[:, begin - first : begin - first + self._block] / np.float32(1.5), np.float32)


def _median_of_five(levels: list[FloatArray]) -> FloatArray:
    """Element by element, by comparing whole arrays: many times faster than sorting."""
    a, b, c, d, e = levels
    low = np.maximum(np.minimum(a, b), np.minimum(c, d))
    high = np.minimum(np.maximum(a, b), np.maximum(c, d))
    middle: FloatArray = np.maximum(np.minimum(e, low), np.minimum(np.maximum(e, low), high))
    return middle


def _median_about(levels: FloatArray, reach: int) -> FloatArray:
    """Median of so many bins on either side, beyond an end their mirror image: as
    `scipy.ndimage.median_filter`, which takes three times as long.
    """
    view = np.lib.stride_tricks.sliding_window_view(
        np.pad(levels, ((0, 0), (reach, reach)), mode="symmetric"), 2 * reach + 1, axis=1
    )
    median: FloatArray = np.sort(view, axis=-1)[..., reach]
    return median


def _greatest_about(levels: NDArray[Any]) -> NDArray[Any]:
    """The greatest of LOBE bins on either side."""
    greatest = levels.copy()
    for reach in range(1, LOBE + 1):
        np.maximum(greatest[:, reach:], levels[:, :-reach], out=greatest[:, reach:])
        np.maximum(greatest[:, :-reach], levels[:, reach:], out=greatest[:, :-reach])
    return greatest


class Struck:
    """What is left of a source without its sustained part."""

    def __init__(self, source: Source, sustained: Sustained) -> None:
        self._source, self._sustained = source, sustained
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz,
            source.channels,
            source.frames,
        )

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`, without what was struck."""
        return self._source.read(start, stop) - self._sustained.read(start, stop)


def sounds_on(source: Source, attacks: IntArray, most: int = 32) -> bool:
    """Whether most of what is heard just before attacks goes on through them, judged at the first attack of
    up to `most` parts.
    """
    if not len(attacks):
        return False
    # Parts of the source and not of the list: an attack more or less leaves the others as they are.
    _, first = np.unique(attacks * most // max(1, source.frames), return_index=True)
    shares = measured(source, _shares, attacks[first])
    shares = shares[np.isfinite(shares)]
    return bool(len(shares)) and float(np.median(shares)) > SOUNDS_ON


def _shares(source: Source, attacks: IntArray) -> FloatArray:
    """Share of the power of the 20 ms before each attack that sounds on, not a number in silence; shape
    (attacks,).
    """
    sustained = Sustained(source, VERY_EVEN, 0.0)
    span = round(0.02 * source.sample_rate_hz)
    shares = np.full(len(attacks), np.nan)
    for index, frame in enumerate(attacks):
        whole = source.read(int(frame) - span, int(frame))
        power = float(np.square(whole, dtype=np.float64).sum())
        if power > 0:
            part = sustained.read(int(frame) - span, int(frame))
            rest = float(np.square(whole - part, dtype=np.float64).sum())
            shares[index] = 1 - min(1.0, rest / power)
    return shares
