"""Click trains: takes in which nothing sounds but short clicks.

A click that was exported with a session is one click a beat (common practice), at any tempo. Music is counted
by what is usual of music; a click at 240 BPM would be counted in twos by that.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.clocks import FloatArray
from combpace.core.onsets.detect import Onsets
from combpace.core.spectra import OnsetStrength

# A click is as much softer after this time, and before the next one as much softer again, in dB.
RING_S, GONE_DB, SILENT_DB = 0.080, 20.0, 30.0
LEAST_CLICKS, SHORTEST_S, LONGEST_S = 8, 60 / 325, 60 / 28
# A machine or a steady hand clicks so evenly: neighbouring distances differ by less than this share. Where
# the tempo changes they differ more; so many of them may.
EVEN, EXCEPTIONS = 0.04, 0.1
# Clicks that take turns, loud and soft, count parts of beats: by how many times their own scatter they then
# differ.
TURNS = 2.0
MOST_LEFT_OUT = 8


def click_train(heard: OnsetStrength, onsets: Onsets) -> FloatArray | None:
    """The beats of a take that holds nothing but clicks, in seconds; those that were left out between two are
    filled in.

    None where it holds anything else: sound between them, uneven distances, clicks that are loud and soft by
    turns, or fewer than LEAST_CLICKS.

    Returns  shape (n,), increasing
    """
    times = np.asarray(onsets.times)
    if len(times) < LEAST_CLICKS:
        return None
    rate = heard.frame_rate_hz
    # The window of a frame hears an attack 12 ms before it comes.
    power = ndimage.maximum_filter1d(heard.level.astype(np.float64), max(1, round(0.015 * rate))) ** 2 + 1e-14
    at = np.clip(np.round(times * rate).astype(int), 0, len(power) - 1)
    reach, gap = round(RING_S * rate), np.diff(at)
    loud = np.array(
        [power[k : k + max(1, min(reach, int(g)) // 2)].max() for k, g in zip(at, gap, strict=False)]
    )
    rung = power[np.clip(at[:-1] + np.minimum(reach, (0.6 * gap).astype(int)), 0, len(power) - 1)]
    between = np.array(
        [
            power[k + int(0.5 * g) : k + max(int(0.5 * g) + 1, int(0.9 * g))].min()
            for k, g in zip(at, gap, strict=False)
        ]
    )
    if _db(loud, rung) < GONE_DB or _db(loud, between) < SILENT_DB:
        return None
    beats = _filled(times)
    gaps = np.diff(beats)
    usual = float(np.median(gaps))
    uneven = np.abs(np.log(gaps[1:] / gaps[:-1])) > EVEN
    if not SHORTEST_S <= usual <= LONGEST_S or uneven.mean() > EXCEPTIONS or _by_turns(10 * np.log10(loud)):
        return None
    return beats


def _db(loud: FloatArray, soft: FloatArray) -> float:
    """How much softer, in dB, nearly all are: of ten clicks one may stand in something else."""
    return float(np.quantile(10 * np.log10(loud / soft), 0.1))


def _filled(times: FloatArray) -> FloatArray:
    """With the clicks that were left out: where a distance is a multiple of those before and after it."""
    gaps = np.diff(times)
    out = [times[:1]]
    for k, gap in enumerate(gaps):
        near = np.concatenate([gaps[max(0, k - 2) : k], gaps[k + 1 : k + 3]])
        step = float(np.median(near))
        count = round(gap / step)
        even = (
            1 < count <= MOST_LEFT_OUT
            and abs(gap / step - count) < EVEN * count
            and np.ptp(near) < EVEN * step
        )
        out.append(times[k] + gap * np.arange(1, count + 1) / count if even else times[k + 1 : k + 2])
    result: FloatArray = np.concatenate(out)
    return result


def _by_turns(levels_db: FloatArray) -> bool:
    """Whether every second click is louder than those between."""
    first, second = levels_db[::2], levels_db[1::2]
    scatter = max(0.5, float(np.hypot(first.std(), second.std())))
    return bool(abs(first.mean() - second.mean()) > TURNS * scatter)
