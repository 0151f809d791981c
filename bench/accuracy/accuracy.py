"""How well the ear hears: `.venv/bin/python -m bench.accuracy.accuracy [--librosa] [--items]`.

Reads ../shared/bench/beats where it is there and scores with its score.py; else the demo's performances, with mir_eval.
With --librosa the reference runs in the same run, its constant lateness (the median of its matched errors) taken out.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import mir_eval
import numpy as np

from combpace.core.analysis import Hints
from combpace.demo.build import write_performance
from combpace.demo.performances import boiler_house, pipe_loop, programmed
from combpace.services.files import analyse_file

BENCH = Path(__file__).resolve().parents[3] / "shared" / "bench" / "beats"


def by_combpace(paths: list[Path], out: Path) -> float:
    """Predictions of a split; returns CPU seconds per minute of audio."""
    begun, seconds = time.process_time(), 0.0
    for path in paths:
        heard = analyse_file(path, Hints())
        seconds += heard.decoded.duration_s
        (out / f"{path.stem}.json").write_text(json.dumps(heard.document))
    return 60 * (time.process_time() - begun) / max(seconds, 1e-9)


def by_librosa(paths: list[Path], out: Path) -> float:
    import librosa

    librosa.beat.beat_track(y=np.zeros(22050, np.float32), sr=22050)
    begun, seconds = time.process_time(), 0.0
    errors: list[float] = []
    found: dict[Path, np.ndarray] = {}
    for path in paths:
        sound, rate = librosa.load(path, sr=22050)
        seconds += len(sound) / rate
        found[path] = np.asarray(librosa.beat.beat_track(y=sound, sr=rate, units="time")[1])
        truth = np.array(json.loads(path.with_suffix(".json").read_text())["beats"])
        errors += [float(found[path][j] - truth[i]) for i, j in mir_eval.util.match_events(truth, found[path], 0.07)]
    lateness = float(np.median(errors)) if errors else 0.0
    for path, beats in found.items():
        bpm = float(60 / np.median(np.diff(beats))) if len(beats) > 1 else 0.0
        (out / f"{path.stem}.json").write_text(json.dumps({"beats": list(np.maximum(beats - lateness, 0.0)), "bpm": bpm}))
    print(f"librosa: lateness {1000 * lateness:.1f} ms taken out")
    return 60 * (time.process_time() - begun) / max(seconds, 1e-9)


def on_the_demo() -> None:
    with tempfile.TemporaryDirectory() as folder:
        for performance in (boiler_house(), pipe_loop(), programmed()):
            for path in write_performance(performance, Path(folder)):
                heard = analyse_file(path, Hints())
                beats = np.array(heard.document["beats"])
                score = mir_eval.beat.f_measure(performance.beats, beats[beats > performance.beats[0] - 0.1])
                print(f"{path.stem:<32} F70 {score:.3f}")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--librosa", action="store_true")
    parser.add_argument("--items", action="store_true")
    options = parser.parse_args()
    if not BENCH.is_dir():
        on_the_demo()
        return
    runs = [("combpace", by_combpace)] + ([("librosa", by_librosa)] if options.librosa else [])
    for split in ("open", "real"):
        paths = sorted((BENCH / split).glob("*.flac"))
        for name, run in runs:
            with tempfile.TemporaryDirectory() as folder:
                cost = run(paths, Path(folder))
                command = [sys.executable, str(BENCH / "score.py"), str(BENCH / split), folder, "--strict", *(["--items"] if options.items else [])]
                print(f"\n{name} on {split}: {cost:.2f} CPU s per minute of audio")
                print(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


if __name__ == "__main__":
    main()
