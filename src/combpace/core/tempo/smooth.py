"""The pace under beats that were played: their smooth course, without the feel of each.

Beats are when beats were struck; the pace is the course under them, and what each beat lies beside it is
scatter. The tempo walks at random from beat to beat, or how fast it changes does, whichever is likelier; how
much of what moves is tempo and how much is scatter is found by maximum likelihood. An even player gets one
tempo, one who hurries is followed.

A local trend that is seen with noise (Harvey, Forecasting, Structural Time Series Models and the
Kalman Filter, 1989, 2.3), solved for as penalised least squares by a banded Cholesky, with the restricted
likelihood for the one ratio that is free (Patterson and Thompson, Biometrika 58, 1971). Names of sources from
memory.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage
from scipy.linalg import cho_solve_banded, cholesky_banded
from scipy.optimize import minimize_scalar

from combpace.core.clocks import ClockT, FloatArray
from combpace.core.tempo.map import TempoMap

# The ratio of both variances, scatter over what the tempo walks in a quarter, natural logarithm of square
# seconds: at the lower end the pace is the beats, at the upper end it is one tempo.
STIFFNESS, STEP = (-14.0, 20.0), 2.0
# Fewer beats than this have no course of their own: their pace is one tempo.
LEAST_BEATS = 5
# Where the tempo of so many beats after one differs by so much (natural logarithm) from that of as many
# before it, and both are even within EVEN, another section begins: the walk begins anew there.
SECTION_BEATS, SECTION_JUMP, EVEN = 6, 0.12, 0.06
# How long a quarter is about a beat is taken from so many gaps.
ABOUT_BEATS = 9


@dataclass(frozen=True, slots=True)
class _Walk:
    """How the tempo changes along beats: row k weighs neighbours so that it is 0 where their tempo stays, or
    where it goes on changing as it did.

    first    index of the first of them, shape (rows,)
    weights  of each, shape (rows, 3 or 4); 1 is a change by one e-fold a quarter
    own      log determinant of the rows times themselves
    """

    first: np.ndarray
    weights: FloatArray
    own: float


def smoothed(beats: TempoMap[ClockT], begun: Sequence[float] = ()) -> TempoMap[ClockT]:
    """The pace under a map of beats: the same places at the moments of a smooth course.

    begun    places at which the course begins anew, quarters, beside those that are found
    Returns  a knot for each of the given ones, none of them an anchor
    """
    made = course(beats.times_s, beats.quarters, begun)
    knots = tuple(
        replace(knot, time_s=float(time), fixed=False, locked=False, ramp=1.0)
        for knot, time in zip(beats.knots, made, strict=True)
    )
    return TempoMap(knots, beats.meters)


def course(times: FloatArray, places: FloatArray, begun: Sequence[float] = ()) -> FloatArray:
    """Moments of a smooth course through beats.

    times    seconds, shape (n,), increasing; places: quarters of each, increasing
    begun    places at which it begins anew
    Returns  shape (n,), increasing
    """
    line = _straight(times, places)
    if len(times) < LEAST_BEATS:
        return line
    anew = {*sections(times, places), *(int(np.argmin(np.abs(places - place))) for place in begun)}
    off = times - line
    found = [_likeliest(off, walk) for walk in _walks(times, places, anew) if len(walk.first)]
    if not found:
        return line
    made: FloatArray = line + min(found, key=lambda one: one[0])[1]
    return made if bool(np.all(np.diff(made) > 0)) else np.asarray(times, np.float64)


def _likeliest(off: FloatArray, walk: _Walk) -> tuple[float, FloatArray]:
    """(minus twice the log likelihood, the course) of the ratio that is likeliest."""
    grid = np.arange(STIFFNESS[0], STIFFNESS[1] + STEP / 2, STEP)
    best = float(grid[int(np.argmin([_unlikely(off, walk, float(log)) for log in grid]))])
    found = minimize_scalar(
        lambda log: _unlikely(off, walk, float(log)),
        bounds=(max(STIFFNESS[0], best - STEP), min(STIFFNESS[1], best + STEP)),
        method="bounded",
    )
    return float(found.fun), _solved(off, walk, float(found.x))[0]


def sections(times: FloatArray, places: FloatArray) -> list[int]:
    """Indices of beats at which another tempo begins at once."""
    gaps = np.log(np.diff(times) / np.diff(places))
    many = SECTION_BEATS
    if len(gaps) < 2 * many:
        return []
    each = np.lib.stride_tricks.sliding_window_view(gaps, many)
    typical = np.median(each, axis=1)
    spread = np.median(np.abs(each - typical[:, None]), axis=1)
    jump = np.abs(typical[many:] - typical[:-many])
    even = np.maximum(spread[many:], spread[:-many]) < EVEN
    jump = np.where(even, jump, 0.0)
    peaks = (jump >= SECTION_JUMP) & (jump >= ndimage.maximum_filter1d(jump, many, mode="nearest"))
    found: list[int] = []
    for k in np.flatnonzero(peaks):
        # Equal peaks beside each other are one.
        if not found or k + many - found[-1] > many:
            found.append(int(k) + many)
    return found


def _straight(times: FloatArray, places: FloatArray) -> FloatArray:
    if len(times) < 2:
        return np.asarray(times, np.float64)
    slope, start = np.polyfit(places - places[0], times, 1)
    line: FloatArray = start + slope * (places - places[0])
    return line


def _walks(times: FloatArray, places: FloatArray, anew: set[int]) -> list[_Walk]:
    """Both ways in which a tempo may walk; `anew`: beats across which it does not."""
    spans = np.diff(places)
    usual = ndimage.median_filter(np.diff(times) / spans, min(ABOUT_BEATS, len(spans)), mode="nearest")
    # Row k is about beat k + 1: how its tempo after it differs from that before it.
    before, after, middle = spans[:-1], spans[1:], 0.5 * (spans[:-1] + spans[1:])
    tempo = np.stack([1.0 / before, -1.0 / before - 1.0 / after, 1.0 / after], axis=1)
    tempo /= (0.5 * (usual[:-1] + usual[1:]))[:, None]
    rate = np.zeros((max(0, len(tempo) - 1), 4))
    rate[:, 1:] += (tempo / middle[:, None])[1:]
    rate[:, :3] -= (tempo / middle[:, None])[:-1]
    # What walks grows with the root of the way.
    kept = np.array([k for k in range(len(tempo)) if k + 1 not in anew], int)
    both = np.array([k for k in range(len(rate)) if not {k + 1, k + 2} & anew], int)
    return [
        _of(kept, tempo[kept] / np.sqrt(middle[kept])[:, None]),
        _of(both, rate[both] / np.sqrt(spans[1:-1][both])[:, None]),
    ]


def _of(first: np.ndarray, weights: FloatArray) -> _Walk:
    if not len(first):
        return _Walk(first, weights, 0.0)
    width = weights.shape[1]
    band = np.zeros((width, len(first)))
    for late in range(width):
        # Two rows that begin so many beats apart share the others.
        row = (
            np.flatnonzero(first[late:] - first[: len(first) - late] < width)
            if late
            else np.arange(len(first))
        )
        apart = first[row + late] - first[row]
        for k in range(width):
            inside = k + apart < width
            band[width - 1 - late, row[inside] + late] += (
                weights[row[inside], k + apart[inside]] * weights[row[inside] + late, k]
            )
    return _Walk(first, weights, 2.0 * float(np.log(cholesky_banded(band)[-1]).sum()))


def _solved(off: FloatArray, walk: _Walk, log: float) -> tuple[FloatArray, FloatArray]:
    """(the course beside the straight line, the banded Cholesky factor that it was solved with)"""
    ratio, width = float(np.exp(log)), walk.weights.shape[1]
    band = np.zeros((width, len(off)))
    band[-1] = 1.0
    for a in range(width):
        for b in range(a, width):
            np.add.at(
                band[width - 1 - (b - a)], walk.first + b, ratio * walk.weights[:, a] * walk.weights[:, b]
            )
    factor = cholesky_banded(band)
    return np.asarray(cho_solve_banded((factor, False), off)), factor


def _unlikely(off: FloatArray, walk: _Walk, log: float) -> float:
    """Minus twice the restricted log likelihood of a ratio."""
    made, factor = _solved(off, walk, log)
    rows = len(walk.first)
    left = max(float(off @ (off - made)), 1e-18)
    said = rows * (np.log(left / rows) - log) + 2.0 * float(np.log(factor[-1]).sum()) - walk.own
    return float(said)
