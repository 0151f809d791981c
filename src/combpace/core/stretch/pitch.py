"""How long a period of a single voice is, over time: what Line goes by.

Autocorrelation of windowed frames divided by that of the window (Boersma 1993, "Accurate short-term analysis
of the fundamental frequency"), a few candidates a frame, and the smoothest way through them (dynamic
programming).
"""

from __future__ import annotations

from functools import cache

import numpy as np
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.stretch.decimated import BLOCK, decimating, filtered

HOP_S = 0.005
LOWEST_HZ, HIGHEST_HZ = 38.0, 1000.0
CANDIDATES = 5
# A period is believed where the sound is at least this much like itself a period later.
VOICED = 0.5
# What a candidate costs for each octave below the highest, and a step from frame to frame for each octave.
OCTAVE, STEP = 0.02, 0.6
BATCH = 256
# Frames that the filter before it needs until what it held at first is forgotten (-89 dB).
WARM = 2048
# A sound is compared with itself one period on over at least this long, and this many periods.
COMPARED_S, COMPARED_PERIODS = 0.008, 1.5
TRACKED_RATE_HZ, LOBES = 8000.0, 6
# The loudest of so many partials is followed through windows of LOUDEST_PERIODS, from LOUDEST_FROM_S on.
PARTIALS, LOUDEST_PERIODS, LOUDEST_FROM_S, BLOCKS = 6, 2, 0.03, 64
# It is no farther from a multiple than this share of a period.
STIFF = 0.01
# Falls by 6 dB an octave, without what is slower than any pitch.
_DEEP = ([1.0, -1.0], [1.0, -1.99, 0.990025])


