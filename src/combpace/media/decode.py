"""Sound files in: any of WAV, AIFF, FLAC, OGG, MP3, M4A, read in blocks under caps, whatever their headers
claim.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

import av
import numpy as np
import soundfile as sf
from av.audio.stream import AudioStream
from av.container import InputContainer

from combpace.core.audio import MAX_RATE_HZ, MIN_RATE_HZ, Samples, zero_padded
from combpace.core.errors import MediaError
from combpace.media.announced import Announced, Patched, announced
from combpace.media.writing import put, sound_file

BLOCK_FRAMES = 65536
MAX_CHANNELS = 32
MAX_DURATION_S = 4 * 3600.0
# Raised where the same file comes out otherwise than before.
DECODE_VERSION = 1
# All that decides how a file comes out.
DECODERS = f"{DECODE_VERSION}, libsndfile {sf.__libsndfile_version__}, FFmpeg {av.library_versions}"
# A length that is only estimated, as MP3's is, may be so many frames off: header, decoder delay and padding.
ESTIMATED_FRAMES = 6 * 1152
# 100 dB above full scale: no audio goes there, also where floats hold whole numbers.
MOST_SAMPLE = 1e5
# What FFmpeg may open, by its names for formats.
AV_FORMATS = ("wav", "w64", "aiff", "flac", "ogg", "mp3", "aac", "mov", "caf")
# Packets that may be damaged in one file, and the longest stretch that one of them may leave empty.
MOST_FAULTS, MOST_GAP_S = 1000, 10.0
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


@dataclass(slots=True)
class _Stream:
    """A file that is being decoded.

    announced, exact  frames that it says it has, and whether that is so to the frame
    md5               of the sound as whole numbers, and their bits, where the file states it
    gaps              frames that could not be decoded and are silence
    """

    rate: int
    channels: int
    announced: int | None
    subtype: str
    decoder: str
    blocks: Iterator[Samples]
    exact: bool = False
    md5: tuple[bytes, int] | None = None
    gaps: int = 0


@dataclass(frozen=True, slots=True)
class _Written:
    frames: int
    bad: int
    peak: float
    broke: bool
    other: bool


def decode_to_wav(
    source: Path, target: Path, *, name: str | None = None, on_progress: Callable[[float], None] | None = None
) -> Decoded:
    """Decode a whole file into a WAV (RF64 where needed) that can be read from anywhere. Every whole frame
    that is there is kept.

    Raises  MediaError for what is not audio, is empty, or goes beyond the caps, OSError where the disk is
            full; nothing is left at `target` then
    """
    shown = name or source.name
    tell = on_progress or (lambda share: None)
    if source.stat().st_size == 0:
        raise MediaError(f"“{shown}” is empty. Nothing was imported.")
    try:
        with ExitStack() as later:
            said = announced(source)
            stream = _open(source, shown, later, said)
            written = _copy(stream, target, shown, tell)
            if written.broke and stream.decoder.startswith("libsndfile"):
                # The block that it broke off in is lost with it; another decoder goes on behind the fault.
                again = _open_with_av(source, shown, later)
                second = target.with_name(target.name + ".again")
                try:
                    other = _copy(again, second, shown, tell)
                    if other.frames > written.frames:
                        second.replace(target)
                        again.announced, again.exact = stream.announced, stream.exact
                        stream, written = again, other
                except MediaError:
                    # It cannot read it at all: what there is stays.
                    pass
                finally:
                    second.unlink(missing_ok=True)
            if not written.frames:
                raise MediaError(f"“{shown}” holds no sound. Nothing was imported.")
            return Decoded(
                stream.rate,
                stream.channels,
                written.frames,
                written.peak,
                stream.decoder,
                tuple(_notes(stream, written, said.ends)),
            )
    except BaseException:
        target.unlink(missing_ok=True)
        raise


def _copy(stream: _Stream, target: Path, shown: str, tell: Callable[[float], None]) -> _Written:
    frames, bad, peak, broke = 0, 0, 0.0, False
    blocks, digest = iter(stream.blocks), hashlib.md5(usedforsecurity=False)
    with sound_file(
        target, samplerate=stream.rate, channels=stream.channels, subtype=stream.subtype, format="RF64"
    ) as out:
        while True:
            try:
                block = next(blocks, None)
            except (sf.SoundFileError, av.FFmpegError):
                broke = True
                break
            if block is None:
                break
            with np.errstate(invalid="ignore"):
                good = np.abs(block) <= MOST_SAMPLE
            if not good.all():
                bad += int(good.size - good.sum())
                block = np.where(good, block, np.float32(0))
            if stream.md5:
                digest.update(_whole_numbers(block, stream.md5[1]))
            frames += block.shape[1]
            if frames > MAX_DURATION_S * stream.rate:
                raise MediaError(
                    f"“{shown}” is longer than the {MAX_DURATION_S / 3600:g} hours that are taken. "
                    "Nothing was imported; cut it first."
                )
            if block.size:
                peak = max(peak, float(np.abs(block).max()))
            put(out, block.T, target)
            if stream.announced:
                tell(min(1.0, frames / stream.announced))
    return _Written(frames, bad, peak, broke, stream.md5 is not None and digest.digest() != stream.md5[0])


def _whole_numbers(block: Samples, bits: int) -> bytes:
    """What a FLAC's MD5 is made of: frame after frame, little-endian (RFC 9639, 8.2). Floats hold 24 bits to
    the last one.
    """
    numbers = np.round(block.T.astype(np.float64) * 2 ** (bits - 1)).astype("<i4")
    if bits == 16:
        return bytes(numbers.astype("<i2").data)
    packed: bytes = np.ascontiguousarray(numbers.reshape(-1, 1).view(np.uint8)[:, :3]).tobytes()
    return packed


def _notes(stream: _Stream, written: _Written, ends: bool) -> Iterator[str]:
    length = _clock(written.frames / stream.rate)
    # A decoder may leave out what an encoder put before and behind the sound.
    missing = (stream.announced or 0) - written.frames
    if missing > (0 if stream.exact else max(stream.rate // 20, ESTIMATED_FRAMES)):
        announces = _clock((stream.announced or 0) / stream.rate)
        announces = (
            f"{missing:,} {'frame' if missing == 1 else 'frames'} more" if announces == length else announces
        )
        yield f"This file ends after {length} although it announces {announces}. The {length} were imported."
    elif written.broke:
        yield f"This file is damaged after {length}. The {length} before were imported."
    elif not ends:
        yield (
            f"This file breaks off after {length}: its last page is missing, and how much more it had "
            f"cannot be told. The {length} were imported."
        )
    if stream.announced and stream.exact and missing < 0:
        yield (
            f"This file announces {_clock(stream.announced / stream.rate)} but holds {length}. All of "
            "it was imported."
        )
    if stream.gaps:
        yield (
            f"{1000 * stream.gaps / stream.rate:,.0f} ms of this file are damaged; they are silence, "
            "all else is in its place."
        )
    elif written.other and missing <= 0:
        yield (
            "Some of this file is damaged: its sound is not what it was made of. All that can be read "
            "was imported, in its place."
        )
    if written.bad:
        yield f"{written.bad} samples of this file were not numbers, or far too large; they are silence now."
    if written.peak < 1e-5:
        yield "This file is silent: there is nothing to find in it."


def _clock(seconds: float) -> str:
    if seconds < 60:
        return f"{seconds:.1f} s"
    if seconds < 36000:
        return f"{int(seconds // 60)} min {int(seconds % 60):02d} s"
    return f"{seconds / 3600:,.0f} hours"


def _open(path: Path, shown: str, later: ExitStack, said: Announced) -> _Stream:
    patched = later.enter_context(closing(Patched(path, said.patches))) if said.patches else None
    try:
        sound = sf.SoundFile(patched or path)
    except (sf.SoundFileError, RuntimeError, TypeError, ValueError, ZeroDivisionError):
        return _open_with_av(path, shown, later)
    later.callback(sound.close)
    _check(sound.samplerate, sound.channels, shown)
    if sound.format == "FLAC" and said.frames != (held := _frames_held(path)):
        # It reads no further than is announced, and loses its last block where less is there.
        stream = _open_with_av(path, shown, later)
        stream.announced, stream.exact, stream.md5 = (
            said.frames,
            held is not None and said.frames is not None,
            said.md5,
        )
        return stream

    def blocks() -> Iterator[Samples]:
        while True:
            block = sound.read(BLOCK_FRAMES, dtype="float32", always_2d=True)
            if not len(block):
                return
            yield np.ascontiguousarray(block.T)

    # A header may claim anything; only what could be real is used to show progress.
    frames = said.frames if said.frames is not None else sound.frames
    return _Stream(
        sound.samplerate,
        sound.channels,
        frames if 0 < frames < 2**40 else None,
        _SUBTYPES.get(sound.subtype, "FLOAT"),
        f"libsndfile {sf.__libsndfile_version__}",
        blocks(),
        exact=said.frames is not None,
        md5=said.md5,
    )


@contextmanager
def open_with_av(path: Path) -> Iterator[InputContainer]:
    """Open a file with FFmpeg as one of the formats that are taken, and nothing else: a playlist would open
    the files that it names.

    Raises  av.FFmpegError, ValueError, OSError
    """
    with (
        path.open("rb") as file,
        av.open(
            file, "r", options={"format_whitelist": ",".join(AV_FORMATS), "protocol_whitelist": "none"}
        ) as container,
    ):
        if not set(container.format.name.split(",")) & set(AV_FORMATS):
            raise ValueError(f"{container.format.name} is not taken")
        yield container


def _frames_held(path: Path) -> int | None:
    """How many frames the packets of a file hold, counted; None where they cannot be."""
    try:
        with open_with_av(path) as container:
            track = container.streams.audio[0]
            rate = int(track.rate or 0)
            total = 0
            for packet in container.demux(track):
                if packet.duration is not None and packet.time_base is not None and packet.size:
                    total += round(packet.duration * packet.time_base * rate)
            return total
    except (av.FFmpegError, ValueError, OSError, IndexError):
        return None


def _open_with_av(path: Path, shown: str, later: ExitStack) -> _Stream:
    refusal = MediaError(
        f"“{shown}” is not a sound file that can be read: WAV, AIFF, FLAC, OGG, MP3 and M4A are. "
        "Nothing was imported."
    )
    try:
        container = later.enter_context(open_with_av(path))
    except (av.FFmpegError, ValueError, OSError) as error:
        raise refusal from error
    if not container.streams.audio:
        raise refusal
    track = container.streams.audio[0]
    # What has no decoder has no rate either: a WAV file of 0 bits, for one.
    if track.codec_context is None:
        raise refusal
    rate, channels = int(track.rate or 0), int(track.channels or 0)
    _check(rate, channels, shown)
    length = int(track.duration * track.time_base * rate) if track.duration and track.time_base else None
    # 24 bits pass through floats unchanged; what was 16 bits is kept as 16.
    subtype = (
        {"s16": "PCM_16", "s16p": "PCM_16"}.get(track.format.name, "FLOAT")
        if container.format.name == "flac"
        else "FLOAT"
    )
    stream = _Stream(
        rate, channels, length, subtype, f"FFmpeg libavcodec {av.library_versions['libavcodec'][0]}", iter(())
    )
    stream.blocks = _av_blocks(container, track, stream)
    return stream


def _av_blocks(container: InputContainer, track: AudioStream, stream: _Stream) -> Iterator[Samples]:
    """All that can be decoded; behind what cannot, at the time that the next frame states."""
    resampler = av.AudioResampler(format="fltp", layout=track.layout, rate=stream.rate)
    at, first, faults = 0, None, 0
    for packet in container.demux(track):
        try:
            frames = packet.decode()
        except av.error.InvalidDataError:
            faults += 1
            if faults > MOST_FAULTS:
                raise
            continue
        for frame in frames:
            if frame.pts is not None and frame.time_base is not None:
                stated = round(frame.pts * frame.time_base * stream.rate)
                first = stated if first is None else first
                gap = stated - first - at
                if faults and 0 < gap <= MOST_GAP_S * stream.rate:
                    stream.gaps += gap
                    at += gap
                    yield np.zeros((stream.channels, gap), np.float32)
            for part in resampler.resample(frame):
                block = np.ascontiguousarray(part.to_ndarray(), dtype=np.float32)
                at += block.shape[1]
                yield block
    for part in resampler.resample(None):
        yield np.ascontiguousarray(part.to_ndarray(), dtype=np.float32)


def _check(rate: int, channels: int, shown: str) -> None:
    if not MIN_RATE_HZ <= rate <= MAX_RATE_HZ:
        raise MediaError(
            f"“{shown}” claims a sample rate of {rate} Hz, which no audio has. Nothing was imported."
        )
    if not 1 <= channels <= MAX_CHANNELS:
        raise MediaError(
            f"“{shown}” has {channels} channels; up to {MAX_CHANNELS} are taken. Nothing was imported."
        )


UNREADABLE = (
    "A sound in the data folder is damaged or cut off. Nothing was changed; listen to its take again, or "
    "render it again."
)


class FileSource:
    """A `Source` over a decoded WAV: any range, without reading the rest."""

    def __init__(self, path: Path) -> None:
        try:
            self._file = sf.SoundFile(path)
        except sf.SoundFileError as error:
            raise MediaError(UNREADABLE) from error
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
        try:
            block = self._file.read(stop - start, dtype="float32", always_2d=True).T
        except sf.SoundFileError as error:
            raise MediaError(UNREADABLE) from error
        if block.shape[1] < stop - start:
            # It is shorter than it says: silence in its place would be taken for its sound.
            raise MediaError(UNREADABLE)
        return np.ascontiguousarray(block)

    def close(self) -> None:
        self._file.close()

    def __enter__(self) -> FileSource:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
