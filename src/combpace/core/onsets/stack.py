"""The same place in several takes, above each other: how far apart those are who play it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import FloatArray, SessionTimes, session_times
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import TempoMap

# An attack belongs to a place within this, or half a step of the grid where that is less.
REACH_S = 0.080
# Places are told apart to this, quarters.
SAME_Q = 1e-6


@dataclass(frozen=True, slots=True)
class Note:
    """A place of the grid that two takes or more play.

    quarters  the place; line_s its moment
    which     of each take the index of its attack there, or None
    off_s     of each take how far that lies after the place's moment; 0 where it has none
    spread_s  from the earliest to the latest of them
    """

    quarters: float
    line_s: float
    which: tuple[int | None, ...]
    off_s: tuple[float, ...]
    spread_s: float


def stack(each: Sequence[SessionTimes], session_map: TempoMap[SessionTimes], grid: Grid) -> list[Note]:
    """Places of a grid that several takes play, in order of time.

    each  attacks of each take, session time, sorted; of several near one place the nearest counts
    """
    found: dict[int, dict[int, tuple[int, float]]] = {}
    for take, times in enumerate(each):
        if not len(times):
            continue
        at = np.asarray(times, dtype=np.float64)
        goal = np.asarray(grid.nearest(session_map.to_quarters(session_times(at)), session_map))
        line = np.asarray(session_map.to_seconds(goal))  # type: ignore[arg-type]
        half = _half_steps(goal, session_map, grid)
        for k, (place, off, reach) in enumerate(zip(goal, at - line, np.minimum(REACH_S, half), strict=True)):
            here = found.setdefault(round(float(place) / SAME_Q), {})
            if abs(off) <= reach and (take not in here or abs(off) < abs(here[take][1])):
                here[take] = k, float(off)
    notes = []
    for key in sorted(key for key, here in found.items() if len(here) > 1):
        here = found[key]
        offs = [off for _, off in here.values()]
        quarters = key * SAME_Q
        notes.append(
            Note(
                quarters,
                session_map.second(quarters),
                tuple(here[take][0] if take in here else None for take in range(len(each))),
                tuple(here[take][1] if take in here else 0.0 for take in range(len(each))),
                max(offs) - min(offs),
            )
        )
    return notes


def shared(notes: Sequence[Note], counts: Sequence[int], a: int, b: int) -> float:
    """Which part of its attacks the take with fewer of two plays together with the other, 0-1.

    counts  how many attacks each take has
    """
    both = sum(note.which[a] is not None and note.which[b] is not None for note in notes)
    return both / max(1, min(counts[a], counts[b]))


def _half_steps(goal: FloatArray, session_map: TempoMap[SessionTimes], grid: Grid) -> FloatArray:
    """Half of the grid's step about each place, seconds."""
    around = [np.asarray(session_map.to_seconds(goal + way * grid.step_quarters / 2)) for way in (-1, 1)]  # type: ignore[arg-type]
    return np.asarray(0.5 * (around[1] - around[0]))
