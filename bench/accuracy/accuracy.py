"""How well the ear hears: `.venv/bin/python -m bench.accuracy.accuracy [--librosa] [--items] [--brief]`.

Reads ../shared/bench/beats where it is there and scores with its score.py; else the demo's performances, with
mir_eval. With --librosa the reference runs in the same run, its constant lateness (the median of its matched
errors) taken out.
"""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

import mir_eval
import numpy as np
import soundfile as sf

from combpace.batch.files import analyse_file
from combpace.core.analysis.take import Hints
from combpace.demo.build import write_performance
from combpace.demo.performances import boiler_house, pipe_loop, programmed

# What a page states, of the scorer's columns.
BRIEF = ("category", "n", "F70", "F20", "CMLt", "AMLt", "D20", "Met", "O10")
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
        errors += [
            float(found[path][j] - truth[i]) for i, j in mir_eval.util.match_events(truth, found[path], 0.07)
        ]
    lateness = float(np.median(errors)) if errors else 0.0
    for path, beats in found.items():
        bpm = float(60 / np.median(np.diff(beats))) if len(beats) > 1 else 0.0
        (out / f"{path.stem}.json").write_text(
            json.dumps({"beats": list(np.maximum(beats - lateness, 0.0)), "bpm": bpm})
        )
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
        "import resource, sys; from pathlib import Path; from combpace.core.analysis.take import Hints\n"
        "from combpace.batch.files import analyse_file; heard = analyse_file(Path(sys.argv[1]), Hints())\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, heard.decoded.duration_s / 60)"
    )
    used = []
    with tempfile.TemporaryDirectory() as folder:
        sound, rate = sf.read(path, dtype="float32")
        for times in (2, 10):
            longer = Path(folder) / f"{times}.wav"
            sf.write(longer, np.concatenate([sound] * times), rate)
            ran = subprocess.run(
                [sys.executable, "-c", code, str(longer)], capture_output=True, text=True, check=True
            )
            used.append([float(value) for value in ran.stdout.split()])
    return (used[1][0] - used[0][0]) / (used[1][1] - used[0][1])


def start_up() -> tuple[float, float]:
    """Seconds of CPU of `combpace analyse` on a tenth of a second, all imports and weights in, and of
    importing numpy and scipy; best of five.
    """
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
        sf.write(
            short, np.random.default_rng(1).standard_normal(4410) * np.geomspace(1, 1e-3, 4410) * 0.3, 44100
        )
        return best([sys.executable, "-m", "combpace.cli", "analyse", str(short)]), best(theirs)


