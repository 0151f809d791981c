"""Whether a programmed file through MP3 is put right: `.venv/bin/python -m bench.pace.padding [--files 40]`.

Clicks of kick, hat and snare by a machine at random whole and half tempi, with or without silence before
them, encoded by libmp3lame with and without the header that states its padding, decoded by us. Truth: where
the first beat lies in the decoded file.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

import numpy as np

from combpace.batch.files import analyse_file
from combpace.core.analysis.take import Hints
from rig.lossy import write_mp3

RATE_HZ = 44100
# LAME's encoder delay and the decoder's own, in frames: what stays in a file without the header (measured,
# see docs/decisions/pace.md).
LAME_FRAMES = 1105


def programmed(rng: np.random.Generator, bpm: float, delay_s: float, bars: int = 12) -> np.ndarray:
    beat = 60 / bpm
    out = np.zeros(int((delay_s + bars * 4 * beat + 1) * RATE_HZ))

    def strike(time: float, pitch: float, decay: float, noise: float, level: float) -> None:
        t = np.arange(int(0.25 * RATE_HZ)) / RATE_HZ
        sound = (
            level
            * np.exp(-t / decay)
            * ((1 - noise) * np.sin(2 * np.pi * pitch * t) + noise * rng.normal(0, 0.5, len(t)))
        )
        at = round(time * RATE_HZ)
        out[at : at + len(sound)] += sound[: len(out) - at]

    for k in range(bars * 8):
        time = delay_s + k * beat / 2
        strike(time, 7000, 0.02, 0.9, 0.15)
        if k % 4 == 0:
            strike(time, 55, 0.08, 0.05, 0.6)
        if k % 4 == 2:
            strike(time, 190, 0.06, 0.5, 0.45)
    return np.asarray(0.8 * out / np.abs(out).max())


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--files", type=int, default=40)
    options = parser.parse_args()
    delays, tempi, lines = [], [], []
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(options.files):
            rng = np.random.default_rng(seed)
            bpm = round(2 * rng.uniform(75, 165)) / 2
            header, silence = bool(rng.integers(2)), float(rng.choice([0.0, rng.uniform(0.006, 0.09)]))
            path = Path(folder) / f"programmed {seed}.mp3"
            write_mp3(path, programmed(rng, bpm, silence), RATE_HZ, header=header)
            found = analyse_file(path, Hints()).document
            truth = silence + (0.0 if header else LAME_FRAMES / RATE_HZ)
            said, steady = found["encoder_delay_s"], found["steady"]
            delays.append(abs((said or 0.0) - truth))
            # Half and double are other counts of the same grid.
            factor = 2 ** round(np.log2(steady["bpm"] / bpm))
            tempi.append(abs(steady["bpm"] / factor - bpm))
            beat = 60 / bpm / max(1, factor)
            lines.append(abs((steady["first_downbeat_s"] - truth + beat / 2) % beat - beat / 2))
            if delays[-1] > 0.001 or tempi[-1] > 0.005 or lines[-1] > 0.002:
                kind = "header" if header else "no header"
                off = f"said {said}, {steady['bpm']}, line off {1000 * lines[-1]:.1f} ms"
                print(f"  {path.name}: {bpm:g} BPM, {kind}, truth {1000 * truth:.1f} ms, {off}")
    rows = (
        ("delay within 1 ms", delays, 0.001),
        ("tempo within 0.005 BPM", tempi, 0.005),
        ("bar line within 2 ms", lines, 0.002),
    )
    for name, values, limit in rows:
        print(
            f"{name}: {sum(value <= limit for value in values)} of {len(values)}, median "
            f"{np.median(values):.5f}, worst {max(values):.5f}"
        )


if __name__ == "__main__":
    main()
