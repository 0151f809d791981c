"""Performances of the orchestra: what was played when, exactly, and the sound of it on each microphone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial

import numpy as np
from scipy import signal

from combpace.core.clocks import FloatArray
from combpace.demo.instruments import (
    RATE,
    Sound,
    bass_box,
    copper_tub,
    reed_organ,
    slap,
    tuned_pipe,
    washboard,
)

SEED = 1871
FADE_FRAMES = 2000.0


@dataclass(frozen=True, slots=True)
class Hit:
    """One attack: session seconds, instrument, velocity."""

    time_s: float
    instrument: str
    velocity: float


@dataclass(frozen=True, slots=True)
class Performance:
    """Sounds by name, shape (frames,) or (frames, 2), and the truth about them.

    beats, downbeats  seconds of the players' inner clock; downbeats from bar 1 on
    hits              what was struck, by take name
    facts             anything else that is exact: tempo, shift, bar count
    """

    sounds: dict[str, FloatArray]
    beats: FloatArray
    downbeats: FloatArray
    hits: dict[str, list[Hit]]
    facts: dict[str, float] = field(default_factory=dict)


def breathing_beats(
    rng: np.random.Generator,
    bars: int,
    start_s: float,
    low_bpm: float = 92.4,
    high_bpm: float = 97.1,
    beats: int = 4,
) -> FloatArray:
    """Beat times of a band that breathes: slow waves of tempo and a little of each bar's own."""
    count = bars * beats + 1
    x = np.arange(count) / beats
    wave = 0.55 * np.sin(2 * np.pi * x / 17 + 0.8) + 0.35 * np.sin(2 * np.pi * x / 6.5) + 0.25 * x / bars
    wave = (wave - wave.min()) / np.ptp(wave)
    bpm = low_bpm + (high_bpm - low_bpm) * wave + 0.25 * rng.standard_normal(count)
    return start_s + np.concatenate([[0.0], np.cumsum(60.0 / bpm[:-1])])


def _mix(frames: int, notes: list[tuple[float, Sound, float]]) -> Sound:
    """Notes at exact samples: (seconds, sound, level)."""
    out = np.zeros(frames)
    for time_s, sound, level in notes:
        at = round(time_s * RATE)
        if at < 0 or at >= frames:
            continue
        end = min(frames, at + len(sound))
        # A sound that is still ringing when it ends would end with a click of its own.
        sound = sound * np.minimum(1.0, np.arange(len(sound), 0, -1) / FADE_FRAMES)
        out[at:end] += level * sound[: end - at]
    return out


