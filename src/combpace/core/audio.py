"""Sound in memory: float32, channels first."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from combpace.core.errors import ParameterError

Samples = NDArray[np.float32]

MIN_RATE_HZ = 1_000
MAX_RATE_HZ = 768_000


@dataclass(frozen=True, slots=True)
class Audio:
    """A piece of sound.

    samples         float32, shape (channels, frames); a one-dimensional array is taken as one channel
    sample_rate_hz  frames per second
    """

    samples: Samples
    sample_rate_hz: int

    def __post_init__(self) -> None:
        samples = np.asarray(self.samples, dtype=np.float32)
        if samples.ndim == 1:
            samples = samples[np.newaxis, :]
        if samples.ndim != 2 or samples.shape[0] < 1:
            raise ParameterError(f"Audio has the shape (channels, frames), not {np.shape(self.samples)}.")
        rate = int(self.sample_rate_hz)
        if not MIN_RATE_HZ <= rate <= MAX_RATE_HZ:
            raise ParameterError(f"A sample rate of {self.sample_rate_hz!r} Hz is not one that audio has.")
        object.__setattr__(self, "samples", samples)
        object.__setattr__(self, "sample_rate_hz", rate)

    @property
    def channels(self) -> int:
        return int(self.samples.shape[0])

    @property
    def frames(self) -> int:
        return int(self.samples.shape[1])

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate_hz


def mono(audio: Audio) -> Samples:
    """The plain mean of all channels, shape (frames,)."""
    if audio.channels == 1:
        return np.asarray(audio.samples[0])
    return np.asarray(audio.samples.mean(axis=0, dtype=np.float32))


class Source(Protocol):
    """Anything frames can be read from by position: an array in memory, a file, a bundle of takes."""

    @property
    def sample_rate_hz(self) -> int: ...

    @property
    def channels(self) -> int: ...

    @property
    def frames(self) -> int: ...

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), shape (channels, stop - start); zeros wherever there is no sound."""
        ...


def zero_padded(
    start: int, stop: int, frames: int, channels: int, read: Callable[[int, int], Samples]
) -> Samples:
    """Read [start, stop) from something that only has [0, frames); the rest is zeros."""
    lo, hi = max(start, 0), min(stop, frames)
    if lo == start and hi == stop:
        return read(lo, hi)
    block = np.zeros((channels, max(0, stop - start)), np.float32)
    if hi > lo:
        block[:, lo - start : hi - start] = read(lo, hi)
    return block


class ArraySource:
    """A `Source` over an `Audio` in memory."""

    def __init__(self, audio: Audio) -> None:
        self._audio = audio

    @property
    def sample_rate_hz(self) -> int:
        return self._audio.sample_rate_hz

    @property
    def channels(self) -> int:
        return self._audio.channels

    @property
    def frames(self) -> int:
        return self._audio.frames

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`: silence beyond both ends."""
        samples = self._audio.samples
        return zero_padded(start, stop, self.frames, self.channels, lambda lo, hi: samples[:, lo:hi])


class SideBySide:
    """All channels of several sources with a common start, one after the other; the longest ends it."""

    def __init__(self, sources: Sequence[Source]) -> None:
        """Raises ParameterError for no source, or for different sample rates."""
        rates = {source.sample_rate_hz for source in sources}
        if len(rates) != 1:
            raise ParameterError("Takes that sound as one need one sample rate. Nothing was changed.")
        self._sources = tuple(sources)
        self.sample_rate_hz = rates.pop()
        self.channels = sum(source.channels for source in sources)
        self.frames = max(source.frames for source in sources)

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop), shape (channels, stop - start); zeros wherever there is no sound."""
        return np.concatenate([source.read(start, stop) for source in self._sources])

    def channels_of(self, index: int) -> slice:
        """Which channels a source's are."""
        first = sum(source.channels for source in self._sources[:index])
        return slice(first, first + self._sources[index].channels)


def blocks(source: Source, size: int) -> Iterator[Samples]:
    """The whole source from its first frame to its last, `size` frames at a time."""
    for start in range(0, source.frames, size):
        yield source.read(start, min(start + size, source.frames))
