"""Attacks of files without a session, chosen by a sentence."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import analyse_named, opened
from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.take import Analysis
from combpace.core.clocks import SessionTimes, session_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.choose import ANYWHERE, Choice, band_strengths, chosen, on_places
from combpace.core.tempo.map import TempoMap
from combpace.media.mapfiles import six
from combpace.media.mapforms import read_any


def onsets_of(paths: Sequence[Path], choice: Choice, map_path: Path | None, on_progress: Callable[[str, float], None]) -> dict[str, Any]:
    """{"version", "files": [{"file", "heard", "onsets": [{"time_s", "strength", "confidence"}]}]}; several files are one performance.

    Raises ParameterError where marks are wanted on a grid and there is no map
    """
    line = read_any(map_path).line if map_path is not None else None
    with ExitStack() as stack:
        sources = [stack.enter_context(opened(path, on_progress))[0] for path in paths]
        found = analyse_bundle(sources, on_progress=on_progress) if len(paths) > 1 else [analyse_named(sources[0], paths[0], on_progress)]
    return {"version": 1, "files": [_of(path, heard, choice, line) for path, heard in zip(paths, found, strict=True)]}


def _of(path: Path, heard: Analysis, choice: Choice, line: TempoMap[SessionTimes] | None) -> dict[str, Any]:
    onsets = heard.onsets
    keep = chosen(onsets, band_strengths(heard.heard, onsets), choice)
    if choice.on != ANYWHERE:
        own: Any = heard.pace
        grid: TempoMap[SessionTimes] | None = line or own
        if grid is None:
            raise ParameterError(f"No pulse was found in {path.name}, so there is no grid; give a map with --map.")
        at = np.flatnonzero(keep)
        keep = keep.copy()
        keep[at] = on_places(session_times(np.asarray(onsets.times)[at]), onsets.strength[at], grid, choice.on)
    listed = [
        {"time_s": six(time), "strength": round(float(strength), 4), "confidence": round(float(sure), 4)}
        for time, strength, sure, marked in zip(onsets.times, onsets.strength, onsets.confidence, keep, strict=True)
        if marked
    ]
    return {"file": path.name, "heard": len(onsets), "onsets": listed}
