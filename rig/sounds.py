"""Sounds with exact truth for tests: clicks at samples, tones, noise. Seeded; invented."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import signal

from combpace.core.audio import ArraySource, Audio
from combpace.core.clocks import take_times
from combpace.core.onsets.detect import Onsets

RATE = 44100


def burst(
    rate: int = RATE, seconds: float = 0.06, pitch: float = 900.0, seed: int = 1
) -> NDArray[np.float64]:
    """A struck sound whose first sample is its attack."""
    t = np.arange(round(seconds * rate)) / rate
    noise = np.random.default_rng(seed).standard_normal(len(t))
    return (0.5 * np.cos(2 * np.pi * pitch * t) + 0.25 * noise) * np.exp(-t / 0.012)


def struck(
    times_s: NDArray[np.float64] | list[float],
    length_s: float,
    rate: int = RATE,
    levels: list[float] | None = None,
    low_every: int = 0,
) -> Audio:
    """Bursts at exact samples; every `low_every`-th one has a deep tone under it."""
    out = np.zeros(round(length_s * rate))
    deep_t = np.arange(round(0.16 * rate)) / rate
    deep = 0.8 * np.sin(2 * np.pi * 70 * deep_t + 0.3) * np.exp(-deep_t / 0.05)
    for k, time in enumerate(times_s):
        at = round(float(time) * rate)
        for sound in [burst(rate, seed=k % 5)] + ([deep] if low_every and k % low_every == 0 else []):
            end = min(len(out), at + len(sound))
            if at < end:
                out[at:end] += (levels[k] if levels else 0.7) * sound[: end - at]
    out += 1e-4 * np.random.default_rng(9).standard_normal(len(out))
    return Audio(np.asarray(out / max(1.0, np.abs(out).max()), dtype=np.float32), rate)


def source(audio: Audio) -> ArraySource:
    return ArraySource(audio)


def marks(times_s: list[float] | NDArray[np.float64], strength: float = 0.8) -> Onsets:
    """Onsets as if they had been found."""
    times = take_times(times_s)
    return Onsets(times, np.full(len(times), strength), np.full(len(times), 0.9))


def attack_starts(
    samples: NDArray[np.float32], rate: int, threshold: float = 0.12, gap_s: float = 0.08
) -> NDArray[np.float64]:
    """An independent measurement of attack starts: where the envelope first rises well above the quiet before
    it.

    No part of the program: plain threshold crossing on a 1 ms maximum, refined to the first sample above a
    tenth of the peak.
    """
    mono = np.abs(samples if samples.ndim == 1 else samples.mean(axis=0))
    step = max(1, rate // 1000)
    frames = len(mono) // step
    envelope = mono[: frames * step].reshape(frames, step).max(axis=1)
    starts: list[float] = []
    k = 0
    while k < frames:
        if envelope[k] > threshold and (k < 4 or envelope[k] > 3 * envelope[k - 4 : k - 1].max()):
            lo = max(0, (k - 3) * step)
            peak = mono[k * step : k * step + 8 * step].max()
            above = np.flatnonzero(mono[lo : k * step + step] > 0.1 * peak)
            starts.append((lo + int(above[0] if len(above) else 3 * step)) / rate)
            k += round(gap_s * 1000)
        else:
            k += 1
    return np.array(starts)


def two_close_mics(rate: int = RATE) -> tuple[list[Audio], NDArray[np.float64], NDArray[np.float64]]:
    """A deep tub on the beat, a bright board between, each with its own mic and some of the other in it,
    every fourth stroke a ghost:
    (the two mics, strokes of the tub, strokes of the board)."""
    rng = np.random.default_rng(5)
    t = np.arange(round(0.25 * rate)) / rate
    deep = np.sin(2 * np.pi * 62 * t) * np.exp(-t / 0.08)
    bright = signal.sosfilt(
        signal.butter(4, 4000, "high", fs=rate, output="sos"), rng.standard_normal(len(t))
    ) * np.exp(-t / 0.03)
    deep_at, bright_at = 0.5 + 0.5 * np.arange(24), 0.75 + 0.5 * np.arange(24)
    mics = [1e-4 * rng.standard_normal(13 * rate) for _ in range(2)]
    for times, sound, levels in ((deep_at, deep, (0.7, 0.08)), (bright_at, bright, (0.1, 0.6))):
        for k, time in enumerate(times):
            soft = 0.25 if k % 4 == 3 else 1.0
            for mic, level in zip(mics, levels, strict=True):
                at = round(time * rate)
                mic[at : at + len(sound)] += soft * level * sound
    return [Audio(mic[None].astype(np.float32), rate) for mic in mics], deep_at, bright_at
