"""Performances of every kind with exact onsets, synthesised from a seed: what the ear's weights are learnt
from.

Nothing here imitates a recording; instruments are families with wide ranges of pitch, decay, brightness and
noise, so that what is learnt holds for instruments that were never heard. An onset is demanded, or optional
(ghost notes, later strings of a strum, grace notes); a note's end is never one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import signal

from combpace.core.audio import Audio

RATE = 44100
Sound = np.ndarray


@dataclass(frozen=True, slots=True)
class Piece:
    """Sound, and its onsets: (seconds, optional)."""

    audio: Audio
    onsets: list[tuple[float, bool]]
    kind: str


def _t(seconds: float) -> Sound:
    return np.arange(max(64, round(seconds * RATE))) / RATE


def _noise(rng: np.random.Generator, frames: int, low: float, high: float) -> Sound:
    sos = signal.butter(2, (low, min(high, 20000)), "bandpass", fs=RATE, output="sos")
    return signal.sosfilt(sos, rng.standard_normal(frames + 256))[256:]


def deep_drum(rng: np.random.Generator) -> Callable[[float], Sound]:
    base, fall, decay, knock = (
        rng.uniform(42, 95),
        rng.uniform(0.5, 2.5),
        rng.uniform(0.05, 0.3),
        rng.uniform(0.02, 0.4),
    )

    def strike(v: float) -> Sound:
        t = _t(min(0.8, 5 * decay))
        body = np.sin(2 * np.pi * base * (t + fall * 0.02 * (1 - np.exp(-t / 0.02)))) * np.exp(-t / decay)
        return v * (body + knock * _noise(rng, len(t), 700, 6000) * np.exp(-t / 0.004))

    return strike


def snap_drum(rng: np.random.Generator) -> Callable[[float], Sound]:
    pitch, decay, bright, tone = (
        rng.uniform(140, 330),
        rng.uniform(0.03, 0.16),
        rng.uniform(3000, 10000),
        rng.uniform(0.1, 0.7),
    )

    def strike(v: float) -> Sound:
        t = _t(5 * decay)
        crack = _noise(rng, len(t), 500, bright) * np.exp(-t / decay)
        return v * (0.6 * crack + tone * np.sin(2 * np.pi * pitch * t) * np.exp(-t / (0.6 * decay)))

    return strike


def small_metal(rng: np.random.Generator) -> Callable[[float], Sound]:
    low, decay = rng.uniform(3500, 8500), np.exp(rng.uniform(np.log(0.012), np.log(0.35)))

    def strike(v: float) -> Sound:
        t = _t(min(1.2, 5 * decay))
        ring = sum(np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) for f in rng.uniform(low, 14000, 6)) / 6
        return v * (0.5 * _noise(rng, len(t), low, 16000) + 0.3 * ring) * np.exp(-t / decay)

    return strike


def string(rng: np.random.Generator, hammered: bool) -> Callable[[float, float, float], Sound]:
    """Plucked or hammered: partials that decay faster the higher they are, a noise at the start, a damper at
    the end.
    """
    stiff, bright, ring = rng.uniform(0, 4e-4), rng.uniform(0.6, 1.6), rng.uniform(0.5, 3.0)
    noise, attack, damper = (
        rng.uniform(0.01, 0.15),
        rng.uniform(0.0002, 0.003 if hammered else 0.0008),
        rng.uniform(0, 0.03),
    )

    def play(v: float, pitch: float, held: float) -> Sound:
        f = 440 * 2 ** ((pitch - 69) / 12)
        release = 0.08
        t = _t(held + release)
        out = np.zeros(len(t))
        for k in range(1, 16):
            fk = f * k * np.sqrt(1 + stiff * k * k)
            if fk < 12000:
                out += (
                    np.sin(2 * np.pi * fk * t + rng.uniform(0, 6))
                    * np.exp(-t * (0.4 + 0.25 * k) / ring * 2)
                    / k**bright
                )
                # Two strings a hair apart beat against each other.
                out += (
                    0.5
                    * np.sin(2 * np.pi * fk * (1 + rng.uniform(-1, 1) * 6e-4) * t)
                    * np.exp(-t * (0.4 + 0.25 * k) / ring * 2)
                    / k**bright
                )
        out += noise * v * 8 * _noise(rng, len(t), 800, 7000) * np.exp(-t / 0.006)
        end = np.clip((held + release - t) / release, 0, 1) ** 2
        shape = np.minimum(1, t / attack) * np.where(t < held, 1, end)
        thud = damper * _noise(rng, len(t), 100, 1500) * np.exp(-np.abs(t - held) / 0.01)
        return v * 0.3 * (out * shape + thud)

    return play


def blown(rng: np.random.Generator) -> Callable[[float, float, float], Sound]:
    """Reeds, voices, bows: a slow or quick start, vibrato, breath."""
    start, tilt, vibrato, breath = (
        np.exp(rng.uniform(np.log(0.006), np.log(0.05))),
        rng.uniform(1.0, 2.0),
        rng.uniform(0, 0.006),
        rng.uniform(0.002, 0.05),
    )

    def play(v: float, pitch: float, held: float) -> Sound:
        f = 440 * 2 ** ((pitch - 69) / 12)
        t = _t(held + 0.06)
        phase = 2 * np.pi * f * (t + vibrato / 34 * np.sin(2 * np.pi * 5.3 * t + rng.uniform(0, 6)))
        tone = sum(np.sin(k * phase + rng.uniform(0, 6)) / k**tilt for k in range(1, 14) if k * f < 11000)
        shape = np.minimum(1, t / start) * np.clip((held + 0.06 - t) / 0.06, 0, 1)
        return (
            v
            * 0.25
            * (tone + breath * 10 * _noise(rng, len(t), 500, 6000) * (0.3 + np.exp(-t / 0.02)))
            * shape
        )

    return play


def _pulse(rng: np.random.Generator, seconds: float) -> Sound:
    bpm = np.exp(rng.uniform(np.log(60), np.log(180)))
    count = int(seconds * bpm / 60) + 2
    wander = np.cumsum(0.004 * rng.standard_normal(count)) if rng.random() < 0.7 else np.zeros(count)
    return rng.uniform(0.2, 1.0) + np.arange(count) * 60 / bpm + wander


def kit(
    rng: np.random.Generator, seconds: float
) -> tuple[list[tuple[float, Sound]], list[tuple[float, bool]]]:
    deep, snap, metal, ghost = deep_drum(rng), snap_drum(rng), small_metal(rng), snap_drum(rng)
    beats = _pulse(rng, seconds)
    step = int(rng.choice([1, 2, 2, 2, 4]))
    levels = rng.uniform(0.5, 1), rng.uniform(0.4, 0.9), np.exp(rng.uniform(np.log(0.06), np.log(0.5)))
    swing = rng.choice([0.5, 0.5, 0.62, 2 / 3])
    notes, onsets = [], []
    quiet = rng.random() < 0.2
    for k in range(len(beats) - 1):
        for part in range(step):
            share = part / step if step != 2 or part == 0 else swing
            at = beats[k] + share * (beats[k + 1] - beats[k])

            def hit(make: Callable[[float], Sound], v: float, optional: bool = False, at: float = at) -> None:
                time = max(0.0, at + 0.006 * float(np.clip(rng.standard_normal(), -2, 2)))
                notes.append((time, make(v)))
                onsets.append((time, optional))

            if part == 0 and (k % 2 == 0 or rng.random() < 0.2):
                hit(deep, levels[0] * rng.uniform(0.8, 1))
            if part == 0 and k % 2 == 1 and not quiet:
                hit(snap, levels[1] * rng.uniform(0.8, 1))
            if rng.random() < 0.9:
                hit(metal, levels[2] * rng.uniform(0.6, 1))
            if rng.random() < 0.08:
                hit(ghost, 0.05 * levels[1], optional=True)
            if part == step - 1 and rng.random() < 0.1:
                hit(deep, levels[0] * rng.uniform(0.5, 0.9))
    return notes, onsets


def line(
    rng: np.random.Generator, seconds: float
) -> tuple[list[tuple[float, Sound]], list[tuple[float, bool]]]:
    play = string(rng, hammered=False) if rng.random() < 0.65 else blown(rng)
    beats, low = _pulse(rng, seconds), rng.integers(28, 64)
    notes, onsets = [], []
    for k in range(len(beats) - 1):
        parts = int(rng.choice([1, 1, 2, 2, 3, 4]))
        for part in range(parts):
            if rng.random() < 0.12:
                continue
            gap = (beats[k + 1] - beats[k]) / parts
            at = max(0.0, beats[k] + part * gap + 0.008 * float(np.clip(rng.standard_normal(), -2, 2)))
            held = gap * rng.uniform(0.5, 1.02)
            notes.append((at, play(rng.uniform(0.5, 1), low + rng.integers(0, 24), held)))
            onsets.append((at, False))
    return notes, onsets


def chords(
    rng: np.random.Generator, seconds: float
) -> tuple[list[tuple[float, Sound]], list[tuple[float, bool]]]:
    which = rng.random()
    play = string(rng, hammered=which < 0.4) if which < 0.75 else blown(rng)
    strum = 0.4 <= which < 0.75
    beats, root = _pulse(rng, seconds), rng.integers(40, 60)
    notes, onsets = [], []
    for k in range(len(beats) - 1):
        for part in range(int(rng.choice([1, 1, 2]))):
            if rng.random() < 0.2:
                continue
            gap = beats[k + 1] - beats[k]
            at = max(0.0, beats[k] + 0.5 * part * gap + 0.008 * float(np.clip(rng.standard_normal(), -2, 2)))
            held = gap * rng.uniform(0.45, 1.6)
            spread = rng.uniform(0.004, 0.016) if strum else rng.uniform(0, 0.003)
            for number, pitch in enumerate((0, 7, 12, 16, 19, 24)[: rng.integers(3, 7)]):
                time = at + number * spread * rng.uniform(0.7, 1.3)
                notes.append((time, play(0.5 * rng.uniform(0.5, 1), root + pitch, held)))
                onsets.append((time, number > 0))
    return notes, onsets


def piece(seed: int, seconds: float = 12.0) -> Piece:
    """One performance: a kit, a line, chords, or a band of them, dry or in a room, clean or driven."""
    rng = np.random.default_rng(seed)
    kind = ("kit", "kit", "line", "chords", "band", "band")[seed % 6]
    parts = {"kit": (kit,), "line": (line,), "chords": (chords,), "band": (kit, line, chords)}[kind]
    frames = round(seconds * RATE)
    mix = np.zeros(frames)
    onsets: list[tuple[float, bool]] = []
    for part in parts:
        notes, found = part(rng, seconds)
        level = rng.uniform(0.5, 1) if kind == "band" else 1.0
        for time, sound in notes:
            at = round(time * RATE)
            end = min(frames, at + len(sound))
            if at < frames:
                mix[at:end] += level * sound[: end - at]
        onsets += found
    if rng.random() < 0.5:
        length = round(rng.uniform(0.1, 0.6) * RATE)
        tail = (
            rng.standard_normal(length)
            * np.exp(-np.arange(length) / (0.25 * length))
            * rng.uniform(0.004, 0.02)
        )
        mix = mix + signal.fftconvolve(mix, tail)[:frames]
    if rng.random() < 0.2:
        drive = rng.uniform(1.5, 6)
        mix = np.tanh(drive * mix / (np.abs(mix).max() + 1e-9))
    if rng.random() < 0.25:
        sos = signal.butter(4, rng.uniform(5000, 15000), "lowpass", fs=RATE, output="sos")
        mix = signal.sosfilt(sos, mix)
    mix = mix / (np.abs(mix).max() + 1e-9) * rng.uniform(0.2, 0.98)
    mix = mix + 10 ** rng.uniform(-5.5, -3.2) * rng.standard_normal(frames)
    return Piece(
        Audio(np.asarray(mix, np.float32), RATE), sorted((t, o) for t, o in onsets if t < seconds - 0.1), kind
    )
