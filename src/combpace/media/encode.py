"""Sound files out: WAV 16, 24, 32 float and FLAC, written in blocks; 16 bit is dithered, clipping is said and
avoided.
"""

from __future__ import annotations

import io
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr

from combpace.core.audio import Samples, Source
from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.pauses import Pauses, find_pauses, silenced
from combpace.media.decode import FileSource
from combpace.media.writing import put, sound_file

BLOCK_FRAMES = 65536
FORMATS = {
    "wav16": ("WAV", "PCM_16", ".wav"),
    "wav24": ("WAV", "PCM_24", ".wav"),
    "wav32f": ("WAV", "FLOAT", ".wav"),
    "flac": ("FLAC", "PCM_24", ".flac"),
}
_BYTES = {"PCM_16": 2, "PCM_24": 3, "FLOAT": 4}
# A little under 4 GiB: what a RIFF length can say, less room for headers.
RIFF_LIMIT_BYTES = 2**32 - 2**16
DITHER_SEED = 20_406
# The chunks before the sound lie within this.
_HEAD_BYTES = 512


@dataclass(frozen=True, slots=True)
class Written:
    """What was written: frames, the loudest sample before any lowering, by how many decibels it was lowered
    (0 or less), and which frames [start, stop) from the first one on are silenced pauses."""

    frames: int
    peak: float
    gain_db: float
    pauses: tuple[tuple[int, int], ...] = ()


def write_sound(
    source: Source,
    target: Path,
    kind: str,
    *,
    start: int = 0,
    stop: int | None = None,
    pauses: Pauses | None = None,
    attacks_s: Sequence[float] = (),
    on_progress: Callable[[float], None] | None = None,
) -> Written:
    """Write frames [start, stop) of a source; before its first frame and after its last is silence.

    kind     one of FORMATS
    pauses   what is silenced; attacks_s, seconds from the source's frame 0, are kept
    Returns  what was written; integer formats that would clip are lowered so that the loudest sample is at
             full scale
    """
    stop = source.frames if stop is None else stop
    tell = on_progress or (lambda share: None)
    rough = target.with_name(target.name + ".float")
    try:
        made = write_rough(
            source, rough, kind, start, stop, pauses, attacks_s, lambda share: tell(0.8 * share)
        )
        gain = needed_gain(made.peak, kind)
        finish_sound(rough, target, kind, gain, lambda share: tell(0.8 + 0.2 * share))
        return Written(made.frames, made.peak, 20 * float(np.log10(gain)), made.pauses)
    finally:
        rough.unlink(missing_ok=True)


def write_rough(
    source: Source,
    rough: Path,
    kind: str,
    start: int,
    stop: int,
    pauses: Pauses | None = None,
    attacks_s: Sequence[float] = (),
    tell: Callable[[float], None] = lambda share: None,
) -> Written:
    """The first half of `write_sound`: frames [start, stop) as a float file, its peak measured;
    `finish_sound` is the second.

    Several are written first where one gain is to hold for all. Raises as `write_sound` does.
    """
    if kind not in FORMATS:
        raise ParameterError(f"“{kind}” is not a format; use one of {', '.join(FORMATS)}.")
    if stop <= start:
        raise ParameterError("There is nothing to write: the range is empty.")
    if FORMATS[kind][0] == "FLAC" and source.channels > 8:
        raise MediaError(f"FLAC holds up to 8 channels, this sound has {source.channels}; choose WAV.")
    partial = rough.with_name(rough.name + ".part")
    try:
        peak = _write_float(source, rough, start, stop, tell)
        quiet = (
            ()
            if pauses is None
            else _silence(
                rough, partial, pauses, [time - start / source.sample_rate_hz for time in attacks_s]
            )
        )
        return Written(stop - start, peak, 0.0, quiet)
    finally:
        partial.unlink(missing_ok=True)


def needed_gain(peak: float, kind: str) -> float:
    """What integer formats are lowered by so that this peak is at full scale; 1 where it is below, and for
    float.
    """
    subtype = FORMATS[kind][1]
    if subtype == "FLOAT" or peak <= 0:
        return 1.0
    return min(1.0, (1.0 - 2.0 ** (-15 if subtype == "PCM_16" else -23)) / peak)


def finish_sound(
    rough: Path, target: Path, kind: str, gain: float, tell: Callable[[float], None] = lambda share: None
) -> None:
    """The second half of `write_sound`: a float file in its format, times a gain (of 1 in float). The float
    file may be gone then.
    """
    container, subtype, _ = FORMATS[kind]
    if subtype == "FLOAT":
        rough.replace(target)
        return
    with sf.SoundFile(rough) as data:
        if container == "WAV" and data.frames * data.channels * _BYTES[subtype] > RIFF_LIMIT_BYTES:
            container = "RF64"
    partial = target.with_name(target.name + ".part")
    try:
        _convert(rough, partial, container, subtype, gain, tell)
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)


def sound_bytes(kind: str, frames: int, channels: int, sample_rate_hz: int) -> int | None:
    """How large a WAV file of this will be, to the byte; None for FLAC, which depends on its sound."""
    container, subtype, _ = FORMATS[kind]
    if container != "WAV":
        return None
    size = frames * channels * _BYTES[subtype]
    empty = io.BytesIO()
    with sf.SoundFile(
        empty,
        "w",
        samplerate=sample_rate_hz,
        channels=channels,
        subtype=subtype,
        format="RF64" if size > RIFF_LIMIT_BYTES else "WAV",
    ) as out:
        out.write(np.zeros((0, channels), np.float32))
    return len(empty.getvalue()) + size + size % 2


