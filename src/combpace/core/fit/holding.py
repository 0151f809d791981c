"""Held notes keep their length where a pause after them can take the change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.fit.pauses import Pauses
from combpace.core.fit.pegs import Fit
from combpace.core.fit.time_map import TimeMap

# What a pause is here: where a note has died away, the rest is room or hiss.
BETWEEN_NOTES = Pauses(below_db=40.0, least_s=0.060)
# A pause may become as short as this, and be stretched by these factors: nothing in it is heard.
LEAST_REST_S, LEAST_FACTOR, MOST_FACTOR = 0.020, 0.05, 20.0
# A note is at least this long; less would be the attack itself.
NOTE_S = 0.030
# A stretch that changes its length by less is left as it is, seconds.
SAME_S = 0.0005


def in_all(each: Sequence[Sequence[tuple[float, float]]]) -> list[tuple[float, float]]:
    """Pauses that all mics of a bundle have, seconds; each mic's in order."""
    if not each:
        return []
    found = list(each[0])
    for other in each[1:]:
        both = []
        for start, stop in found:
            both += [
                (max(start, a), min(stop, b))
                for a, b in other
                if min(stop, b) - max(start, a) >= BETWEEN_NOTES.least_s
            ]
        found = sorted(both)
    return found


def notes_held(made: Fit, pauses: Sequence[tuple[float, float]]) -> Fit:
    """A fit whose notes before a pause are as long as the maps alone have them, as long as they were at one
    tempo: the pause takes what pegs change.

    pauses   seconds of the take, in order
    Returns  the same fit where no pause lies between two of its points, or where one cannot take it: too
             short after the change, several between two points, or an onset without a peg behind it
    """
    source, target = np.asarray(made.time_map.source_s), np.asarray(made.time_map.target_s)
    riding = np.asarray(made.riding)
    more: list[tuple[float, float]] = []
    still: list[float] = []
    starts = np.array([start for start, _ in pauses])
    # Where each point would lie if nothing but the maps moved it.
    own = {round(peg.take_s, 9): peg.own_s for peg in made.pegs}
    alone = np.array([own.get(round(float(a), 9), float(b)) for a, b in zip(source, target, strict=True)])
    for k in range(len(source) - 1):
        have, length = source[k + 1] - source[k], target[k + 1] - target[k]
        pace = (alone[k + 1] - alone[k]) / have
        if abs(pace * have - length) < SAME_S or pace <= 0 or not len(starts):
            continue
        inside = np.flatnonzero((starts > source[k] + NOTE_S) & (starts < source[k + 1] - LEAST_REST_S))
        if not len(inside):
            continue
        at = float(starts[inside[0]])
        note, rest = at - source[k], source[k + 1] - at
        left = length - pace * note
        # Only where it is quiet up to the next point, or nearly so, may all of that be stretched: of several
        # pauses the first ends before another note.
        quiet = pauses[int(inside[0])][1] >= source[k + 1] - LEAST_REST_S
        if (
            not quiet
            or np.any((riding > at) & (riding < source[k + 1]))
            or left < LEAST_REST_S
            or not LEAST_FACTOR <= left / rest <= MOST_FACTOR
        ):
            continue
        more.append((at, float(target[k]) + pace * note))
        still.append(at)
    if not more:
        return made
    points = sorted([*zip(source.tolist(), target.tolist(), strict=True), *more])
    return replace(
        made,
        time_map=TimeMap(np.array([a for a, _ in points]), np.array([b for _, b in points])),
        pauses=tuple(still),
    )


def beyond(made: Fit, limits: tuple[float, float]) -> list[int]:
    """Indices of the stretches that are beyond the limits and are heard: a pause is not."""
    factors: FloatArray = made.time_map.factors
    quiet = np.isin(np.round(np.asarray(made.time_map.source_s)[:-1], 6), np.round(np.array(made.pauses), 6))
    return [int(k) for k in np.flatnonzero(((factors < limits[0]) | (factors > limits[1])) & ~quiet)]
