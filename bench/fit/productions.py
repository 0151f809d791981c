"""Finished productions are stretched by one factor: `.venv/bin/python -m bench.fit.productions [--songs N]`.

Generated mixes in one tempo (bench/ear/steady.py), heard as `combpace fit` hears them, follow a session of
another tempo; nothing is pulled. `one factor`: the share of the time that is stretched by the most usual
factor; `off`: how far a moment lies from where the true tempo has it, ms rms, the phase taken out.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from bench.ear.songs import song
from bench.ear.steady import programmed
from combpace.batch.files import Target, fit_heard, named
from combpace.core.analysis.take import Hints, analyse
from combpace.core.audio import ArraySource
from combpace.core.fit.rule import Rule

LENGTH_S, FASTER = 40.0, 1.07


def one(job: tuple[int, float]) -> tuple[str, str, float, float, float]:
    """(kind of song, verdict, share of the time with one factor, ms rms off, BPM off)."""
    seed, bpm = job
    made = song(seed, LENGTH_S)
    source = ArraySource(made.audio)
    hints = named(Path("song.wav"), Hints())
    analysis = analyse(source, hints)
    if analysis.pace is None or analysis.steady is None:
        return made.kind, "no pulse", 0.0, 999.0, 999.0
    near = min(
        (1 / 3, 0.5, 2 / 3, 1.0, 1.5, 2.0, 3.0), key=lambda r: abs(np.log(analysis.steady.bpm / bpm / r))
    )  # type: ignore[union-attr]
    # A map's tempo counts quarters.
    quarters = analysis.pace.meters[0].beat_quarters
    target = Target(bpm=FASTER * near * bpm * quarters, first_downbeat_s=2.0)
    fitted = fit_heard(
        [source], analysis, analysis.onsets, target, hints, (Rule(strength=0.0),), "chord", "unknown"
    )
    line = fitted.fit.time_map
    lengths, factors = np.diff(line.source_s), line.factors
    usual = factors[int(np.argmax(lengths))]
    share = float(lengths[np.abs(factors - usual) < 1e-9].sum() / lengths.sum())
    at = np.linspace(0.0, source.frames / source.sample_rate_hz, 2000)
    off = 1000.0 * (line.to_target(at) - at / FASTER)
    return (
        made.kind,
        analysis.steady.verdict,
        share,
        float(np.std(off)),
        abs(analysis.steady.bpm / near - bpm),
    )


def jobs(count: int) -> Iterator[tuple[int, float]]:
    yield from programmed(count)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--songs", type=int, default=48)
    options = parser.parse_args()
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        found = list(pool.map(one, jobs(options.songs)))
    steady = [row for row in found if row[1] == "steady"]
    print(f"{len(found)} mixes, {len(steady)} called steady")
    for name, rows in (("called steady", steady), ("all", found)):
        share, off = np.array([row[2] for row in rows]), np.array([row[3] for row in rows])
        print(
            f"{name}: one factor for {share.min():.3f} of the time at least, mean {share.mean():.3f}; off "
            f"{np.median(off):.3f} ms rms (median), {np.mean(off <= 0.1):.2f} within .1, most {off.max():.2f}"
        )
    for row in sorted(found, key=lambda row: (row[2], -row[3]))[:10]:
        print(f"  {row[0]:<8} {row[1]:<10} one factor {row[2]:.3f}, off {row[3]:.3f} ms, {row[4]:.4f} BPM")


if __name__ == "__main__":
    main()