def _write_float(source: Source, path: Path, start: int, stop: int, tell: Callable[[float], None]) -> float:
    peak = 0.0
    size = (stop - start) * source.channels * 4
    container = "RF64" if size > RIFF_LIMIT_BYTES else "WAV"
    with sound_file(
        path,
        samplerate=source.sample_rate_hz,
        channels=source.channels,
        subtype="FLOAT",
        format=container,
    ) as out:
        for at in range(start, stop, BLOCK_FRAMES):
            block = source.read(at, min(at + BLOCK_FRAMES, stop))
            if block.size:
                peak = max(peak, float(np.abs(block).max()))
            put(out, block.T, path)
            tell((at + block.shape[1] - start) / (stop - start))
    _without_a_clock(path)
    return peak


def _without_a_clock(path: Path) -> None:
    """Float files get a chunk `PEAK` that holds the time at which it was written: no clock stands in any file
    of ours.
    """
    with path.open("r+b") as file:
        head = file.read(_HEAD_BYTES)
        at = head.find(b"PEAK")
        if at >= 0:
            # Its size and version lie before the time.
            file.seek(at + 12)
            file.write(b"\x00\x00\x00\x00")


def _silence(
    rough: Path, partial: Path, pauses: Pauses, attacks_s: Sequence[float]
) -> tuple[tuple[int, int], ...]:
    """Silence the pauses of a float file, in its place."""
    with FileSource(rough) as sound:
        found = find_pauses(sound, pauses, attacks_s)
        if not found:
            return ()
        _write_float(_Silenced(sound, found), partial, 0, sound.frames, lambda share: None)
    partial.replace(rough)
    return tuple(found)


class _Silenced:
    """A `Source` with its pauses silenced."""

    def __init__(self, source: Source, pauses: Sequence[tuple[int, int]]) -> None:
        self._source, self._pauses = source, pauses
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz,
            source.channels,
            source.frames,
        )

    def read(self, start: int, stop: int) -> Samples:
        return silenced(self._source.read(start, stop), start, self._pauses, self.frames, self.sample_rate_hz)


def _convert(
    rough: Path, target: Path, container: str, subtype: str, gain: float, tell: Callable[[float], None]
) -> None:
    noise = np.random.default_rng(DITHER_SEED)
    step = 2.0**-15
    with (
        sf.SoundFile(rough) as data,
        sound_file(
            target, samplerate=data.samplerate, channels=data.channels, subtype=subtype, format=container
        ) as out,
    ):
        while True:
            block = data.read(BLOCK_FRAMES, dtype="float32", always_2d=True)
            if not len(block):
                return
            block = block * np.float32(gain)
            if subtype == "PCM_16" and block.any():
                # Triangular dither of two steps (Lipshitz, Wannamaker, Vanderkooy 1992).
                block = block + ((noise.random(block.shape) - noise.random(block.shape)) * step).astype(
                    np.float32
                )
            # Rounded here: the library's own conversion rounds towards minus infinity on some builds.
            if subtype == "PCM_16":
                put(out, np.clip(np.round(block * 32768.0), -32768, 32767).astype(np.int16), target)
            else:
                put(
                    out,
                    np.clip(np.round(block.astype(np.float64) * 8388608.0), -8388608, 8388607).astype(
                        np.int32
                    )
                    * 256,
                    target,
                )
            tell(data.tell() / max(1, data.frames))


class ResampledSource:
    """A `Source` at another rate, made in whole seconds so that every range gives the same samples; zero net
    delay.

    Beside each second lies a margin that is a whole number of frames at both rates, longer than the filter's
    reach.
    """

    MARGIN_S = 0.1

    def __init__(self, source: Source, sample_rate_hz: int) -> None:
        self._source = source
        self.sample_rate_hz = sample_rate_hz
        self.channels = source.channels
        self.frames = round(source.frames * sample_rate_hz / source.sample_rate_hz)
        self._kept: tuple[int, Samples] | None = None

    def read(self, start: int, stop: int) -> Samples:
        if self._source.sample_rate_hz == self.sample_rate_hz:
            return self._source.read(start, stop)
        rate = self.sample_rate_hz
        block = np.zeros((self.channels, max(0, stop - start)), np.float32)
        second = start // rate
        while second * rate < stop:
            lo, hi = max(start, second * rate), min(stop, (second + 1) * rate)
            if hi > lo:
                block[:, lo - start : hi - start] = self._second(second)[
                    :, lo - second * rate : hi - second * rate
                ]
            second += 1
        return block

    def _second(self, second: int) -> Samples:
        if self._kept is None or self._kept[0] != second:
            old, new = self._source.sample_rate_hz, self.sample_rate_hz
            common = math.gcd(old, new)
            steps = math.ceil(self.MARGIN_S * common)
            before, after = steps * (old // common), steps * (new // common)
            sound = self._source.read(second * old - before, (second + 1) * old + before)
            made = soxr.resample(sound.T, old, new, quality="VHQ").T
            self._kept = (second, np.ascontiguousarray(made[:, after : after + new], dtype=np.float32))
        return self._kept[1]


def at_rate(source: Source, sample_rate_hz: int) -> Source:
    """The source itself, or resampled."""
    return source if source.sample_rate_hz == sample_rate_hz else ResampledSource(source, sample_rate_hz)
