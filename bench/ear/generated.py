"""How well the ear does on songs it was not learnt from: `.venv/bin/python -m bench.ear.generated [--songs N]
[--each N]`.

Songs of bench/ear/songs.py with seeds beyond those of learning, in every meter and with changes; scored with
mir_eval per kind and per meter. A table for docs/decisions/ear.md is printed.
"""

from __future__ import annotations

import argparse
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import mir_eval
import numpy as np

from bench.ear.sampled import to_measure
from bench.ear.songs import Song, song
from combpace.core.analysis.take import Analysis, analyse
from combpace.core.audio import ArraySource

FIRST = 1_000_000


@dataclass(frozen=True, slots=True)
class Score:
    """Of one song; `bars` is (meter, right) of every true bar."""

    kind: str
    meter: str
    beat: float
    fine: float
    cml: float
    aml: float
    down: float
    bars: list[tuple[str, bool]]


def meter_of(made: Song) -> str:
    names = {bar.meter for bar in made.bars}
    return names.pop() if len(names) == 1 else "changes"


def seeds(each: int, first: int = FIRST, kinds: tuple[str, ...] = ()) -> Iterator[int]:
    """Seeds of `each` songs in every meter and of as many with changes, of some kinds only where they are
    named.

    On other instruments the same seeds are other songs, of the same kinds.
    """
    wanted = defaultdict(lambda: each)
    seed = first
    while len(wanted) < 6 or any(wanted.values()):
        made = song(seed, 24.0)
        name = meter_of(made)
        if wanted[name] and (not kinds or made.kind in kinds):
            wanted[name] -= 1
            yield seed
        seed += 1


def truth_of(made: Song) -> tuple[np.ndarray, np.ndarray]:
    beats = np.array([*made.pickup, *(time for bar in made.bars for time in bar.beats)])
    return beats[beats >= 0], np.array([bar.start_s for bar in made.bars])


def score_of(made: Song, beats: np.ndarray, downbeats: np.ndarray, bars: list[tuple[float, str]]) -> Score:
    """`bars`: (start, meter) of every bar that was read. Nothing is asked within the song's unasked spans."""
    for a, b in made.unasked:
        beats, downbeats = beats[(beats < a) | (beats > b)], downbeats[(downbeats < a) | (downbeats > b)]
    truth, lines = truth_of(made)
    for a, b in made.unasked:
        truth, lines = truth[(truth < a) | (truth > b)], lines[(lines < a) | (lines > b)]
    cml, aml = 0.0, 0.0
    if len(beats) > 2 and len(truth) > 2:
        _, cml, _, aml = mir_eval.beat.continuity(truth, beats)
    said = np.array([start for start, _ in bars])
    right = []
    for bar in made.bars:
        near = int(np.argmin(np.abs(said - bar.start_s))) if len(said) else -1
        right.append(
            (bar.meter, near >= 0 and abs(said[near] - bar.start_s) <= 0.07 and bars[near][1] == bar.meter)
        )
    f = mir_eval.beat.f_measure
    return Score(
        made.kind,
        meter_of(made),
        f(truth, beats),
        f(truth, beats, 0.02),
        cml,
        aml,
        f(lines, downbeats),
        right,
    )


def bars_of(heard: Analysis) -> list[tuple[float, str]]:
    if heard.pace is None:
        return []
    pace = heard.pace
    first, last = pace.bar_of(float(pace.quarters[0])), pace.bar_of(float(pace.quarters[-1]))
    return [(pace.second(pace.bar_line(k)), str(pace.meter_of(k))) for k in range(max(first, 0), last + 1)]


def one_sampled(seed: int) -> Score:
    return scored(to_measure(seed))


def one(seed: int) -> Score:
    return scored(song(seed))


def scored(made: Song) -> Score:
    heard = analyse(ArraySource(made.audio))
    bars = bars_of(heard)
    return score_of(made, np.asarray(heard.beats.times), np.array([start for start, _ in bars]), bars)


def table(scores: list[Score]) -> str:
    lines = ["| | songs | F70 | F20 | CMLt | AMLt | D70 | meter right |", "|---|---|---|---|---|---|---|---|"]
    groups: dict[str, list[Score]] = defaultdict(list)
    for score in scores:
        for name in (score.meter, score.kind, "all"):
            groups[name].append(score)
    for name, group in groups.items():
        mean = [
            float(np.mean([getattr(score, key) for score in group]))
            for key in ("beat", "fine", "cml", "aml", "down")
        ]
        right = float(np.mean([hit for score in group for _, hit in score.bars]))
        lines.append(
            f"| {name} | {len(group)} | " + " | ".join(f"{value:.3f}" for value in [*mean, right]) + " |"
        )
    per: dict[str, list[bool]] = defaultdict(list)
    for score in scores:
        for meter, hit in score.bars:
            per[meter].append(hit)
    lines.append(
        f"\nMeter right per bar, mean over meters: {np.mean([np.mean(hits) for hits in per.values()]):.3f}"
    )
    return "\n".join(lines)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--each", type=int, default=12, help="songs of every meter")
    parser.add_argument("--kinds", nargs="*", default=[], help="only these, as drums band loud pair")
    parser.add_argument(
        "--sampled",
        action="store_true",
        help="on instruments of a sound font that nothing is learnt from (bench/ear/sampled.py)",
    )
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        print(
            table(
                list(
                    pool.map(
                        one_sampled if options.sampled else one,
                        seeds(options.each, kinds=tuple(options.kinds)),
                        chunksize=4,
                    )
                )
            )
        )


if __name__ == "__main__":
    main()
