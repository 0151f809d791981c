"""Beats: the pulse under the attacks, followed through a whole take.

A hidden Markov model over (beat period, position in the beat), advanced frame by frame and decoded by the Viterbi
algorithm; periods change only at beats (Krebs, Böck, Widmer 2015, "An efficient state-space model for joint tempo and
meter tracking"). What is observed is our own onset strength, weighed by where in the beat it falls. The decoded
beats are then laid on the attacks that carry them.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy import ndimage

from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets import Onsets
from combpace.core.spectra import OnsetStrength

FRAMES_PER_S = 100.0
SLOWEST_BPM, FASTEST_BPM = 40.0, 240.0


@dataclass(frozen=True, slots=True)
class BeatSettings:
    """How the pulse is looked for. The weights are those of docs/decisions/ear.md.

    bpm_range  beats per minute that may be read; the prior is flat in it when it is given by the user
    """

    bpm_range: tuple[float, float] | None = None
    centre_bpm: float = 108.0
    spread_octaves: float = 0.55
    on: float = 1.0
    half: float = 0.20
    third: float = -0.05
    quarter: float = -0.12
    off: float = -0.30
    beat_cost: float = 0.55
    prior: float = 1.4
    stiffness: float = 90.0
    low: float = 1.6
    high: float = 0.8

    def __post_init__(self) -> None:
        if self.bpm_range is not None:
            low, high = self.bpm_range
            if not (10.0 <= low < high <= 500.0):
                raise ParameterError(f"A range of tempi goes from a lower to a higher value between 10 and 500 BPM, not {low:g} to {high:g}.")


@dataclass(frozen=True, slots=True)
class Beats:
    """Beats in order of time.

    times       take time, strictly increasing
    confidence  0-1, how well each beat is carried by attacks and by the regularity about it
    """

    times: TakeTimes
    confidence: FloatArray = field(default_factory=lambda: np.zeros(0))

    def __len__(self) -> int:
        return len(self.times)


def no_beats() -> Beats:
    """What silence gives."""
    return Beats(take_times([]))


def activation(heard: OnsetStrength, low: float = 1.6, high: float = 0.8) -> FloatArray:
    """Onset strength at FRAMES_PER_S, levelled so that a typical strong attack is 1; shape (ceil(duration * FRAMES_PER_S),)."""
    flux = heard.flux.astype(np.float64)
    total = low * flux[:, 0] + flux[:, 1] + high * flux[:, 2]
    total = np.maximum(total - ndimage.uniform_filter1d(total, round(0.3 * heard.frame_rate_hz), mode="nearest"), 0.0)
    count = max(1, int(np.ceil(len(total) / heard.frame_rate_hz * FRAMES_PER_S)))
    place = np.minimum((np.arange(len(total)) / heard.frame_rate_hz * FRAMES_PER_S + 0.5).astype(int), count - 1)
    pooled = np.zeros(count)
    np.maximum.at(pooled, place, total)
    if not pooled.any():
        return pooled
    # The level follows the take over some seconds, but never below a third of its loud places.
    loud = ndimage.maximum_filter1d(pooled, round(1.0 * FRAMES_PER_S))
    loud = ndimage.uniform_filter1d(loud, round(4.0 * FRAMES_PER_S), mode="nearest")
    reference = np.maximum(loud, 0.35 * float(np.quantile(pooled[pooled > 0], 0.95)))
    levelled: FloatArray = np.minimum(pooled / reference, 1.5)
    return levelled


def track_beats(heard: OnsetStrength, onsets: Onsets, settings: BeatSettings | None = None) -> Beats:
    """Follow the pulse through a take.

    heard     onset strength of the take
    onsets    its attack starts; beats are laid on them
    Returns   strictly increasing beats between the first and the last attack; empty with fewer than three attacks
    """
    settings = settings or BeatSettings()
    if len(onsets) < 3:
        return no_beats()
    act = activation(heard, settings.low, settings.high)
    if not act.any():
        return no_beats()
    frames = decode(act, settings)
    if len(frames) < 2:
        return no_beats()
    rough = frames / FRAMES_PER_S
    times, carried = lay_on_onsets(rough, onsets)
    margin = 0.5 * float(np.median(np.diff(times)))
    first, last = float(onsets.times[0]), float(onsets.times[-1])
    keep = (times > first - margin) & (times < last + margin) & (times >= 0)
    # A beat within a hair of the first attack belongs to it even where the attack came late in the model's eyes.
    times, carried = times[keep], carried[keep]
    if len(times) < 2:
        return no_beats()
    return Beats(take_times(times), confidence_of(times, carried))


def decode(act: FloatArray, settings: BeatSettings) -> FloatArray:
    """Frames of beats: the best path through (period, position) for an activation at FRAMES_PER_S."""
    low_bpm, high_bpm = settings.bpm_range or (SLOWEST_BPM, FASTEST_BPM)
    shortest = max(4, int(np.floor(60.0 * FRAMES_PER_S / high_bpm)))
    longest = max(shortest + 1, int(np.ceil(60.0 * FRAMES_PER_S / low_bpm)))
    periods = np.arange(shortest, longest + 1)
    starts = np.concatenate([[0], np.cumsum(periods)[:-1]])
    ends = starts + periods - 1
    int(periods.sum())
    phase = np.concatenate([np.arange(period) / period for period in periods])
    weight = _weights(phase, np.repeat(periods, periods), settings)
    octaves = np.log2(60.0 * FRAMES_PER_S / periods / settings.centre_bpm)
    prior = -settings.prior * 0.5 * (octaves / settings.spread_octaves) ** 2 if settings.bpm_range is None else np.zeros(len(periods))
    ratio = np.abs(np.log(periods[:, None] / periods[None, :]))
    # to-row, from-column; the prior is paid at every beat in proportion to its length, so that half and double compete fairly.
    transition = -settings.stiffness * ratio
    toll = prior * (periods / FRAMES_PER_S) - settings.beat_cost * _mean_strength(act)
    smooth = np.maximum.reduce([act, 0.7 * np.roll(act, 1), 0.7 * np.roll(act, -1)])

    score = np.repeat(prior, periods) * 1.0
    came_from = np.zeros((len(act), len(periods)), np.int16)
    for t in range(len(act)):
        into = transition + score[ends][None, :]
        best = np.argmax(into, axis=1)
        came_from[t] = best
        opened = into[np.arange(len(periods)), best] + toll
        score[1:] = score[:-1]
        score[starts] = opened
        if smooth[t] > 0:
            score += smooth[t] * weight
    state = int(np.argmax(score))
    period = int(np.searchsorted(starts, state, "right") - 1)
    position = state - int(starts[period])
    t = len(act) - 1
    beats: list[int] = []
    while t >= 0:
        t -= position
        if t < 0:
            break
        beats.append(t)
        period = int(came_from[t, period])
        position = int(periods[period])
    return np.array(beats[::-1], dtype=np.float64)


def _mean_strength(act: FloatArray) -> float:
    strong = act[act > 0.3]
    return float(np.median(strong)) if len(strong) else 1.0


def _weights(phase: FloatArray, period: FloatArray, settings: BeatSettings) -> FloatArray:
    """What a unit of onset strength is worth at each state, by its place in the beat."""
    seconds = period / FRAMES_PER_S

    def near(place: float, reach_s: float) -> FloatArray:
        distance = np.abs((phase - place + 0.5) % 1.0 - 0.5) * seconds
        bell: FloatArray = np.exp(-0.5 * (distance / reach_s) ** 2)
        return bell

    weight = np.full(len(phase), settings.off)
    for place, value in ((0.5, settings.half), (1 / 3, settings.third), (2 / 3, settings.third), (0.25, settings.quarter), (0.75, settings.quarter)):
        weight = np.maximum(weight, settings.off + (value - settings.off) * near(place, 0.022))
    on = near(0.0, 0.018)
    result: FloatArray = weight * (1 - on) + settings.on * on
    return result


def lay_on_onsets(rough: FloatArray, onsets: Onsets, reach_s: float = 0.045) -> tuple[FloatArray, FloatArray]:
    """Move beats onto the attacks that carry them.

    A beat goes to the dominant early attack within reach: of those at least 0.6 times as strong (nearness counted) as
    the best one, the first. Beats without an attack ride between their neighbours.
    Returns  (times, how much each is carried, 0-1)
    """
    times = rough.copy()
    carried = np.zeros(len(rough))
    at, strength = np.asarray(onsets.times), onsets.strength
    for i, time in enumerate(rough):
        gap = min(rough[i] - rough[i - 1] if i else np.inf, rough[i + 1] - rough[i] if i + 1 < len(rough) else np.inf)
        reach = min(reach_s, 0.2 * gap)
        lo, hi = np.searchsorted(at, (time - reach, time + reach))
        if hi <= lo:
            continue
        worth = (strength[lo:hi] + 0.05) * np.exp(-0.5 * ((at[lo:hi] - time) / (0.5 * reach)) ** 2)
        best = lo + int(np.flatnonzero(worth >= 0.6 * worth.max())[0])
        times[i], carried[i] = at[best], min(1.0, 0.35 + float(strength[best]))
    held = np.flatnonzero(carried > 0)
    if len(held) >= 2:
        shift = times - rough
        free = carried == 0
        times[free] += np.interp(np.flatnonzero(free), held, shift[held])
    return _increasing(times), carried


def _increasing(times: FloatArray) -> FloatArray:
    """Two beats never share a moment: a later one that would is put a quarter of the way to the next."""
    for i in range(1, len(times)):
        if times[i] <= times[i - 1] + 0.02:
            following = times[i + 1] if i + 1 < len(times) else times[i - 1] + 0.4
            times[i] = times[i - 1] + max(0.03, 0.25 * (following - times[i - 1]))
    return times


def confidence_of(times: FloatArray, carried: FloatArray) -> FloatArray:
    """0-1 for each beat: carried by an attack, and regular with its neighbours."""
    gaps = np.diff(times)
    typical = ndimage.median_filter(gaps, min(9, len(gaps)), mode="nearest")
    odd = np.abs(np.log(gaps / typical))
    beside = np.maximum(np.concatenate([odd[:1], odd]), np.concatenate([odd, odd[-1:]]))
    regular = np.exp(-beside / 0.06)
    about = ndimage.uniform_filter1d(carried, min(8, len(carried)), mode="nearest")
    result: FloatArray = np.clip((0.25 + 0.5 * carried + 0.25 * about) * (0.35 + 0.65 * regular), 0.02, 0.98)
    return result
