"""Honest advice about a fit: what the grid is too fine for, what nobody will hear, what a new performance
would mend cheaper.
"""

from __future__ import annotations

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
# Bars are loose where half of their onsets are off by more than a sixteenth: of two bars or more, with so
# many onsets each.
SIXTEENTH, LEAST_ONSETS, LEAST_BARS = 0.25, 2, 2
# An onset that lies so near to a sixteenth, in quarters, is one.
ON_A_NOTE = 0.08
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
    """

    smallest: int | None
    between: int
    finer: Grid | None
    slight: float
    far: int
    loose: tuple[tuple[int, int], ...]


def advice(own: Quarters, made: Fit, rule: Rule, session_map: TempoMap[SessionTimes]) -> Advice:
    """Look at a fit.

    own  where the onsets were played, quarters of the session's map
    """
    moves = np.array([abs(peg.target_s - peg.own_s) for peg in made.pegs if peg.kind == "pulled"]) * 1000.0
    # Where nothing is pulled no grid is meant.
    idle = rule.strength == 0.0 and not rule.coarse
    grid = rule.places
    return Advice(
        None if idle else _smallest(own, grid, session_map),
        *((0, None) if idle else _between(own, grid, session_map)),
        float(np.mean(moves < SLIGHT_MS)) if len(moves) and not idle else 0.0,
        len(beyond(made, FACTOR_LIMITS)),
        _loose(np.asarray(own, dtype=np.float64), grid, session_map),
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
    """Runs of bars half of whose onsets lie farther than a sixteenth from the places of the grid."""
    if not len(own):
        return ()
    off = np.abs(np.asarray(grid.nearest(Quarters(own), session_map)) - own) > SIXTEENTH
    # What lies on a finer note is played there, and is not loose.
    finer = np.asarray(Grid(16).nearest(Quarters(own), session_map))
    off &= np.abs(finer - own) > ON_A_NOTE
    bars: dict[int, list[bool]] = {}
    for place, far in zip(own, off, strict=True):
        bars.setdefault(session_map.bar_of(float(place)), []).append(bool(far))
    loose = sorted(
        index for index, fars in bars.items() if len(fars) >= LEAST_ONSETS and np.mean(fars) >= 0.5
    )
    runs: list[list[int]] = []
    for index in loose:
        if runs and index == runs[-1][1] + 1:
            runs[-1][1] = index
        else:
            runs.append([index, index])
    return tuple(
        (bar_number(first), bar_number(last)) for first, last in runs if last - first + 1 >= LEAST_BARS
    )
