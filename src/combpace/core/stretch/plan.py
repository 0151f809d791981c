"""Segments of a stretch: where each starts in the source and in the output, and which points between only
bend the map.

A segment runs from a moment before one attack to the same moment before the next. At both of its ends it is
the
source's own samples at the offset the attack there needs, so segments follow each other without any joint at
all:
whatever has to give lies inside of them.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import BoolArray, FloatArray, IntArray
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch.remembered import measured

# A segment starts this long before its attack.
PRE_S = 0.0025
# Growth in decibels, in any band, that makes a point an attack.
ATTACK_DB, PLAIN_DB, LASTING_DB, FAINT_DB = 4.0, 9.0, 2.5, 1.5
# Where more than this share of points are attacks beyond doubt, points are where attacks are.
MOSTLY, NEARLY_ALL = 0.4, 0.7
BAND_EDGES_HZ = (0.0, 200, 500, 1000, 2000, 4000, 8000)
# So far below the loudest point nothing is struck: a pause.
PAUSE_DB = 38.0
# Frames that are looked at at a time.
BATCH = 32
# Starts of the spans of 12 ms that are compared, from the frame.
LONG_BEFORE_MS, BEFORE_MS, AFTER_MS = (
    (-80.0, -72.0, -64.0, -56.0, -48.0, -40.0, -32.0, -24.0),
    (-20.0, -16.5),
    (-3.0, 1.0),
)
# A point may lie this far beside the attack it means; within NEAR_S it is taken as exact.
REACH_S, NEAR_S = 0.0075, 0.0015
# Less between a point and a later attack says nothing.
BETWEEN_S = 0.001
# Without an attack a segment is no longer than this: a preview starts at most so far before what is asked
# for, and memory stays small whatever is stretched. Its edge lies where it is quietest for QUIET_S in the
# last half.
LONGEST_S, QUIET_S = 16.0, 0.04
# Where a long start stays as it is, the rest is made longer or shorter by this factor at most.
BEND_AFTER = 1.3
# Attacks closer than this are one.
CLOSEST_S = 0.004
# How long is listened on either side of a moment.
WINDOW_S = 0.0116
# A course comes back to the map's where it need not run slower or faster than this beside it; each try is
# LATER times as late, within BACK_SHARE of the segment.
STEEPEST, LATER, BACK_SHARE = (0.35, 2.5), 1.5, 0.8
# Points of a course lie so many frames from each other at least.
POINTS_APART = 64


@dataclass(frozen=True, slots=True)
class Better:
    """How far an attack elsewhere within reach of a point must stand out from what lies at the point itself,
    in dB; one is enough.

    as_it_is  with all that is heard at the point
    alone     the same for an attack that comes later, when the sound from it on does not speak for the point
    """

    as_it_is: float
    alone: float


# What a string or several of them do within their first periods looks like attacks, too. A piano's stroke
# exactly on its point has another 2 ms later that stands out by up to 8 dB alone; of basses those on their
# points and those after them look alike.
BETTER_HIT, BETTER_CHORD, BETTER_LINE = Better(1.0, 3.0), Better(1.5, 9.0), Better(4.0, float("inf"))


@dataclass(frozen=True, slots=True)
class Segment:
    """One stretch of output that is made on its own.

    source, target       frames of its start and end: PRE_S before an attack where `starts` or `ends` say so
    inner_source/target  frames of the points between, relative to `source[0]` and `target[0]`
    starts, ends         whether the edge lies before an attack; else it is the map's own, or was set where
                         least is heard because no attack came for LONGEST_S
    """

    source: tuple[int, int]
    target: tuple[int, int]
    inner_source: tuple[int, ...]
    inner_target: tuple[int, ...]
    starts: bool
    ends: bool

    @property
    def have(self) -> int:
        """Frames of the source that it is made from."""
        return self.source[1] - self.source[0]

    @property
    def length(self) -> int:
        """Frames that it is to last."""
        return self.target[1] - self.target[0]

    @property
    def shape(self) -> tuple[object, ...]:
        """All that its sound depends on: where it lies in the output does not matter."""
        return (self.source, self.length, self.inner_source, self.inner_target, self.starts, self.ends)


def attacks_at(source: Source, frames: IntArray, *, lasting: bool = False) -> BoolArray:
    """Whether the sound grows at each frame: 12 ms just after against the louder of two spans just before, in
    seven bands.

    lasting  a growth below PLAIN_DB must also pass what was heard over the 80 ms before: partials that beat
             grow and fade all the time, and to take that for an attack would break a sustained sound. Where
             most frames pass, the frames do lie on attacks, and FAINT_DB is enough for the others, or nothing
             where nearly all do
    """
    short, long = measured(source, _growths, frames).swapaxes(0, 1)
    if not lasting:
        return np.asarray((short > ATTACK_DB).any(axis=1))
    sure: BoolArray = np.asarray(
        ((short > PLAIN_DB) | ((short > ATTACK_DB) & (long > LASTING_DB))).any(axis=1)
    )
    # Points in a pause, where a note has ended, say nothing of what the others are.
    heard = measured(source, _levels, frames)
    heard = heard > heard.max(initial=-np.inf) - PAUSE_DB
    share = float(sure[heard].mean()) if heard.any() else 0.0
    if share > NEARLY_ALL:
        return np.asarray(sure | heard)
    if share > MOSTLY:
        return np.asarray((short > FAINT_DB).any(axis=1) & (sure | heard))
    return sure


def _levels(source: Source, frames: IntArray) -> FloatArray:
    """Level of the WINDOW_S after each frame, dB; shape (frames,)."""
    size = max(32, round(WINDOW_S * source.sample_rate_hz))
    power = [
        float(np.mean(np.square(source.read(int(frame), int(frame) + size), dtype=np.float64)))
        for frame in frames
    ]
    return np.asarray(10 * np.log10(np.maximum(power, 1e-14)))


def _growths(source: Source, frames: IntArray) -> FloatArray:
    """Growth in dB over the 20 ms before and over the 80 ms before, per frame and band, shape (frames, 2,
    bands).
    """
    rate = source.sample_rate_hz
    size = max(32, round(WINDOW_S * rate))
    window = np.hanning(size + 1)[:size].astype(np.float32)
    freqs = fft.rfftfreq(size, 1 / rate)
    group = np.searchsorted(np.array(BAND_EDGES_HZ), freqs, "right") - 1
    starts = np.searchsorted(group, np.arange(len(BAND_EDGES_HZ)))
    starts = starts[starts < len(group)]
    tilt = ((freqs / 1000 + 0.05) ** 2).astype(np.float32)
    lags = [round(ms * rate / 1000) for ms in (*LONG_BEFORE_MS, *BEFORE_MS, *AFTER_MS)]
    span = lags[-1] - lags[0] + size
    grown = np.zeros((len(frames), 2, len(starts)))
    offsets = np.array(lags) - lags[0]
    for begin in range(0, len(frames), BATCH):
        batch = frames[begin : begin + BATCH]
        sounds = np.stack(
            [source.read(int(frame) + lags[0], int(frame) + lags[0] + span).mean(axis=0) for frame in batch]
        )
        windows = np.lib.stride_tricks.sliding_window_view(sounds, size, axis=1)[:, offsets]
        bands = np.add.reduceat(np.square(np.abs(fft.rfft(windows * window, axis=2))) * tilt, starts, axis=2)
        after = bands[:, -len(AFTER_MS) :].max(axis=1)
        floor = 3e-3 * after.sum(axis=1, keepdims=True) + 1e-9
        before = bands[:, : -len(AFTER_MS)]
        rows = slice(begin, begin + len(batch))
        grown[rows, 0] = 10 * np.log10((after + floor) / (before[:, -len(BEFORE_MS) :].max(axis=1) + floor))
        grown[rows, 1] = 10 * np.log10((after + floor) / (before.max(axis=1) + floor))
    return grown


def attacks_near(source: Source, frames: IntArray) -> FloatArray:
    """The best attack within reach of each frame, and how far it stands out from what lies at the frame
    itself.

    Points set by hand or by another program lie some milliseconds beside their attack; cutting there would
    cut the attack or let it be heard twice.
    Returns  (frame, dB as it is, dB alone) as in `Better`, shape (frames, 3); 0 dB where the frame is as good
    """
    rate = source.sample_rate_hz
    reach, near, step = round(REACH_S * rate), round(NEAR_S * rate), max(1, round(0.00025 * rate))
    found = np.column_stack([frames, np.zeros((len(frames), 2))]).astype(np.float64)
    places = np.arange(-reach, reach + 1, step)
    close = np.abs(places) <= near
    spans = [tuple(max(2, round(ms * rate / 1000)) for ms in pair) for pair in ((4.0, 6.0), (12.0, 8.0))]
    margin = max(before for _, before in spans)
    at, rows, between = places + reach + margin, np.arange(BATCH), max(1, round(BETWEEN_S * rate))
    first, last = -reach - margin - 1, reach + max(after for after, _ in spans)
    for begin in range(0, len(frames), BATCH):
        batch = np.asarray(frames[begin : begin + BATCH])
        power = np.stack([_steps(source.read(int(frame) + first, int(frame) + last)) for frame in batch])
        total = np.cumsum(power, axis=1)
        rises, floors = [], []
        for after, before in spans:
            loud, soft = _beside(total, at, after, before)
            floors.append(0.02 * loud.max(axis=1, keepdims=True) + 1e-12)
            rises.append(10 * np.log10((loud + 1e-12) / (soft + floors[-1])))
        best = np.argmax(rises[0], axis=1)
        # The longer spans must agree by half: within the period of a deep tone the short ones rise and fall.
        short, long = (rise[rows[: len(batch)], best] - rise[:, close].max(axis=1) for rise in rises)
        far = np.flatnonzero(np.abs(places[best]) > near)
        found[begin + far, 0] = batch[far] + places[best[far]]
        found[begin + far, 1] = np.maximum(0.0, np.minimum(short, 2 * long)[far])
        for k in far[places[best[far]] > 0]:
            until = at[best[k]]
            here = at[close & (at <= until - between)]
            out = []
            for (after, before), rise, floor in zip(spans, rises, floors, strict=True):
                loud, soft = _beside(total[k], here, np.minimum(after, until - here), before)
                out.append(
                    rise[k, best[k]] - float((10 * np.log10((loud + 1e-12) / (soft + floor[k]))).max())
                )
            found[begin + k, 2] = max(0.0, min(out[0], 2 * out[1]))
    return found


def _beside(
    total: FloatArray, at: IntArray, after: int | IntArray, before: int
) -> tuple[FloatArray, FloatArray]:
    """Mean power just after and just before places, from the running sum of power (its last axis)."""
    here = total[..., at]
    return np.maximum(total[..., at + after] - here, 0) / after, np.maximum(
        here - total[..., at - before], 0
    ) / before


def _steps(sound: Samples) -> FloatArray:
    """Power of the differentiated sound of all channels, a zero first: shape (frames,)."""
    power = np.zeros(sound.shape[1])
    for channel in sound.astype(np.float64):
        step = np.diff(channel)
        power[1:] += step * step
    return power


def plan(
    source: Source,
    time_map: TimeMap,
    attacks: BoolArray | None = None,
    *,
    lasting: bool = False,
    better: Better = BETTER_HIT,
    longest_s: float = LONGEST_S,
) -> list[Segment]:
    """Split a time map into segments at its attacks.

    attacks  which of the map's points carry one, shape (n,); measured when None
    lasting  see `attacks_at`
    better   how far an attack beside a point must stand out to be what the point means
    longest_s  no segment is longer, in the source or the target
    Returns  segments that follow each other without gap, in source and target
    """
    rate = source.sample_rate_hz
    a = np.round(time_map.source_s * rate).astype(np.int64)
    b = np.round(time_map.target_s * rate).astype(np.int64)
    hard = attacks_at(source, a, lasting=lasting) if attacks is None else attacks.copy()
    hard[0] = hard[-1] = False
    pre, closest = round(PRE_S * rate), round(CLOSEST_S * rate)
    edges: list[tuple[int, int]] = [(int(a[0]), int(b[0]))]
    found = np.flatnonzero(hard)
    for index, (near, as_it_is, alone) in zip(found, measured(source, attacks_near, a[found]), strict=True):
        at = int(near) if as_it_is > better.as_it_is or alone > better.alone else int(a[index])
        to = b[index] if at == a[index] else round(float(np.interp(at, a, b)))
        edge = (int(at) - pre, int(to) - pre)
        if min(edge[0] - edges[-1][0], edge[1] - edges[-1][1]) >= closest:
            edges.append(edge)
    last = (int(a[-1]), int(b[-1]))
    while len(edges) > 1 and min(last[0] - edges[-1][0], last[1] - edges[-1][1]) < closest:
        edges.pop()
    edges.append(last)
    eased = {edges[0], last, *_eased(source, edges, a, b, longest_s)}
    edges = sorted({*edges, *eased})
    segments = []
    for (s0, t0), (s1, t1) in itertools.pairwise(edges):
        # A point beside the attack that an edge was moved to says nothing more.
        inside = ~hard & (a > s0) & (a < s1) & (b > t0) & (b < t1)
        inside[0] = inside[-1] = False
        bend = [(int(u) - s0, int(v) - t0) for u, v in zip(a[inside], b[inside], strict=True)]
        bend = [
            point
            for point, before in zip(bend, [(0, 0), *bend], strict=False)
            if point[0] > before[0] and point[1] > before[1]
        ]
        segments.append(
            Segment(
                (s0, s1),
                (t0, t1),
                tuple(u for u, _ in bend),
                tuple(v for _, v in bend),
                starts=(s0, t0) not in eased,
                ends=(s1, t1) not in eased,
            )
        )
    return segments


def _eased(
    source: Source, edges: list[tuple[int, int]], a: IntArray, b: IntArray, longest_s: float
) -> set[tuple[int, int]]:
    """Edges for where none came for too long: (source frame, target frame)."""
    rate = source.sample_rate_hz
    longest, span = round(longest_s * rate), round(QUIET_S * rate)
    found: set[tuple[int, int]] = set()
    for (s0, t0), (s1, t1) in itertools.pairwise(edges):
        while max(s1 - s0, t1 - t0) > longest:
            # As far as the longer of the two sides allows.
            reach = int(longest * (s1 - s0) / max(s1 - s0, t1 - t0))
            lo, hi = s0 + reach // 2, s0 + reach
            if hi - lo < 2 * span or s1 - hi < span:
                break
            power = np.square(source.read(lo, hi)).sum(axis=0)
            count = len(power) // span
            at = (
                lo + int(np.argmin(power[: count * span].reshape(count, span).sum(axis=1))) * span + span // 2
            )
            edge = (at, round(float(np.interp(at, a, b))))
            if edge[1] <= t0 or edge[1] >= t1:
                break
            found.add(edge)
            s0, t0 = edge
    return found


def kept_head(segment: Segment, most: int, least: int, fixed: tuple[tuple[int, int], ...] = ()) -> int:
    """How many frames after the start may stay as they are, so that what must give then gives no more than
    BEND_AFTER.

    least  what stays in any case, but never more than a third of the segment
    fixed  points (source frame, output frame) that hold: what must give lies before the first
    What the map itself leaves as it is, up to its first point inside, stays so whatever comes after: a held
    note before a pause.
    """
    if segment.inner_source and abs(segment.inner_source[0] - segment.inner_target[0]) <= 1:
        return segment.inner_source[0]
    have, length = fixed[0] if fixed else (segment.have, segment.length)
    shorter = min(have, length)
    if length < have:
        room = (BEND_AFTER * length - have) / (BEND_AFTER - 1)
    else:
        room = (BEND_AFTER * have - length) / (BEND_AFTER - 1)
    return int(max(min(most, room), min(least, shorter // 3)))


def course(
    segment: Segment,
    head: int,
    tail: int,
    back: int = 0,
    fixed: tuple[tuple[int, int], ...] = (),
    pre: int = 0,
) -> tuple[FloatArray, FloatArray]:
    """Points (output frame, source frame) of a segment whose first `head` and last `tail` frames run at slope
    1.

    back   frames after the head within which the course is where the map alone would have it, more where that
           would be too steep, and before the end again; 0 leaves it to the rest
    fixed  points (source frame, output frame) that it goes through, instead of the map's from the first of
           them on
    pre    frames that an attack lies after an edge: with `back`, the map goes from attack to attack, not from
           edge to edge
    Returns  two arrays of one shape (points,), both increasing
    """
    have, length = segment.have, segment.length
    begins, ends = pre * segment.starts, pre * segment.ends
    source = np.array([begins, *segment.inner_source, have + ends], dtype=np.float64)
    target = np.array([begins, *segment.inner_target, length + ends], dtype=np.float64)
    out_points, in_points = [0.0, float(head)], [0.0, float(head)]
    first = back
    while head and back and head + back < BACK_SHARE * min(have, length):
        caught = float(np.interp(head + back, target, source))
        if STEEPEST[0] * back < caught - head < STEEPEST[1] * back:
            out_points.append(float(head + back))
            in_points.append(caught)
            break
        back = int(LATER * back)
    until = fixed[0][0] if fixed else have
    inner = [(u, v) for u, v in zip(source[1:-1], target[1:-1], strict=True) if u < until]
    last = length - tail - first
    if ends and first and last > out_points[-1]:
        left = float(np.interp(last, target, source))
        if STEEPEST[0] * first < have - tail - left < STEEPEST[1] * first:
            inner.append((left, float(last)))
    for u, v in [*inner, *fixed]:
        if (
            u > in_points[-1] + POINTS_APART
            and v > out_points[-1] + POINTS_APART
            and u < have - tail - POINTS_APART
            and v < length - tail - POINTS_APART
        ):
            out_points.append(v)
            in_points.append(u)
    return np.array([*out_points, length - tail, length]), np.array([*in_points, have - tail, have])
