"""Peaks in several resolutions: the lowest and highest sample of each bin of the mono mix, as 16-bit pairs.

File: little-endian int16, bins of 32 frames first, then of 256, then of 2048; each level has ceil(frames /
size) bins, two values a bin. Nothing else is in the file: its layout follows from the number of frames.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from numpy.typing import NDArray

from combpace.core.audio import Source
from combpace.core.errors import ParameterError

SIZES = (32, 256, 2048)
# Bins of one frame are in no file: so many of them are read from the sound at once.
MOST_SAMPLES = 1 << 16
BLOCK_FRAMES = 2048 * 128
Pairs = NDArray[np.int16]


def bins_of(frames: int, size: int) -> int:
    return -(-frames // size)


def write_peaks(source: Source, target: Path, on_progress: Callable[[float], None] | None = None) -> None:
    """Read a source once and write all its levels."""
    levels: list[list[Pairs]] = [[] for _ in SIZES]
    for start in range(0, max(source.frames, 1), BLOCK_FRAMES):
        stop = min(start + BLOCK_FRAMES, source.frames)
        mix = source.read(start, stop).mean(axis=0)
        low, high = mix, mix
        per = 1
        for level, size in zip(levels, SIZES, strict=True):
            low, high = _reduced(low, size // per, np.minimum), _reduced(high, size // per, np.maximum)
            per = size
            level.append(np.stack([_scaled(low), _scaled(high)], axis=1))
        if on_progress:
            on_progress(stop / max(1, source.frames))
    with target.open("wb") as out:
        for level in levels:
            out.write(np.concatenate(level).astype("<i2").tobytes())


def peaks_in_memory(source: Source) -> bytes:
    """All levels of a source as a file would hold them."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "peaks"
        write_peaks(source, path)
        return path.read_bytes()


def peaks_at(data: bytes, frames: int, size: int, first: int, count: int) -> bytes:
    """As `read_peaks`, of what `peaks_in_memory` gave."""
    lo, hi = _span(frames, size, first, count)
    return data[4 * lo : 4 * hi]


def _reduced(values: NDArray[np.float32], factor: int, join: np.ufunc) -> NDArray[np.float32]:
    short = -len(values) % factor
    padded = np.concatenate([values, np.repeat(values[-1:], short)]) if short and len(values) else values
    return np.asarray(join.reduce(padded.reshape(-1, factor), axis=1), dtype=np.float32)


def _scaled(values: NDArray[np.float32]) -> Pairs:
    return np.round(np.clip(values, -1, 1) * 32767).astype(np.int16)


def read_peaks(path: Path, frames: int, size: int, first: int, count: int) -> bytes:
    """Bins [first, first + count) of one level as they lie in the file; fewer at its end."""
    lo, hi = _span(frames, size, first, count)
    with path.open("rb") as data:
        data.seek(4 * lo)
        return data.read(4 * (hi - lo))


def _span(frames: int, size: int, first: int, count: int) -> tuple[int, int]:
    """Where bins [first, first + count) of one level lie among all bins of a file: [from, to). Raises
    ParameterError.
    """
    if size not in SIZES:
        raise ParameterError(f"Peaks exist for 1, {', '.join(map(str, SIZES))} frames a bin, not {size}.")
    offset = sum(bins_of(frames, level) for level in SIZES[: SIZES.index(size)])
    bins = bins_of(frames, size)
    lo, hi = max(0, min(first, bins)), max(0, min(first + count, bins))
    return offset + lo, offset + max(lo, hi)


def samples_as_peaks(source: Source, first: int, count: int) -> bytes:
    """Bins of one frame each: twice the sample of the mono mix. At most MOST_SAMPLES; fewer at the end, none
    beyond it.
    """
    lo = max(0, min(first, source.frames))
    hi = max(lo, min(first + min(count, MOST_SAMPLES), source.frames))
    values = _scaled(source.read(lo, hi).mean(axis=0))
    return np.stack([values, values], axis=1).astype("<i2").tobytes()