def sureness(split: Path, folder: Path) -> str:
    """How right a beat and a bar are that were said with some confidence, over all items of a split and by
    category.
    """
    said: dict[str, list[tuple[str, float, bool]]] = {"beats": [], "bars": []}
    for path in sorted(folder.glob("*.json")):
        truth, heard = json.loads((split / path.name).read_text()), json.loads(path.read_text())
        beats = np.array(truth["beats"])
        for knot in heard["knots"]:
            said["beats"].append(
                (truth["category"], knot["confidence"], bool(np.min(np.abs(beats - knot["time_s"])) < 0.04))
            )
        if not truth.get("bars"):
            continue
        starts = np.array([bar["start"] for bar in truth["bars"]])
        for bar in heard["bars"]:
            near = truth["bars"][int(np.argmin(np.abs(starts - bar["start_s"])))]
            right = abs(near["start"] - bar["start_s"]) < 0.07 and near["meter"] == bar["meter"]
            said["bars"].append((truth["category"], bar["confidence"], right))
    lines = []
    for name, rows in said.items():
        if not rows:
            continue
        p, right, kinds = (
            np.array([row[1] for row in rows]),
            np.array([row[2] for row in rows]),
            np.array([row[0] for row in rows]),
        )
        parts = [
            f"{low:.2f}-{high:.2f}: {right[(p >= low) & (p < high)].mean():.2f} of "
            f"{((p >= low) & (p < high)).sum()}"
            for low, high in ((0, 0.5), (0.5, 0.7), (0.7, 0.8), (0.8, 0.9), (0.9, 0.95), (0.95, 1.0))
            if ((p >= low) & (p < high)).any()
        ]
        worst = np.argsort(p, kind="stable")[: max(1, len(p) // 10)]
        lines.append(f"{name} said with some confidence, share that is right: {', '.join(parts)}")
        lines.append(
            f"  {100 * (~right).mean():.1f} % wrong; the worst tenth holds "
            f"{100 * (~right[worst]).sum() / max(1, (~right).sum()):.0f} % of them"
        )
        skills = []
        for kind in sorted(set(kinds)):
            of = kinds == kind
            usual = float(right[of].var())
            skills.append(
                f"{kind} {1 - np.mean((p[of] - right[of]) ** 2) / usual:.2f}" if usual > 0.01 else f"{kind} -"
            )
        overall = 1 - np.mean((p - right) ** 2) / max(float(right.var()), 1e-9)
        lines.append(
            f"  Brier skill {overall:.2f}; by category (- where at most 1 % is wrong): {', '.join(skills)}"
        )
    return "\n".join(lines)


def by_madmom(python: str, paths: list[Path], out: Path) -> float:
    """As `by_combpace`, from files made plain WAV first; by a Python that has madmom."""
    with tempfile.TemporaryDirectory() as folder:
        plain, seconds = [], 0.0
        for path in paths:
            sound, rate = sf.read(path, always_2d=True)
            seconds += len(sound) / rate
            plain.append(str(Path(folder) / f"{path.stem}.wav"))
            sf.write(plain[-1], sound.mean(axis=1), rate, subtype="PCM_16")
        command = [python, str(Path(__file__).with_name("madmom_says.py")), str(out), *plain]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
    return 60 * float(done.stdout.split()[-1]) / max(seconds, 1e-9)


def briefly(split: Path) -> str:
    """What a page states of a split, as a table in Markdown."""
    with tempfile.TemporaryDirectory() as folder:
        by_combpace(sorted(split.glob("*.flac")), Path(folder))
        command = [sys.executable, str(BENCH / "score.py"), str(split), folder, "--strict"]
        scored = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    rows = [line.split() for line in scored.splitlines()]
    at = next(k for k, row in enumerate(rows) if row[:1] == ["category"])
    columns = [rows[at].index(name) for name in BRIEF]
    table = [row for row in rows[at:] if len(row) == len(rows[at])]
    lines = ["| " + " | ".join(row[k] for k in columns) + " |" for row in table]
    return "\n".join([lines[0], "|" + "---|" * len(columns), *lines[1:]])


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--librosa", action="store_true", help="run librosa too, in the same run")
    parser.add_argument(
        "--madmom",
        metavar="PYTHON",
        help="a Python that has madmom, which runs too (bench/accuracy/madmom_says.py)",
    )
    parser.add_argument("--items", action="store_true")
    parser.add_argument("--brief", action="store_true", help="only the open excerpts, as a short table")
    options = parser.parse_args()
    if not BENCH.is_dir():
        on_the_demo()
        return
    if options.brief:
        print(briefly(BENCH / "open"))
        return

    def tell(text: str) -> None:
        print(text, flush=True)

    runs = [("combpace", by_combpace)] + ([("librosa", by_librosa)] if options.librosa else [])
    if options.madmom:
        runs.append(("madmom", partial(by_madmom, options.madmom)))
    for split in ("open", "real"):
        paths = sorted((BENCH / split).glob("*.flac"))
        for name, run in runs:
            with tempfile.TemporaryDirectory() as folder:
                cost = run(paths, Path(folder))
                command = [
                    sys.executable,
                    str(BENCH / "score.py"),
                    str(BENCH / split),
                    folder,
                    "--strict",
                    *(["--items"] if options.items else []),
                ]
                tell(f"\n{name} on {split}: {cost:.2f} CPU s per minute of audio")
                tell(subprocess.run(command, capture_output=True, text=True, check=True).stdout.rstrip())
                if name == "combpace":
                    tell(sureness(BENCH / split, Path(folder)))
    ours, theirs = start_up()
    tell(
        f"\nstart-up: {ours:.2f} CPU s against {theirs:.2f} of importing numpy and scipy "
        f"({ours / theirs:.2f}x)"
    )
    tell(
        f"memory: {memory_per_minute(min((BENCH / 'open').glob('*.flac'))):.1f} MB for each further "
        "minute of audio"
    )


if __name__ == "__main__":
    main()
