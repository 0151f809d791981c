"""Instruments of the orchestra, each a function that makes one note; sounds start at their first sample."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import signal

Sound = NDArray[np.float64]
RATE = 44100


def _noise(rng: np.random.Generator, seconds: float, low_hz: float, high_hz: float) -> Sound:
    white = rng.standard_normal(round(seconds * RATE) + 512)
    sos = signal.butter(2, (low_hz, min(high_hz, 0.45 * RATE)), "bandpass", fs=RATE, output="sos")
    shaped: Sound = signal.sosfilt(sos, white)[512:]
    return shaped


def _time(seconds: float) -> Sound:
    return np.arange(round(seconds * RATE)) / RATE


def copper_tub(rng: np.random.Generator, velocity: float, *, deep: bool = True) -> Sound:
    """A struck copper tub: a falling low tone and the ring of its rim."""
    t = _time(0.55)
    base = (62.0 if deep else 128.0) * (1 + 0.01 * rng.standard_normal())
    sweep = 2 * np.pi * (base * t + 1.1 * base * 0.018 * (1 - np.exp(-t / 0.018)))
    body = np.sin(sweep) * np.exp(-t / (0.14 if deep else 0.10))
    ring = sum(
        np.sin(2 * np.pi * f * t + rng.uniform(0, 6.28)) * np.exp(-t / d)
        for f, d in ((417, 0.09), (733, 0.06), (1180, 0.04))
    )
    knock = _noise(rng, 0.55, 800, 5000) * np.exp(-t / 0.004)
    result: Sound = velocity * (0.8 * body + 0.05 * ring + 0.16 * knock)
    return result


def washboard(rng: np.random.Generator, velocity: float, *, stroke: bool = False) -> Sound:
    """A thimble on a washboard: a tick, or a longer stroke over the ridges."""
    length = 0.16 if stroke else 0.07
    t = _time(length)
    hiss = _noise(rng, length, 2500, 12000)
    if stroke:
        ridges = 0.35 + 0.65 * np.clip(np.sin(2 * np.pi * (55 + 60 * t / length) * t), 0, 1) ** 2
        shape = np.exp(-t / 0.05) * ridges
        shape[:60] = 1.0
    else:
        shape = np.exp(-t / 0.013)
    metal = sum(
        np.sin(2 * np.pi * f * t + rng.uniform(0, 6.28)) * np.exp(-t / 0.01) for f in (3150, 4720, 6890)
    )
    result: Sound = velocity * (0.30 * hiss * shape + 0.05 * metal)
    return result


def slap(rng: np.random.Generator, velocity: float) -> Sound:
    """A flat hand on the tub's side: the backbeat."""
    t = _time(0.26)
    crack = _noise(rng, 0.26, 900, 7000) * (np.exp(-t / 0.028) + 0.6 * np.exp(-t / 0.003))
    tone = np.sin(2 * np.pi * 203 * t) * np.exp(-t / 0.05) + 0.6 * np.sin(2 * np.pi * 331 * t) * np.exp(
        -t / 0.04
    )
    result: Sound = velocity * (0.42 * crack + 0.30 * tone)
    return result


def tuned_pipe(rng: np.random.Generator, velocity: float, pitch: float) -> Sound:
    """A struck pipe: partials of a free bar (1, 2.76, 5.40, 8.93; Fletcher and Rossing, from memory)."""
    t = _time(0.9)
    f = midi_hz(pitch)
    partials = ((1.0, 1.0, 0.42), (2.756, 0.45, 0.18), (5.404, 0.25, 0.08), (8.933, 0.12, 0.04))
    tone = sum(
        a * np.sin(2 * np.pi * f * r * t) * np.exp(-t / d) for r, a, d in partials if f * r < 0.45 * RATE
    )
    tap = _noise(rng, 0.9, 1500, 9000) * np.exp(-t / 0.003)
    result: Sound = velocity * (0.32 * tone + 0.10 * tap)
    return result


def bass_box(rng: np.random.Generator, velocity: float, pitch: float, seconds: float) -> Sound:
    """A string over a tea chest: a plucked low note that is damped at its end."""
    t = _time(max(0.12, seconds))
    f = midi_hz(pitch)
    tone = sum(np.sin(2 * np.pi * f * k * t) * np.exp(-t * (1.6 + 1.4 * k)) / k**1.2 for k in range(1, 9))
    pluck = _noise(rng, len(t) / RATE, 300, 3500)[: len(t)] * np.exp(-t / 0.006)
    shape = np.minimum(1.0, np.minimum(t / 0.0015, (t[-1] - t) / 0.03 + 1e-3))
    result: Sound = velocity * (0.45 * tone + 0.12 * pluck) * shape
    return result


def reed_organ(rng: np.random.Generator, velocity: float, pitches: tuple[int, ...], seconds: float) -> Sound:
    """A reed organ's chord: many partials, a slight beating, a soft speaking noise."""
    t = _time(max(0.2, seconds))
    tone = np.zeros(len(t))
    for pitch in pitches:
        for cents in (-2.5, 2.5):
            f = midi_hz(pitch + cents / 100)
            phase = rng.uniform(0, 6.28)
            tone += sum(
                np.sin(2 * np.pi * f * k * t + k * phase) / k**1.35 for k in range(1, 13) if f * k < 9000
            )
    wind = _noise(rng, len(t) / RATE, 600, 4000)[: len(t)] * (0.02 + 0.10 * np.exp(-t / 0.02))
    shape = np.minimum(1.0, np.minimum(t / 0.012, (t[-1] - t) / 0.05 + 1e-3))
    result: Sound = velocity * (0.10 * tone + wind) * shape
    return result


def midi_hz(pitch: float) -> float:
    """Equal temperament, A4 = 69 = 440 Hz."""
    return float(440.0 * 2.0 ** ((pitch - 69.0) / 12.0))