def boiler_house(bars: int = 36) -> Performance:
    """Washboard and tubs on four microphones with a free intro and a pickup; reed organ and bass box loosely
    against them.
    """
    rng = np.random.default_rng(SEED)
    start = 6.213
    beats = breathing_beats(rng, bars, start)
    length = float(beats[-1]) + 2.5
    frames = round(length * RATE)
    played: list[tuple[Hit, Sound]] = []

    def strike(
        time_s: float, instrument: str, make: Callable[[], Sound], velocity: float, loose_ms: float
    ) -> None:
        time = time_s + float(np.clip(rng.standard_normal(), -2.2, 2.2)) * loose_ms / 1000
        time = round(time * RATE) / RATE
        played.append((Hit(time, instrument, velocity), make()))

    # A free intro: strokes that keep no time.
    for time in (0.82, 1.94, 2.51, 3.78, 4.36):
        strike(time, "washboard", partial(washboard, rng, 0.55, stroke=True), 0.55, 0)
    # The pickup: one beat before bar 1, two eighths.
    lead = float(beats[1] - beats[0])
    strike(start - lead, "slap", partial(slap, rng, 0.6), 0.6, 4)
    strike(start - lead / 2, "slap", partial(slap, rng, 0.75), 0.75, 4)
    for bar in range(bars):
        b = beats[4 * bar : 4 * bar + 5]
        fill = bar % 8 == 7
        for k in range(4):
            half = 0.5 * (b[k] + b[k + 1])
            if k == 0 or (k == 2 and bar % 2 == 0):
                strike(
                    float(b[k]),
                    "tub",
                    partial(copper_tub, rng, 0.95 if k == 0 else 0.7),
                    0.95 if k == 0 else 0.7,
                    4,
                )
            if (k == 1 and bar % 2) or (k == 3 and bar % 4 == 3):
                strike(float(half), "tub", partial(copper_tub, rng, 0.6), 0.6, 6)
            if k in (1, 3):
                strike(float(b[k]), "slap", partial(slap, rng, 0.85), 0.85, 5)
            if not (fill and k >= 2):
                v = 0.62 if k % 2 == 0 else 0.5
                strike(float(b[k]), "washboard", partial(washboard, rng, v), v, 5)
                strike(float(half), "washboard", partial(washboard, rng, 0.42), 0.42, 6)
            else:
                for quarter in range(4):
                    at = float(b[k] + quarter * (b[k + 1] - b[k]) / 4)
                    strike(at, "washboard", partial(washboard, rng, 0.7, stroke=True), 0.7, 7)
    strike(float(beats[-1]), "tub", partial(copper_tub, rng, 1.0), 1.0, 2)
    strike(float(beats[-1]), "slap", partial(slap, rng, 0.9), 0.9, 2)

    # Level and distance in metres of each instrument at each microphone; sound walks 343 m/s.
    mics = {
        "Tubs kit - copper tub mic": {"tub": (1.0, 0.0), "slap": (0.30, 0.6), "washboard": (0.08, 1.1)},
        "Tubs kit - washboard mic": {"tub": (0.16, 1.1), "slap": (0.28, 0.9), "washboard": (1.0, 0.0)},
        "Tubs kit - room left": {"tub": (0.5, 2.1), "slap": (0.55, 1.9), "washboard": (0.42, 2.4)},
        "Tubs kit - room right": {"tub": (0.5, 2.4), "slap": (0.5, 2.3), "washboard": (0.5, 1.9)},
    }
    sounds: dict[str, FloatArray] = {}
    hits: dict[str, list[Hit]] = {}
    for name, table in mics.items():
        notes, truth = [], []
        for hit, sound in played:
            level, metres = table[hit.instrument]
            at = hit.time_s + metres / 343.0
            notes.append((at, sound, level))
            if level >= 0.25:
                truth.append(Hit(at, hit.instrument, hit.velocity))
        dry = _mix(frames, notes)
        room = 0.0004 * rng.standard_normal(frames)
        if "room" in name:
            tail = (
                rng.standard_normal(round(0.35 * RATE))
                * np.exp(-np.arange(round(0.35 * RATE)) / (0.09 * RATE))
                * 0.018
            )
            tail[: round(0.012 * RATE)] = 0
            room = room + signal.fftconvolve(dry, tail)[:frames]
        sounds[name] = dry + room
        hits[name] = sorted(truth, key=lambda hit: hit.time_s)
    organ, organ_hits = _organ(rng, beats, frames)
    bass, bass_hits = _bass(rng, beats, frames)
    sounds |= {"Reed organ": organ, "Bass box": bass}
    hits |= {"Reed organ": organ_hits, "Bass box": bass_hits}
    loudest = max(float(np.abs(sound).max()) for sound in sounds.values())
    sounds = {name: 0.84 * sound / loudest for name, sound in sounds.items()}
    return Performance(
        sounds, beats, beats[:-1:4], hits, {"bar_1_s": start, "pickup_beats": 1.0, "bars": float(bars)}
    )


CHORDS = ((50, 57, 62, 65), (48, 55, 60, 64), (53, 57, 60, 65), (55, 59, 62, 67))
ROOTS = (38, 36, 41, 43)


