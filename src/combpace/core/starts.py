"""When an attack starts: change points of the waveform in five bands, and which of them it is.

A change point splits a short window into "before" and "after" with the smallest Akaike criterion (Maeda 1985, as used to
pick arrivals of waves). Each band has one, and one more in what lies before it: where two instruments share a beat, the
softer one often comes first. A linear model of a few readable features, learnt by `bench/ear/train_starts.py` from
generated songs, says which is the start; it is moved to a zero crossing where one lies within 1 ms.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray
from combpace.core.start_weights import WEIGHTS

# Windows in seconds, about a peak of the onset strength: main changes are looked for from BEFORE_S, those before them from EARLY_S.
EARLY_S, BEFORE_S, AFTER_S = 0.026, 0.014, 0.010
# Filters need this long before the window to settle.
SETTLE_S = 0.030
BANDS_HZ = ((150.0,), (150.0, 600.0), (600.0, 2000.0), (2000.0, 6000.0), (6000.0, 15000.0))
ZERO_CROSSING_S = 0.001
NAMES = (
    "gain", "gain against the largest", "log of the likelihood ratio", "is before a main change", "level after against the band's peak",
    "band's peak against the largest", "time after the peak of the rise", "its square", "time after the largest main change", "its size",
    "others within 2 ms", "largest gain of those earlier", "band 2", "band 3", "band 4", "band 5", "gain if before", "band's peak if before",
    "gain times band's peak",
)  # fmt: skip


class StartFinder:
    """Finds the start of one attack after another in a source."""

    def __init__(self, source: Source) -> None:
        # Imported where it is used: it alone takes most of a second, and a server only needs what was found before.
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
                self._filters.append((number, signal.butter(2, inside[0] if len(inside) == 1 else inside, kind, fs=rate, output="sos")))

    def start(self, rough_s: float) -> float:
        """The attack's start, seconds, near `rough_s`."""
        found, mix, first = self.candidates(rough_s)
        at = round(rough_s * self._rate)
        if len(found):
            at = round(float(found[np.argmax(features(found, rough_s) @ np.array(WEIGHTS)), 2]) * self._rate)
        return min(max(self._zero_crossing(mix, at - first) + first, 0), self._source.frames) / self._rate

    def candidates(self, rough_s: float) -> tuple[FloatArray, FloatArray, int]:
        """Change points near `rough_s`, the sound about it and the frame where that begins.

        Rows: band, is before a main change, time in seconds, gain in nepers, likelihood ratio, level after it against the
        band's peak and that peak, both in nepers.
        """
        rate = self._rate
        centre = round(rough_s * rate)
        lo, hi = centre - round(EARLY_S * rate), centre + round(AFTER_S * rate)
        mix = np.asarray(self._source.read(lo - self._margin, hi).mean(axis=0), dtype=np.float64)
        step = max(1, round(0.0005 * rate))
        edge = max(2 * step, 8)
        begin = round((EARLY_S - BEFORE_S) * rate)
        rows: list[tuple[float, ...]] = []
        for number, sos in self._filters:
            power = self._settle(sos, mix)[self._margin :] ** 2
            smooth = ndimage.uniform_filter1d(power, 4 * step + 1, mode="nearest")
            # The window ends where the attack is at its loudest: a decay after it must not pull the split.
            peak = begin + int(np.argmax(smooth[begin:]))
            end = min(len(power), max(peak + 2 * step, begin + round(0.012 * rate)))
            top = float(np.log(smooth[peak] + 1e-12))
            main = _split(power, begin, end, edge)
            if main is None:
                continue
            rows.append((number, 0.0, (lo + main[0]) / rate, main[1], main[2], main[3] - top, top))
            before = _split(power, 0, main[0], edge)
            if before is not None and before[1] > 0:
                rows.append((number, 1.0, (lo + before[0]) / rate, before[1], before[2], before[3] - top, top))
        return np.array(rows), mix, lo - self._margin

    def _zero_crossing(self, mix: FloatArray, at: int) -> int:
        """The zero crossing nearest to `at` within 1 ms, or `at`."""
        reach = round(ZERO_CROSSING_S * self._rate)
        lo, hi = max(at - reach, 1), min(at + reach + 1, len(mix))
        if hi <= lo:
            return at
        signs = np.signbit(mix[lo - 1 : hi])
        crossings = lo + np.flatnonzero(signs[1:] != signs[:-1])
        return int(crossings[np.argmin(np.abs(crossings - at))]) if len(crossings) else at


def _split(power: FloatArray, lo: int, hi: int, edge: int) -> tuple[int, float, float, float] | None:
    """(frame, gain in nepers, likelihood ratio, log level after) of the best split of a stretch, or None where it is too short."""
    n = hi - lo
    if n <= 2 * edge:
        return None
    total = np.cumsum(power[lo:hi])
    count = np.arange(1, n + 1)
    least = 1e-12 + 1e-6 * float(power.max())
    before = np.log((total + least) / count)
    after = np.log((total[-1] - total + least) / np.maximum(n - count, 1))
    criterion = count * before + (n - count) * after
    k = edge + int(np.argmin(criterion[edge : n - edge]))
    return lo + k, float(after[k] - before[k]), float(n * np.log((total[-1] + least) / n) - criterion[k]), float(after[k])


def features(rows: FloatArray, rough_s: float) -> FloatArray:
    """One row for each of `StartFinder.candidates`, columns as in NAMES."""
    band, early, time, gain, ratio, after, top = rows.T
    main = time[np.argmax(np.where(early == 0, gain, -np.inf))]
    loudness = np.clip(top - top.max(), -12.0, 0.0)
    near = (np.abs(time[:, None] - time[None, :]) < 0.002).sum(axis=1) - 1
    earlier = ((time[None, :] < time[:, None] - 0.003) * np.maximum(gain[None, :], 0.0)).max(axis=1)
    late, later = 100.0 * (time - rough_s), 100.0 * (time - main)
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
            np.minimum(near, 4),
            earlier,
            *(band == k for k in range(1, len(BANDS_HZ))),
            early * gain,
            early * loudness,
            np.maximum(gain, 0.0) * loudness / 5.0,
        ]
    )
