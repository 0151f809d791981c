"""What one true downbeat does: `.venv/bin/python -m bench.effort.said [--songs N] [--first SEED]`.

Each take is heard, then one true downbeat is said of it: the first that has no line, and three at random. Of
the lines that are wrong before and after (30 ms around the notes struck on a downbeat): solved by the ear
(`core.tempo.solve`), and by counting on from what is said, which is what remains where the ear kept nothing.
Songs are composed from seeds that nothing was tuned on.
"""

from __future__ import annotations

import argparse
import json
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np
import soundfile as sf

from bench.effort.effort import Truth, truth_of
from combpace.core.analysis.take import Analysis, analyse, caught
from combpace.core.audio import ArraySource, Audio
from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError
from combpace.core.tempo import bars_again
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
from rig.shared import OPEN, needed

FIRST_SEED = 7_700_000
WITHIN_S, AT_RANDOM = 0.020, 3
Said = tuple[str, int, int, int]


def wrong(line: TempoMap[TakeTimes], truth: Truth) -> int:
    """How many downbeats have no line, and lines no downbeat."""
    gap = float(np.median(np.diff(truth.downbeats)))
    first = line.bar_of(line.place(float(truth.downbeats[0]) - 0.6 * gap))
    last = line.bar_of(line.place(float(truth.downbeats[-1]) + 0.4 * gap))
    lines = np.asarray(line.to_seconds(line.bar_lines(first, last - first)))
    lines = lines[(lines > truth.downbeats[0] - 0.4 * gap) & (lines < truth.downbeats[-1] + 0.4 * gap)]
    low, high = truth.low - WITHIN_S, truth.high + WITHIN_S
    missed = [
        float(time)
        for time, a, b in zip(truth.downbeats, low, high, strict=True)
        if not np.any((lines >= a) & (lines <= b))
    ]
    extra = [float(one) for one in lines if not np.any((low <= one) & (one <= high))]
    return len(missed) + sum(not any(abs(one - time) < 0.25 * gap for time in missed) for one in extra)


def counted_on(heard: Analysis, pace: TempoMap[TakeTimes], time: float) -> TempoMap[TakeTimes]:
    return solved(Heard(pace, heard.onsets), Stated(downbeats=(time,)))


def by_ear(heard: Analysis, pace: TempoMap[TakeTimes], time: float) -> TempoMap[TakeTimes]:
    known = Heard(pace, heard.onsets, lambda: heard.pulse, partial(bars_again.hear_row, heard.pulse))
    return solved(known, Stated(downbeats=(time,)))


def measured(audio: Audio, truth: Truth) -> list[Said]:
    """(which downbeat was said, lines wrong before, after by the ear, after by counting on)."""
    heard = analyse(ArraySource(audio))
    pace, duration = heard.pace, audio.samples.shape[1] / audio.sample_rate_hz
    if pace is None:
        return []
    before = wrong(pace, truth)
    lines = np.asarray(pace.to_seconds(pace.bar_lines(-2, 2 + pace.bar_of(float(pace.quarters[-1])))))
    at = [float(time) for time in np.clip(0.5 * (truth.low + truth.high), 0.0, duration)]
    missed = [t for t in at if np.abs(lines - t).min() > 2 * WITHIN_S][:1]
    chosen = np.random.default_rng(1).choice(len(at), AT_RANDOM, replace=False)
    out: list[Said] = []
    for what, said in [*(("missed", t) for t in missed), *(("any", at[k]) for k in chosen)]:
        time = caught(said, heard.onsets, duration)
        after = []
        for way in (
            lambda time=time: by_ear(heard, pace, time),
            lambda time=time: counted_on(heard, pace, time),
        ):
            try:
                after.append(wrong(way(), truth))
            except CombPaceError:
                after.append(-1)
        # Where no count goes through it, the page counts on.
        ear = after[1] if after[0] < 0 else after[0]
        out.append((what, before, before if ear < 0 else ear, before if after[1] < 0 else after[1]))
    return out


def excerpt_known(name: str) -> tuple[Audio, Truth]:
    """A recording of the open set, and what is true of it."""
    samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
    known = json.loads((OPEN / f"{name}.json").read_text())
    notes = np.array([one["t"] for one in known["onsets"]])
    meters = [bar["meter"] for bar in known["bars"]]
    truth = truth_of(np.array(known["beats"]), np.array(known["downbeats"]), meters, notes)
    return Audio(samples.T, rate), truth


def song_known(seed: int) -> tuple[Audio, Truth]:
    """A song composed from a seed, and what is true of it."""
    from bench.ear.sampled import to_measure

    made = to_measure(seed)
    beats = np.array([time for bar in made.bars for time in bar.beats])
    downbeats = np.array([bar.beats[0] for bar in made.bars])
    notes = np.array([time for time, _ in made.onsets])
    return made.audio, truth_of(beats, downbeats, [str(bar.meter) for bar in made.bars], notes)


def excerpt(name: str) -> list[Said]:
    return measured(*excerpt_known(name))


def song(seed: int) -> list[Said]:
    return measured(*song_known(seed))


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--songs", type=int, default=0)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    options = parser.parse_args()
    names = sorted(path.stem for path in needed(OPEN).glob("*.json") if path.stem != "index")
    seeds = list(range(options.first, options.first + options.songs))
    print("| | said | wrong lines before | by the ear | counted on | more wrong than before | right after |")
    print("|---|---|---|---|---|---|---|")
    with ProcessPoolExecutor(2) as pool:
        for title, found in (
            ("open", [one for said in pool.map(excerpt, names) for one in said]),
            ("songs", [one for said in pool.map(song, seeds) for one in said]),
        ):
            for what in ("missed", "any"):
                rows = np.array([one[1:] for one in found if one[0] == what]).reshape(-1, 3)
                worse = (rows[:, 1:] > rows[:, :1]).sum(axis=0)
                right = (rows[:, 1:] == 0).sum(axis=0)
                print(
                    f"| {title}, {'the first missed' if what == 'missed' else 'any'} | {len(rows)} | "
                    f"{' | '.join(str(int(value)) for value in rows.sum(axis=0))} | {worse[0]}, {worse[1]} | "
                    f"{right[0]}, {right[1]} |"
                )


if __name__ == "__main__":
    main()
