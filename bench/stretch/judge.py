"""One setting of the shared stretch bench, as JSON on standard output: run by `bench.stretch.table`, not by
hand.

`python judge.py SEED BPM SOUNDFONT MAPS CLIPS SPEC... [--wavs DIR]`, SPEC `combpace:METHOD` or
`peers:FUNCTION`.
"""

from __future__ import annotations

import importlib
import json
import os
import sys
from pathlib import Path
from typing import Any

import numpy as np

ROOT = Path(__file__).resolve().parents[2]
BENCH = ROOT.parent / "shared" / "bench" / "stretch"


def ours(method: str) -> Any:
    from combpace.core.audio import Audio
    from combpace.core.fit.time_map import TimeMap
    from combpace.core.stretch import stretch

    def run(y: Any, rate: int, source: Any, target: Any, mode: str) -> Any:
        return stretch(Audio(np.ascontiguousarray(y.T), rate), TimeMap(source, target), method).samples.T

    return run


def main() -> None:
    seed, bpm, font, maps, clips = sys.argv[1:6]
    specs = sys.argv[6:]
    wavs: Path | None = None
    if "--wavs" in specs:
        at = specs.index("--wavs")
        wavs = Path(specs[at + 1])
        specs = specs[:at]
    os.environ.update(BENCH_SEED=seed, BENCH_BPM=bpm, BENCH_SF2=font)
    sys.path[:0] = [str(BENCH), str(ROOT / "src")]
    bench = importlib.import_module("bench")
    rows = []
    made = bench.all_clips(clips.split(","))
    for spec in specs:
        family, name = spec.split(":")
        run = ours(name) if family == "combpace" else getattr(importlib.import_module(family), name)
        for clip in clips.split(","):
            for way in maps.split(","):
                row: dict[str, Any] = {
                    "spec": spec,
                    "clip": clip,
                    "map": way,
                    "setting": f"{seed}/{bpm}/{Path(font).stem}",
                }
                try:
                    found, sound = bench.measure(made[clip], way, run)
                    row |= {
                        key: value for key, value in found.items() if isinstance(value, (int, float, bool))
                    }
                    if wavs is not None:
                        _write(wavs, bench, made[clip], way, sound, f"{clip}_{way}_{name}_{seed}_{bpm}")
                except Exception as error:
                    row["error"] = repr(error)
                rows.append(row)
    json.dump(rows, sys.stdout)


def _write(folder: Path, bench: Any, clip: Any, way: str, sound: Any, stem: str) -> None:
    """Before, ideal and after as WAV, and a spectrogram of each about the place where the output differs
    most.
    """
    from bench_look import spectrogram  # beside this file
    from scipy.io import wavfile

    folder.mkdir(parents=True, exist_ok=True)
    source, target = bench.make_map(clip, way)
    ideal = bench.ideals(clip, source, target)[0].astype(np.float32)
    n = min(len(ideal), len(sound))
    from scipy.ndimage import maximum_filter1d

    jump, near = (np.abs(np.diff(v[:n, 0].astype(float), 2)) for v in (sound, ideal))
    worst = 400 + int(
        np.argmax((jump / np.maximum(maximum_filter1d(near, 353), 0.03 * near.max()))[400:-400])
    )
    at = float(np.interp(worst / bench.SR, target, source))
    for name, samples, centre in (
        ("before", clip.x, at),
        ("ideal", ideal, worst / bench.SR),
        ("after", sound, worst / bench.SR),
    ):
        wavfile.write(folder / f"{stem}_{name}.wav", bench.SR, np.asarray(samples, np.float32))
        spectrogram(np.asarray(samples, float)[:, 0], bench.SR, centre, folder / f"{stem}_{name}.png")


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).parent))
    main()
