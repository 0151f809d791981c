"""Honest advice about a fit: what the grid is too fine for, what nobody will hear, what a new performance
would mend cheaper.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import ClockT, FloatArray, Quarters, SessionTimes
from combpace.core.fit.holding import beyond
from combpace.core.fit.pegs import FACTOR_LIMITS, Fit
from combpace.core.fit.rule import Rule
from combpace.core.tempo.grid import Grid, GridLike
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_number

# Note values that may be the smallest one played, coarsest first; without enough onsets to tell, USUAL.
VALUES = (4, 8, 16)
USUAL = Grid(8)
# A value is the smallest where so few onsets lie nearer to a place between.
BETWEEN = 0.03
# A grid is too coarse where more than this share of the onsets lies nearer to a place between two of its own.
PLAYED_BETWEEN = 0.10
# A finer grid is named only if half of those lie this near to it, as a part of its step.
ON_IT = 0.12
# Moves under this are heard by few (common practice); where most pegs move less, the fit may be left.
SLIGHT_MS = 8.0
# To play again costs less where more than this share of the onsets lies beyond a sixteenth (quarters), in so
# many bars in a row or more, each with so many onsets; one bar between that is better is played again with
# them.
MOST_BEYOND, SIXTEENTH, LEAST_ONSETS, LEAST_BARS, BETTER_BARS = 1 / 3, 0.25, 2, 4, 1
# Or where they scatter about the grid by more than this share of its step, in so many bars with so many
# onsets.
MOST_SCATTER, SCATTER_BARS, SCATTER_ONSETS = 1 / 3, 8, 48
# An onset that lies so near to a sixteenth, in quarters, is one.
ON_A_NOTE = 0.08
# So many of those that are far off on one mean that they are played there.
PLAYED_THERE = 0.85
# The finest note value that a grid has.
FINEST = 64
# Of a value nothing is said from fewer onsets.
LEAST_PLAYED = 8


@dataclass(frozen=True, slots=True)
class Advice:
    """What may be said of a fit.

    smallest     denominator of the smallest note value played where it is coarser than the grid, else None
    between      onsets that lie between the places of the grid, where they are many and `finer` has them;
                 else 0
    finer        the grid that has them, or None
    slight       share of pulled pegs that move less than SLIGHT_MS, 0 where nothing is pulled
    far          how many stretches lie beyond the good range of factors
    loose        runs of bars (first, last), by number, that are off by more than a sixteenth
    adrift       runs of bars whose onsets scatter by more than a third of the grid, so that which place is
                 meant is a guess
    """

    smallest: int | None
    between: int
    finer: Grid | None
    slight: float
    far: int
    loose: tuple[tuple[int, int], ...]
    adrift: tuple[tuple[int, int], ...] = ()


def advice(own: Quarters, made: Fit, rule: Rule, session_map: TempoMap[SessionTimes]) -> Advice:
    """Look at a fit.

    own  where the onsets were played, quarters of the session's map
    """
    moves = np.array([abs(peg.target_s - peg.own_s) for peg in made.pegs if peg.kind == "pulled"]) * 1000.0
    # Where nothing is pulled no grid is meant.
    idle = rule.strength == 0.0 and not rule.coarse
    grid = rule.places
    between, finer = (0, None) if idle else _between(own, grid, session_map)
    return Advice(
        None if idle else _smallest(own, grid, session_map),
        between,
        finer,
        float(np.mean(moves < SLIGHT_MS)) if len(moves) and not idle else 0.0,
        len(beyond(made, FACTOR_LIMITS)),
        _loose(np.asarray(own, dtype=np.float64), grid, session_map),
        () if idle or finer is not None else _adrift(np.asarray(own, dtype=np.float64), grid, session_map),
    )


def _smallest(own: Quarters, grid: GridLike, session_map: TempoMap[SessionTimes]) -> int | None:
    """The coarsest value on which all lies as well as on values twice as fine; None where that is no news, or
    triplets are meant.
    """
    if grid.shape != "straight" or len(own) < LEAST_PLAYED:
        return None
    return next((value for value in VALUES if value < grid.value and _has_all(own, value, session_map)), None)


def _has_all(own: Quarters, value: int, line: TempoMap[ClockT]) -> bool:
    """Whether all lies as well on the places of a value as on those of one twice as fine."""
    at = np.asarray(own)
    nearest, finer = (np.asarray(Grid(one).nearest(own, line)) for one in (value, 2 * value))
    return bool(np.mean(np.abs(at - finer) < np.abs(at - nearest) - 1e-9) <= BETWEEN)


def finest_played(own: Quarters, line: TempoMap[ClockT]) -> Grid:
    """The smallest note value that is really played, no finer: the coarsest on which all lies.

    own      where onsets were played, quarters of `line`, shape (n,)
    Returns  1/4, 1/8, 1/8t or 1/16; USUAL for fewer than LEAST_PLAYED onsets
    """
    if len(own) < LEAST_PLAYED:
        return USUAL
    quarter, triplet, sixteenth = Grid(4), Grid(8, "triplet"), Grid(16)
    if _has_all(own, quarter.value, line):
        return quarter
    at = np.asarray(own)
    # Half a triplet's step and more beside the beats.
    between = Quarters(at[np.abs(np.asarray(quarter.nearest(own, line)) - at) > 0.5 * triplet.step_quarters])
    if len(between) and _off(between, triplet, line) < _off(between, sixteenth, line):
        return triplet
    return next((Grid(value) for value in VALUES[1:] if _has_all(own, value, line)), sixteenth)


def _off(own: Quarters, grid: Grid, line: TempoMap[ClockT]) -> float:
    """How far the middle one of some onsets lies from a grid, as a part of its step."""
    return (
        float(np.median(np.abs(np.asarray(grid.nearest(own, line)) - np.asarray(own)))) / grid.step_quarters
    )


def _between(own: Quarters, grid: GridLike, session_map: TempoMap[SessionTimes]) -> tuple[int, Grid | None]:
    """(onsets between the places of a straight grid, the finer grid on which they lie); (0, None) where they
    are few or lie on none.
    """
    if grid.shape != "straight" or grid.swing != 0.5 or len(own) < LEAST_PLAYED or 2 * grid.value > FINEST:
        return 0, None
    at = np.asarray(own)
    rest = at[np.abs(np.asarray(grid.nearest(own, session_map)) - at) > 0.25 * grid.step_quarters]
    if len(rest) <= PLAYED_BETWEEN * len(at):
        return 0, None

    # Of a triplet of this value two places in three lie between; a straight one halves the step.
    finer = (Grid(2 * grid.value), Grid(grid.value, "triplet"))
    best = min(finer, key=lambda one: _off(Quarters(rest), one, session_map))
    return (len(rest), best) if _off(Quarters(rest), best, session_map) <= ON_IT else (0, None)


def _loose(
    own: FloatArray, grid: GridLike, session_map: TempoMap[SessionTimes]
) -> tuple[tuple[int, int], ...]:
    """Runs of bars in which too many onsets lie farther than a sixteenth from the places of the grid."""
    if not len(own):
        return ()
    off = np.abs(np.asarray(grid.nearest(Quarters(own), session_map)) - own) > SIXTEENTH
    # What lies on a finer note is played there, and is not loose; by chance two in three do.
    on_note = np.abs(np.asarray(Grid(16).nearest(Quarters(own), session_map)) - own) <= ON_A_NOTE
    if off.any() and np.mean(on_note[off]) >= PLAYED_THERE:
        off &= ~on_note
    bars: dict[int, list[bool]] = {}
    for place, far in zip(own, off, strict=True):
        bars.setdefault(session_map.bar_of(float(place)), []).append(bool(far))
    loose = [
        index for index, fars in bars.items() if len(fars) >= LEAST_ONSETS and np.mean(fars) > MOST_BEYOND
    ]
    return _runs(loose, BETTER_BARS, LEAST_BARS)


def _adrift(
    own: FloatArray, grid: GridLike, session_map: TempoMap[SessionTimes]
) -> tuple[tuple[int, int], ...]:
    """Runs of bars whose onsets scatter about the grid by more than MOST_SCATTER of its step.

    A distance to the nearest place is never more than half a step, so that it tells no wide scatter from one
    that is wider: counted around a circle of one step it does (the circular standard deviation, Fisher
    1993, 2.3.1).
    """
    if grid.shape not in ("straight", "triplet", "dotted") or grid.swing != 0.5:
        return ()
    off = (own - np.asarray(grid.nearest(Quarters(own), session_map))) / grid.step_quarters
    bar = np.array([session_map.bar_of(float(place)) for place in own], dtype=np.int64)
    # Of so many onsets the length of the mean arrow, by which it is seen that they have a place at all.
    arrows, least = np.exp(2j * np.pi * off), float(np.exp(-0.5 * (2 * np.pi * MOST_SCATTER) ** 2))
    found: set[int] = set()
    for first in range(int(bar.min(initial=0)), int(bar.max(initial=-1)) - SCATTER_BARS + 2):
        here = (bar >= first) & (bar < first + SCATTER_BARS)
        count = int(here.sum())
        if count < SCATTER_ONSETS:
            continue
        # What chance alone adds is taken off.
        square = (count * abs(complex(arrows[here].mean())) ** 2 - 1) / (count - 1)
        if square < least**2:
            found |= set(range(first, first + SCATTER_BARS))
    return _runs(sorted(found), 0, LEAST_BARS)


def _runs(indices: Sequence[int], between: int, least: int) -> tuple[tuple[int, int], ...]:
    """Runs of bars by number, over gaps of as many as `between`; those of at least so many bars."""
    runs: list[list[int]] = []
    for index in sorted(indices):
        if runs and index - runs[-1][1] <= 1 + between:
            runs[-1][1] = index
        else:
            runs.append([index, index])
    return tuple((bar_number(first), bar_number(last)) for first, last in runs if last - first + 1 >= least)
