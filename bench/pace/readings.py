"""Whether the right way to count is among the readings, and whether their probabilities are right:
`.venv/bin/python -m bench.pace.readings [--songs N] [--first SEED] [--fit]`.

Takes the excerpts of ../shared/bench/beats/open and N songs of bench/ear on sampled instruments; --fit looks
for `readings.SHARPER` by the likelihood of the right reading among those offered, on the songs alone.
"""

from __future__ import annotations

import argparse
import json
import time
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np
import soundfile as sf

from combpace.core.analysis import readings as module
from combpace.core.analysis.readings import readings_of
from combpace.core.analysis.take import analyse
from combpace.core.audio import ArraySource, Audio
from rig.shared import OPEN, needed

RIGHT_F = 0.9
FIRST_SEED = 7_400_000
SHARPER = (4.0, 8.0, 14.0, 20.0, 30.0, 45.0)


def f70(found: np.ndarray, truth: np.ndarray) -> float:
    """F measure of beats within 70 ms (MIREX; mir_eval), both ways by nearest neighbours."""
    if not len(found) or not len(truth):
        return 0.0
    hits = min(int((np.abs(truth[:, None] - found[None, :]).min(axis=axis) <= 0.07).sum()) for axis in (0, 1))
    return 2 * hits / (len(found) + len(truth))


def judged(name: str, audio: Audio, beats: np.ndarray, downbeats: np.ndarray) -> dict[str, Any]:
    source = ArraySource(audio)
    found = analyse(source)
    begun = time.process_time()
    rows = []
    for sharper in SHARPER:
        module.SHARPER = sharper
        offered = readings_of(found.pulse, found.onsets, found.beats, found.pace)
        rows.append(
            [
                (
                    one.probability,
                    f70(one.pace.times_s, beats) >= RIGHT_F,
                    f70(one.downbeats(), downbeats) >= RIGHT_F,
                )
                for one in offered
            ]
        )
    return {
        "name": name,
        "rows": rows,
        "cpu": (time.process_time() - begun) / len(SHARPER),
        "minutes": audio.frames / audio.sample_rate_hz / 60,
    }


def excerpt(name: str) -> dict[str, Any]:
    samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
    truth = json.loads((OPEN / f"{name}.json").read_text())
    return judged(name, Audio(samples.T, rate), np.array(truth["beats"]), np.array(truth["downbeats"]))


def generated(seed: int) -> dict[str, Any]:
    from bench.ear.sampled import to_measure

    made = to_measure(seed)
    beats = np.array([time for bar in made.bars for time in bar.beats])
    return judged(str(seed), made.audio, beats, np.array([bar.beats[0] for bar in made.bars]))


def table(found: list[dict[str, Any]], column: int) -> None:
    rows = [one["rows"][column] for one in found if one["rows"][column]]
    for many in (1, 3, 5):
        beats = np.mean([any(right for _, right, _ in row[:many]) for row in rows])
        both = np.mean([any(right and opened for _, right, opened in row[:many]) for row in rows])
        print(f"  among the first {many}: beats {beats:.3f}, beats and bars {both:.3f}")
    said = np.array(
        [(probability, right and opened) for row in rows for probability, right, opened in row], dtype=float
    )
    for low, high in ((0.02, 0.1), (0.1, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.9), (0.9, 1.01)):
        inside = said[(said[:, 0] >= low) & (said[:, 0] < high)]
        if len(inside):
            print(f"  said {inside[:, 0].mean():.2f}: right {inside[:, 1].mean():.2f} of {len(inside)}")


def likelihood(found: list[dict[str, Any]], column: int) -> float:
    """Mean log probability of the right reading, of those songs that have one."""
    hits = [[p for p, right, opened in one["rows"][column] if right and opened] for one in found]
    values = [np.log(max(row)) for row in hits if row]
    return float(np.mean(values)) if values else float("nan")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--songs", type=int, default=0)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    parser.add_argument("--fit", action="store_true")
    options = parser.parse_args()
    kept = SHARPER.index(module.SHARPER)
    with ProcessPoolExecutor(2) as pool:
        names = sorted(path.stem for path in needed(OPEN).glob("*.json") if path.stem != "index")
        sets = {"open": list(pool.map(excerpt, names))}
        if options.songs:
            sets[f"{options.songs} songs"] = list(
                pool.map(generated, range(options.first, options.first + options.songs))
            )
    for name, found in sets.items():
        minutes, cpu = (sum(one[what] for one in found) for what in ("minutes", "cpu"))
        print(f"{name}, {minutes:.0f} minutes, {cpu / minutes:.2f} CPU s a minute for the readings")
        table(found, kept)
        if options.fit:
            for column, sharper in enumerate(SHARPER):
                print(
                    f"  sharper {sharper:g}: log probability of the right one {likelihood(found, column):.3f}"
                )


if __name__ == "__main__":
    main()
