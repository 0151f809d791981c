"""Marks of strums against their first note: `.venv/bin/python -m bench.fit.strums [--count 100] [--first
SEED]`.

Guitars of a sound font that nothing is learnt from (bench/ear/sampled.py), chords of three to six strings
that are struck one after the other within 5 to 45 ms, down (lows first) and up, on eighths with gaps, what
rings on being damped by the next. Truth: where the string that is heard first rises 40 dB below its own peak.
A strum is marked where a mark lies within 60 ms; shares are of all strums. Beside them the kinds of
../shared/bench/beats/open, so that nothing else gets worse, and what is marked more than once.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import soundfile as sf

from bench.ear.material import RATE
from bench.ear.sampled import TO_MEASURE, on_font
from combpace.core.analysis.opening import listen
from combpace.core.audio import ArraySource, Audio
from rig.shared import OPEN, needed

FIRST_SEED, STRUMS = 8_100_000, 14
SPREAD_S = (0.005, 0.045)
LIMITS_S = (0.003, 0.005, 0.010)
MARKED_S, TWICE_S, STARTS_DB = 0.060, 0.080, 40.0
# Frets of open chords on six strings from the lowest; None is not struck.
CHORDS = (
    (None, 3, 2, 0, 1, 0),
    (3, 2, 0, 0, 0, 3),
    (0, 2, 2, 1, 0, 0),
    (None, 0, 2, 2, 1, 0),
    (None, None, 0, 2, 3, 2),
    (0, 2, 2, 0, 0, 0),
    (1, 3, 3, 2, 1, 1),
)
STRINGS = (40, 45, 50, 55, 59, 64)


def strummed(seed: int) -> tuple[Audio, list[float]]:
    """(a bar or two of strums, where each begins in seconds)."""
    rng = np.random.default_rng([seed, 5])
    play = on_font(TO_MEASURE).strings(rng, "strum")
    eighth = 60.0 / float(rng.uniform(70, 140)) / 2
    out, starts, time = (
        np.zeros(round((1.0 + STRUMS * 3 * eighth) * RATE), np.float32),
        [],
        0.3 + float(rng.uniform(0, 0.2)),
    )
    spread = float(rng.uniform(*SPREAD_S))
    for k in range(STRUMS):
        gap = eighth * int(rng.choice([1, 2, 2, 3]))
        chord = CHORDS[int(rng.integers(len(CHORDS)))]
        notes = [string + fret for string, fret in zip(STRINGS, chord, strict=True) if fret is not None]
        up = k % 2 == 1
        notes = notes[::-1][: int(rng.integers(3, 5))] if up else notes
        own = spread * float(rng.uniform(0.7, 1.3))
        offsets = np.sort(
            np.linspace(0, own, len(notes)) + rng.uniform(-0.1, 0.1, len(notes)) * own / len(notes)
        )
        offsets -= offsets[0]
        first = np.inf
        for note, late in zip(notes, offsets, strict=True):
            sound = play(float(rng.choice([0.5, 1.0])), float(note), gap + 0.02) * float(
                rng.uniform(0.7, 1.0)
            )
            # The next strum damps it.
            held = min(len(sound), round((gap - late) * RATE) + 200)
            sound = sound[:held] * np.minimum(1.0, np.arange(held, 0, -1) / 200)
            at = round((time + late) * RATE)
            out[at : at + held] += sound[: len(out) - at]
            begins = int(np.argmax(np.abs(sound) > np.abs(sound).max() * 10 ** (-STARTS_DB / 20)))
            first = min(first, (at + begins) / RATE)
        starts.append(float(first))
        time += gap + float(rng.normal(0, 0.004))
    out = out[: round((time + 0.6) * RATE)] + rng.standard_normal(
        min(len(out), round((time + 0.6) * RATE))
    ).astype(np.float32) * 10 ** (-70 / 20)
    return Audio((0.5 * out / np.abs(out).max())[None].astype(np.float32), RATE), starts


def apart(audio: Audio, starts: Sequence[float]) -> tuple[list[float], int]:
    """(of each start how far the nearest mark lies, infinite without one; how many marks a start has more
    than one).
    """
    marks = np.asarray(listen(ArraySource(audio), None, lambda share: None).onsets.times)
    distance = (
        np.abs(marks[None, :] - np.asarray(starts)[:, None])
        if len(marks)
        else np.full((len(starts), 1), np.inf)
    )
    nearest = distance.min(axis=1)
    after = marks[None, :] - np.asarray(starts)[:, None]
    more = ((after > -0.01) & (after < TWICE_S)).sum(axis=1) - 1
    return [float(one) if one < MARKED_S else np.inf for one in nearest], int(np.maximum(more, 0).sum())


def generated(seed: int) -> tuple[str, list[float], int, int]:
    audio, starts = strummed(seed)
    return "generated strums", *apart(audio, starts), len(starts)


def excerpt(name: str) -> tuple[str, list[float], int, int]:
    samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
    known = json.loads((OPEN / f"{name}.json").read_text())
    times = sorted(one.get("t_mic", one["t"]) for one in known["onsets"] if not one.get("opt"))
    first = [time for k, time in enumerate(times) if k == 0 or time - times[k - 1] > 0.05]
    return known["category"], *apart(Audio(samples.T, rate), first), len(first)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    parser.add_argument("--kinds", nargs="*", default=[], help="only these kinds of open")
    options = parser.parse_args()
    names = sorted(path.stem for path in needed(OPEN).glob("*.flac"))
    if options.kinds:
        names = [
            name
            for name in names
            if json.loads((OPEN / f"{name}.json").read_text())["category"] in options.kinds
        ]
    by: dict[str, list[tuple[list[float], int, int]]] = {}
    with ProcessPoolExecutor(2) as pool:
        for kind, *rest in [
            *pool.map(generated, range(options.first, options.first + options.count)),
            *pool.map(excerpt, names),
        ]:
            by.setdefault(kind, []).append(tuple(rest))
    print(
        "| kind | attacks | within 3 / 5 / 10 ms of the first note | marked more than once "
        "|\n|---|---|---|---|"
    )
    for kind, rows in by.items():
        off = np.concatenate([row[0] for row in rows])
        print(
            f"| {kind} | {len(off)} | "
            f"{' / '.join(f'{np.mean(off < limit):.3f}' for limit in LIMITS_S)} | "
            f"{sum(row[1] for row in rows)} |"
        )


if __name__ == "__main__":
    main()
