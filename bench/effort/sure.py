"""How often bars are wrong that are listed as so sure: `.venv/bin/python -m bench.effort.sure [--songs N]
[--first SEED]`.

Each take is heard, then one true downbeat is said of it: the first that has no line, else one at random. A
bar is right where its line lies within 20 ms of the notes struck on a downbeat and its meter is that one's.
Beside how sure each bar is given what was said (`core.tempo.sure`) stands how sure its knot was before. Songs
are composed from seeds that no weights were learnt from.
"""

from __future__ import annotations

import argparse
import itertools
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np

from bench.effort.effort import Truth
from bench.effort.said import WITHIN_S, excerpt_known, song_known
from combpace.core.analysis.take import analyse, caught
from combpace.core.audio import ArraySource, Audio
from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError
from combpace.core.tempo.bars_again import hear_row
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
from combpace.core.tempo.sure import sure_given
from rig.shared import OPEN, needed

FIRST_SEED = 7_960_000
EDGES = (0.0, 0.3, 0.5, 0.7, 0.8, 0.9, 0.95, 1.0)
# (how sure before anything was said, given what was said, whether the bar is right) of one bar.
Bar = tuple[float, float, bool]


def right_of(line: TempoMap[TakeTimes], truth: Truth) -> dict[int, bool]:
    """Of each bar that truth knows whether it is right."""
    found = {}
    gap = float(np.median(np.diff(truth.downbeats)))
    for index in range(line.bar_of(float(line.quarters[-1]) + 1e-6) + 1):
        at = line.second(line.bar_line(index))
        if truth.downbeats[0] - 0.4 * gap < at < truth.downbeats[-1] + 0.4 * gap:
            near = int(np.argmin(np.abs(truth.downbeats - at)))
            lies = truth.low[near] - WITHIN_S <= at <= truth.high[near] + WITHIN_S
            found[index] = lies and str(line.meter_of(index)) == truth.meters[near]
    return found


def measured(audio: Audio, truth: Truth) -> list[Bar]:
    heard, duration = analyse(ArraySource(audio)), audio.samples.shape[1] / audio.sample_rate_hz
    if heard.pace is None:
        return []
    known = Heard(heard.pace, heard.onsets, lambda: heard.pulse, partial(hear_row, heard.pulse))
    lines = np.asarray(known.pace.to_seconds(known.pace.bar_lines(-2, 400)))
    at = [float(time) for time in np.clip(0.5 * (truth.low + truth.high), 0.0, duration)]
    missed = [time for time in at if np.abs(lines - time).min() > 2 * WITHIN_S][:1]
    said = missed or [at[int(np.random.default_rng(1).integers(len(at)))]]
    stated = Stated(downbeats=(caught(said[0], heard.onsets, duration),))
    try:
        line = solved(known, stated)
    except CombPaceError:
        return []
    sure = sure_given(line, known, stated)
    if sure is None:
        return []
    knots = np.array([knot.confidence for knot in line.knots])
    before = np.interp(np.asarray(line.bar_lines(0, len(sure))), line.quarters, knots)
    return [
        (float(before[k]), float(sure[k]), right)
        for k, right in right_of(line, truth).items()
        if k < len(sure)
    ]


def excerpt(name: str) -> list[Bar]:
    return measured(*excerpt_known(name))


def song(seed: int) -> list[Bar]:
    return measured(*song_known(seed))


def table(found: list[Bar]) -> None:
    rows = np.array(found, np.float64).reshape(-1, 3)
    print("| so sure | as it was heard: bars, right | given what was said: bars, right |")
    print("|---|---|---|")
    for low, high in itertools.pairwise(EDGES):
        cells = []
        for column in (0, 1):
            inside = (rows[:, column] >= low) & ((rows[:, column] < high) | (high == 1.0))
            share = f"{rows[inside, 2].mean():.2f}" if inside.any() else "–"
            cells.append(f"{int(inside.sum())}, {share}")
        print(f"| {low:g} to {high:g} | {' | '.join(cells)} |")
    brier = [float(((rows[:, column] - rows[:, 2]) ** 2).mean()) for column in (0, 1)]
    print(f"| mean square off | {brier[0]:.3f} | {brier[1]:.3f} |")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--songs", type=int, default=0)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    options = parser.parse_args()
    names = sorted(path.stem for path in needed(OPEN).glob("*.json") if path.stem != "index")
    seeds = list(range(options.first, options.first + options.songs))
    with ProcessPoolExecutor(2) as pool:
        for title, found in (
            ("open", [one for bars in pool.map(excerpt, names) for one in bars]),
            ("songs", [one for bars in pool.map(song, seeds) for one in bars]),
        ):
            if found:
                print(f"\n{title}: {len(found)} bars\n")
                table(found)


if __name__ == "__main__":
    main()
