"""What is found and moved in the mics of one kit: `.venv/bin/python -m bench.fit.bundle`.

Kick, snare and overhead of ../shared/bench/beats/open with their true strokes. Bleed: of the marks of the
kick and the snare mic, heard alone, those of other drums that are dropped once the mics are heard together,
and the true strokes that go with them. Fit: the three files laid on 1/16 of the true map by `combpace fit`;
per place that kick or snare strike, how far the nearest stroke is from its line afterwards.
"""

from __future__ import annotations

import contextlib
import io
import itertools
import json
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import opened
from combpace.cli import main as command
from combpace.core.analysis.bleed import bleed_in
from combpace.core.analysis.opening import listen
from rig.shared import OPEN, needed

KIT = "a_multi1_"
CLOSE, ALL = ("kick", "snare"), ("kick", "snare", "oh")
# A mark so near to a stroke is that stroke's.
NEAR_S = 0.020
# Steps of the grid in a beat.
STEPS = 4


def truth(mic: str) -> Any:
    """The true beats, downbeats and strokes of one mic."""
    return json.loads((needed(OPEN) / f"{KIT}{mic}.json").read_text())


def strokes(mic: str) -> np.ndarray:
    """When the drum of a close mic is struck, as its mic hears it: seconds."""
    return np.array([one.get("t_mic", one["t"]) for one in truth(mic)["onsets"] if mic in one["inst"]])


def bleed() -> None:
    """Print how much of the bleed goes, and of what is true."""
    with contextlib.ExitStack() as stack:
        sources = [stack.enter_context(opened(needed(OPEN) / f"{KIT}{mic}.flac"))[0] for mic in ALL]
        each = [listen(source, None).onsets for source in sources]
        for mic, onsets, gone in zip(ALL, each, bleed_in(sources, each), strict=True):
            if mic not in CLOSE:
                continue
            own = np.min(np.abs(np.asarray(onsets.times)[:, None] - strokes(mic)[None, :]), axis=1) < NEAR_S
            print(
                f"{mic}: {int((~own).sum())} marks of bleed, {100 * gone[~own].mean():.1f} % gone; "
                f"{int(own.sum())} true, {int(gone[own].sum())} gone"
            )


def fit() -> None:
    """Print how near to their lines the strokes lie that `combpace fit` moved."""
    known = truth(ALL[0])
    beats, downbeats = np.array(known["beats"]), np.array(known["downbeats"])
    lines = np.concatenate(
        [start + (end - start) * np.arange(STEPS) / STEPS for start, end in itertools.pairwise(beats)]
    )
    with tempfile.TemporaryDirectory() as folder:
        label, made, report = Path(folder, "map.txt"), Path(folder, "map.json"), Path(folder, "report.json")
        label.write_text("".join(named(beats, downbeats)))
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            status = command(["convert", str(label), "-o", str(made)])
            files = [str(needed(OPEN) / f"{KIT}{mic}.flac") for mic in ALL]
            status += command(
                [
                    "fit",
                    *files,
                    "-o",
                    str(Path(folder, "out")) + "/",
                    "--map",
                    str(made),
                    "--grid",
                    "1/16",
                    "--report",
                    str(report),
                ]
            )
        if status:
            sys.exit(said.getvalue())
        course = [(one["source_s"], one["target_s"]) for one in json.loads(report.read_text())["segments"]]
    source, target = np.array(course).T
    struck = np.concatenate([strokes(mic) for mic in CLOSE])
    place = np.argmin(np.abs(lines[None, :] - struck[:, None]), axis=1)
    away = np.abs(np.interp(struck, source, target) - lines[place])
    nearest = np.array([away[place == one].min() for one in np.unique(place)])
    print(
        f"{len(nearest)} places, within 3 ms {np.mean(nearest < 0.003):.3f}, within 10 ms "
        f"{np.mean(nearest < 0.010):.3f}"
    )


def named(beats: np.ndarray, downbeats: np.ndarray) -> list[str]:
    """Lines of a label file: bars and beats from the first downbeat on."""
    written, bar, beat = [], 0, 0
    for time in beats:
        bar, beat = (bar + 1, 1) if np.min(np.abs(downbeats - time)) < NEAR_S else (bar, beat + 1)
        if bar:
            written.append(f"{time:.6f}\t{time:.6f}\t{bar if beat == 1 else f'{bar}.{beat}'}\n")
    return written


if __name__ == "__main__":
    bleed()
    fit()
