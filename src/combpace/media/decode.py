"""Sound files in: any of WAV, AIFF, FLAC, OGG, MP3, M4A, read in blocks under caps, whatever their headers claim."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import av
import numpy as np
import soundfile as sf

from combpace.core.audio import MAX_RATE_HZ, MIN_RATE_HZ, Samples, zero_padded
from combpace.core.errors import MediaError

BLOCK_FRAMES = 65536
MAX_CHANNELS = 32
MAX_DURATION_S = 4 * 3600.0
_SUBTYPES = {"PCM_S8": "PCM_16", "PCM_U8": "PCM_16", "PCM_16": "PCM_16", "PCM_24": "PCM_24"}


@dataclass(frozen=True, slots=True)
class Decoded:
    """What came out of a file.

    sample_rate_hz, channels, frames  of the decoded sound, which is the time base of every mark
    peak       largest absolute sample
    decoder    what read it, with its version
    notes      sentences the user should see: shorter than announced, silent, values that are not numbers
    """

    sample_rate_hz: int
    channels: int
    frames: int
    peak: float
    decoder: str
    notes: tuple[str, ...]

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate_hz


@dataclass(frozen=True, slots=True)
class _Stream:
    rate: int
    channels: int
    announced: int | None
    subtype: str
    decoder: str
    blocks: Iterator[Samples]


def decode_to_wav(source: Path, target: Path, *, name: str | None = None, on_progress: Callable[[float], None] | None = None) -> Decoded:
    """Decode a whole file into a WAV (RF64 where needed) that can be read from anywhere.

    Raises  MediaError for what is not audio, is empty, or goes beyond the caps; nothing is left at `target` then
    """
    shown = name or source.name
    try:
        with closing(_CloseLater()) as later:
            stream = _open(source, shown, later)
            return _copy(stream, target, shown, on_progress or (lambda share: None))
    except BaseException:
        target.unlink(missing_ok=True)
        raise


def _copy(stream: _Stream, target: Path, shown: str, tell: Callable[[float], None]) -> Decoded:
    frames, bad, peak = 0, 0, 0.0
    cut_short = False
    with sf.SoundFile(target, "w", samplerate=stream.rate, channels=stream.channels, subtype=stream.subtype, format="RF64") as out:
        try:
            for block in stream.blocks:
                finite = np.isfinite(block)
                if not finite.all():
                    bad += int(finite.size - finite.sum())
                    block = np.where(finite, block, np.float32(0))
                frames += block.shape[1]
                if frames > MAX_DURATION_S * stream.rate:
                    raise MediaError(
                        f"“{shown}” is longer than the {MAX_DURATION_S / 3600:g} hours that are taken. Nothing was imported; cut it first."
                    )
                if block.size:
                    peak = max(peak, float(np.abs(block).max()))
                out.write(block.T)
                if stream.announced:
                    tell(min(1.0, frames / stream.announced))
        except (sf.SoundFileError, av.FFmpegError):
            cut_short = True
    if not frames:
        raise MediaError(f"“{shown}” holds no sound. Nothing was imported.")
    return Decoded(stream.rate, stream.channels, frames, peak, stream.decoder, tuple(_notes(stream, frames, bad, peak, cut_short)))


def _notes(stream: _Stream, frames: int, bad: int, peak: float, cut_short: bool) -> Iterator[str]:
    length = _clock(frames / stream.rate)
    if stream.announced and frames < stream.announced - stream.rate // 20:
        yield f"This file ends after {length} although it announces {_clock(stream.announced / stream.rate)}. The {length} were imported."
    elif cut_short:
        yield f"This file is damaged after {length}. The {length} before were imported."
    if bad:
        yield f"{bad} samples of this file were no numbers; they were taken as silence."
    if peak < 1e-5:
        yield "This file is silent: there is nothing to find in it."


def _clock(seconds: float) -> str:
    if seconds < 60:
        return f"{seconds:.1f} s"
    if seconds < 36000:
        return f"{int(seconds // 60)} min {int(seconds % 60):02d} s"
    return f"{seconds / 3600:,.0f} hours"


class _CloseLater:
    """Collects what has to be closed when decoding ends, in whatever way."""

    def __init__(self) -> None:
        self._things: list[Callable[[], None]] = []

    def add(self, close: Callable[[], None]) -> None:
        self._things.append(close)

    def close(self) -> None:
        for close in self._things:
            close()


def _open(path: Path, shown: str, later: _CloseLater) -> _Stream:
    if path.stat().st_size == 0:
        raise MediaError(f"“{shown}” is empty. Nothing was imported.")
    try:
        sound = sf.SoundFile(path)
    except (sf.SoundFileError, RuntimeError):
        return _open_with_av(path, shown, later)
    later.add(sound.close)
    _check(sound.samplerate, sound.channels, shown)

    def blocks() -> Iterator[Samples]:
        while True:
            block = sound.read(BLOCK_FRAMES, dtype="float32", always_2d=True)
            if not len(block):
                return
            yield np.ascontiguousarray(block.T)

    # A header may claim anything; only what could be real is used to show progress.
    announced = sound.frames if 0 < sound.frames < 2**40 else None
    return _Stream(
        sound.samplerate, sound.channels, announced, _SUBTYPES.get(sound.subtype, "FLOAT"), f"libsndfile {sf.__libsndfile_version__}", blocks()
    )


def _open_with_av(path: Path, shown: str, later: _CloseLater) -> _Stream:
    refusal = MediaError(f"“{shown}” is not a sound file that can be read: WAV, AIFF, FLAC, OGG, MP3 and M4A are. Nothing was imported.")
    try:
        container = av.open(str(path))
    except (av.FFmpegError, ValueError, OSError) as error:
        raise refusal from error
    later.add(container.close)
    if not container.streams.audio:
        raise refusal
    track = container.streams.audio[0]
    rate, channels = int(track.rate or 0), int(track.channels or 0)
    _check(rate, channels, shown)
    announced = int(track.duration * track.time_base * rate) if track.duration and track.time_base else None

    def blocks() -> Iterator[Samples]:
        resampler = av.AudioResampler(format="fltp", layout=track.layout, rate=rate)
        for frame in container.decode(track):
            for part in resampler.resample(frame):
                yield np.ascontiguousarray(part.to_ndarray(), dtype=np.float32)
        for part in resampler.resample(None):
            yield np.ascontiguousarray(part.to_ndarray(), dtype=np.float32)

    return _Stream(rate, channels, announced, "FLOAT", f"FFmpeg libavcodec {av.library_versions['libavcodec'][0]}", blocks())


def _check(rate: int, channels: int, shown: str) -> None:
    if not MIN_RATE_HZ <= rate <= MAX_RATE_HZ:
        raise MediaError(f"“{shown}” claims a sample rate of {rate} Hz, which no audio has. Nothing was imported.")
    if not 1 <= channels <= MAX_CHANNELS:
        raise MediaError(f"“{shown}” has {channels} channels; up to {MAX_CHANNELS} are taken. Nothing was imported.")


class FileSource:
    """A `Source` over a decoded WAV: any range, without reading the rest."""

    def __init__(self, path: Path) -> None:
        self._file = sf.SoundFile(path)
        self.sample_rate_hz: int = self._file.samplerate
        self.channels: int = self._file.channels
        self.frames: int = self._file.frames

    def read(self, start: int, stop: int) -> Samples:
        return zero_padded(start, stop, self.frames, self.channels, self._read)

    def _read(self, start: int, stop: int) -> Samples:
        if stop <= start:
            return np.zeros((self.channels, 0), np.float32)
        if self._file.tell() != start:
            self._file.seek(start)
        block = self._file.read(stop - start, dtype="float32", always_2d=True).T
        return np.ascontiguousarray(block)

    def close(self) -> None:
        self._file.close()

    def __enter__(self) -> FileSource:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
