"""Whether the proof of a render can be trusted: `.venv/bin/python -m bench.fit.proof [--seeds N]`.

Voices that slide, strums, shakers with a groove, drums and chords, stretched by every method by factors of
.5 to 2. An attack that lies where it was sent is a false alarm if the proof calls it off; one that lies a
known 6 to 40 ms beside where the proof looks for it is missed if it does not. Asked: 1 % of each at most.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from numpy.typing import NDArray

from combpace.core.audio import ArraySource, Audio
from combpace.core.fit.proof import WITHIN_S, proof
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import METHODS, StretchedSource
from combpace.demo import instruments

RATE = 44100
Sound = NDArray[np.float64]
FACTORS = (0.5, 0.75, 0.93, 1.07, 1.4, 2.0)
ATTACKS, DISPLACED = 24, 3
SENT_MS = (6.0, 40.0)


def laid(times: Sound, sounds: list[Sound]) -> Sound:
    made = np.zeros(round((float(times[-1]) + 2.0) * RATE))
    for time, sound in zip(times, sounds, strict=True):
        at = round(time * RATE)
        part = sound[: len(made) - at]
        made[at : at + len(part)] += part
    return 0.5 * made / max(1e-9, float(np.abs(made).max()))


def at_48(sound: Sound) -> Sound:
    return np.asarray(sound, np.float64)


def drums(rng: np.random.Generator) -> tuple[Sound, Sound]:
    times = 0.3 + 0.3 * np.arange(ATTACKS) + rng.uniform(-0.02, 0.02, ATTACKS)
    return times, laid(times, [instruments.copper_tub(rng, 0.8, deep=k % 4 == 0) for k in range(ATTACKS)])


def shaker(rng: np.random.Generator) -> tuple[Sound, Sound]:
    times = 0.3 + 0.2 * np.arange(ATTACKS) + np.where(np.arange(ATTACKS) % 2, 0.03, 0.0)
    return times, laid(times, [instruments.washboard(rng, 0.4 + 0.4 * (k % 2 == 0)) for k in range(ATTACKS)])


def chords(rng: np.random.Generator) -> tuple[Sound, Sound]:
    times = 0.3 + 0.6 * np.arange(ATTACKS) + rng.uniform(-0.02, 0.02, ATTACKS)
    sets = ((48, 55, 64), (50, 57, 65), (45, 52, 60))
    return times, laid(times, [instruments.reed_organ(rng, 0.8, sets[k % 3], 0.5) for k in range(ATTACKS)])


def strums(rng: np.random.Generator) -> tuple[Sound, Sound]:
    times = 0.3 + 0.5 * np.arange(ATTACKS) + rng.uniform(-0.02, 0.02, ATTACKS)
    made = []
    for k in range(ATTACKS):
        notes = [instruments.tuned_pipe(rng, 0.7, 52.0 + step + k % 3) for step in (0, 4, 7, 12)]
        sound = np.zeros(max(len(one) for one in notes) + round(0.06 * RATE))
        for string, one in enumerate(notes):
            late = round(0.012 * string * RATE)
            sound[late : late + len(one)] += one
        made.append(sound)
    return times, laid(times, made)


def voice(rng: np.random.Generator) -> tuple[Sound, Sound]:
    """Notes of one line that begin with a little breath and slide into their pitch."""
    times = 0.3 + 0.5 * np.arange(ATTACKS) + rng.uniform(-0.02, 0.02, ATTACKS)
    made = []
    t = np.arange(round(0.4 * RATE)) / RATE
    for _ in range(ATTACKS):
        pitch = 180.0 * 2 ** (rng.integers(0, 8) / 12) * (1 - 0.04 * np.exp(-t / 0.03))
        phase = 2 * np.pi * np.cumsum(pitch) / RATE
        tone = sum(np.sin(n * phase) / n**1.3 for n in range(1, 12))
        shape = np.minimum(1.0, t / 0.012) * np.minimum(1.0, (t[-1] - t) / 0.05)
        breath = rng.normal(0.0, 0.05, len(t)) * np.exp(-t / 0.02)
        made.append(np.asarray(shape * (tone + breath), np.float64))
    return times, laid(times, made)


KINDS: dict[str, Callable[[np.random.Generator], tuple[Sound, Sound]]] = {
    "voice": voice,
    "strums": strums,
    "shaker": shaker,
    "drums": drums,
    "chords": chords,
}


def measured(args: tuple[str, str, int]) -> tuple[str, str, int, int, int, int, int, int]:
    """(kind, method, right attacks, false alarms, displaced ones, missed; the last two of detection alone)"""
    kind, method, seed = args
    rng = np.random.default_rng(seed)
    times, sound = KINDS[kind](rng)
    played = ArraySource(Audio(sound[None, :].astype(np.float32), RATE))
    counts = np.zeros(6, int)
    for factor in FACTORS:
        source = np.concatenate([[0.0], times, [len(sound) / RATE]])
        target = np.concatenate(
            [[0.0], times * factor + rng.uniform(-0.02, 0.02, len(times)) * factor, [0.0]]
        )
        target[-1] = target[-2] + (source[-1] - source[-2]) * factor
        time_map = TimeMap(source, np.maximum.accumulate(target + 1e-6 * np.arange(len(target))))
        stretched = StretchedSource(played, time_map, method)
        made = stretched.read(0, stretched.frames)
        first_s = float(time_map.target_s[0])
        wanted = np.asarray(time_map.target_s[1:-1]).copy()
        moved = np.zeros(len(wanted), bool)
        moved[:: len(wanted) // DISPLACED // 2] = True
        by = rng.uniform(*SENT_MS, len(wanted)) * rng.choice([-1, 1], len(wanted)) / 1000
        wanted[moved] += by[moved]
        result = ArraySource(Audio(made, RATE))
        for at, found in (
            (0, proof(result, list(wanted), first_s, played, list(times))),
            (4, proof(result, list(wanted), first_s)),
        ):
            off = np.array([np.inf if one.off_ms is None else abs(one.off_ms) for one in found]) / 1000
            alarm = off > WITHIN_S
            if at == 0:
                counts[:4] += [
                    int((~moved).sum()),
                    int(alarm[~moved].sum()),
                    int(moved.sum()),
                    int((~alarm[moved]).sum()),
                ]
            else:
                counts[4:] += [int(alarm[~moved].sum()), int((~alarm[moved]).sum())]
    return (kind, method, *(int(value) for value in counts))  # type: ignore[return-value]


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--seeds", type=int, default=2)
    options = parser.parse_args()
    work = [(kind, method, seed) for kind in KINDS for method in METHODS for seed in range(options.seeds)]
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(measured, work))
    print("| sound | method | false alarms, before | missed, before |\n|---|---|---|---|")
    for kind in KINDS:
        for method in METHODS:
            rows = np.array([one[2:] for one in found if one[:2] == (kind, method)]).sum(axis=0)
            right, alarms, moved, missed, alarms_before, missed_before = (int(value) for value in rows)
            print(
                f"| {kind} | {method} | {alarms} of {right} ({alarms_before}) | {missed} of {moved} "
                f"({missed_before}) |"
            )
    total = np.array([one[2:] for one in found]).sum(axis=0)
    print(
        f"| all | | {total[1] / total[0]:.3f} ({total[4] / total[0]:.3f}) | {total[3] / total[2]:.3f} "
        f"({total[5] / total[2]:.3f}) |"
    )


if __name__ == "__main__":
    main()
