"""When an attack starts: change points of the waveform in five bands, and which of them it is.

A change point splits a short window into "before" and "after" with the smallest Akaike criterion (Maeda 1985,
as used to pick arrivals of waves). Each band has one, and one more in what lies before it: where two
instruments share a beat, the softer one often comes first. A small network sees how loud each band is from
millisecond to millisecond and says how likely the start lies at each; a linear model of that and of a few
readable features says which change is the start. Both are learnt by `bench/ear/train.py` from generated
songs. The start is moved to a zero crossing where one lies within 1 ms.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.networks.layers import outputs
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import Float32Array

# Windows in seconds, about a peak of the onset strength: main changes are looked for from BEFORE_S, those
# before them from EARLY_S.
EARLY_S, BEFORE_S, AFTER_S = 0.026, 0.014, 0.010
# Filters need this long before the window to settle.
SETTLE_S = 0.030
BANDS_HZ = ((150.0,), (150.0, 600.0), (600.0, 2000.0), (2000.0, 6000.0), (6000.0, 15000.0))
ZERO_CROSSING_S = 0.001
# The network's picture: nepers of each band in steps of PICTURE_S, no lower than FAINT below the loudest; its
# weights.
PICTURE_S, FAINT = 0.001, 10.0
PICTURE_STEPS = round((EARLY_S + AFTER_S) / PICTURE_S)
# The likelihood about a change is summed over so many steps before and after its own.
NEARBY_STEPS = 2
WEIGHTS = "start_weights.npz"
# What starts a sound this much below its loudest is soft.
SOFT_DB = 15.0
BATCH = 48
NAMES = (
    "gain", "gain against the largest", "log of the likelihood ratio", "is before a main change",
    "level after against the band's peak",
    "band's peak against the largest", "time after the peak of the rise", "its square",
    "time after the largest main change", "its size",
    "others within 2 ms", "largest gain of those earlier", "band 2", "band 3", "band 4", "band 5",
    "gain if before", "band's peak if before",
    "gain times band's peak", "log of the network's likelihood there", "of that within two steps",
)  # fmt: skip


@dataclass(frozen=True, slots=True, eq=False)
class Near:
    """The sound near an attack that is known roughly.

    changes  one row each: band, is before a main change, time in seconds, gain in nepers, likelihood ratio,
             level after it against the band's peak and that peak, both in nepers
    picture  how loud each band is against its own peak, step by step from EARLY_S before, then the bands'
             peaks against the largest; shape ((PICTURE_STEPS + 1) * bands,)
    mix      the sound, from frame `first` on
    """

    rough_s: float
    changes: FloatArray
    picture: Float32Array
    mix: FloatArray
    first: int


class StartFinder:
    """Finds the start of one attack after another in a source."""

    def __init__(self, source: Source) -> None:
        # Imported where it is used: it alone takes most of a second, and a server only needs what was found
        # before.
        from scipy import signal

        self._source = source
        rate = source.sample_rate_hz
        self._rate = rate
        self._margin = round(SETTLE_S * rate)
        self._settle = signal.sosfilt
        self._filters = []
        for number, edges in enumerate(BANDS_HZ):
            inside = [min(edge, 0.45 * rate) for edge in edges]
            if len(inside) == 1 or inside[1] > 1.2 * inside[0]:
                kind = "lowpass" if len(inside) == 1 else "bandpass"
                self._filters.append(
                    (
                        number,
                        signal.butter(
                            2, inside[0] if len(inside) == 1 else inside, kind, fs=rate, output="sos"
                        ),
                    )
                )

    def starts(self, rough_s: FloatArray) -> FloatArray:
        """The start of each attack, seconds, near `rough_s`; shape as that."""
        w = weights_of(WEIGHTS)
        found = np.empty(len(rough_s))
        for first in range(0, len(rough_s), BATCH):
            seen = self.near(rough_s[first : first + BATCH])
            said = outputs(np.array([near.picture for near in seen]), w)
            for k, (near, logits) in enumerate(zip(seen, said, strict=True), first):
                at = round(near.rough_s * self._rate)
                if len(near.changes):
                    at = round(
                        float(near.changes[np.argmax(features(near, logits) @ w["linear"]), 2]) * self._rate
                    )
                found[k] = (
                    min(
                        max(self._zero_crossing(near.mix, at - near.first) + near.first, 0),
                        self._source.frames,
                    )
                    / self._rate
                )
        return found

    def near(self, rough_s: FloatArray) -> list[Near]:
        """What is seen of the sound near each attack, all of them at once: some dozens at a time."""
        rate, count = self._rate, len(rough_s)
        early, size = round(EARLY_S * rate), round(EARLY_S * rate) + round(AFTER_S * rate)
        lo = np.array([round(float(time) * rate) - early for time in rough_s])
        mixes = np.stack(
            [self._source.read(int(at) - self._margin, int(at) + size).mean(axis=0) for at in lo]
        ).astype(np.float64)
        step = max(1, round(0.0005 * rate))
        edge, begin, least = max(2 * step, 8), round((EARLY_S - BEFORE_S) * rate), round(0.012 * rate)
        steps = np.minimum(np.round(np.arange(PICTURE_STEPS + 1) * PICTURE_S * rate).astype(np.int64), size)
        levels = np.full((count, len(BANDS_HZ), PICTURE_STEPS), np.log(1e-10))
        each = np.arange(count)
        changes: list[list[tuple[float, ...]]] = [[] for _ in each]
        for number, sos in self._filters:
            power = self._settle(sos, mixes, axis=1)[:, self._margin :] ** 2
            total = np.concatenate([np.zeros((count, 1)), np.cumsum(power, axis=1)], axis=1)
            levels[:, number] = np.log(
                np.maximum(np.diff(total[:, steps], axis=1), 0) / np.maximum(np.diff(steps), 1) + 1e-10
            )
            smooth = ndimage.uniform_filter1d(power, 4 * step + 1, axis=1, mode="nearest")
            # The window ends where the attack is at its loudest: a decay after it must not pull the split.
            peak = begin + np.argmax(smooth[:, begin:], axis=1)
            end = np.minimum(size, np.maximum(peak + 2 * step, begin + least))
            top = np.log(smooth[each, peak] + 1e-12)
            floor = 1e-12 + 1e-6 * power.max(axis=1)
            main = _splits(total, floor, np.full(count, begin), end, edge)
            before = _splits(total, floor, np.zeros(count, np.int64), main[0].astype(np.int64), edge)
            for is_before, split in enumerate((main, before)):
                for k in np.flatnonzero((split[0] >= 0) & ((split[1] > 0) | (is_before == 0))):
                    at, gain, ratio, after = (float(value) for value in split[:, k])
                    changes[k].append(
                        (
                            number,
                            is_before,
                            (int(lo[k]) + at) / rate,
                            gain,
                            ratio,
                            after - float(top[k]),
                            float(top[k]),
                        )
                    )
        return [
            Near(
                float(rough_s[k]),
                np.array(changes[k]),
                _picture(levels[k]),
                mixes[k],
                int(lo[k]) - self._margin,
            )
            for k in range(count)
        ]

    def loud_start(self, start_s: float, until_s: float, soft_db: float = SOFT_DB) -> float | None:
        """Where the loud part begins of a sound that starts softly, seconds; None where it is loud from
        `start_s` on.

        Loud is what is less than soft_db below the loudest until `until_s`.
        """
        rate = self._rate
        lo, hi = round(start_s * rate), min(round(until_s * rate), self._source.frames)
        edge = max(round(0.001 * rate), 8)
        if hi - lo <= 4 * edge:
            return None
        power = np.square(self._source.read(lo, hi).mean(axis=0, dtype=np.float64))
        smooth = ndimage.uniform_filter1d(power, edge, mode="nearest")
        peak = int(np.argmax(smooth))
        if peak < 3 * edge or float(smooth[: 2 * edge].max()) > float(smooth[peak]) * 10 ** (-soft_db / 10):
            return None
        total = np.concatenate([[0.0], np.cumsum(power)])[None]
        at = int(
            _splits(
                total,
                np.array([1e-12 + 1e-6 * power.max()]),
                np.array([0]),
                np.array([min(peak + edge, hi - lo)]),
                edge,
            )[0, 0]
        )
        mix, first = (
            self._source.read(lo - self._margin, hi).mean(axis=0, dtype=np.float64),
            lo - self._margin,
        )
        return (self._zero_crossing(mix, lo + at - first) + first) / rate if at > 0 else None

    def _zero_crossing(self, mix: FloatArray, at: int) -> int:
        """The zero crossing nearest to `at` within 1 ms, or `at`."""
        reach = round(ZERO_CROSSING_S * self._rate)
        lo, hi = max(at - reach, 1), min(at + reach + 1, len(mix))
        if hi <= lo:
            return at
        signs = np.signbit(mix[lo - 1 : hi])
        crossings = lo + np.flatnonzero(signs[1:] != signs[:-1])
        return int(crossings[np.argmin(np.abs(crossings - at))]) if len(crossings) else at


def _splits(total: FloatArray, floor: FloatArray, lo: IntArray, hi: IntArray, edge: int) -> FloatArray:
    """The best split of a stretch [lo, hi) of each row.

    total   power summed up to each frame, shape (rows, frames + 1); floor: added to sums, shape (rows,)
    Returns rows: frame, or -1 where the stretch is too short; gain in nepers; likelihood ratio; log level
    after; shape (4, rows)
    """
    each = np.arange(len(total))
    size = hi - lo
    found = np.full((4, len(total)), -1.0)
    first, last = int(lo.min()) + edge, int(hi.max()) - edge
    if last <= first:
        return found
    at = np.arange(first, last)
    begin, end = total[each, lo], total[each, np.maximum(hi, 0)]
    count = np.clip(at + 1 - lo[:, None], 1, None)
    rest = np.clip(size[:, None] - count, 1, None)
    low = np.log((np.maximum(total[:, first + 1 : last + 1] - begin[:, None], 0) + floor[:, None]) / count)
    high = np.log((np.maximum(end[:, None] - total[:, first + 1 : last + 1], 0) + floor[:, None]) / rest)
    criterion = count * low + rest * high
    inside = (at >= (lo + edge)[:, None]) & (at < (hi - edge)[:, None])
    best = np.argmin(np.where(inside, criterion, np.inf), axis=1)
    whole = size * np.log((end - begin + floor) / np.maximum(size, 1))
    real = size > 2 * edge
    values = (at[best], high[each, best] - low[each, best], whole - criterion[each, best], high[each, best])
    found[:, real] = np.array(values)[:, real]
    return found


def _picture(levels: FloatArray) -> Float32Array:
    peaks = levels.max(axis=1)
    inside = np.maximum(levels - peaks[:, None], -FAINT)
    return np.concatenate([inside.ravel(), np.maximum(peaks - peaks.max(), -FAINT)]).astype(np.float32)


def features(near: Near, logits: Float32Array) -> FloatArray:
    """One row for each change, columns as in NAMES; `logits` is what the network says of each step.

    logits   shape (PICTURE_STEPS,)
    Returns  shape (changes, len(NAMES))
    """
    band, early, time, gain, ratio, after, top = near.changes.T
    main = time[np.argmax(np.where(early == 0, gain, -np.inf))]
    loudness = np.clip(top - top.max(), -12.0, 0.0)
    beside = (np.abs(time[:, None] - time[None, :]) < 0.002).sum(axis=1) - 1
    earlier = ((time[None, :] < time[:, None] - 0.003) * np.maximum(gain[None, :], 0.0)).max(axis=1)
    late, later = 100.0 * (time - near.rough_s), 100.0 * (time - main)
    likely = np.exp(logits.astype(np.float64) - logits.max())
    likely /= likely.sum()
    at = (time - near.rough_s + EARLY_S) / PICTURE_S
    there = np.maximum(np.interp(at - 0.5, np.arange(PICTURE_STEPS), np.log(likely + 1e-12)), -9.0)
    total = np.concatenate([[0.0], np.cumsum(likely)])
    whole = np.floor(at).astype(np.int64)
    nearby = (
        total[np.clip(whole + NEARBY_STEPS + 1, 0, PICTURE_STEPS)]
        - total[np.clip(whole - NEARBY_STEPS, 0, PICTURE_STEPS)]
    )
    return np.column_stack(
        [
            gain,
            gain / max(float(gain.max()), 1e-6),
            np.log1p(np.maximum(ratio, 0.0)),
            early,
            np.clip(after, -8.0, 2.0),
            loudness,
            late,
            late**2,
            later,
            np.abs(later),
            np.minimum(beside, 4),
            earlier,
            *(band == k for k in range(1, len(BANDS_HZ))),
            early * gain,
            early * loudness,
            np.maximum(gain, 0.0) * loudness / 5.0,
            there,
            np.log(nearby + 1e-3),
        ]
    )
