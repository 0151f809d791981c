"""Whether takes are called what they are: `.venv/bin/python -m bench.pace.verdicts`.

Forty takes of each kind as beats alone, without audio: a machine's with fills and breaks that were followed on other attacks, a person's with 8 ms of
jitter about a click, and takes that breathe by 1 % over 8 to 60 s.
"""

from __future__ import annotations

from collections import Counter

import numpy as np

from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.clocks import TakeTimes, take_times
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter

TAKES = 40


def verdict(times: np.ndarray) -> tuple[str, bool]:
    line: TempoMap[TakeTimes] = TempoMap(tuple(Knot(float(time), float(k), confidence=0.9) for k, time in enumerate(times)), (Meter(1, 4, 4),))
    onsets = Onsets(take_times(times), np.full(len(times), 0.8), np.ones(len(times)))
    found = steady_tempo(line, onsets, float(times[-1]) + 1.0)
    return found.verdict, found.played


def machine(rng: np.random.Generator) -> np.ndarray:
    beat = 60 / rng.uniform(70, 160)
    times = 1 + beat * np.arange(rng.integers(64, 320)) + rng.normal(0, 0.0015, 1)[0]
    times = times + rng.normal(0, rng.uniform(0.0003, 0.0035), len(times))
    for _ in range(rng.integers(0, 5)):
        at = rng.integers(4, len(times) - 8)
        times[at : at + rng.integers(1, 4)] += rng.uniform(-0.04, 0.04)
    return np.sort(times)


def person(rng: np.random.Generator) -> np.ndarray:
    count, beat = int(rng.integers(64, 320)), 60 / rng.uniform(70, 160)
    return 1 + beat * np.arange(count) + rng.normal(0, 0.008, count)


def breathing(rng: np.random.Generator) -> np.ndarray:
    beat, span, at = 60 / rng.uniform(70, 160), rng.uniform(8, 60), [1.0]
    while at[-1] < 120:
        at.append(at[-1] + beat * (1 + 0.01 * np.sin(2 * np.pi * at[-1] / span)))
    return np.array(at) + rng.normal(0, 0.003, len(at))


def main() -> None:
    for name, make in (("machine", machine), ("person about a click", person), ("breathes by 1 %", breathing)):
        found = [verdict(make(np.random.default_rng(seed))) for seed in range(TAKES)]
        print(f"{name}: {dict(Counter(how for how, _ in found))}, played {sum(played for _, played in found)} of {TAKES}")


if __name__ == "__main__":
    main()