def _organ(rng: np.random.Generator, beats: FloatArray, frames: int) -> tuple[Sound, list[Hit]]:
    """Chords on one and the and of two, loosely: 18 ms about the band."""
    notes, hits = [], []
    for bar in range((len(beats) - 1) // 4):
        b = beats[4 * bar : 4 * bar + 5]
        places = (
            (float(b[0]), float(b[1] + 0.45 * (b[2] - b[1]))),
            (float(0.5 * (b[1] + b[2])), float(b[4]) - 0.06),
        )
        for start, end in places:
            at = round((start + 0.018 * float(np.clip(rng.standard_normal(), -2, 2))) * RATE) / RATE
            notes.append((at, reed_organ(rng, 0.8, CHORDS[bar % 4], end - at), 1.0))
            hits.append(Hit(at, "organ", 0.8))
    return _mix(frames, notes) + 0.0003 * rng.standard_normal(frames), hits


def _bass(rng: np.random.Generator, beats: FloatArray, frames: int) -> tuple[Sound, list[Hit]]:
    """A line in quarters and eighths, 14 ms about the band and 6 ms behind it."""
    notes, hits = [], []
    for bar in range((len(beats) - 1) // 4):
        b = beats[4 * bar : 4 * bar + 5]
        root = ROOTS[bar % 4]
        steps = [
            (float(b[0]), root),
            (float(b[1]), root + 7),
            (float(b[2]), root + 12),
            (float(b[3]), root + 7),
            (float(0.5 * (b[3] + b[4])), root + 5),
        ]
        times = [
            round((t + 0.006 + 0.014 * float(np.clip(rng.standard_normal(), -2, 2))) * RATE) / RATE
            for t, _ in steps
        ]
        ends = [*times[1:], float(b[4])]
        for (_, pitch), at, end in zip(steps, times, ends, strict=True):
            notes.append((at, bass_box(rng, 0.9, pitch, end - at - 0.015), 1.0))
            hits.append(Hit(at, "bass", 0.9))
    return _mix(frames, notes) + 0.0003 * rng.standard_normal(frames), hits


def pipe_loop(bpm: float = 103.4, bars: int = 2) -> Performance:
    """A melody on tuned pipes at its own tempo, exactly two bars long."""
    rng = np.random.default_rng(SEED + 1)
    beat = 60.0 / bpm
    frames = round(bars * 4 * beat * RATE)
    line = (
        (0, 74),
        (0.5, 77),
        (1, 79),
        (2, 81),
        (2.5, 79),
        (3, 77),
        (4, 74),
        (4.5, 72),
        (5, 74),
        (6, 69),
        (6.5, 72),
        (7, 74),
    )
    times = [round(place * beat * RATE) / RATE for place, _ in line]
    notes = [
        (at, tuned_pipe(rng, 0.8 if place % 1 == 0 else 0.6, pitch), 1.0)
        for at, (place, pitch) in zip(times, line, strict=True)
    ]
    sound = _mix(frames, notes)
    beats = np.asarray(np.arange(bars * 4) * beat, dtype=np.float64)
    return Performance(
        {"Pipe loop": 0.8 * sound / float(np.abs(sound).max())},
        beats,
        beats[::4],
        {"Pipe loop": [Hit(t, "pipe", 0.8) for t in times]},
        {"bpm": bpm, "bars": float(bars)},
    )


def programmed(bpm: float = 97.37, bars: int = 24, shift_s: float = 0.0251) -> Performance:
    """A programmed beat at an odd decimal that starts late, as after an encoder."""
    rng = np.random.default_rng(SEED + 2)
    beat = 60.0 / bpm
    frames = round((bars * 4 * beat + shift_s + 0.5) * RATE)
    notes, hits = [], []
    for k in range(bars * 4):
        for part in range(2):
            at = round((shift_s + (k + part / 2) * beat) * RATE) / RATE
            made = [washboard(rng, 0.5 if part == 0 else 0.35)]
            if part == 0:
                made.append(copper_tub(rng, 0.95 if k % 4 == 0 else 0.6) if k % 2 == 0 else slap(rng, 0.85))
            elif k % 4 == 1:
                made.append(copper_tub(rng, 0.7))
            for sound in made:
                notes.append((at, sound, 1.0))
            hits.append(Hit(at, "beat", 0.9))
    sound = _mix(frames, notes)
    beats = np.asarray(shift_s + np.arange(bars * 4) * beat, dtype=np.float64)
    name = "Mangle press beat"
    return Performance(
        {name: 0.8 * sound / float(np.abs(sound).max())},
        beats,
        beats[::4],
        {name: hits},
        {"bpm": bpm, "shift_s": shift_s, "bars": float(bars)},
    )
