"""A steady tempo: one line through all beats, how well it holds, and its half, double, dotted and triple
readings.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import isfinite

import numpy as np
from scipy.ndimage import median_filter

from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import BIWEIGHT, HALF_95, spread_about
from combpace.core.tempo.drift import LEAST_WEIGHT, robust_line
from combpace.core.tempo.map import TempoMap

# Beats that scatter less than this about one line were not played by hand.
PROGRAMMED_S = 0.004
# So many of a machine's beats lie this near to its one line.
ON_LINE_S, MACHINE_SHARE = 0.020, 0.9
# Beats are steady that scatter by no more than SCATTERED_S about one line and whose course stays within
# HEARD_S of it: more would be heard. A fill or a break may lead the ear astray; so this share of them is
# not asked.
SCATTERED_S, HEARD_S, ALL_BUT = 0.008, 0.010, 0.05
# So many beats are averaged for the course of a tempo: two bars of four and the line after them.
COURSE_BEATS = 9
# A course breathes where it moves by more than this: seconds, beats, and standard errors of what scatter
# alone would make of it.
MOVES_S, MOVES_BEATS, MOVES_SIGMAS = 0.012, 0.05, 5.0
# It speeds up or slows down where one curve explains this share of it.
ONE_WAY = 0.75
# A machine's line is made sharper by attacks only where so many lie on it, and where both agree this far.
LEAST_ATTACKS, DISAGREES_S = 24, 0.002
# Half, double and the like are offered within what music has, and must explain more than the tempo as read.
SLOWEST_BPM, FASTEST_BPM, OTHERWISE = 25.0, 320.0, 0.85
# How near to a beat an attack carries it, and what the softest attack counts beside its strength.
REACH_S, REACH_BEATS, SOFTEST = 0.035, 0.12, 0.05
RELATIONS = (
    ("as read", 1.0),
    ("half", 0.5),
    ("double", 2.0),
    ("dotted", 2.0 / 3.0),
    ("triplet", 1.5),
    ("triple", 3.0),
    ("third", 1.0 / 3.0),
)


@dataclass(frozen=True, slots=True)
class Candidate:
    """One reading of the tempo: beats per minute, its relation to the first, 0-1 of how much of the attacks
    it explains.
    """

    bpm: float
    relation: str
    evidence: float


@dataclass(frozen=True, slots=True)
class SteadyTempo:
    """One tempo for a whole take.

    bpm               counted beats per minute
    plus_minus_bpm    half of its 95 % interval
    first_downbeat_s  take time of bar 1's line under this tempo
    scatter_ms        robust spread of the beats about the line
    drift_end_ms      attacks minus line over the last bars; early is negative
    verdict           "steady", "wanders", "speeds up" or "slows down"; how far the beats lie from one line
                      decides, by what is heard
    played            whether a person played it: beats scatter as no machine's do
    candidates        readings, the best first
    """

    bpm: float
    plus_minus_bpm: float
    first_downbeat_s: float
    scatter_ms: float
    drift_end_ms: float
    verdict: str
    candidates: tuple[Candidate, ...]
    played: bool = False


def steady_tempo(pace: TempoMap[TakeTimes], onsets: Onsets, duration_s: float) -> SteadyTempo:
    """Fit one tempo to the beats of a take's own pace (slope and phase, Tukey's biweight, iterated).

    pace        own pace with a knot on every beat
    Returns     always a fit; `verdict` and `scatter_ms` say whether it should be used
    """
    beat = pace.meters[0].beat_quarters
    x, y = pace.quarters / beat, pace.times_s
    weight = np.array([max(knot.confidence, LEAST_WEIGHT) for knot in pace.knots])
    period, start, spread = robust_line(x, y, weight)
    if spread < PROGRAMMED_S:
        period, start = _sharpened(period, start, spread, np.asarray(onsets.times), x, y, weight)
    effective = max(2.0, float(weight.sum()))
    half_width = (
        HALF_95
        * spread
        / max(
            np.sqrt(effective)
            * float(np.sqrt(np.average((x - np.average(x, weights=weight)) ** 2, weights=weight))),
            1e-9,
        )
    )
    bpm = 60.0 / period
    residual = y - (start + period * x)
    tail = max(2, len(x) // 12)
    # Half and double are asked of the playing as it moved: one tempo that it left after some bars explains
    # nothing.
    straight, until = (
        take_times(start + period / beat * pace.to_quarters(take_times(at)))
        for at in (onsets.times, [duration_s])
    )
    return SteadyTempo(
        bpm=float(bpm),
        plus_minus_bpm=float(bpm * half_width / period),
        first_downbeat_s=float(start),
        scatter_ms=float(1000.0 * spread),
        drift_end_ms=float(1000.0 * np.median(residual[-tail:])),
        verdict=_verdict(x, y, residual, spread),
        played=spread >= PROGRAMMED_S,
        candidates=candidates_of(float(bpm), float(start), replace(onsets, times=straight), float(until[0])),
    )


def _sharpened(
    period: float,
    start: float,
    spread: float,
    times: FloatArray,
    x: FloatArray,
    y: FloatArray,
    weight: FloatArray,
) -> tuple[float, float]:
    """(period, start) from all attacks and not from those on beats alone; for music that a machine plays.

    Attacks at the same place of a beat (twelfths) share a lateness of their own, swing and slow instruments
    included, and all places share the period. The line still goes through the beats.
    """
    place = (times - start) / period
    twelfth = np.round(12 * place)
    near = np.abs(12 * place - twelfth) * period / 12 < max(PROGRAMMED_S, 3 * spread)
    if near.sum() < LEAST_ATTACKS:
        return period, start
    count, late = twelfth[near] / 12, times[near] - start - period * twelfth[near] / 12
    group = np.mod(twelfth[near], 12).astype(np.int64)
    robust = np.ones(len(count))
    slope = 0.0
    for _ in range(20):
        heavy = np.maximum(np.bincount(group, robust, 12), 1e-9)
        middle_x, middle_y = (
            np.bincount(group, robust * count, 12) / heavy,
            np.bincount(group, robust * late, 12) / heavy,
        )
        dx, dy = count - middle_x[group], late - middle_y[group]
        slope = float((robust * dx * dy).sum() / max(float((robust * dx * dx).sum()), 1e-12))
        residual = dy - slope * dx
        scale = max(spread_about(residual), 1e-6)
        robust = (
            np.where(
                np.abs(residual) < BIWEIGHT * scale,
                (1 - np.minimum(1, (residual / (BIWEIGHT * scale)) ** 2)) ** 2,
                0.0,
            )
            + 1e-9
        )
    sharper = period + slope
    # Where beats and attacks disagree by more than the beats allow, the beats are right.
    if abs(slope) * float(np.ptp(x)) > 4 * spread + DISAGREES_S:
        return period, start
    rest = y - sharper * x
    order = np.argsort(rest)
    share = np.cumsum(weight[order])
    return sharper, float(rest[order][np.searchsorted(share, 0.5 * share[-1])])


def _verdict(x: FloatArray, y: FloatArray, residual: FloatArray, spread: float) -> str:
    period = float(np.median(np.diff(y) / np.diff(x)))
    if len(x) < 8:
        return "steady"
    # A machine plays on one line; a fill or a break where beats were laid on other attacks is no breathing.
    if spread < PROGRAMMED_S and float(np.mean(np.abs(residual) < ON_LINE_S)) >= MACHINE_SHARE:
        return "steady"
    course = np.abs(median_filter(residual, size=COURSE_BEATS, mode="nearest"))
    if spread < SCATTERED_S and float(np.quantile(course, 1 - ALL_BUT)) < HEARD_S:
        return "steady"
    # Slow movement of the beats about the line is breathing; what is left beside it is the scatter of single
    # hits.
    window = min(COURSE_BEATS, len(x) | 1)
    slow = np.convolve(np.pad(residual, window // 2, mode="edge"), np.ones(window) / window, "valid")
    # Scatter alone moves the mean of `window` beats a little; movement that it explains is none.
    scatter = spread_about(np.diff(residual)) / np.sqrt(2)
    if (
        float(np.ptp(slow)) < max(MOVES_S, MOVES_BEATS * period, MOVES_SIGMAS * scatter / np.sqrt(window))
        or float(np.abs(slow).max()) < HEARD_S
    ):
        return "steady"
    bend = float(np.polyfit((x - x.mean()) / max(float(np.ptp(x)), 1e-9), residual, 2)[0])
    explained = 1.0 - float(np.var(residual - np.polyval(np.polyfit(x, residual, 2), x))) / max(
        float(np.var(residual)), 1e-12
    )
    if explained > ONE_WAY:
        return "speeds up" if bend < 0 else "slows down"
    return "wanders"


def candidates_of(bpm: float, start_s: float, onsets: Onsets, duration_s: float) -> tuple[Candidate, ...]:
    """Readings of a tempo, ranked by how well its beats coincide with attacks and attacks with its beats."""
    found = []
    for relation, factor in RELATIONS:
        value = bpm * factor
        if not (isfinite(value) and SLOWEST_BPM <= value <= FASTEST_BPM):
            continue
        found.append(
            Candidate(
                value,
                relation,
                _evidence(value, start_s, onsets, duration_s) * (1.0 if relation == "as read" else OTHERWISE),
            )
        )
    return tuple(sorted(found, key=lambda candidate: -candidate.evidence))


def _evidence(bpm: float, start_s: float, onsets: Onsets, duration_s: float) -> float:
    """Harmonic mean of: share of beats that carry an attack; strength-weighted share of attacks on beats or
    their halves.
    """
    if not len(onsets):
        return 0.0
    period = 60.0 / bpm
    times, strength = np.asarray(onsets.times), np.asarray(onsets.strength) + SOFTEST
    beats = np.arange(start_s % period, duration_s, period)
    at = np.clip(np.searchsorted(times, beats), 1, max(1, len(times) - 1))
    near = np.minimum(np.abs(times[np.minimum(at, len(times) - 1)] - beats), np.abs(times[at - 1] - beats))
    reach = min(REACH_S, REACH_BEATS * period)
    carried = float(np.mean(np.exp(-0.5 * (near / reach) ** 2))) if len(beats) else 0.0
    phase = ((times - start_s) / (0.5 * period) + 0.5) % 1.0 - 0.5
    explained = float(np.average(np.exp(-0.5 * (phase * 0.5 * period / reach) ** 2), weights=strength))
    return 2 * carried * explained / (carried + explained) if carried + explained > 0 else 0.0
