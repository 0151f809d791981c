"""What the proof of a render costs: `.venv/bin/python -m bench.fit.proof_cost`.

A minute of struck eighths with a held tone, stereo, pulled to 1/8. Asked: at most a quarter of the render's
time for Chord and Line, .3 s a minute for the others.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.clocks import TakeTimes, take_times
from combpace.core.fit.follow import following
from combpace.core.fit.pegs import fit
from combpace.core.fit.proof import proof
from combpace.core.fit.rule import Rule
from combpace.core.onsets.detect import Onsets
from combpace.core.stretch import METHODS, StretchedSource
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.media.decode import FileSource
from rig.sounds import struck

SECONDS, BPM, RATE = 60, 120.0, 44100


def main() -> None:
    rng = np.random.default_rng(6)
    times = 0.25 + 0.25 * np.arange(4 * SECONDS - 4) + rng.uniform(-0.02, 0.02, 4 * SECONDS - 4)
    t = np.arange(SECONDS * RATE) / RATE
    mono = struck(times, float(SECONDS)).samples[0] + 0.05 * np.sin(2 * np.pi * 220 * t).astype(np.float32)
    line: TempoMap[TakeTimes] = steady_map(BPM, 0.0)
    marks = Onsets(take_times(times), np.full(len(times), 0.8), np.full(len(times), 0.9))
    with tempfile.TemporaryDirectory() as folder:
        played, rendered = Path(folder) / "played.wav", Path(folder) / "rendered.wav"
        sf.write(played, np.stack([mono, np.roll(mono, 40)], axis=1), RATE, subtype="FLOAT")
        print("| method | render, s | proof, s | share | within 3 ms |\n|---|---|---|---|---|")
        for method in METHODS:
            with FileSource(played) as source:
                made = fit(
                    marks,
                    line,
                    following(line, line, 0.0, float(SECONDS)),
                    line,
                    float(SECONDS),
                    Rule(grid="1/8"),
                )  # type: ignore[arg-type]
                begun = time.perf_counter()
                stretched = StretchedSource(source, made.time_map, method)
                sound = stretched.read(0, stretched.frames)
                render_s = time.perf_counter() - begun
            sf.write(rendered, sound.T, RATE, subtype="FLOAT")
            begun = time.perf_counter()
            with FileSource(rendered) as result, FileSource(played) as came:
                wanted, struck_at = [peg.target_s for peg in made.pegs], [peg.take_s for peg in made.pegs]
                found = proof(result, wanted, 0.0, came, struck_at)
            proof_s = time.perf_counter() - begun
            good = np.mean([one.off_ms is not None and abs(one.off_ms) <= 3 for one in found])
            print(
                f"| {method} | {render_s:.2f} | {proof_s:.2f} | {proof_s / render_s:.2f} | "
                f"{good:.3f} of {len(found)} |"
            )


if __name__ == "__main__":
    main()
