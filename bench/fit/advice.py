"""When playing again is advised: `.venv/bin/python -m bench.fit.advice [--takes N]`.

Takes of sixteen bars whose onsets scatter about the grid by a known share of its step. Printed is of how many
takes, as a share, the program says that which place is meant is a guess (asked: above a third of the step).
"""

from __future__ import annotations

import argparse

import numpy as np

from combpace.core.clocks import Quarters, take_times
from combpace.core.fit.advice import advice
from combpace.core.fit.follow import following
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import steady_map

LINE, LENGTH_Q, BPM = steady_map(120.0, 0.0), 64.0, 120.0
SHARES = (0.1, 0.2, 0.25, 0.33, 0.4, 0.5)


def told(grid: str, share: float, seed: int) -> bool:
    """Whether it is said of one take."""
    rule = Rule(grid=grid)
    step = rule.places.step_quarters
    count = round(LENGTH_Q / step)
    loose = np.random.default_rng(seed).normal(0.0, share * step, count)
    own = np.sort(8.0 + step * np.arange(count) + loose)
    times = own * 60.0 / BPM
    marks = Onsets(take_times(times), np.full(count, 0.8), np.ones(count))
    end = float(times[-1]) + 1.0
    pace = steady_map(BPM, 0.0)
    made = fit(marks, pace, following(pace, LINE, 0.0, end), LINE, end, rule)  # type: ignore[arg-type]
    return bool(advice(Quarters(own), made, rule, LINE).adrift)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--takes", type=int, default=100)
    options = parser.parse_args()
    print("| grid | " + " | ".join(f"{share:g}" for share in SHARES) + " |")
    print("|---|" + "---|" * len(SHARES))
    for grid in ("1/8", "1/16"):
        shares = [np.mean([told(grid, share, seed) for seed in range(options.takes)]) for share in SHARES]
        print(f"| {grid} | " + " | ".join(f"{share:.2f}" for share in shares) + " |", flush=True)


if __name__ == "__main__":
    main()
