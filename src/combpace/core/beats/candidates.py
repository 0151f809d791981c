"""The readings that are offered for a take, and the one that most speaks for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from combpace.core.beats.activations import FRAMES_PER_S, Activations
from combpace.core.beats.attack_decoder import attack_pulse, attacks_of
from combpace.core.beats.decoder import LONGEST, SHORTEST, Weights, follow, joined
from combpace.core.beats.meter_network import log_odds, other_levels
from combpace.core.beats.readings import (
    NAMES,
    USUAL_BPM,
    Reading,
    Take,
    features,
    same_row,
    take_of,
    worth_of,
)
from combpace.core.beats.redecode import NEAR, NEAR_S
from combpace.core.beats.sections import joined_readings
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.errors import ParameterError

# Bands of gaps, in frames, in which a pulse is looked for beside the best at any tempo.
EVERY = (float(SHORTEST), float(LONGEST))
BANDS = ((97.0, 214.0), (53.0, 110.0), (31.0, 64.0), (18.0, 37.0))
# Mean log odds of being counted right, less EMPTY for a stretch without beats and for a rare tempo, from
# which on no other ways are looked for.
CERTAIN, EMPTY = 3.2, -2.0
# A pulse that jumps by part of a beat and goes on follows an accent, not the music.
JUMP = 4.0
# Most music lies between 70 and 160 quarters a minute (common practice), the songs that the worth of ways was
# learnt from lie farther out: a normal distribution over octaves, of this deviation.
USUAL_OCTAVES = 0.5
RARE = 0.5 / USUAL_OCTAVES**2
# Of what worth is learnt from, more songs than of most music go over to another beat.
JOINED = 1.0
# How sure the count is where nothing was compared: the pattern was certain, or the user said enough.
SURE = 0.98
# How much rarer than one click a beat a click is that goes twice or half as fast.
OTHER_CLICKS = 0.1
# Two ways to count are one where this share of the beats of each lies this near to one of the other, in
# frames of the pulse.
SHARED_BEATS, NEAR_FRAMES = 0.8, 3
# So many other ways to count are kept.
MOST_OTHERS = 8
# A run of beats at either end of a take that is shorter than this is no pulse.
LEAST_BEATS, SHORTEST_RUN_S = 4, 2.5


@dataclass(frozen=True, slots=True)
class TempoSpan:
    """Between two moments, beats per minute that may be read. Times in seconds; the whole take where they are
    not given.
    """

    low_bpm: float
    high_bpm: float
    start_s: float = 0.0
    end_s: float = float("inf")

    def __post_init__(self) -> None:
        if not (10.0 <= self.low_bpm < self.high_bpm <= 500.0):
            raise ParameterError(
                "A range of tempi goes from a lower to a higher value between 10 and 500 BPM, not "
                f"{self.low_bpm:g} to {self.high_bpm:g}."
            )
        if not 0.0 <= self.start_s < self.end_s:
            raise ParameterError("A stretch with a stated tempo ends after it starts. Nothing was changed.")

    @property
    def gaps(self) -> tuple[float, float, float, float]:
        """As `following.follow` takes them; a range narrower than a frame is widened to the frames about
        it.
        """
        low, high = 60.0 * FRAMES_PER_S / self.high_bpm, 60.0 * FRAMES_PER_S / self.low_bpm
        return self.start_s * FRAMES_PER_S, self.end_s * FRAMES_PER_S, low - 1.5, high + 1.5


def heard_at(pulse: Activations, rough: FloatArray) -> FloatArray:
    """Log odds of a beat at each of these moments, within -4 and 4.

    rough    seconds, shape (n,); outside the take the frame at its end counts
    Returns  shape (n,)
    """
    at = np.clip(
        np.round(rough * FRAMES_PER_S).astype(int)[:, None] + np.arange(-2, 3), 0, len(pulse.beat) - 1
    )
    return log_odds(pulse.beat[at].max(axis=1).astype(np.float64), 4.0)


def offered_readings(
    pulse: Activations, tempi: Sequence[TempoSpan], held: FloatArray, weights: Weights
) -> Iterator[Reading]:
    """Ways to count a take: the best pulse at any tempo first.

    Then the best in each band, the best through attacks alone, these and the first counted otherwise, steady
    ones, and those that change from one of these to another. Each is looked for only when it is asked for.
    Where the user states tempi, what obeys these alone; where the user states beats, what is followed through
    them, and every other way that has them anyway.
    """
    ways: list[Reading] = []
    for way in whole_readings(pulse, tempi, held, weights):
        ways.append(way)
        yield way
    if not tempi and not len(held):
        yield from joined_readings(take_of(pulse), ways)
    elif not tempi:
        yield from (
            way for way in offered_readings(pulse, (), np.zeros(0), weights) if has_beats_at(way.row, held)
        )


def has_beats_at(row: FloatArray, moments: FloatArray) -> bool:
    """Whether each of these moments is one of a row's beats, as near as what is stated may lie from what is
    heard. All in seconds.

    row      shape (beats,), increasing; moments: shape (n,)
    """
    if len(row) < 2:
        return False
    gaps = np.diff(row)
    nearest = np.argmin(np.abs(row[None, :] - moments[:, None]), axis=1)
    reach = np.minimum(NEAR * gaps[np.minimum(nearest, len(gaps) - 1)], NEAR_S)
    return bool(np.all(np.abs(row[nearest] - moments) <= reach))


def whole_readings(
    pulse: Activations, tempi: Sequence[TempoSpan], held: FloatArray, weights: Weights
) -> Iterator[Reading]:
    """Those of `offered_readings` that are one way from end to end."""
    odds = log_odds(pulse.beat.astype(np.float64), 10.0)
    asked = [span.gaps for span in tempi]
    # In a band, or where the user says that there is a pulse, the best there is counts, however faint.
    sure = replace(weights, second=weights.second + 5.0 * weights.top)
    found: list[FloatArray] = []

    def is_new(row: FloatArray, least: int) -> bool:
        fresh = len(row) >= least and not any(same_row(row, other) for other in found)
        if fresh:
            found.append(row)
        return fresh

    # Where the user says what may be read anywhere, nothing else is looked at.
    whole = [span for span in asked if span[0] <= 0 and span[1] >= len(odds) - 1]
    least, most = max([EVERY[0], *(span[2] for span in whole)]), min([EVERY[1], *(span[3] for span in whole)])
    every = (least, most) if least + 2 <= most else EVERY
    for name, band in (("first", every), *(("band", band) for band in BANDS if not whole)):
        runs = follow(odds, weights, asked, held * FRAMES_PER_S, band)
        if sum(map(len, runs)) < LEAST_BEATS and (found or asked or len(held)):
            runs = follow(odds, sure, asked, held * FRAMES_PER_S, band)
        row = joined(_without_scraps(runs, held * FRAMES_PER_S)) / FRAMES_PER_S
        if is_new(row, 2):
            yield Reading(name, row)
        elif not found and not asked and not len(held):
            return
    if asked or len(held):
        return
    struck = attack_pulse(attacks_of(pulse)) / FRAMES_PER_S
    if is_new(struck, 4):
        yield Reading("attacks", struck)
    for base in (found[0], struck):
        for row in other_levels(base):
            if is_new(row, 4):
                yield Reading("counted otherwise", row)
    yield from take_of(pulse).steady()


@dataclass(frozen=True, slots=True)
class Chosen:
    """A way to count.

    row      its beats in seconds, strictly increasing
    counted  0-1, how sure it is
    shared   0-1 for each beat, how much speaks for ways that have it
    others   (row, 0-1) of the ways that count it differently, the likeliest first; none where nothing was
             compared
    """

    row: FloatArray
    counted: float
    shared: FloatArray
    others: tuple[tuple[FloatArray, float], ...] = ()


def sure_of(row: FloatArray, counted: float = SURE) -> Chosen:
    """A way to count that nothing is compared with.

    row      beats, seconds, shape (n,); counted: how sure the level is, 0-1
    """
    return Chosen(row, counted, np.full(len(row), counted))


def sure_of_clicks(train: FloatArray) -> float:
    """How sure it is that each click is a beat, against twice and half as many, 0-1: by how usual their tempi
    are.

    train    seconds, shape (n,), two or more
    """
    bpm = 60.0 / float(np.median(np.diff(train)))
    each, *others = (np.exp(-RARE * np.log2(bpm * factor / USUAL_BPM) ** 2) for factor in (1.0, 0.5, 2.0))
    return float(each / (each + OTHER_CLICKS * sum(others)))


def best_of(pulse: Activations, offered: Iterable[Reading]) -> Chosen:
    """The way to count that most speaks for.

    Where the pattern of the first is certain no others are looked for.
    """
    take = take_of(pulse)
    ways: list[Reading] = []
    values: list[FloatArray] = []
    first = np.zeros(0)
    for way in offered:
        first = first if len(first) else way.row
        if len(way.row) < 4:
            continue
        found = features(take, way)
        if not ways and _is_certain(found):
            return sure_of(way.row)
        ways.append(way)
        values.append(found)
    if not ways:
        return sure_of(first, 0.5)
    seen = np.array(values)
    worth = worth_of(seen, [way.kind for way in ways]) - JUMP * np.minimum(1.0, seen[:, NAMES.index("jumps")])
    worth -= RARE * seen[:, NAMES.index("octaves squared")]
    worth -= JOINED * np.array([way.kind == "joined" for way in ways])
    likely = np.exp(worth - worth.max())
    likely /= likely.sum()
    near, own = _near(take, [way.row for way in ways])
    best = int(np.argmax(worth))
    row = ways[best].row
    alike = _alike(near, own, best)
    shared = likely @ near[:, take.frames(row)]
    others = _others([way.row for way in ways], likely, near, own, alike)
    return Chosen(row, float(likely[alike].sum()), np.minimum(SURE, shared), others)


def _others(
    rows: list[FloatArray], likely: FloatArray, near: NDArray[np.uint8], own: list[IntArray], used: np.ndarray
) -> tuple[tuple[FloatArray, float], ...]:
    """The ways that are not `used`, those that are alike as one under the likeliest of them."""
    left = ~used
    found: list[tuple[FloatArray, float]] = []
    while left.any() and len(found) < MOST_OTHERS:
        best = int(np.argmax(np.where(left, likely, -1.0)))
        same = left & _alike(near, own, best)
        found.append((rows[best], float(likely[same].sum())))
        left &= ~same
    return tuple(found)


def _alike(near: NDArray[np.uint8], own: list[IntArray], best: int) -> np.ndarray:
    """Which rows share enough beats with one of them: of the beats of each those that it has, and the other
    way round; shape (rows,).
    """
    beats = np.array([len(frames) for frames in own], np.float32)
    has = np.array([near[best, frames].sum(dtype=np.int64) for frames in own])
    alike: np.ndarray = (has >= SHARED_BEATS * beats) & (
        near[:, own[best]].sum(axis=1, dtype=np.int64) >= SHARED_BEATS * beats[best]
    )
    return alike


def _near(take: Take, rows: list[FloatArray]) -> tuple[NDArray[np.uint8], list[IntArray]]:
    """Which frames lie within NEAR_FRAMES of a beat of each row, 0 or 1, shape (rows, frames); and the frames
    of its beats.
    """
    own = [np.unique(take.frames(row)) for row in rows]
    near = np.zeros((len(rows), len(take.struck)), np.uint8)
    for k, frames in enumerate(own):
        near[k, frames] = 1
        near[k] = ndimage.maximum_filter1d(near[k], 2 * NEAR_FRAMES + 1)
    return near, own


def _is_certain(found: FloatArray) -> bool:
    level, covered, jumps, unusual = (
        found[NAMES.index(name)] for name in ("level over the take", "covered", "jumps", "octaves squared")
    )
    return bool(level > CERTAIN - EMPTY * (1 - covered) + RARE * unusual and not jumps)


def _without_scraps(runs: list[FloatArray], held: FloatArray) -> list[FloatArray]:
    """Without runs at either end that are too short for a pulse; the longest always stays."""
    kept = list(runs)

    def is_scrap(run: FloatArray) -> bool:
        short = len(run) < LEAST_BEATS or run[-1] - run[0] < SHORTEST_RUN_S * FRAMES_PER_S
        return short and not any(run[0] - 1 <= time <= run[-1] + 1 for time in held)

    while len(kept) > 1 and is_scrap(kept[0]):
        kept.pop(0)
    while len(kept) > 1 and is_scrap(kept[-1]):
        kept.pop()
    return kept
