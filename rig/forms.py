"""Songs of a known form for tests: so many bars of each meter, played on a made-up kit with a bass and a
chord for each bar. Seeded; invented.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from combpace.core.audio import Audio
from combpace.core.tempo.meters import Meter, parse_meter

RATE = 44100
# How far players are off, seconds.
LOOSE_S = 0.003
BEGINS_S = 0.8


@dataclass(frozen=True)
class Section:
    """bars of a meter at so many quarters a minute; drums: whether the kit plays in them."""

    bars: int
    meter: str
    bpm: float = 104.0
    drums: bool = True


@dataclass(frozen=True)
class Song:
    """downbeats, beats: seconds; meters: of each bar."""

    audio: Audio
    downbeats: NDArray[np.float64]
    beats: NDArray[np.float64]
    meters: list[str]


FORMS: dict[str, tuple[Section, ...]] = {
    "4/4, 7/8, 4/4": (Section(8, "4/4"), Section(10, "7/8"), Section(4, "4/4")),
    "7/8, 4/4, 7/8": (Section(8, "7/8"), Section(10, "4/4"), Section(4, "7/8")),
    "a tempo that changes by 4/3": (Section(10, "4/4", 96.0), Section(10, "4/4", 128.0)),
    "a breakdown": (Section(8, "4/4"), Section(4, "4/4", drums=False), Section(8, "4/4")),
    "a bar of 2/4": (Section(9, "4/4"), Section(1, "2/4"), Section(10, "4/4")),
}
PICKUP = "a pickup of three eighths"


def song(form: str, seed: int) -> Song:
    """A song of one of FORMS, or with a PICKUP."""
    rng = np.random.default_rng(seed)
    sections = FORMS.get(form, (Section(16, "4/4"),))
    step = 1 + 0.03 * rng.standard_normal()
    at = BEGINS_S
    struck: list[tuple[float, str, float]] = []
    downbeats: list[float] = []
    beats: list[float] = []
    meters: list[str] = []
    chords: list[tuple[float, float, int]] = []
    if form == PICKUP:
        eighth = 30.0 / (sections[0].bpm * step)
        struck += [(at + k * eighth, "bass", 0.6) for k in range(3)]
        at += 3 * eighth
    for section in sections:
        meter = parse_meter(section.meter)
        for _ in range(section.bars):
            at = _bar(at, meter, section, step, struck, beats)
            length = meter.bar_quarters * 60.0 / (section.bpm * step)
            downbeats.append(at - length)
            meters.append(section.meter)
            chords.append((at - length, length, int(rng.integers(0, 5))))
    out = np.zeros(round((at + 1.0) * RATE))
    for time, name, level in struck:
        _put(out, _sound(name, rng), max(0.0, time + LOOSE_S * rng.standard_normal()), level)
    for time, length, root in chords:
        _put(out, _chord(root, length), time, 0.5)
    out += 1e-4 * rng.standard_normal(len(out))
    audio = Audio(np.asarray(out / max(1.0, np.abs(out).max()), dtype=np.float32)[None, :], RATE)
    return Song(audio, np.array(downbeats), np.array(beats), meters)


def _bar(
    at: float,
    meter: Meter,
    section: Section,
    step: float,
    struck: list[tuple[float, str, float]],
    beats: list[float],
) -> float:
    """Lay one bar; where the next one begins. Back-beats lie on 2 and 4, in sevens on 3 and 6."""
    quarter = 60.0 / (section.bpm * step)
    beat = meter.beat_quarters * quarter
    backs: Sequence[int] = (2, 5) if str(meter) == "7/8" else (1, 3)
    for k in range(meter.beats):
        time = at + k * beat
        beats.append(time)
        if section.drums:
            if k == 0:
                struck.append((time, "kick", 1.0))
            struck.append((time, "hat", 0.35))
            if k in backs:
                struck.append((time, "snare", 0.8))
            if meter.denominator == 4:
                struck.append((time + 0.5 * beat, "hat", 0.25))
                if k == 2:
                    struck.append((time, "kick", 0.8))
        if k == 0 or (k == 2 and meter.denominator == 4):
            struck.append((time, "bass", 0.5))
    return at + meter.bar_quarters * quarter


def _put(out: NDArray[np.float64], sound: NDArray[np.float64], time: float, level: float) -> None:
    at = round(time * RATE)
    end = min(len(out), at + len(sound))
    out[at:end] += level * sound[: end - at]


def _sound(name: str, rng: np.random.Generator) -> NDArray[np.float64]:
    t = np.arange(round(0.25 * RATE)) / RATE
    noise = rng.standard_normal(len(t))
    if name == "kick":
        return np.sin(2 * np.pi * (48 * t + 60 * 0.03 * (1 - np.exp(-t / 0.03)))) * np.exp(-t / 0.09)
    if name == "snare":
        return (0.4 * np.sin(2 * np.pi * 190 * t) + 0.4 * noise) * np.exp(-t / 0.06)
    if name == "hat":
        bright = np.diff(noise, prepend=0.0)
        return np.asarray(0.5 * bright * np.exp(-t / 0.018))
    return 0.7 * np.sin(2 * np.pi * 82.4 * t) * np.minimum(1, t / 0.004) * np.exp(-t / 0.12)


def _chord(root: int, length: float) -> NDArray[np.float64]:
    t = np.arange(round(length * RATE)) / RATE
    base = 220.0 * 2 ** ([0, 5, 7, 9, 3][root] / 12)
    tones = sum(np.sin(2 * np.pi * base * ratio * t) for ratio in (1.0, 1.26, 1.5))
    shape = np.minimum(1, t / 0.01) * np.minimum(1, (t[-1] - t) / 0.02) * np.exp(-t / 1.5)
    return np.asarray(0.12 * tones * shape)
