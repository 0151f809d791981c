"""How well the ear hears: `.venv/bin/python -m bench.accuracy.accuracy [--librosa] [--items] [--write]`.

Reads ../shared/bench/beats where it is there and scores with its score.py; else the demo's performances, with mir_eval.
With --librosa the reference runs in the same run, its constant lateness (the median of its matched errors) taken out.
"""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import mir_eval
import numpy as np
import soundfile as sf

from combpace.core.analysis import Hints
from combpace.demo.build import write_performance
from combpace.demo.performances import boiler_house, pipe_loop, programmed
from combpace.services.files import analyse_file

DECISIONS = Path(__file__).resolve().parents[2] / "docs" / "decisions" / "ear.md"
BEGIN, END = "<!-- figures -->", "<!-- end of figures -->"
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


def memory_per_minute(path: Path) -> float:
    """MB of resident memory that analysing one more minute takes: ten times the same audio against twice."""
    code = (
        "import resource, sys; from pathlib import Path; from combpace.core.analysis import Hints\n"
        "from combpace.services.files import analyse_file; heard = analyse_file(Path(sys.argv[1]), Hints())\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, heard.decoded.duration_s / 60)"
    )
    used = []
    with tempfile.TemporaryDirectory() as folder:
        sound, rate = sf.read(path, dtype="float32")
        for times in (2, 10):
            longer = Path(folder) / f"{times}.wav"
            sf.write(longer, np.concatenate([sound] * times), rate)
            ran = subprocess.run([sys.executable, "-c", code, str(longer)], capture_output=True, text=True, check=True)
            used.append([float(value) for value in ran.stdout.split()])
    return (used[1][0] - used[0][0]) / (used[1][1] - used[0][1])


def start_up() -> tuple[float, float]:
    """Seconds of CPU of `combpace analyse` on a tenth of a second, all imports and weights in, and of importing numpy and scipy; best of five."""
    theirs = [sys.executable, "-c", "import numpy, scipy, scipy.signal, scipy.ndimage"]

    def best(command: list[str]) -> float:
        taken = []
        for _ in range(5):
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            subprocess.run(command, capture_output=True, check=True)
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            taken.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
        return min(taken)

    with tempfile.TemporaryDirectory() as folder:
        short = Path(folder) / "short.wav"
        sf.write(short, np.random.default_rng(1).standard_normal(4410) * np.geomspace(1, 1e-3, 4410) * 0.3, 44100)
        return best([sys.executable, "-m", "combpace.cli", "analyse", str(short)]), best(theirs)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--librosa", action="store_true", help="run librosa too, in the same run")
    parser.add_argument("--items", action="store_true")
    parser.add_argument("--write", action="store_true", help="put the tables into docs/decisions/ear.md")
    options = parser.parse_args()
    if not BENCH.is_dir():
        on_the_demo()
        return
    said: list[str] = []

    def tell(text: str) -> None:
        print(text, flush=True)
        said.append(text)

    runs = [("combpace", by_combpace)] + ([("librosa", by_librosa)] if options.librosa else [])
    for split in ("open", "real"):
        paths = sorted((BENCH / split).glob("*.flac"))
        for name, run in runs:
            with tempfile.TemporaryDirectory() as folder:
                cost = run(paths, Path(folder))
                command = [sys.executable, str(BENCH / "score.py"), str(BENCH / split), folder, "--strict", *(["--items"] if options.items else [])]
                tell(f"\n{name} on {split}: {cost:.2f} CPU s per minute of audio")
                tell(subprocess.run(command, capture_output=True, text=True, check=True).stdout.rstrip())
    ours, theirs = start_up()
    tell(f"\nstart-up: {ours:.2f} CPU s against {theirs:.2f} of importing numpy and scipy ({ours / theirs:.2f}x)")
    tell(f"memory: {memory_per_minute(min((BENCH / 'open').glob('*.flac'))):.1f} MB for each further minute of audio")
    if options.write:
        command_line = "`.venv/bin/python -m bench.accuracy.accuracy" + (" --librosa" if options.librosa else "") + " --write`"
        document = DECISIONS.read_text(encoding="utf-8")
        head, _, rest = document.partition(BEGIN)
        _, _, tail = rest.partition(END)
        DECISIONS.write_text(f"{head}{BEGIN}\n{command_line}:\n\n```\n" + "\n".join(said).strip() + f"\n```\n{END}{tail}", encoding="utf-8")


if __name__ == "__main__":
    main()