def periods(source: Source, start: int, stop: int) -> tuple[IntArray, FloatArray, FloatArray]:
    """Periods of the sum of all channels between two frames.

    Returns  frames, shape (n,); periods in frames there, shape (n,), carried on through what has none; how
             much the sound is like itself a period later, 0 to 1, shape (n,)
    """
    rate = source.sample_rate_hz
    hop = max(1, round(HOP_S * rate))
    at: IntArray = start + np.arange((stop - start) // hop + 2) * hop
    # Pitch is far below half the rate: the search goes over a slower copy, every other frame.
    slower, coarse_at = max(1, int(rate / TRACKED_RATE_HZ)), at[::2]
    size = round(2.2 * rate / LOWEST_HZ / slower)
    margin = (size // 2 + LOBES + 1) * slower
    lo = int(at[0]) - margin
    frames = int(coarse_at[-1]) + margin - lo
    # The filter reaches so far on either side.
    reach = LOBES * slower if slower > 1 else 0
    low = source.read(lo - reach, lo + frames + reach).sum(axis=0)
    if slower > 1:
        low = filtered(low[None], _lowpass(slower), slower * BLOCK, -(-frames // slower))[0]
    coarse, alike = _tracked(low, (coarse_at - lo) // slower, rate / slower, size)
    sure = alike > VOICED
    if not sure.any():
        return at, np.full(len(at), rate / 200.0), np.interp(at, coarse_at, alike)
    period = np.interp(at, coarse_at[sure], coarse[sure] * slower)
    alike = np.interp(at, coarse_at, alike)
    sure = alike > VOICED
    least = round(COMPARED_S * rate)
    margin = round(max(COMPARED_PERIODS * float(period.max()), least)) + round(float(period.max())) + 4
    lo = int(at[0]) - margin - WARM
    sound = source.read(lo, int(at[-1]) + margin).sum(axis=0).astype(np.float64)
    period[sure] = _refined(sound, at[sure] - lo, period[sure], least)
    return at, np.interp(at, at[sure], period[sure]), alike


def of_loudest_partial(source: Source, span: tuple[int, int], at: IntArray, period: FloatArray) -> FloatArray:
    """Periods of a pitch that is held, so that its loudest partial keeps its phase from each to the next.

    Partials of a stiff string are not quite multiples: what its wave form repeats at lies between them, and a
    period more or less would move the phase of the loudest, which is heard as pitch. How its phase turns
    against the given periods through all of the span is one figure, a straight line (weighted by level).
    at, period  frames and periods there, shape (n,)
    Returns     shape of `period`
    """
    start, stop = span
    mean = float(np.median(period))
    # Blocks of 1/BLOCKS of a window are enough: partials lie far below their rate.
    step = max(1, round(LOUDEST_PERIODS * mean / BLOCKS))
    first = start + min(round(LOUDEST_FROM_S * source.sample_rate_hz), (stop - start) // 4)
    count = (stop - first) // step
    if count < 1.5 * BLOCKS:
        return period
    sound = np.add.reduceat(source.read(first, first + count * step).sum(axis=0), step * np.arange(count))
    # Windows of four quarters, a quarter apart. Within one the pitch is that of all; from one to the next it
    # is the given one.
    quarter = BLOCKS // 4
    whole = count // quarter
    middle = first + quarter * step * (np.arange(whole) + 0.5)
    phase = np.cumsum(quarter * step / np.interp(middle, at, period))
    partials = np.arange(1, PARTIALS + 1)
    inside = np.exp(
        -2j * np.pi * np.outer(step / mean * (np.arange(quarter) - 0.5 * (quarter - 1)), partials)
    )
    tables = (inside[:, :, None] * np.hanning(BLOCKS + 2)[1:-1].reshape(4, quarter).T[:, None, :]).reshape(
        quarter, -1
    )
    # Shape (quarters, partials, which part of a window).
    parts = (sound[: whole * quarter].reshape(whole, quarter) @ tables).reshape(whole, PARTIALS, 4)
    parts *= np.exp(-2j * np.pi * np.outer(phase, partials))[:, :, None]
    seen = parts[:-3, :, 0] + parts[1:-2, :, 1] + parts[2:-1, :, 2] + parts[3:, :, 3]
    power = np.square(seen.real) + np.square(seen.imag)
    loudest = int(np.argmax(power.sum(axis=0)))
    weight = power[:, loudest]
    if not weight.any():
        return period
    angle = np.unwrap(np.angle(seen[:, loudest])) / (2 * np.pi * (loudest + 1))
    place = step * quarter * (np.arange(len(angle)) - float(weight @ np.arange(len(angle)) / weight.sum()))
    slope = float((weight * place) @ angle / max(float(weight @ np.square(place)), 1e-9))
    return 1 / (1 / period + slope) if abs(slope) * mean < STIFF else period


@cache
def _lowpass(slower: int) -> Samples:
    """Kaiser, beta 5, LOBES zero crossings on either side."""
    # Half a second to import: only where sound is made.
    from scipy import signal

    return decimating(signal.firwin(2 * LOBES * slower + 1, 1.0 / slower, window=("kaiser", 5.0)), slower)


@cache
def _window(size: int) -> tuple[Samples, Samples, int]:
    """A window, its autocorrelation, and the length of transforms that hold it."""
    window = np.hanning(size + 2)[1:-1].astype(np.float32)
    length = fft.next_fast_len(2 * size, real=True)
    return window, fft.irfft(np.square(np.abs(fft.rfft(window, length))), length), length


def _tracked(sound: Samples, at: IntArray, rate: float, size: int) -> tuple[FloatArray, FloatArray]:
    """(periods, how alike) at frames of a sound, from windows of `size` frames about them."""
    shortest, longest = rate / HIGHEST_HZ, min(rate / LOWEST_HZ, size / 2.0)
    window, own, length = _window(size)
    own = own[: int(longest) + 2]
    lags = np.full((len(at), CANDIDATES), rate / 200.0)
    found = np.zeros((len(at), CANDIDATES))
    view = np.lib.stride_tricks.sliding_window_view(sound, size)
    penalty = (OCTAVE * np.log2(np.arange(1, int(longest) + 1) / shortest)).astype(np.float32)
    first = int(shortest) - 1
    for begin in range(0, len(at), BATCH):
        batch = at[begin : begin + BATCH] - size // 2
        frames = view[np.clip(batch, 0, len(view) - 1)]
        frames = (frames - frames.mean(axis=1, keepdims=True)) * window
        power = np.square(np.abs(fft.rfft(frames, length, axis=1)))
        same = fft.irfft(power, length, axis=1)[:, : int(longest) + 2]
        same = same / own * (own[0] / np.maximum(same[:, :1], np.float32(1e-12)))
        inner = same[:, 1 + first : -1]
        peak = (inner > same[:, first:-2]) & (inner >= same[:, 2 + first :])
        score = np.where(peak, inner - penalty[first:], np.float32(-1.0))
        best = np.argpartition(score, -CANDIDATES, axis=1)[:, -CANDIDATES:]
        rows = np.arange(len(batch))[:, None]
        said = score[rows, best]
        best += first
        left, mid, right = (same[rows, best + k].astype(np.float64) for k in range(3))
        bend = left - 2 * mid + right
        shift = np.where(bend < -1e-12, 0.5 * (left - right) / np.minimum(bend, -1e-12), 0.0)
        real = said > -0.5
        lags[begin : begin + len(batch)] = np.where(real, best + 1 + np.clip(shift, -0.5, 0.5), rate / 200.0)
        found[begin : begin + len(batch)] = np.where(real, np.clip(mid, 0, 1), 0.0)
    return _smoothest(lags, found, shortest)


def _refined(sound: FloatArray, at: IntArray, period: FloatArray, least: int) -> FloatArray:
    """Each period again, from how alike the sound about a frame is to itself one period on: no window bends
    the peak.

    Deep partials are louder than high ones in what is compared, or the highest would place the peak: partials
    of strings are not quite multiples, and pitch is where the loud ones are.
    """
    # Half a second to import: only where sound is made.
    from scipy import signal

    deep = signal.lfilter(*_DEEP, sound)
    span = max(int(COMPARED_PERIODS * np.percentile(period, 90)), least)
    steps = np.arange(-2, 3)
    whole = np.round(period).astype(np.int64)
    # The two stretches that are compared lie about the frame.
    begins = np.maximum(at - (whole + span) // 2, 0)
    refined = period.copy()
    view = np.lib.stride_tricks.sliding_window_view(deep, span)
    # One stretch holds all places that the other may be compared at.
    wide = np.lib.stride_tricks.sliding_window_view(deep, span + len(steps) - 1)
    total = np.concatenate([[0.0], np.cumsum(np.square(deep))])
    for k in range(0, len(at), BATCH):
        part = slice(k, k + BATCH)
        first = begins[part]
        here = view[first]
        energy = total[first + span] - total[first]
        same = np.empty((len(first), len(steps)))
        later = np.minimum(first + whole[part] + steps[0], len(wide) - 1)
        there = wide[later]
        for j in range(len(steps)):
            product = np.einsum("ij,ij->i", here, there[:, j : j + span])
            same[:, j] = product / np.sqrt(
                np.maximum(energy * (total[later + j + span] - total[later + j]), 1e-20)
            )
        # Least-squares parabola through five points.
        bend = (same @ np.array([2.0, -1, -2, -1, 2])) / 14
        slope = (same @ np.array([-2.0, -1, 0, 1, 2])) / 10
        shift = np.where(bend < -1e-9, -slope / np.minimum(2 * bend, -2e-9), 0.0)
        good = (np.abs(shift) <= 2) & (same.max(axis=1) > VOICED)
        refined[part] = np.where(good, whole[part] + shift, period[part])
    return refined


def _smoothest(lags: FloatArray, found: FloatArray, shortest: float) -> tuple[FloatArray, FloatArray]:
    """The candidate of each frame on the best way through all of them."""
    octaves = np.log2(lags / shortest)
    gain = found - OCTAVE * octaves
    total, back = gain[0].copy(), np.zeros(lags.shape, np.int64)
    # Where nothing is periodic a step costs little.
    step = (
        STEP
        * np.abs(octaves[1:, :, None] - octaves[:-1, None, :])
        * np.minimum(found[1:, :, None], found[:-1, None, :])
    )
    each = np.arange(lags.shape[1])
    for k in range(1, len(lags)):
        ways = total - step[k - 1]
        best = ways.argmax(axis=1)
        back[k] = best
        total = ways[each, best] + gain[k]
    path = np.zeros(len(lags), np.int64)
    path[-1] = int(np.argmax(total))
    for k in range(len(lags) - 1, 0, -1):
        path[k - 1] = back[k, path[k]]
    rows = np.arange(len(lags))
    return lags[rows, path], found[rows, path]
