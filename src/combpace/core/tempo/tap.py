"""Tempo and phase from taps: slips are rejected, and the attacks near the taps say it exactly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import HALF_95
from combpace.core.tempo.drift import robust_line
from combpace.core.tempo.map import MAX_BPM, MIN_BPM

LEAST_TAPS = 4
# A tap farther than this from the line through the others, in beats, is a slip.
SLIP = 0.25
# A hand taps within this of what it hears (common practice: some 20 to 40 ms, seldom more); never more than a
# part of a beat.
REACH_S, REACH_BEATS = 0.090, 0.22
# So many beats need an attack near them before the attacks are asked at all.
LEAST_ATTACKS = 4
ROUNDS = 6
# A gap between two taps counts for the beat where it is so many times the usual one.
USUAL = (0.7, 1.4)
# What the softest attack counts beside its strength.
SOFTEST = 0.05
# Each round looks for attacks nearer to the line: four times their spread and a little more, never less.
LEAST_REACH_S, WIDER_S = 0.020, 0.010
# No tap and no attack is known better than this, seconds.
EXACT_S = 1e-4


@dataclass(frozen=True, slots=True)
class Tapped:
    """What taps say.

    taps, slips         how many, and how many of them were left out
    rough_bpm           of the taps alone
    bpm, plus_minus_bpm of the attacks near them, and half of its 95 % interval; of the taps where too few
    attacks are near
    beat_s              time of one of the beats, near the first tap
    attacks             how many attacks carry it, 0 where the taps stand alone
    """

    taps: int
    slips: int
    rough_bpm: float
    bpm: float
    plus_minus_bpm: float
    beat_s: float
    attacks: int


def tapped(times_s: FloatArray, onsets: Onsets) -> Tapped:
    """Tempo and phase of taps, refined on attacks; both on one clock.

    Beats that were not tapped are no slips. Raises ParameterError for fewer than four taps, or taps in which
    no tempo is found

    times_s  shape (n,), in the order in which they came
    """
    taps = np.unique(np.asarray(times_s, dtype=np.float64))
    if len(taps) < LEAST_TAPS:
        raise ParameterError(
            f"{LEAST_TAPS} taps or more give a tempo; there are {len(taps)}. Nothing was changed; tap on."
        )
    count, kept = _counted(taps)
    if kept.sum() < LEAST_TAPS:
        raise ParameterError("No one tempo fits these taps. Nothing was changed; tap again, once a beat.")
    period, start, spread = robust_line(count[kept], taps[kept], np.ones(int(kept.sum())))
    if not MIN_BPM <= 60.0 / period <= MAX_BPM:
        raise ParameterError(
            f"These taps are at {60.0 / period:.0f} BPM; a tempo lies between {MIN_BPM:g} and "
            f"{MAX_BPM:g}. Nothing was changed."
        )
    rough = 60.0 / period
    first, last = float(count[kept].min()), float(count[kept].max())
    found = _on_attacks(period, start, first, last, onsets)
    if found is None:
        return Tapped(
            len(taps),
            int((~kept).sum()),
            rough,
            rough,
            _interval(rough, period, spread, count[kept]),
            start + period * first,
            0,
        )
    period, start, spread, beats = found
    bpm = 60.0 / period
    return Tapped(
        len(taps),
        int((~kept).sum()),
        rough,
        bpm,
        _interval(bpm, period, spread, beats),
        start + period * first,
        len(beats),
    )


def _counted(taps: FloatArray) -> tuple[FloatArray, np.ndarray]:
    """(beat of each tap, whether it is no slip): intervals are whole numbers of the usual one."""
    gaps = np.diff(taps)
    usual = float(np.median(gaps))
    # A slip splits a gap in two, or a missed beat doubles it; the middle half of the gaps says the beat.
    usual = float(np.mean(gaps[(gaps > USUAL[0] * usual) & (gaps < USUAL[1] * usual)]))
    best: tuple[int, float, FloatArray, np.ndarray] | None = None
    for anchor in range(len(taps)):
        period, start = usual, float(taps[anchor])
        for _ in range(4):
            place = (taps - start) / period
            count = np.round(place)
            kept = np.abs(place - count) < SLIP
            # Of two taps on one beat the nearer one counts.
            for beat in np.unique(count[kept]):
                same = np.flatnonzero(kept & (count == beat))
                kept[same] = False
                kept[same[int(np.argmin(np.abs(place[same] - beat)))]] = True
            if kept.sum() < 3 or len(np.unique(count[kept])) < 3:
                break
            period, start = (float(value) for value in np.polyfit(count[kept], taps[kept], 1))
        off = float(np.abs(taps - start - period * count)[kept].sum()) / max(1, int(kept.sum())) / period
        # Beats without a tap speak against a line that is too fast.
        rank = (int(kept.sum()), -off)
        if best is None or rank > best[:2]:
            best = (*rank, count, kept)
    assert best is not None
    return best[2], best[3]


def _on_attacks(
    period: float, start: float, first: float, last: float, onsets: Onsets
) -> tuple[float, float, float, FloatArray] | None:
    """(period, start, spread, beats) of the line through the attacks near the tapped beats; None where too
    few are near.
    """
    times, strength = np.asarray(onsets.times, dtype=np.float64), np.asarray(onsets.strength) + SOFTEST
    reach = min(REACH_S, REACH_BEATS * period)
    beats: FloatArray = np.zeros(0)
    spread = reach
    for _ in range(ROUNDS):
        count, at, weight = [], [], []
        for beat in np.arange(first, last + 1):
            off = times - (start + period * beat)
            near = np.flatnonzero(np.abs(off) <= reach)
            if len(near):
                worth = strength[near] * np.exp(-0.5 * (off[near] / (0.5 * reach)) ** 2)
                count.append(beat)
                at.append(times[near[int(np.argmax(worth))]])
                weight.append(float(worth.max()))
        if len(count) < LEAST_ATTACKS:
            return None
        beats = np.array(count)
        period, start, spread = robust_line(beats, np.array(at), np.array(weight))
        reach = max(LEAST_REACH_S, min(reach, 4.0 * spread + WIDER_S))
    return period, start, spread, beats


def _interval(bpm: float, period: float, spread: float, beats: FloatArray) -> float:
    """Half of a tempo's 95 % interval: the slope's, from the spread about the line."""
    wide = float(np.sqrt(np.sum((beats - beats.mean()) ** 2)))
    return float(HALF_95 * bpm * max(spread, EXACT_S) / max(wide, 1e-9) / period)
