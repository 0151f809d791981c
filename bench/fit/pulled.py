"""Where strokes lie before and after a fit to 1/16 at 100 %: `.venv/bin/python -m bench.fit.pulled [--only NAME ...]`.

Excerpts of ../shared/bench/beats/open with their true strokes. Fitted to the ear's own lines: what is left are marks that lie beside their
stroke, strokes without a mark, and wrong places. Computed along the time map; no sound is rendered (bench.feel and `fit --proof` listen).
Of each place of the true grid on which something is struck, the stroke that goes nearest to its line counts (of a chord its first note):
shares within 3, 5 and 10 ms of the line, and of strokes with a mark how many were pulled to another place.
"""

from __future__ import annotations

import argparse
import itertools
import json
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from combpace.batch.files import analyse_named, opened
from combpace.core.clocks import Placement, Quarters
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.tempo.grid import Grid

OPEN = Path(__file__).resolve().parents[3] / "shared" / "bench" / "beats" / "open"
# Steps of the grid in a beat; notes so near together are one stroke, the first of them counts; a mark so near is a stroke's. Seconds.
STEPS, ONE_S, NEAR_S = 4, 0.050, 0.020
LIMITS_S = (0.003, 0.005, 0.010)


def measured(name: str) -> tuple[str, list[float], list[float], int, int]:
    """(category, distances before and after by place, strokes that went to another place, strokes with a mark), seconds."""
    truth = json.loads((OPEN / f"{name}.json").read_text())
    beats = np.array(truth["beats"])
    lines = np.concatenate([start + (end - start) * np.arange(STEPS) / STEPS for start, end in itertools.pairwise(beats)])
    strokes = [one.get("t_mic", one["t"]) for one in truth["onsets"] if not one.get("opt")]
    first = [time for k, time in enumerate(sorted(strokes)) if k == 0 or time - sorted(strokes)[k - 1] > ONE_S]
    struck = np.array([time for time in first if beats[0] - 0.05 < time < lines[-1]])
    place = np.argmin(np.abs(lines[None, :] - struck[:, None]), axis=1)
    with opened(OPEN / f"{name}.flac") as (source, decoded):
        heard = analyse_named(source, OPEN / f"{name}.flac")
        if heard.pace is None:
            return truth["category"], [], [], len(struck), len(struck)
        own = fit(heard.onsets, heard.pace, heard.pace, Placement(name), decoded.duration_s, Rule(Grid(16)))
    # The line of a true place is the ear's nearest to it: its own beats, or the steps between them.
    first, last = (heard.pace.place(float(time)) for time in (lines[0], lines[-1]))
    steps = Quarters(np.arange(np.floor(first * 4) - 1, np.ceil(last * 4) + 2) / 4)
    heard_lines = np.asarray(heard.pace.to_seconds(steps))
    goal = heard_lines[np.argmin(np.abs(heard_lines[None, :] - lines[place][:, None]), axis=1)]
    before, after = np.abs(struck - lines[place]), np.abs(np.asarray(own.time_map.to_target(struck)) - goal)
    pegs = [peg for peg in own.pegs if peg.kind != "held"]
    marks, targets = np.array([peg.take_s for peg in pegs]), np.array([peg.target_s for peg in pegs])
    nearest = np.argmin(np.abs(marks[None, :] - struck[:, None]), axis=1)
    pegged = np.abs(marks[nearest] - struck) < NEAR_S
    wrong = int(np.sum(pegged & (np.abs(targets[nearest] - goal) > NEAR_S)))
    groups = [place == one for one in np.unique(place)]
    return truth["category"], [float(before[one].min()) for one in groups], [float(after[one].min()) for one in groups], wrong, int(pegged.sum())


def main() -> None:
    """Measure and print a table by category."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--only", nargs="*", default=[])
    only = parser.parse_args().only
    names = [path.stem for path in sorted(OPEN.glob("*.flac")) if not only or any(one in path.stem for one in only)]
    by: dict[str, list[tuple[list[float], list[float], int, int]]] = {}
    with ProcessPoolExecutor(2) as pool:
        for category, *rest in pool.map(measured, names):
            by.setdefault(category, []).append(tuple(rest))
    print("| category | places | within 3 / 5 / 10 ms before | after | to another place |\n|---|---|---|---|---|")
    for category, rows in sorted(by.items()):
        shares = [[np.mean(np.concatenate([row[side] for row in rows]) < limit) for limit in LIMITS_S] for side in (0, 1)]
        wrong, marked = (sum(row[k] for row in rows) for k in (2, 3))
        before, after = (" / ".join(f"{share:.2f}" for share in one) for one in shares)
        print(f"| {category} | {sum(len(row[0]) for row in rows)} | {before} | {after} | {wrong} of {marked} |")


if __name__ == "__main__":
    main()
