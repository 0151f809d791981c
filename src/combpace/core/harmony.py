"""What sounds together, beat by beat: chroma (Fujishima 1999), so that changes of harmony can be compared."""

from __future__ import annotations

import numpy as np
from scipy import fft

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray

LOWEST_HZ, HIGHEST_HZ = 65.0, 2100.0
LONGEST_S = 1.5


def beat_chroma(source: Source, times: FloatArray) -> FloatArray:
    """Chroma of the sound from each beat to the next.

    times    beats, seconds of the source, increasing, at least two
    Returns  shape (beats, 12), each row of unit length, or zeros where nothing is tonal; C is column 0 (A4 = 440 Hz)
    """
    rate = source.sample_rate_hz
    ends = np.append(times[1:], times[-1] + float(np.median(np.diff(times))))
    rows = np.zeros((len(times), 12))
    for k, (start, end) in enumerate(zip(times, ends, strict=True)):
        # The attack itself is noise: what still rings later in the beat has the pitch.
        first = start + 0.35 * (end - start)
        frames = round(min(end - first, LONGEST_S) * rate)
        if frames < 256:
            continue
        at = round(first * rate)
        sound = source.read(at, at + frames).mean(axis=0) * np.hanning(frames)
        size = fft.next_fast_len(max(frames, round(0.35 * rate)), real=True)
        spectrum = np.abs(fft.rfft(sound, size))
        freqs = fft.rfftfreq(size, 1 / rate)
        lo, hi = np.searchsorted(freqs, (LOWEST_HZ, min(HIGHEST_HZ, 0.45 * rate)))
        part = np.sqrt(spectrum[lo:hi])
        # Only peaks count: noise between them has no pitch.
        peak = (part[1:-1] > part[:-2]) & (part[1:-1] >= part[2:])
        index = np.flatnonzero(peak) + 1
        if not len(index):
            continue
        pitch = 69 + 12 * np.log2(freqs[lo + index] / 440.0)
        off = pitch - np.round(pitch)
        weight = part[index] ** 2 * np.exp(-0.5 * (off / 0.25) ** 2)
        rows[k] = np.bincount(np.round(pitch).astype(int) % 12, weight, minlength=12)
    length = np.linalg.norm(rows, axis=1, keepdims=True)
    result: FloatArray = np.where(length > 1e-6, rows / np.maximum(length, 1e-12), 0.0)
    return result


def change_of(chroma: FloatArray) -> FloatArray:
    """How much the harmony differs from the beat before, 0-1 (1 - cosine); 0 for the first beat."""
    if len(chroma) < 2:
        return np.zeros(len(chroma))
    likeness = (chroma[1:] * chroma[:-1]).sum(axis=1)
    return np.concatenate([[0.0], 1.0 - likeness])
