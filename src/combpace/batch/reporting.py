"""What was heard in a file, as a report."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import Heard
from combpace.core.beats.attack_decoder import activation
from combpace.core.clocks import FloatArray
from combpace.core.tempo.measure import middle_tempo
from combpace.core.tempo.weave import darkness
from combpace.media.report import Report

# Columns of the weave.
COLUMNS = 120


def report_of(heard: Heard, title: str) -> Report:
    """The report of one file, or of the mics of one performance."""
    found, steady = heard.document, heard.document.get("steady")
    said = [f"{found['duration_s']:.3f} s, {found['sample_rate_hz']} Hz, {len(found['onsets'])} onsets"]
    if steady:
        said.append(
            f"{steady['verdict']}, {steady['bpm']:.2f} ± {steady['plus_minus_bpm']:.2f} BPM, first "
            f"downbeat at {steady['first_downbeat_s']:.3f} s"
        )
    else:
        said.append("No pulse was found.")
    bars = tuple(
        {
            "n": one["bar"],
            "s": one["start_s"],
            "bpm": one["bpm"],
            "meter": one["meter"],
            "drift": one["drift_ms"],
            "sure": one["confidence"],
        }
        for one in found.get("bars") or ()
    )
    first, dark = _weave(heard, found)
    pace = heard.analysis.pace
    bpm = None if pace is None else middle_tempo(pace)
    return Report(
        title,
        tuple(said),
        bars,
        weave=dark,
        first=first,
        bpm=bpm,
        breathes=steady is not None and steady["verdict"] != "steady",
    )


def page_of(heard: Heard, path: Path) -> str:
    """The page of a file."""
    from combpace.media.report import page

    return page(report_of(heard, path.name))


def _weave(heard: Heard, found: dict[str, Any]) -> tuple[int, FloatArray | None]:
    pace = heard.analysis.pace
    if pace is None:
        return 0, None
    first, last = pace.bar_of(pace.place(0.0)), pace.bar_of(pace.place(found["duration_s"]))
    lines = pace.to_seconds(pace.bar_lines(first, last - first + 1))
    return first, darkness(lines, np.clip(activation(heard.analysis.heard) / 1.5, 0, 1), 0.0, COLUMNS)
