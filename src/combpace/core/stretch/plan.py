"""Segments of a stretch: where each starts in the source and in the output, and which points between only bend the map."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy import fft

from combpace.core.audio import Source
from combpace.core.clocks import BoolArray, FloatArray, IntArray
from combpace.core.timemap import TimeMap

# A segment starts this long before its attack, after a crossfade of the same length out of the one before.
PRE_S = 0.0025
FADE_S = 0.0025
# A segment without an attack is not longer than this, so that memory and a preview's way to its start stay small.
LONGEST_S = 6.0
# Growth in decibels, in any band, that makes a point an attack.
ATTACK_DB = 4.0


@dataclass(frozen=True, slots=True)
class Segment:
    """One stretch of output that is made on its own.

    source, target       frames of its first and last point; the first is an attack unless `starts` is false
    inner_source/target  frames of the points between, relative to `source[0]` and `target[0]`
    starts, ends         whether the edge is an attack: it is kept as it is on either side
    """

    source: tuple[int, int]
    target: tuple[int, int]
    inner_source: tuple[int, ...]
    inner_target: tuple[int, ...]
    starts: bool
    ends: bool


def attacks_at(source: Source, frames: IntArray, least_db: float = ATTACK_DB) -> BoolArray:
    """Whether the sound grows at each frame: 12 ms just after against the louder of two spans just before, in seven bands."""
    rate = source.sample_rate_hz
    size = max(32, round(0.0116 * rate))
    window = np.hanning(size + 1)[:size].astype(np.float32)
    freqs = fft.rfftfreq(size, 1 / rate)
    edges = np.array([0.0, 200, 500, 1000, 2000, 4000, 8000])
    group = np.minimum(np.searchsorted(edges, freqs, "right") - 1, 6)
    tilt = ((freqs / 1000 + 0.05) ** 2).astype(np.float32)
    lags = [round(ms * rate / 1000) for ms in (-20.0, -16.5, -3.0, 1.0)]
    span = lags[-1] - lags[0] + size
    blocks = (
        np.stack([source.read(int(frame) + lags[0], int(frame) + lags[0] + span).mean(axis=0) for frame in frames])
        if len(frames)
        else np.zeros((0, span))
    )
    power = np.stack([np.square(np.abs(fft.rfft(blocks[:, lag - lags[0] : lag - lags[0] + size] * window, axis=1))) * tilt for lag in lags])
    starts = np.searchsorted(group, np.arange(7))
    bands = np.add.reduceat(power, starts[starts < len(group)], axis=2)
    before, after = bands[:2].max(axis=0), bands[2:].max(axis=0)
    floor = 3e-3 * after.sum(axis=1, keepdims=True) + 1e-9
    grows: BoolArray = (10 * np.log10((after + floor) / (before + floor))).max(axis=1) > least_db
    return grows


def plan(source: Source, time_map: TimeMap, attacks: BoolArray | None = None) -> list[Segment]:
    """Split a time map into segments at its attacks.

    attacks  which of the map's points carry one, shape (n,); measured when None
    Returns  segments that follow each other without gap, in source and target
    """
    rate = source.sample_rate_hz
    a = np.round(time_map.source_s * rate).astype(np.int64)
    b = np.round(time_map.target_s * rate).astype(np.int64)
    keep = np.concatenate([[True], (np.diff(a) > 0) & (np.diff(b) > 0)])
    if len(keep) > 2 and not keep[-1]:
        keep[-2], keep[-1] = False, True
    a, b = a[keep], b[keep]
    hard = attacks_at(source, a) if attacks is None else attacks[keep].copy()
    hard[0] = hard[-1] = True
    edges = [int(i) for i in np.flatnonzero(hard)]
    segments: list[Segment] = []
    for i, j in itertools.pairwise(edges):
        segments += _split(a[i : j + 1], b[i : j + 1], rate, starts=i > 0, ends=j < len(a) - 1)
    return segments


def _split(a: IntArray, b: IntArray, rate: int, *, starts: bool, ends: bool) -> list[Segment]:
    """One segment, or several where it is longer than LONGEST_S: forced edges behave like attacks."""
    longest = LONGEST_S * rate
    parts = int(np.ceil(max(int(a[-1] - a[0]), int(b[-1] - b[0])) / longest))
    cuts: list[tuple[int, int]] = [(int(a[0]), int(b[0]))]
    for k in range(1, parts):
        at = int(a[0] + (a[-1] - a[0]) * k / parts)
        cuts.append((at, round(float(np.interp(at, a, b)))))
    cuts.append((int(a[-1]), int(b[-1])))
    made = []
    for k, ((a0, b0), (a1, b1)) in enumerate(itertools.pairwise(cuts)):
        inside = (a > a0) & (a < a1) & (b > b0) & (b < b1)
        made.append(
            Segment(
                (a0, a1),
                (b0, b1),
                tuple(int(v) for v in a[inside] - a0),
                tuple(int(v) for v in b[inside] - b0),
                starts if k == 0 else True,
                ends if k == len(cuts) - 2 else True,
            )
        )
    return made


def inner_course(segment: Segment, length_in: int, length_out: int, head: int, tail: int) -> tuple[FloatArray, FloatArray]:
    """Points (output frame, source frame) of a segment whose first `head` and last `tail` frames run at slope 1."""
    source = np.array(segment.inner_source, dtype=np.float64)
    target = np.array(segment.inner_target, dtype=np.float64)
    fits = (source > head + 64) & (target > head + 64) & (source < length_in - tail - 64) & (target < length_out - tail - 64)
    return (
        np.concatenate([[0.0, head], target[fits], [length_out - tail, length_out]]),
        np.concatenate([[0.0, head], source[fits], [length_in - tail, length_in]]),
    )
