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
from combpace.core.onsets.stack import stack
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.map import TempoMap
from combpace.media.mapfiles import six
from combpace.media.mapforms import read_any
from combpace.session import words


def onsets_of(
    paths: Sequence[Path], choice: Choice, map_path: Path | None, on_progress: Callable[[str, float], None]
) -> dict[str, Any]:
    """{"version", "files": [{"file", "heard", "onsets": [{"time_s", "strength", "confidence"}]}]}; several
    files are one performance.

    Raises ParameterError where marks are wanted on a grid and there is no map
    """
    line = read_any(map_path).line if map_path is not None else None
    with ExitStack() as held:
        sources = [held.enter_context(opened(path, on_progress))[0] for path in paths]
        found = (
            analyse_bundle(sources, on_progress=on_progress)
            if len(paths) > 1
            else [analyse_named(sources[0], paths[0], on_progress)]
        )
    return {
        "version": 1,
        "files": [_of(path, heard, choice, line) for path, heard in zip(paths, found, strict=True)],
    }


def stack_of(
    paths: Sequence[Path], on: str, map_path: Path | None, on_progress: Callable[[str, float], None]
) -> dict[str, Any]:
    """Takes with a common start above each other, widest apart first.

    The grid is that of the map, else of the first file's own pace. Raises ParameterError for fewer than two
    files, or without a grid
    Returns  {"version", "files": [name], "notes": [{"place", "time_s", "spread_ms", "off_ms": [number or
             null]}]}
    """
    if len(paths) < 2:
        raise ParameterError("Give at least two files: a stack compares takes with a common start.")
    grid, heard = parse_grid(on), []
    for path in paths:
        with opened(path, on_progress) as (source, _):
            heard.append(analyse_named(source, path, on_progress))
    line: Any = read_any(map_path).line if map_path is not None else heard[0].pace
    if line is None:
        raise ParameterError(
            f"No pulse was found in {paths[0].name}, so there is no grid; give a map with --map."
        )
    notes = sorted(
        stack([session_times(np.asarray(one.onsets.times)) for one in heard], line, grid),
        key=lambda note: -note.spread_s,
    )
    listed = [
        {
            "place": words.place(line, note.quarters),
            "time_s": six(note.line_s),
            "spread_ms": round(1000 * note.spread_s, 2),
            "off_ms": [
                None if k is None else round(1000 * off, 2)
                for k, off in zip(note.which, note.off_s, strict=True)
            ],
        }
        for note in notes
    ]
    return {"version": 1, "files": [path.name for path in paths], "notes": listed}


def _of(path: Path, heard: Analysis, choice: Choice, line: TempoMap[SessionTimes] | None) -> dict[str, Any]:
    onsets = heard.onsets
    keep = chosen(onsets, band_strengths(heard.heard, onsets), choice)
    if choice.on != ANYWHERE:
        own: Any = heard.pace
        grid: TempoMap[SessionTimes] | None = line or own
        if grid is None:
            raise ParameterError(
                f"No pulse was found in {path.name}, so there is no grid; give a map with --map."
            )
        at = np.flatnonzero(keep)
        keep = keep.copy()
        keep[at] = on_places(
            session_times(np.asarray(onsets.times)[at]), onsets.strength[at], grid, choice.on
        )
    listed = [
        {"time_s": six(time), "strength": round(float(strength), 4), "confidence": round(float(sure), 4)}
        for time, strength, sure, marked in zip(
            onsets.times, onsets.strength, onsets.confidence, keep, strict=True
        )
        if marked
    ]
    return {"file": path.name, "heard": len(onsets), "onsets": listed}
