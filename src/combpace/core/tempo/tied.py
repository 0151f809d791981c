"""A map through moments that were put on its places by hand.

All of them at once, so that their order is no matter: beats between two of them are bent along and laid again
on the attacks; beyond, what one moved fades out over FADE_BARS where it is small, and goes on where it is a
matter of phase. What lies where it is put moves nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np

from combpace.core.clocks import ClockT, FloatArray
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.lay import lay_beats
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, SAME_PLACE, Knot, TempoMap
from combpace.core.tempo.meters import bar_number

FADE_BARS = 4
# A correction beyond this share of a beat means that the pulse itself was read at the wrong phase.
PHASE_SHARE = 0.25
# Between two anchors the tempo may be this many times faster or slower than the map as a whole.
LARGEST_RATIO = 2.6
# What moves by no more than this stays where it is.
UNMOVED_S = 1e-9
# A found beat nearer to what is tied than this share of a beat gives way to it.
CROWDED = 0.2
# How sure a beat is that was laid: without an attack, how much more on one, and how near that must be.
UNSTRUCK, STRUCK, STRUCK_S = 0.3, 0.6, 0.010
# A tie within this of a knot's place is about that knot, quarters.
HERE_Q = 1e-6


def tied(
    pace: TempoMap[ClockT], ties: Sequence[Knot], attacks: Onsets, alone: Sequence[float] = ()
) -> TempoMap[ClockT]:
    """The map with ties as its anchors, beside those that it has.

    ties     places, quarters, and where they lie on the map's clock; of an anchor that is there, its new time
    alone    places of those that move no other bar line
    attacks  on the map's clock: what beats are laid on
    Raises   MapConflictError, naming both, where no sensible tempo joins two of them
    """
    if not ties:
        return pace
    there: list[Knot] = [
        knot for knot in pace.knots if knot.fixed and not any(_same(knot, tie) for tie in ties)
    ]
    held: list[Knot] = sorted([*there, *ties], key=lambda knot: knot.quarters)
    for a, b in pairwise(held):
        if abs(a.quarters - b.quarters) <= HERE_Q:
            raise MapConflictError(
                f"{{0}} and {{1}} cannot both be {named(pace, a.quarters)}. Nothing was changed; take one of "
                "the two back.",
                a.time_s,
                b.time_s,
            )
    _refuse(pace, held, ties)
    for tie in held:
        pace = pace.with_knot(tie.quarters)
    beside = [line for place in alone for line in _beside(pace, place)]
    walls: list[Knot] = [Knot(pace.second(line), line, confidence=0.5) for line in beside]
    walls = [wall for wall in walls if _stands(pace, wall, held)]
    for wall in walls:
        pace = pace.with_knot(wall.quarters)
    ends = sorted([*held, *walls], key=lambda knot: knot.quarters)
    shifts = [end.time_s - pace.second(end.quarters) for end in ends]
    made: list[Knot] = []
    for k in range(len(ends) + 1):
        low, high = ends[k - 1] if k else None, ends[k] if k < len(ends) else None
        by = (shifts[k - 1] if k else None, shifts[k] if k < len(ends) else None)
        made += _between(pace, (low, high), by, attacks)
        if high is not None:
            was = next(knot for knot in pace.knots if abs(knot.quarters - high.quarters) <= HERE_Q)
            made.append(replace(was, time_s=high.time_s) if high in walls else _anchor(was, high))
    return pace.through(made)


def _stands(pace: TempoMap[ClockT], wall: Knot, held: Sequence[Knot]) -> bool:
    """Whether a line can stay where it is beside what is tied: a map can hold the tempo between them."""
    if any(_same(wall, tie) for tie in held):
        return False
    before: list[Knot] = [tie for tie in held if tie.quarters < wall.quarters][-1:]
    after: list[Knot] = [tie for tie in held if tie.quarters > wall.quarters][:1]
    row = [*before, wall, *after]
    return all(MIN_BPM <= _bpm(a, b) <= MAX_BPM for a, b in pairwise(row))


def _sensible(pace: TempoMap[ClockT], a: Knot, b: Knot) -> bool:
    typical = float(np.median(pace.span_bpm))
    least, most = max(MIN_BPM, typical / LARGEST_RATIO), min(MAX_BPM, typical * LARGEST_RATIO)
    return least <= _bpm(a, b) <= most


def _bpm(a: Knot, b: Knot) -> float:
    """Quarters a minute from one to the other; infinite where the second is not later."""
    gap_s = b.time_s - a.time_s
    return 60.0 * (b.quarters - a.quarters) / gap_s if gap_s > 0 else float("inf")


def _same(a: Knot, b: Knot) -> bool:
    return abs(a.quarters - b.quarters) <= HERE_Q


def _anchor(was: Knot, tie: Knot) -> Knot:
    return replace(was, time_s=tie.time_s, fixed=True, locked=tie.locked, confidence=1.0)


def _beside(pace: TempoMap[ClockT], place: float) -> tuple[float, float]:
    """The lines before and after the one at a place."""
    index = pace.bar_of(place + 1e-6)
    return pace.bar_line(index - 1), pace.bar_line(index + 1)


def _between(
    pace: TempoMap[ClockT],
    ends: tuple[Knot | None, Knot | None],
    shifts: tuple[float | None, float | None],
    attacks: Onsets,
) -> list[Knot]:
    """The knots between two ends, or beyond one, moved along as far as those reach and laid on attacks."""
    low, high = ends
    inside = [
        knot
        for knot in pace.knots
        if (low is None or knot.quarters > low.quarters + SAME_PLACE)
        and (high is None or knot.quarters < high.quarters - SAME_PLACE)
    ]
    if all(shift is None or abs(shift) <= UNMOVED_S for shift in shifts) or not inside:
        return inside
    by = _carried(pace, np.array([knot.quarters for knot in inside]), ends, shifts)
    expected = np.array([knot.time_s for knot in inside]) + by
    moves = np.abs(by) > UNMOVED_S
    made: list[Knot] = []
    runs: np.ndarray = np.flatnonzero(np.diff(np.concatenate([[False], moves, [False]]).astype(int)))
    edges = [0, *(int(edge) for edge in runs), len(inside)]
    for start, stop in pairwise(edges):
        if start == stop:
            continue
        if not moves[start]:
            made += inside[start:stop]
            continue
        before = low.time_s if start == 0 and low else (float(expected[start - 1]) if start else None)
        after = high.time_s if stop == len(inside) and high else None
        after = float(expected[stop]) if stop < len(inside) else after
        made += _laid(pace, inside[start:stop], expected[start:stop], attacks, (before, after))
    return [knot for knot in made if not _crowded(pace, knot, ends)]


def _carried(
    pace: TempoMap[ClockT],
    places: FloatArray,
    ends: tuple[Knot | None, Knot | None],
    shifts: tuple[float | None, float | None],
) -> FloatArray:
    """By how much what lies between two ends moves with them, seconds."""
    far, away, by = [], [], []
    for end, shift in zip(ends, shifts, strict=True):
        if end is None or shift is None:
            continue
        beat = pace.meter_of(pace.bar_of(end.quarters)).beat_quarters
        phase = abs(shift) > PHASE_SHARE * 60.0 * beat / pace.bpm_at(end.quarters)
        far.append(np.inf if phase else FADE_BARS * pace.meters[0].bar_quarters)
        away.append(np.abs(places - end.quarters))
        by.append(shift)
    if len(by) == 2 and away[0][0] + away[1][0] <= far[0] + far[1]:
        share: FloatArray = away[0] / (away[0] + away[1])
        return np.asarray(by[0] + share * (by[1] - by[0]))
    moved = np.zeros(len(places))
    for shift, reach, distance in zip(by, far, away, strict=True):
        moved += shift * (np.clip(1.0 - distance / reach, 0.0, 1.0) if np.isfinite(reach) else 1.0)
    return moved


def _laid(
    pace: TempoMap[ClockT],
    knots: Sequence[Knot],
    expected: FloatArray,
    attacks: Onsets,
    ends: tuple[float | None, float | None],
) -> list[Knot]:
    middle = knots[len(knots) // 2].quarters
    period = 60.0 * pace.meter_of(pace.bar_of(middle)).beat_quarters / pace.bpm_at(middle)
    times = lay_beats(expected, attacks, ends, period)
    sure = sureness(times, attacks)
    return [
        replace(knot, time_s=float(time), confidence=float(one))
        for knot, time, one in zip(knots, times, sure, strict=True)
    ]


def _crowded(pace: TempoMap[ClockT], knot: Knot, ends: tuple[Knot | None, Knot | None]) -> bool:
    beat = pace.meter_of(pace.bar_of(knot.quarters)).beat_quarters
    return any(end is not None and abs(knot.quarters - end.quarters) < CROWDED * beat for end in ends)


def sureness(times: FloatArray, attacks: Onsets) -> FloatArray:
    """How sure beats are that were laid on attacks, 0-1, shape of `times`."""
    if not len(attacks) or not len(times):
        return np.full(len(times), UNSTRUCK)
    struck = np.sort(np.asarray(attacks.times))
    after = np.searchsorted(struck, times)
    near = np.minimum(
        np.abs(struck[np.maximum(after - 1, 0)] - times),
        np.abs(struck[np.minimum(after, len(struck) - 1)] - times),
    )
    sure: FloatArray = UNSTRUCK + STRUCK * np.exp(-((near / STRUCK_S) ** 2))
    return sure


def _refuse(pace: TempoMap[ClockT], held: Sequence[Knot], new: Sequence[Knot]) -> None:
    """Two that follow each other need a sensible tempo between them, where one of them is new."""
    for a, b in pairwise(held):
        if a not in new and b not in new:
            continue
        gap_s, bpm = b.time_s - a.time_s, _bpm(a, b)
        if not _sensible(pace, a, b):
            said = "at or before the same moment" if gap_s <= 0 else f"at {bpm:.0f} BPM between them"
            raise MapConflictError(
                f"{named(pace, a.quarters)} at {{0}} and {named(pace, b.quarters)} at {{1}} cannot both "
                f"hold: they would lie {said}. Nothing was changed; take one of the two back first.",
                a.time_s,
                b.time_s,
            )


def named(pace: TempoMap[ClockT], place: float) -> str:
    """ "Bar 5", "place 5·3" """
    index = pace.bar_of(place + 1e-6)
    beat = 1.0 + (place - pace.bar_line(index)) / pace.meter_of(index).beat_quarters
    return (
        f"bar {bar_number(index)}"
        if abs(beat - 1) < 1e-6
        else f"place {bar_number(index)}·{round(beat, 3):g}"
    )
