"""Whether roughly marked ranges are caught, counted and rounded: `.venv/bin/python -m bench.pace.ranges
[--files 30]`.

A machine's patterns at round tempi (whole, half, tenth); of each, ranges of 1, 2, 4 and 8 bars with both
edges off by up to 100 ms, as a held key has them.
"""

from __future__ import annotations

import argparse

import numpy as np

from bench.pace.padding import RATE_HZ, programmed
from combpace.core.analysis.take import analyse
from combpace.core.audio import ArraySource, Audio
from combpace.core.tempo.measure import measure_along


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--files", type=int, default=30)
    options = parser.parse_args()
    counted = caught = inside = used = clean = total = 0
    for seed in range(options.files):
        rng = np.random.default_rng(1000 + seed)
        step = (1.0, 0.5, 0.1)[seed % 3]
        bpm, start = round(rng.uniform(75, 165) / step) * step, rng.uniform(0.3, 2.0)
        source = ArraySource(Audio(programmed(rng, bpm, start, bars=16)[None].astype(np.float32), RATE_HZ))
        heard = analyse(source)
        for bars in (1, 2, 4, 8):
            first = int(rng.integers(1, 16 - bars))
            edges = [start + 240 / bpm * bar for bar in (first, first + bars)]
            late = [edge + rng.uniform(-0.02, 0.1) for edge in edges]
            found = measure_along(source, heard.onsets, heard.pace, (late[0], late[1]))
            total += 1
            factor = found.bars * found.beats_per_bar / (4 * bars)
            counted += factor in (0.5, 1.0, 2.0)
            caught += max(abs(found.from_s - edges[0]), abs(found.to_s - edges[1])) < 0.002
            inside += abs(found.bpm / factor - bpm) <= max(found.plus_minus_bpm / factor, 0.005)
            used += abs(found.proposal.bpm / factor - bpm) < 1e-6
            clean += found.seam.clean
            if abs(found.proposal.bpm / factor - bpm) >= 1e-6:
                said = f"{found.bpm:.4f} ± {found.plus_minus_bpm:.4f}, proposed {found.proposal.bpm:.4f}"
                print(f"  {bpm:.1f} BPM, {bars} bars: {found.bars} bars of {found.beats_per_bar}, {said}")
    for name, value in (
        ("bars", counted),
        ("edges within 2 ms", caught),
        ("truth inside ±", inside),
        ("proposal is the truth", used),
        ("seam clean", clean),
    ):
        print(f"{name}: {value} of {total}")


if __name__ == "__main__":
    main()
