"""Bare strokes with exact starts: tones and bursts of noise, alone and some milliseconds apart, over hiss or
nothing; and noise alone.

Nothing here is music. It keeps what is learnt from songs from being wrong where a sound is simpler than any
song.
"""

from __future__ import annotations

import numpy as np
from scipy import signal

from bench.ear.material import RATE
from combpace.core.audio import Audio


def plain(seed: int, seconds: float = 16.0) -> tuple[Audio, list[tuple[float, bool]]]:
    """(sound, onsets as in `songs.Song`: none is optional)."""
    rng = np.random.default_rng([seed, 77])
    frames = round(seconds * RATE)
    mix = 10 ** rng.uniform(-5, -2.2) * rng.standard_normal(frames) * (rng.random() > 0.2)
    gap = rng.uniform(0.18, 0.7)
    times = (
        np.arange(0.3, seconds - 0.6, gap)
        if rng.random() < 0.5
        else 0.2 + np.cumsum(rng.uniform(0.5, 1.5, int(seconds / gap)) * gap)
    )
    # NoteEvents may share a moment: how often, and how many milliseconds apart.
    together, apart = rng.choice([0.0, 0.5, 1.0]), rng.uniform(2.0, 24.0)
    spread = rng.choice([0.0, 12.0, 30.0])
    onsets: list[tuple[float, bool]] = []
    for time in times[times < seconds - 0.6]:
        starts = [time, time + rng.normal(apart, 2.0) / 1000] if rng.random() < together else [time]
        for start in starts:
            at = round(max(start, time) * RATE)
            sound = stroke(rng)[: frames - at]
            level = 10 ** ((-3 - rng.uniform(0, spread)) / 20)
            # What lies beneath the hiss cannot be heard.
            if (
                level * np.sqrt(np.mean(np.square(sound[:2000])))
                > 2 * np.std(mix[max(0, at - 4000) : at]) + 1e-6
            ):
                mix[at : at + len(sound)] += level * sound
                onsets.append((at / RATE, False))
    return Audio(np.asarray(mix / max(1.0, float(np.abs(mix).max())), np.float32), RATE), sorted(onsets)


def noise(seed: int, seconds: float = 12.0) -> Audio:
    """Noise of any colour and level, steady or slowly swelling as wind and traffic do: nothing is struck in
    it.
    """
    rng = np.random.default_rng([seed, 79])
    frames = round(seconds * RATE)
    sound = rng.standard_normal(frames)
    if rng.random() < 0.7:
        low = np.exp(rng.uniform(np.log(30), np.log(4000)))
        band = [low, min(low * rng.uniform(2, 60), 0.45 * RATE)]
        sound = signal.lfilter(*signal.butter(int(rng.integers(1, 3)), band, "bandpass", fs=RATE), sound)
    if rng.random() < 0.5:
        t = np.arange(frames) / RATE
        sound *= np.exp(
            sum(
                rng.uniform(0, 0.7) * np.sin(2 * np.pi * rng.uniform(0.05, 0.7) * t + rng.uniform(0, 6))
                for _ in range(3)
            )
        )
    sound *= 10 ** (rng.uniform(-60, -3) / 20) / np.abs(sound).max()
    # Hum or a held tone beneath it.
    if rng.random() < 0.4:
        pitch = np.exp(rng.uniform(np.log(45), np.log(2000)))
        sound += 10 ** (rng.uniform(-60, -10) / 20) * np.sin(2 * np.pi * pitch * np.arange(frames) / RATE)
    return Audio(np.asarray(sound / max(1.0, float(np.abs(sound).max())), np.float32), RATE)


def stroke(rng: np.random.Generator) -> np.ndarray:
    """One stroke whose first frame is its start."""
    t = np.arange(round(0.5 * RATE)) / RATE
    fall = np.exp(-t / np.exp(rng.uniform(np.log(0.02), np.log(0.5))))
    rise = np.minimum(1.0, t / rng.choice([1e-5, 0.001, 0.003]))
    if rng.random() < 0.5:
        pitch = np.exp(rng.uniform(np.log(45), np.log(1500)))
        tone = sum(
            np.sin(2 * np.pi * pitch * k * t + rng.uniform(0, 0.5)) / k ** rng.uniform(1, 2.5)
            for k in range(1, rng.integers(2, 9))
        )
        return np.asarray(fall * rise * tone * 0.6)
    low = np.exp(rng.uniform(np.log(40), np.log(6000)))
    noise = signal.lfilter(
        *signal.butter(1, [low, min(low * rng.uniform(2, 30), 0.45 * RATE)], "bandpass", fs=RATE),
        rng.standard_normal(len(t)),
    )
    return np.asarray(fall * rise * noise / max(float(np.abs(noise).max()), 1e-9))
