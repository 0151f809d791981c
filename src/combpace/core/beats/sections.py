"""Ways to count that change from one part of a take to another.

Where 4/4 goes over to 7/8 the eighth becomes the beat, and a song may go on at half its tempo: no single way
to count holds from end to end. Where two ways share a beat, one may go over into the other; whether that is
better is what the pattern says of the beats of each, moment by moment.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from combpace.core.beats.meter_network import Pattern, log_odds
from combpace.core.beats.readings import Reading, Take, same_row
from combpace.core.clocks import FloatArray

# What the pattern says is compared at this rate.
STEPS_PER_S = 20
# Two ways share a beat where they are this near, in seconds.
SHARED_S = 0.04
# A section lasts this long at least.
SHORTEST_SECTION_S = 4.0
# In log odds times seconds: what going over costs, what a section must gain, and how much of that for each
# second.
OVER, GAIN, EACH = 3.0, 5.0, 1.0
# Log odds where a way has no beats: of the one that is changed, and of the other.
EMPTY, OTHERS_EMPTY = -1.0, -2.0
# How many ways are tried to be changed, the likeliest first, and how often each.
BASES, TURNS = 4, 2
LEAST_BEATS = 8


def said_of(pattern: Pattern, row: FloatArray, steps: int, empty: float) -> FloatArray:
    """Log odds of being counted right of a row of beats (seconds), at STEPS_PER_S; `empty` where there are no
    beats.

    row      shape (n,), two or more; steps: how many of them the take has
    Returns  shape (steps,)
    """
    level = log_odds(pattern.level.astype(np.float64), 4.0)
    times = (np.arange(steps) + 0.5) / STEPS_PER_S
    at = np.searchsorted(row, times, side="right") - 1
    inside = (at >= 0) & (times < row[-1] + (row[-1] - row[-2]))
    result: FloatArray = np.where(inside, level[np.clip(at, 0, len(row) - 1)], empty)
    return result


def shared_beats(base: FloatArray, other: FloatArray) -> FloatArray:
    """Beats of the base that the other has too.

    base, other  seconds, shapes (n,) and (m,), increasing
    Returns      those of the base, shape (k,)
    """
    place = np.clip(np.searchsorted(other, base), 1, len(other) - 1)
    result: FloatArray = base[
        np.minimum(np.abs(other[place] - base), np.abs(other[place - 1] - base)) < SHARED_S
    ]
    return result


def better_section(
    base: FloatArray, said: FloatArray, other: FloatArray, said_there: FloatArray
) -> tuple[float, float, float] | None:
    """Where the other way to count is better than the base: (gain, from, to), or None.

    base, other        beats in seconds
    said, said_there   as `said_of` gives them; the section begins and ends at a beat of both or an end of the
                       take
    """
    shared = shared_beats(base, other)
    if not len(shared):
        return None
    total = np.concatenate([[0.0], np.cumsum(said_there - said)]) / STEPS_PER_S
    until = (len(total) - 1) / STEPS_PER_S
    at = np.concatenate([[0.0], shared, [until]])
    worth = total[np.clip(np.round(at * STEPS_PER_S).astype(int), 0, len(total) - 1)]
    first, last = float(base[0]), float(base[-1])
    found: list[tuple[float, float, float]] = []
    # From the start, or to the end.
    starts = np.where(at - first >= SHORTEST_SECTION_S, worth - OVER, -np.inf)[1:-1]
    ends = np.where(last - at >= SHORTEST_SECTION_S, worth[-1] - worth - OVER, -np.inf)[1:-1]
    k, m = int(np.argmax(starts)), int(np.argmax(ends))
    found += [(float(starts[k]), 0.0, float(shared[k])), (float(ends[m]), float(shared[m]), until)]
    # From one shared beat to a later one: the best beginning for each end.
    low = np.minimum.accumulate(worth[1:-1])
    before = np.searchsorted(shared, shared - SHORTEST_SECTION_S, side="right") - 1
    inner = np.where(before >= 0, worth[1:-1] - low[np.maximum(before, 0)] - 2 * OVER, -np.inf)
    j = int(np.argmax(inner))
    if before[j] >= 0:
        i = int(np.argmin(worth[1 : before[j] + 2]))
        found.append((float(inner[j]), float(shared[i]), float(shared[j])))
    # What is better from end to end is another way to count, not a section.
    good = [
        one
        for one in found
        if one[0] > worth[-1] and one[0] >= max(GAIN, EACH * (min(one[2], last) - max(one[1], first)))
    ]
    return max(good, default=None)


def changed(base: FloatArray, other: FloatArray, start_s: float, end_s: float) -> FloatArray:
    """The base with the other's beats from one moment to another, both beats of both or ends of the take.

    base, other  seconds, shapes (n,) and (m,), increasing
    Returns      the same of another length
    """
    outside = base[(base < start_s - SHARED_S) | (base > end_s + SHARED_S)]
    inside = other[(other >= start_s - SHARED_S) & (other <= end_s + SHARED_S)]
    row = np.sort(np.concatenate([outside, inside]))
    result: FloatArray = row[np.append(True, np.diff(row) > 2 * SHARED_S)]
    return result


def joined_readings(take: Take, ways: Sequence[Reading]) -> Iterator[Reading]:
    """The likeliest ways with sections that are counted as another of them is: each new row once."""
    steps = max(1, int(np.ceil(take.duration_s * STEPS_PER_S)))
    rows = [way.row for way in ways if len(way.row) >= LEAST_BEATS]
    patterns = [take.pattern(row) for row in rows]
    said = [said_of(pattern, row, steps, EMPTY) for pattern, row in zip(patterns, rows, strict=True)]
    there = [said_of(pattern, row, steps, OTHERS_EMPTY) for pattern, row in zip(patterns, rows, strict=True)]
    times = (np.arange(steps) + 0.5) / STEPS_PER_S
    found: list[FloatArray] = []
    for k in sorted(range(len(rows)), key=lambda k: -float(said[k].sum()))[:BASES]:
        for ends in (False, True):
            row, now = rows[k], said[k]
            for _ in range(TURNS):
                covered = (times >= row[0]) & (times <= row[-1])
                # Without the ends: what lies before or after all beats of the base gains nothing.
                gains = [
                    other if ends else np.where(covered, other, np.minimum(other, now)) for other in there
                ]
                sections = [
                    (better_section(row, now, other, gain), other)
                    for other, gain in zip(rows, gains, strict=True)
                ]
                best = max(
                    ((section, other) for section, other in sections if section),
                    key=lambda one: one[0][0],
                    default=None,
                )
                if best is None:
                    break
                (_, start_s, end_s), other = best
                new = changed(row, other, start_s, end_s)
                hears = said_of(take.pattern(new), new, steps, EMPTY)
                if float((hears - now).sum()) / STEPS_PER_S < GAIN:
                    break
                row, now = new, hears
                if not any(same_row(row, old) for old in found):
                    found.append(row)
                    yield Reading("joined", row)
