"""What is left of a drummer's feel, in the file: `.venv/bin/python -m bench.fit.feel [--seeds N]`.

64 bars of drums at 100 BPM whose strokes scatter by 10 ms, in one tempo and drifting by 3.5 % in 30 s, go to
a
steady 100 at 0, 50, 80 and 100 %; every file is made as `combpace fit` makes it, and its strokes are found
again
by where the sound begins. `left`: scatter in the file as a share of what was played; `alike`: its
correlation with
it; `lines`: how far the bar lines lie from the session's, without the scatter, ms rms and worst, at 0 %.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from combpace.batch.files import Target, fit_heard, named, opened
from combpace.core.analysis.take import Hints, analyse
from combpace.core.fit.pipeline import stretched
from combpace.core.fit.rule import Rule
from rig.sounds import RATE, attack_starts, struck

BARS, FEEL_S, STRENGTHS = 64, 0.010, (0, 50, 80, 100)
FIRST_S, BEAT_S = 0.5, 0.6


def felt(drifting: bool, seed: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(what the beats of 64 bars at 100 BPM lie beside their pace, when they are struck); drifting: faster
    and slower by 3.5 % in 30 s.
    """
    even = [FIRST_S]
    for _ in range(4 * BARS - 1):
        even.append(even[-1] + BEAT_S / (1 + (0.035 * np.sin(2 * np.pi * even[-1] / 30) if drifting else 0)))
    feel = np.random.default_rng(seed).normal(0.0, FEEL_S, len(even))
    return feel, np.array(even) + feel


def measured(drifting: bool, seed: int) -> dict[int, tuple[float, float, float, float]]:
    """Of each strength (scatter left as a share, correlation; rms and worst of the bar lines, ms)."""
    feel, beats = felt(drifting, seed)
    lines = FIRST_S + BEAT_S * np.arange(len(beats))
    found = {}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "tub kit.wav")
        sf.write(path, struck(beats, float(beats[-1]) + 1.0, low_every=4).samples.T, RATE, subtype="PCM_24")
        with opened(path) as (source, _):
            analysis = analyse(source, named(path, Hints()))
            for strength in STRENGTHS:
                rules = (Rule(grid="1/8", strength=strength),)
                made = fit_heard(
                    [source],
                    analysis,
                    analysis.onsets,
                    Target(bpm=100.0, first_downbeat_s=FIRST_S),
                    named(path, Hints()),
                    rules,
                    "auto",
                    "drums",
                )
                sound = stretched([source], 0, made.fit.time_map, made.method)
                starts = attack_starts(sound.read(0, sound.frames)[0], RATE)
                off = starts[np.argmin(np.abs(starts[None, :] - lines[:, None]), axis=1)] - lines
                off -= np.median(off)
                pace = 1000 * (off - feel)[::4]
                found[strength] = (
                    float(off.std() / feel.std()),
                    float(np.corrcoef(off, feel)[0, 1]),
                    float(np.sqrt(np.mean(pace**2))),
                    float(np.abs(pace).max()),
                )
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=20)
    options = parser.parse_args()
    print("| playing | strength | scatter left, least–most | alike, least | bar lines, ms rms / worst |")
    print("|---|---|---|---|---|")
    for drifting in (False, True):
        rows = [measured(drifting, seed) for seed in range(options.seeds)]
        for strength in STRENGTHS:
            left, alike, usual, worst = np.array([row[strength] for row in rows]).T
            lines = f"{usual.max():.1f} / {worst.max():.1f}" if strength == 0 else ""
            of = "drifting" if drifting else "one tempo"
            print(
                f"| {of} | {strength} % | {left.min():.3f}–{left.max():.3f}, mean {left.mean():.3f} | "
                f"{alike.min():.3f} | {lines} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
