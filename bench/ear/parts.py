"""Parts with pitch: what picked, strummed, chugged, bowed and struck instruments play in a bar."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bench.ear.grooves import Rng, chance

SCALES = ((0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10))
Note = tuple[float, int, float, float]


def progression(rng: Rng) -> list[tuple[int, int]]:
    """Degrees of four to eight chords, as (root, third) in semitones above the tonic."""
    scale = SCALES[int(rng.integers(2))]
    length = int(rng.choice([1, 2, 4, 4, 4, 8]))
    chords = []
    for k in range(length):
        degree = (
            0
            if k == 0 and chance(rng, 0.7)
            else int(rng.choice([0, 3, 4, 5, 1, 2], p=[0.15, 0.25, 0.25, 0.2, 0.08, 0.07]))
        )
        root = scale[degree]
        third = (scale[(degree + 2) % 7] - root) % 12
        chords.append((root, third))
    return chords


def tones(chord: tuple[int, int]) -> list[int]:
    root, third = chord
    return [root, root + third, root + 7]


def picked_part(rng: Rng, beats: int, steps: int) -> Callable[[int, tuple[int, int]], list[Note]]:
    step = 1 / steps if steps != 4 else float(rng.choice([0.5, 0.5, 0.25, 1 / 3]))
    if steps == 2:
        step = 1.0
    count = round(beats / step)
    period = count if chance(rng, 0.5) else max(2, count // int(rng.choice([1, 2, 2, 4])))
    shape = rng.integers(0, 6, period)
    shape[0] = 0
    gaps = rng.random(period) < (0.12 if chance(rng, 0.5) else 0.0)
    gaps[0] = False
    accent = rng.uniform(0, 0.35)
    ring = float(rng.uniform(0.8, 4.0))
    melody = chance(rng, 0.3)

    def play(bar: int, chord: tuple[int, int]) -> list[Note]:
        ladder = tones(chord) + [t + 12 for t in tones(chord)]
        notes = []
        for k in range(count):
            if gaps[k % period] or chance(rng, 0.02):
                continue
            index = (
                int(shape[k % period])
                if not (melody and k % 4 == 3 and chance(rng, 0.3))
                else int(rng.integers(6))
            )
            strong = k % period == 0
            notes.append((k * step, ladder[index], 0.75 + (accent if strong else 0), ring * step))
        return notes

    return play


def chord_part(rng: Rng, beats: int, steps: int, kind: str) -> Callable[[int, tuple[int, int]], list[Note]]:
    """Strummed, struck or held chords on a rhythm that repeats."""
    step = 0.5 if steps == 4 else 1.0 / steps if steps == 3 else 1.0
    places = np.arange(0, beats - 1e-6, step)
    if kind == "pad":
        rhythm = [0.0]
    elif kind == "chug":
        fine = np.arange(0, beats - 1e-6, 0.25 if steps == 4 and chance(rng, 0.5) else step)
        rhythm = [float(p) for p in fine if p == 0 or chance(rng, 0.8)]
    else:
        often = rng.uniform(0.35, 0.9)
        rhythm = [
            float(p)
            for p in places
            if (p == 0 and chance(rng, 0.95))
            or (p > 0 and chance(rng, often if p == int(p) else often * 0.75))
        ]
        if kind == "stab" and chance(rng, 0.4):
            rhythm = [float(p) for p in places if p != int(p)] or rhythm
    rhythm = rhythm or [0.0]
    accents = {p: float(rng.uniform(0.6, 1.0)) for p in rhythm}
    size = {"chug": 3, "stab": 4, "pad": 4}.get(kind, 5)
    mute = rng.random(len(rhythm)) < (0.6 if kind == "chug" else 0.0)

    def play(bar: int, chord: tuple[int, int]) -> list[Note]:
        root, third = chord
        shape = (
            (root, root + 7, root + 12, root + 12 + third, root + 19, root + 24)[:size]
            if kind != "chug"
            else (root, root + 7, root + 12)
        )
        notes = []
        for k, place in enumerate(rhythm):
            if chance(rng, 0.04) and place > 0:
                continue
            following = rhythm[k + 1] if k + 1 < len(rhythm) else beats
            held = (0.12 if mute[k] else following - place) * (0.3 if kind == "stab" else 0.97)
            up = kind == "strum" and place != int(place)
            ordered = shape[::-1][:4] if up else shape
            loud = accents[place] * (1.1 if place == 0 else 1.0) * (0.7 if mute[k] else 1.0)
            notes += [
                (place + (0.0 if kind in ("chug", "pad", "stab") else 1e-9 * n), pitch, loud, held)
                for n, pitch in enumerate(ordered)
            ]
        return notes

    return play


def riff_part(rng: Rng, beats: int, steps: int) -> Callable[[int, tuple[int, int]], list[Note]]:
    """A riff on the low strings: muted strokes on a pedal tone, power chords and single notes ringing between
    them.

    It repeats over one or two bars; its strong notes may lie off the beats, as riffs' do.
    """
    step = (
        (0.25 if chance(rng, 0.4) else 0.5)
        if steps == 4
        else 1.0 / steps
        if steps == 3
        else float(rng.choice([0.5, 1.0]))
    )
    count, period = round(beats / step), int(rng.choice([1, 1, 2]))
    scale, often, pedal = (0, 1, 3, 5, 6, 7, 8, 10), rng.uniform(0.12, 0.5), chance(rng, 0.7)
    gallop = chance(rng, 0.3)
    tremolo = chance(rng, 0.15)
    strokes = []
    for bar in range(period):
        shift = 0
        for k in range(count):
            first = k == 0
            strong = first or chance(rng, often if k * step % 1 == 0 else 0.7 * often)
            if strong and not (first and bar == 0 and chance(rng, 0.8)):
                shift = int(rng.choice(scale))
            if tremolo:
                strokes.append((bar, k * step, shift, 0.95 if first else 0.75, True))
            elif strong:
                strokes.append((bar, k * step, shift, float(rng.uniform(0.85, 1.05)), True))
            elif gallop and k % 4 == 1:
                continue
            elif chance(rng, 0.8):
                strokes.append((bar, k * step, 0 if pedal else shift, float(rng.uniform(0.5, 0.75)), False))
    power = chance(rng, 0.7)

    def play(bar: int, chord: tuple[int, int]) -> list[Note]:
        now = [s for s in strokes if s[0] == bar % period]
        notes: list[Note] = []
        for k, (_, place, shift, loud, rings) in enumerate(now):
            if chance(rng, 0.03) and place > 0:
                continue
            following = now[k + 1][1] if k + 1 < len(now) else beats
            held = (following - place) * 0.97 if rings else min(0.15, following - place)
            root = chord[0] - 5 + shift
            notes += [
                (place, pitch, loud, held)
                for pitch in ((root, root + 7, root + 12) if power and rings else (root,))
            ]
        return notes

    return play


def bass_part(
    rng: Rng, beats: int, steps: int, walking: bool
) -> Callable[[int, tuple[int, int]], list[Note]]:
    if walking:

        def walk(bar: int, chord: tuple[int, int]) -> list[Note]:
            ladder = [*tones(chord), chord[0] + 9, chord[0] + 11, chord[0] + 2]
            return [
                (float(k), ladder[0] if k == 0 else int(rng.choice(ladder)), 0.8, 0.95) for k in range(beats)
            ]

        return walk
    step = 0.5 if steps == 4 else 1.0 / steps if steps == 3 else 1.0
    places = [float(p) for p in np.arange(0, beats - 1e-6, step)]
    often = rng.uniform(0.15, 1.0)
    rhythm = [p for p in places if p == 0 or chance(rng, often)]

    def play(bar: int, chord: tuple[int, int]) -> list[Note]:
        notes = []
        for k, place in enumerate(rhythm):
            following = rhythm[k + 1] if k + 1 < len(rhythm) else beats
            pitch = (
                chord[0]
                if place == 0 or chance(rng, 0.7)
                else int(rng.choice([chord[0] + 7, chord[0] + 12, chord[0] - 5]))
            )
            notes.append((place, pitch, 0.85, (following - place) * 0.9))
        return notes

    return play


def piano_part(rng: Rng, beats: int, steps: int) -> Callable[[int, tuple[int, int]], list[Note]]:
    step = 0.5 if steps == 4 else 1.0 / steps if steps == 3 else 1.0
    left = int(rng.integers(4))
    count = round(beats / step)

    def play(bar: int, chord: tuple[int, int]) -> list[Note]:
        low = [t - 12 for t in tones(chord)]
        notes: list[Note] = [(0.0, low[0], 0.8, beats * 0.95)]
        if left == 0:
            notes += [(k * step, (low + tones(chord))[(k * 2) % 5], 0.5, step) for k in range(1, count)]
        elif left == 1:
            notes += [(float(p), t, 0.5, 0.6) for p in range(1, beats) for t in tones(chord)]
        elif left == 2 and beats >= 4:
            notes += [(beats / 2 if steps == 4 else 2.0, low[2], 0.65, beats / 2)]
        else:
            notes += [(float(p), t, 0.55, 1.0) for p in range(0, beats, 2) for t in tones(chord)]
        scale = [0, 2, 3 if chord[1] == 3 else 4, 5, 7, 9, 11]
        place = 0.0
        while place < beats - 0.01:
            length = float(rng.choice([step, step, 2 * step, 1.0, 2.0]))
            if chance(rng, 0.8):
                on = tones(chord) if place == int(place) else [chord[0] + s for s in scale]
                notes.append((place, 12 + int(rng.choice(on)), float(rng.uniform(0.6, 0.95)), length))
            place += length
        return notes

    return play
