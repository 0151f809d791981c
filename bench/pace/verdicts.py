"""Whether takes are called what they are: `.venv/bin/python -m bench.pace.verdicts [--audio [KIND ...]]`.

Forty takes of each kind as beats alone, without audio: a machine's with fills and breaks that were followed
on other attacks, a person's with 8 ms of jitter about a click, and takes that breathe by 1 % over 8 to 60 s.
With --audio the same of whole mixes, heard from their sound: a machine's with swing, fills and breakdowns
through MP3; the same played by a person; and the same breathing.
"""

from __future__ import annotations

import argparse
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import repeat
from pathlib import Path

import numpy as np

from combpace.batch.files import analyse_file
from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.analysis.take import Hints
from combpace.core.clocks import TakeTimes, take_times
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.demo.instruments import RATE, bass_box, copper_tub, reed_organ, slap, washboard
from rig.lossy import write_mp3

TAKES = 40


def verdict(times: np.ndarray) -> tuple[str, bool]:
    line: TempoMap[TakeTimes] = TempoMap(
        tuple(Knot(float(time), float(k), confidence=0.9) for k, time in enumerate(times)), (Meter(1, 4, 4),)
    )
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


# -- whole mixes

CHORDS = ((57, 60, 64), (53, 57, 60), (55, 59, 62), (52, 55, 59))
JITTER_S, BREATH = 0.008, 0.01
FIRST_SEED = 5_200
KINDS = ("machine", "person", "breathing")


@dataclass(frozen=True, slots=True)
class Mix:
    sound: np.ndarray
    bpm: float


def mix(kind: str, seed: int) -> Mix:
    """A minute or so of a kit, a bass and chords in sections: full, without the hats, without any of the kit
    (a breakdown).
    """
    rng = np.random.default_rng(FIRST_SEED + seed)
    bpm = float(round(rng.uniform(72, 158))) if seed % 2 else round(rng.uniform(72, 158), 2)
    swing, sixteenths, bars = (
        float(rng.choice([0.5, 0.5, rng.uniform(0.54, 0.66)])),
        bool(rng.integers(2)),
        int(np.ceil(rng.uniform(60, 90) * bpm / 240)),
    )
    beat, span = 60 / bpm, rng.uniform(8, 60)
    moments = (
        np.cumsum(beat * (1 + BREATH * np.sin(2 * np.pi * np.arange(4 * bars + 9) * beat / span)))
        if kind == "breathing"
        else beat * np.arange(4 * bars + 9)
    )
    start = rng.uniform(0.05, 0.6)
    out = np.zeros(round((start + moments[-1] + 2) * RATE))

    def strike(place: float, sound: np.ndarray) -> None:
        """At a place in beats; the second half of a beat is late by the swing."""
        whole, part = int(place), place % 1.0
        part = part * 2 * swing if part <= 0.5 else swing + (part - 0.5) * 2 * (1 - swing)
        time = (
            start
            + moments[whole]
            + part * (moments[whole + 1] - moments[whole])
            + (rng.normal(0, JITTER_S) if kind == "person" else 0.0)
        )
        at = max(0, round(time * RATE))
        out[at : at + len(sound)] += sound[: len(out) - at]

    for bar in range(bars):
        section, root = (bar // 4) % 4, CHORDS[(bar // 2) % 4]
        breakdown, fill = section == 3 and bar >= 12, bar % 8 == 7
        strike(4 * bar, reed_organ(rng, 0.3, root, 3.6 * beat))
        for eighth in range(8):
            place = 4 * bar + eighth / 2
            if eighth % 2 == 0 or rng.uniform() < 0.4:
                strike(place, bass_box(rng, 0.5, root[0] - 24, 0.45 * beat))
            if breakdown:
                continue
            if section != 1 or bar < 4:
                strike(place, washboard(rng, 0.7 if eighth % 2 == 0 else 0.45))
                if sixteenths:
                    strike(place + 0.25, washboard(rng, 0.3))
            if eighth in (0, 4) or (eighth == 5 and bar % 2):
                strike(place, copper_tub(rng, 0.9))
            if eighth in (2, 6):
                strike(place, slap(rng, 0.8))
        if fill:
            for k in range(8):
                strike(4 * bar + 2 + k / 4, slap(rng, 0.4 + 0.06 * k))
    return Mix(0.7 * out / np.abs(out).max(), bpm)


def heard(kind: str, seed: int) -> tuple[str, bool, float]:
    """(verdict, played, BPM off the truth at the level that was read)."""
    made = mix(kind, seed)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "mix.mp3"
        write_mp3(path, made.sound, RATE, header=bool(seed % 2))
        steady = analyse_file(path, Hints()).document["steady"]
    if not steady:
        return "no pulse", False, np.inf
    level = min(
        (0.5, 1.0, 2.0, 1.5, 2 / 3, 3.0, 1 / 3), key=lambda one: abs(steady["bpm"] / made.bpm / one - 1)
    )
    return steady["verdict"], steady["played"], abs(steady["bpm"] / level - made.bpm)


def audio(kinds: list[str]) -> None:
    with ProcessPoolExecutor(2) as pool:
        for kind in kinds:
            found = list(pool.map(heard, repeat(kind), range(TAKES)))
            off = np.array([one[2] for one in found])
            wrong = [
                (seed, one[0], round(one[2], 4))
                for seed, one in enumerate(found)
                if (one[0] == "steady") != (kind != "breathing")
            ]
            print(
                f"{kind}, whole mixes: {dict(Counter(one[0] for one in found))}, played "
                f"{sum(one[1] for one in found)} of {TAKES}; not so: {wrong}"
            )
            print(
                f"  BPM within .005 in {int((off <= 0.005).sum())}, median off {np.median(off):.4f}",
                flush=True,
            )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--audio", nargs="*", choices=KINDS)
    options = parser.parse_args()
    if options.audio is not None:
        audio(options.audio or list(KINDS))
        return
    for name, make in (
        ("machine", machine),
        ("person about a click", person),
        ("breathes by 1 %", breathing),
    ):
        found = [verdict(make(np.random.default_rng(seed))) for seed in range(TAKES)]
        print(
            f"{name}: {dict(Counter(how for how, _ in found))}, played "
            f"{sum(played for _, played in found)} of {TAKES}"
        )


if __name__ == "__main__":
    main()
