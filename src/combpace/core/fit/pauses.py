"""Pauses between notes, silenced: what is quieter than a limit for long enough, with short fades, never an
attack or a tail that is heard.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray
from combpace.core.errors import ParameterError

# Loudness is looked at in blocks of this length, seconds.
BLOCK_S = 0.001
# What was loud is left alone for so long, so that a tail is not cut at its last peak; longer than half a
# period of 20 Hz.
HOLD_S = 0.030
# Before what is loud, and before an attack however soft, all is as it was for so long.
BEFORE_S = 0.005
# Fades lie inside the pause: down at its beginning, up at its end.
DOWN_S, UP_S = 0.020, 0.005
READ_FRAMES = 1 << 18


@dataclass(frozen=True, slots=True)
class Pauses:
    """What is a pause.

    below_db  quieter than the loudest sample by more than this, 20-120
    least_s   for at least so long, 0.03-10
    """

    below_db: float = 50.0
    least_s: float = 0.080

    def __post_init__(self) -> None:
        if not (math.isfinite(self.below_db) and 20.0 <= self.below_db <= 120.0):
            raise ParameterError(f"A pause is 20 to 120 dB below the peak, not {self.below_db:g} dB.")
        if not (math.isfinite(self.least_s) and 0.030 <= self.least_s <= 10.0):
            raise ParameterError(f"A pause lasts at least 30 to 10000 ms, not {1000 * self.least_s:g} ms.")


def parse_pauses(text: str) -> Pauses:
    """ "50,80": dB below the peak, least length in ms."""
    parts = text.split(",")
    try:
        below_db, least_ms = (float(part) for part in parts)
    except ValueError:
        raise ParameterError(
            f"Limits of pauses are like 50,80 (dB below the peak, ms), not “{text}”."
        ) from None
    return Pauses(below_db, least_ms / 1000.0)


def find_pauses(
    source: Source, rule: Pauses, attacks_s: Sequence[float] | FloatArray = ()
) -> list[tuple[int, int]]:
    """The pauses of a sound as frames [start, stop), fades included, in their order.

    attacks_s  seconds from its first frame: moments that are kept with what leads to them, however soft they
               are
    """
    rate = source.sample_rate_hz
    block = max(1, round(BLOCK_S * rate))
    loudest = _loudest(source, block)
    if not len(loudest) or not loudest.max() > 0.0:
        return []
    loud = loudest >= loudest.max() * 10.0 ** (-rule.below_db / 20.0)
    at = np.floor(np.asarray(attacks_s, dtype=np.float64) * rate / block).astype(np.int64)
    loud[at[(at >= 0) & (at < len(loud))]] = True
    edges = np.diff(np.concatenate([[True], loud, [True]]).astype(np.int8))
    found = []
    for first, last in zip(np.flatnonzero(edges < 0), np.flatnonzero(edges > 0), strict=True):
        if (last - first) * block < rule.least_s * rate:
            continue
        start = 0 if first == 0 else first * block + round(HOLD_S * rate)
        stop = source.frames if last == len(loud) else last * block - math.ceil(BEFORE_S * rate)
        if stop - start >= round((DOWN_S + UP_S) * rate):
            found.append((int(start), int(stop)))
    return found


def silenced(
    block: Samples, start: int, pauses: Sequence[tuple[int, int]], frames: int, sample_rate_hz: int
) -> Samples:
    """A block with its pauses silenced; what lies in none is the same to the bit.

    block    shape (channels, n), frames [start, start + n) of a sound of `frames` frames
    Returns  the block itself where no pause meets it, else a copy
    """
    length = block.shape[1]
    down, up = round(DOWN_S * sample_rate_hz), round(UP_S * sample_rate_hz)
    made = block
    for first, stop in pauses:
        lo, hi = max(first, start), min(stop, start + length)
        if lo >= hi:
            continue
        place = np.arange(lo, hi)
        # No fade where the sound itself begins or ends in silence.
        fall = np.zeros(hi - lo) if first == 0 else np.clip(1.0 - (place - first) / down, 0.0, 1.0)
        rise = np.zeros(hi - lo) if stop == frames else np.clip(1.0 - (stop - place) / up, 0.0, 1.0)
        gain = np.sin(0.5 * np.pi * np.maximum(fall, rise)) ** 2
        if made is block:
            made = block.copy()
        made[:, lo - start : hi - start] *= gain.astype(np.float32)
    return made


def _loudest(source: Source, block: int) -> FloatArray:
    """The loudest sample of all channels in each block; the last one may be shorter."""
    whole = max(block, READ_FRAMES // block * block)
    parts = []
    for at in range(0, source.frames, whole):
        peak = np.abs(source.read(at, min(at + whole, source.frames))).max(axis=0)
        parts.append(np.maximum.reduceat(peak, np.arange(0, len(peak), block)))
    return np.concatenate(parts).astype(np.float64) if parts else np.zeros(0)
