"""The fewest tempo changes that keep every downbeat where it was played, within so many milliseconds.

A map is drawn through windows: each bar line may lie anywhere within the tolerance of its moment, an anchor
only on it. Tempi change on lines (or beats) alone. Which ends of straight pieces can be reached with one
piece, two, three ... is found exactly, set by set: a line through all windows between two places exists where
the slopes that every pair of windows allows leave room, and the ends that it can reach form an interval.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import ClockT, FloatArray
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import Knot, TempoMap

# Exact windows have this half width in seconds: below any sample, above rounding.
EXACT_S = 1e-9
# Beats between bar lines may lie so many times farther from where they were played than the lines.
BEATS_LOOSER = 3.0
# A ramp's ends lie on one of these parts of the tolerance.
RAMP_ENDS = (-0.5, 0.0, 0.5)
NEWTON_STEPS = 4
# No tempo doubles within one ramp.
MOST_BEND = np.log(2.0)
# So many windows are looked through at first, and twice as many while all of them leave room.
FIRST_LOOK = 32
# Of each place that so many pieces come to: the intervals of time (start, end) there, each with the place
# where its last piece began.
Reached = dict[int, list[tuple[float, float, int]]]


@dataclass(frozen=True, slots=True)
class Tidied:
    """A tidied map.

    changes, changes_before  how often the tempo changes in it, and in what it was made from
    largest_ms               how far the farthest bar line lies from where it was
    """

    changes: int
    changes_before: int
    largest_ms: float


def tidy(
    tempo_map: TempoMap[ClockT],
    first_s: float,
    last_s: float,
    within_ms: float,
    *,
    ramps: bool = False,
    on_beats: bool = False,
) -> tuple[TempoMap[ClockT], Tidied]:
    """The map with the fewest tempo changes that keeps each bar line within a distance.

    first_s, last_s  the part that is kept within it: from the bar line at or before the first to the one at
                     or after the last
    within_ms        anchors stay exact
    ramps            tempi may run in straight lines (between places on a lattice of half the distance); else
                     steps
    on_beats         tempi may change on every beat; else on bar lines, and where an anchor is
    Raises           ParameterError for a distance that is no number above 0
    """
    if not (np.isfinite(within_ms) and 0.0 < within_ms <= 1000.0):
        raise ParameterError(
            f"Bar lines are kept within more than 0 and up to 1000 ms, not {within_ms:g} ms. "
            "Nothing was changed."
        )
    places, half = _windows(tempo_map, first_s, last_s, within_ms / 1000.0, on_beats=on_beats)
    times = tempo_map.to_seconds(places)  # type: ignore[arg-type]
    chosen = _ramps(places, times, half) if ramps else _steps(places, times, half)
    fixed = {round(knot.quarters, 9): knot for knot in tempo_map.knots if knot.fixed}
    knots: list[Knot] = []
    for place, time, ramp in chosen:
        known = fixed.get(round(place, 9))
        knots.append(
            Knot(time, place, ramp=ramp)
            if known is None
            else Knot(known.time_s, known.quarters, True, known.locked, ramp=ramp)
        )
    made: TempoMap[ClockT] = _with_anchors(TempoMap(tuple(knots), tempo_map.meters), fixed)
    first, last = (
        tempo_map.bar_of(tempo_map.place(first_s) + 1e-6),
        tempo_map.bar_of(tempo_map.place(last_s) + 1e-6),
    )
    lines = tempo_map.bar_lines(first, max(1, last - first))
    off = np.abs(made.to_seconds(lines) - tempo_map.to_seconds(lines))
    return made, Tidied(tempo_changes(made), tempo_changes(tempo_map), 1000.0 * float(off.max()))


def tempo_changes(tempo_map: TempoMap[ClockT]) -> int:
    """How often a map's tempo changes its course: where it jumps, and where a ramp begins or ends; a map that
    is one ramp changes once.
    """
    start, end = tempo_map.span_ends_bpm
    jumps = np.abs(start[1:] / end[:-1] - 1) > 1e-9
    bends = np.abs(np.diff(tempo_map.bends)) > 1e-12
    both_ramps = (tempo_map.bends[1:] != 0) & (tempo_map.bends[:-1] != 0)
    return max(int((jumps | bends | both_ramps).sum()), int(tempo_map.has_ramps))


def _windows(
    tempo_map: TempoMap[ClockT], first_s: float, last_s: float, within_s: float, *, on_beats: bool
) -> tuple[FloatArray, FloatArray]:
    """(places, half widths in seconds of their windows) of everything that a piece may begin or end on."""
    first, last = (
        tempo_map.bar_of(tempo_map.place(first_s) + 1e-6),
        tempo_map.bar_of(tempo_map.place(last_s) - 1e-6) + 1,
    )
    lines = np.asarray(tempo_map.bar_lines(first, max(1, last - first)))
    half: dict[float, float] = {}
    if on_beats:
        for place in tempo_map.beats_between(float(lines[0]), float(lines[-1]) + 1e-6):
            half[round(float(place), 9)] = BEATS_LOOSER * within_s
    for place in lines:
        half[round(float(place), 9)] = within_s
    for knot in tempo_map.knots:
        if knot.fixed and lines[0] - 1e-6 <= knot.quarters <= lines[-1] + 1e-6:
            half[round(knot.quarters, 9)] = EXACT_S
    places = np.array(sorted(half))
    return places, np.array([half[place] for place in places])


def _with_anchors(line: TempoMap[ClockT], fixed: dict[float, Knot]) -> TempoMap[ClockT]:
    """Anchors outside of what was tidied, and those that a piece runs through, are knots too."""
    for knot in fixed.values():
        line = line.with_knot(knot.quarters)

    def anchored(knot: Knot) -> Knot:
        found = fixed.get(round(knot.quarters, 9))
        return (
            knot if found is None else Knot(found.time_s, found.quarters, True, found.locked, ramp=knot.ramp)
        )

    return TempoMap(tuple(map(anchored, line.knots)), line.meters)


# -- steps


def _steps(places: FloatArray, times: FloatArray, half: FloatArray) -> list[tuple[float, float, float]]:
    """(place, time, 1.0) of the ends of the fewest straight pieces through all windows."""
    low, high = times - half, times + half
    room = [_room(places, low, high, i) for i in range(len(places) - 1)]
    last = len(places) - 1
    reached: list[Reached] = [{0: [(float(low[0]), float(high[0]), -1)]}]
    while last not in reached[-1]:
        reached.append(_one_more(reached[-1], room))
    ends = [_nearest_to(times[last], reached[-1][last])]
    at, path = last, [last]
    for layer in range(len(reached) - 1, 0, -1):
        at, time = _back(reached, layer, at, ends[-1], places, low, high, times)
        path.append(at)
        ends.append(time)
    return [(float(places[k]), time, 1.0) for k, time in zip(reversed(path), reversed(ends), strict=True)]


@dataclass(frozen=True, slots=True)
class _Room:
    """From one place on: for each later one that a straight piece can come to, which times at its start leave
    room for it.

    distance, low, high  of the places after the start, shape (n,)
    least, most          shape (n,): the start must lie between these for a piece that passes all windows up
                         to there
    """

    distance: FloatArray
    low: FloatArray
    high: FloatArray
    least: FloatArray
    most: FloatArray


def _room(places: FloatArray, low: FloatArray, high: FloatArray, start: int) -> _Room:
    """Pairs of windows bound the start: the line below the one and above the other needs (low_a - y) / d_a <=
    (high_b - y) / d_b.
    """
    size, most_windows = FIRST_LOOK, len(places) - start - 1
    while True:
        size = min(size, most_windows)
        after = slice(start + 1, start + 1 + size)
        distance, lo, hi = places[after] - places[start], low[after], high[after]
        inverse = 1.0 / distance
        # Rows: the window that a line passes above; columns: the one that it passes below.
        slope = inverse[None, :] - inverse[:, None]
        bound = (hi * inverse)[None, :] - (lo * inverse)[:, None]
        with np.errstate(divide="ignore", invalid="ignore"):
            bound = bound / slope
        ceiling = _newest_of(np.where(slope > 1e-15, bound, np.inf), np.minimum, float(high[start]))
        floor = _newest_of(np.where(slope < -1e-15, bound, -np.inf), np.maximum, float(low[start]))
        closed = np.flatnonzero(floor > ceiling)
        if len(closed) or size == most_windows:
            count = int(closed[0]) if len(closed) else size
            return _Room(distance[:count], lo[:count], hi[:count], floor[:count], ceiling[:count])
        size *= 2


def _newest_of(pairs: FloatArray, pick: np.ufunc, begin: float) -> FloatArray:
    """For each window the tightest bound of all pairs up to it, shape (n,)."""
    none = np.inf if pick is np.minimum else -np.inf
    triangle = np.tri(len(pairs), dtype=bool)
    rows = pick.reduce(np.where(triangle, pairs, none), axis=1)
    columns = pick.reduce(np.where(triangle.T, pairs, none), axis=0)
    return np.asarray(pick.accumulate(pick(pick(rows, columns), begin)))


def _one_more(before: Reached, room: list[_Room]) -> Reached:
    """What one piece more comes to."""
    after: Reached = {}
    for start, found in before.items():
        if start >= len(room):
            continue
        here = room[start]
        for a, b in _joined(found):
            floor, ceiling = np.maximum(here.least, a), np.minimum(here.most, b)
            good = floor <= ceiling
            count = int(np.argmin(good)) if not np.all(good) else len(good)
            if not count:
                continue
            # The highest end comes from the lowest start, and the other way about: a line through a window
            # before it turns about that window.
            d = here.distance[:count]
            inside = np.tril(np.ones((count, count), dtype=bool))
            steepest = np.where(
                inside, (here.high[None, :count] - floor[:count, None]) / d[None, :], np.inf
            ).min(axis=1)
            flattest = np.where(
                inside, (here.low[None, :count] - ceiling[:count, None]) / d[None, :], -np.inf
            ).max(axis=1)
            top, bottom = floor[:count] + steepest * d, ceiling[:count] + flattest * d
            for m in range(count):
                after.setdefault(start + 1 + m, []).append((float(bottom[m]), float(top[m]), start))
    return after


def _joined(found: list[tuple[float, float, int]]) -> list[tuple[float, float]]:
    """The union of intervals, as intervals that do not touch."""
    joined: list[tuple[float, float]] = []
    for a, b, _ in sorted(found):
        if joined and a <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(b, joined[-1][1]))
        else:
            joined.append((a, b))
    return joined


def _nearest_to(time: float, intervals: list[tuple[float, float, int]]) -> float:
    inside = [min(max(float(time), a), b) for a, b, _ in intervals]
    return min(inside, key=lambda value: abs(value - time))


def _back(
    reached: list[Reached],
    layer: int,
    place: int,
    time: float,
    places: FloatArray,
    low: FloatArray,
    high: FloatArray,
    times: FloatArray,
) -> tuple[int, float]:
    """(where, when) the piece began that ends at a place and time with so many pieces; the beginning nearest
    to what was played.
    """
    best: tuple[float, int, float] | None = None
    for start in {begun for a, b, begun in reached[layer][place] if a - 1e-9 <= time <= b + 1e-9}:
        # A line through the end: at each window between it bounds where it began.
        between = np.arange(start + 1, place)
        share = (places[between] - places[start]) / (places[place] - places[start])
        floor = float(np.max((low[between] - time * share) / (1 - share), initial=low[start]))
        ceiling = float(np.min((high[between] - time * share) / (1 - share), initial=high[start]))
        for a, b in _joined(reached[layer - 1][start]):
            lo, hi = max(a, floor), min(b, ceiling)
            if lo > hi + 1e-9:
                continue
            begun = min(max(float(times[start]), lo), hi)
            worth = abs(begun - float(times[start]))
            if best is None or worth < best[0]:
                best = worth, start, begun
    assert best is not None
    return best[1], best[2]


# -- ramps


def _ramps(places: FloatArray, times: FloatArray, half: FloatArray) -> list[tuple[float, float, float]]:
    """(place, time, ramp) of the fewest ramps whose ends lie on a lattice in their windows; a step is a ramp
    of 1.
    """
    lattice = times[:, None] + half[:, None] * np.array(RAMP_ENDS)[None, :]
    last, ends = len(places) - 1, range(len(RAMP_ENDS))
    found: dict[tuple[int, int], tuple[tuple[int, int], float] | None] = {(0, k): None for k in ends}
    front = list(found)
    while not any((last, k) in found for k in ends):
        following: list[tuple[int, int]] = []
        for start in sorted({place for place, _ in front}):
            froms = [k for place, k in front if place == start]
            for stop in range(start + 1, last + 1):
                bends, missed = bends_between(places, times, half, lattice, start, stop, froms)
                for a, b in zip(*np.nonzero(np.isfinite(bends)), strict=True):
                    if (stop, int(b)) not in found:
                        found[stop, int(b)] = (start, froms[a]), float(np.exp(bends[a, b]))
                        following.append((stop, int(b)))
                # A ramp that comes farther passes here within its window, and a lattice end lies within half
                # of the window of it.
                if missed > 1.0:
                    break
        front = following
    at = min(((last, k) for k in ends if (last, k) in found), key=lambda key: abs(RAMP_ENDS[key[1]]))
    path: list[tuple[float, float, float]] = [(float(places[last]), float(lattice[at]), 1.0)]
    while (step := found[at]) is not None:
        at = step[0]
        path.append((float(places[at[0]]), float(lattice[at]), step[1]))
    return path[::-1]


def bends_between(
    places: FloatArray,
    times: FloatArray,
    half: FloatArray,
    lattice: FloatArray,
    start: int,
    stop: int,
    froms: list[int],
) -> tuple[FloatArray, float]:
    """Bends of ramps through all windows between lattice places of two ends.

    Returns  (shape (froms, ends), 0 where a step passes, else the middle of what does; NaN for none; by how
             many half windows the best misses)
    """
    begun, ended = lattice[start, froms][:, None], lattice[stop][None, :]
    length = ended - begun
    if stop == start + 1:
        return np.where(length > 0, 0.0, np.nan), 0.0
    inside = slice(start + 1, stop)
    share = (places[inside] - places[start]) / (places[stop] - places[start])
    with np.errstate(divide="ignore", invalid="ignore"):
        # The more a ramp speeds up, the later it is at every place between: each window bounds its bend on
        # both sides.
        least = _bend_through(share, (times[inside] - half[inside] - begun[..., None]) / length[..., None])
        most = _bend_through(share, (times[inside] + half[inside] - begun[..., None]) / length[..., None])
    low, high = least.max(axis=2), most.min(axis=2)
    good = (length > 0) & (low <= high) & (low <= MOST_BEND) & (high >= -MOST_BEND)
    low, high = np.maximum(low, -MOST_BEND), np.minimum(high, MOST_BEND)
    # A step where one will do; else the middle of what passes.
    bends: FloatArray = np.where(good, np.where((low <= 0) & (high >= 0), 0.0, 0.5 * (low + high)), np.nan)
    # What misses is measured where it is worst: how far apart two bounds are, in the time that a bend moves
    # the middle by.
    apart = np.where(length > 0, np.maximum(0.0, low - high) * length / 16.0, np.inf)
    return bends, float(apart.min() / half[inside].max())


def _bend_through(share: FloatArray, way: FloatArray) -> FloatArray:
    """The bend of the ramp that has run through `way` of its time where it has run through `share` of its
    quarters; by Newton's method.

    share  shape (n,); way  shape (..., n); bends beyond what is ever used come out beyond MOST_BEND
    """
    bow = share * (1.0 - share) / 2.0
    bend = np.clip((way - share) / bow, -2.0, 2.0)
    for _ in range(NEWTON_STEPS):
        flat = np.abs(bend) < 1e-4
        safe = np.where(flat, 1.0, bend)
        grown = np.expm1(safe) * share
        now = np.where(flat, share + bow * bend, np.log1p(grown) / safe)
        slope = np.where(flat, bow, ((grown + share) / (1.0 + grown) - now) / safe)
        bend = np.clip(bend - (now - way) / slope, -2.0, 2.0)
    return bend
