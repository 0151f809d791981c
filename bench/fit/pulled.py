"""Where strokes lie before and after a fit to 1/16 at 100 %: `.venv/bin/python -m bench.fit.pulled [--only
NAME ...] [--songs N] [--own-lines]`.

Excerpts of ../shared/bench/beats/open and songs of bench/ear on sampled instruments, with their true strokes.
The session's map is the
truth's, the musical place of each mark is the ear's: what is left are marks that lie beside their stroke,
strokes without a mark, and wrong
places. --own-lines fits to the ear's own lines instead. Computed along the time map; no sound is rendered
(`fit --proof` listens).
Of each place of the true grid on which something is struck, the stroke that goes nearest to its line counts
(of a chord its first note):
shares within 3, 5 and 10 ms of the line; of strokes with a mark how many were pulled to another place; and
how many single corrections
bring 95 % within 10 ms.
"""

from __future__ import annotations

import argparse
import itertools
import json
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from combpace.batch.files import analyse_named, opened
from combpace.core.analysis.take import Analysis, analyse
from combpace.core.audio import ArraySource
from combpace.core.clocks import Quarters, TakeTimes, take_times
from combpace.core.fit.follow import following
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.tempo.map import Knot, TempoMap
from rig.shared import OPEN, needed

FIRST_SEED = 7_600_000
# Steps of the grid in a beat; notes so near together are one stroke, the first of them counts; a mark so near
# is a stroke's. Seconds.
STEPS, ONE_S, NEAR_S = 4, 0.050, 0.020
LIMITS_S = (0.003, 0.005, 0.010)


@dataclass(frozen=True)
class Truth:
    """category, beats (s), times of strokes that must be there (s)."""

    category: str
    beats: np.ndarray
    strokes: list[float]


@dataclass(frozen=True)
class Row:
    """Distances of places before and after (s), strokes that went to another place, strokes with a mark."""

    category: str
    before: list[float]
    after: list[float]
    wrong: int
    marked: int


def excerpt(name: str, own_lines: bool) -> Row:
    known = json.loads((OPEN / f"{name}.json").read_text())
    strokes = [one.get("t_mic", one["t"]) for one in known["onsets"] if not one.get("opt")]
    with opened(OPEN / f"{name}.flac") as (source, decoded):
        heard = analyse_named(source, OPEN / f"{name}.flac")
        return measured(
            Truth(known["category"], np.array(known["beats"]), strokes), heard, decoded.duration_s, own_lines
        )


def song(seed: int, own_lines: bool) -> Row:
    from bench.ear.sampled import to_measure

    made = to_measure(seed)
    beats = np.array([time for bar in made.bars for time in bar.beats])
    heard = analyse(ArraySource(made.audio))
    return measured(
        Truth(f"song, {made.kind}", beats, [time for time, optional in made.onsets if not optional]),
        heard,
        made.audio.duration_s,
        own_lines,
    )


def measured(truth: Truth, heard: Analysis, duration_s: float, own_lines: bool) -> Row:
    beats = truth.beats
    lines = np.concatenate(
        [start + (end - start) * np.arange(STEPS) / STEPS for start, end in itertools.pairwise(beats)]
    )
    strokes = sorted(truth.strokes)
    first = [time for k, time in enumerate(strokes) if k == 0 or time - strokes[k - 1] > ONE_S]
    struck = np.array([time for time in first if beats[0] - 0.05 < time < lines[-1]])
    place = np.argmin(np.abs(lines[None, :] - struck[:, None]), axis=1)
    if heard.pace is None or not len(struck):
        return Row(truth.category, [], [], len(struck), len(struck))
    session, goal = heard.pace, lines[place]
    if own_lines:
        # The line of a true place is the ear's nearest to it: its own beats, or the steps between them.
        start, stop = (heard.pace.place(float(time)) for time in (lines[0], lines[-1]))
        heard_lines = np.asarray(
            heard.pace.to_seconds(Quarters(np.arange(np.floor(start * 4) - 1, np.ceil(stop * 4) + 2) / 4))
        )
        goal = heard_lines[np.argmin(np.abs(heard_lines[None, :] - goal[:, None]), axis=1)]
    else:
        session = true_map(heard.pace, beats)
    own = fit(
        heard.onsets,
        heard.pace,
        following(heard.pace, session, 0.0, duration_s),
        session,
        duration_s,
        Rule(grid="1/16"),
    )  # type: ignore[arg-type]
    before, after = np.abs(struck - lines[place]), np.abs(np.asarray(own.time_map.to_target(struck)) - goal)
    pegs = [peg for peg in own.pegs if peg.kind != "held"]
    if not pegs:
        return Row(truth.category, [], [], len(struck), len(struck))
    marks, targets = np.array([peg.take_s for peg in pegs]), np.array([peg.target_s for peg in pegs])
    nearest = np.argmin(np.abs(marks[None, :] - struck[:, None]), axis=1)
    pegged = np.abs(marks[nearest] - struck) < NEAR_S
    wrong = int(np.sum(pegged & (np.abs(targets[nearest] - goal) > NEAR_S)))
    groups = [place == one for one in np.unique(place)]
    return Row(
        truth.category,
        [float(before[one].min()) for one in groups],
        [float(after[one].min()) for one in groups],
        wrong,
        int(pegged.sum()),
    )


def true_map(heard: TempoMap[TakeTimes], beats: np.ndarray) -> TempoMap[TakeTimes]:
    """The true beats as a map, numbered as the ear numbers them: each at the half quarter that its own pace
    has nearest to it.
    """
    places = np.round(2 * np.asarray(heard.to_quarters(take_times(beats)))) / 2
    knots = [
        Knot(float(time), float(at))
        for k, (time, at) in enumerate(zip(beats, places, strict=True))
        if k == 0 or at > places[k - 1]
    ]
    return TempoMap(tuple(knots), heard.meters)


def main() -> None:
    """Measure and print a table by category."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--only", nargs="*", default=[])
    parser.add_argument("--songs", type=int, default=0)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    parser.add_argument("--own-lines", action="store_true")
    options = parser.parse_args()
    names = [
        path.stem
        for path in sorted(needed(OPEN).glob("*.flac"))
        if not options.only or any(one in path.stem for one in options.only)
    ]
    seeds = list(range(options.first, options.first + options.songs))
    by: dict[str, list[Row]] = {}
    with ProcessPoolExecutor(2) as pool:
        rows = [
            *pool.map(excerpt, names, itertools.repeat(options.own_lines)),
            *pool.map(song, seeds, itertools.repeat(options.own_lines)),
        ]
    for row in rows:
        by.setdefault(row.category, []).append(row)
    print(
        "| category | places | within 3 / 5 / 10 ms before | after | to another place | "
        "corrections to 95 % |\n|---|---|---|---|---|---|"
    )
    for category, found in sorted(by.items()):
        sides = [np.concatenate([row.before for row in found]), np.concatenate([row.after for row in found])]
        shares = [" / ".join(f"{np.mean(side < limit):.2f}" for limit in LIMITS_S) for side in sides]
        wrong, marked = sum(row.wrong for row in found), sum(row.marked for row in found)
        hand = max(0, int(np.ceil(0.95 * len(sides[1]) - np.sum(sides[1] < LIMITS_S[-1]))))
        print(f"| {category} | {len(sides[0])} | {shares[0]} | {shares[1]} | {wrong} of {marked} | {hand} |")


if __name__ == "__main__":
    main()
