"""Grooves of files without a session."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import analyse_named, opened
from combpace.batch.parts import strokes_of
from combpace.core.analysis.bundle import levels_of
from combpace.core.clocks import FloatArray
from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.groove import Groove, groove_document, groove_from, take_groove
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import TempoMap, lines_only, steady_map
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.smooth import smoothed
from combpace.media.mapfiles import write_json
from combpace.media.mapforms import read_any

# A groove file is a list of places; nothing honest is larger.
MOST_BYTES = 4_000_000


@dataclass(frozen=True, slots=True)
class Against:
    """What lateness is measured against: a map, or a tempo and where bar 1 lies in the file; else the file's
    own bar lines, evenly divided.
    """

    map_path: Path | None = None
    bpm: float | None = None
    first_downbeat_s: float | None = None


def groove_of(
    path: Path,
    out: Path,
    bars: tuple[int, int],
    grid: Grid,
    against: Against,
    pattern_bars: int,
    on_progress: Callable[[str, float], None],
    only: str | None = None,
) -> Groove:
    """Take a groove from bars of a file and write it as JSON.

    only    the number or name of the one part of a MIDI file that is meant
    Raises  ParameterError where there are no such bars, or no pulse and no map
    """
    if (against.bpm is None) != (against.first_downbeat_s is None):
        raise ParameterError(
            "--bpm and --first-downbeat go together: the tempo, and where bar 1 lies in the file. "
            "Nothing was written."
        )
    if against.map_path is not None and against.bpm is not None:
        raise ParameterError("Give a map or a tempo, not both. Nothing was written.")
    is_part = path.suffix.lower() in (".mid", ".midi")
    times, levels, own = strokes_of(path, only) if is_part else _strokes(path, on_progress)
    line: TempoMap[Any]
    if is_part and own is not None and against.map_path is None and against.bpm is None:
        # Notes are written on their own map: it has no late strokes.
        line = own
    elif against.map_path is not None:
        line = read_any(against.map_path).line
    elif against.bpm is not None and against.first_downbeat_s is not None:
        line = steady_map(
            against.bpm,
            against.first_downbeat_s,
            own.meters[:1] if own is not None else steady_map(120.0, 0.0).meters,
        )
    elif own is not None:
        # Lines that were heard are strokes, too: what is late is told from the pace under them.
        line = smoothed(lines_only(own))
    else:
        raise ParameterError(
            f"No pulse was found in “{path.name}”, so it has no bars; give --map, or --bpm with "
            "--first-downbeat. Nothing was written."
        )
    made = take_groove(
        times, levels, line, (bar_index(bars[0]), bar_index(bars[1])), grid, out.stem, pattern_bars
    )
    write_json(groove_document(made), out)
    return made


def _strokes(
    path: Path, on_progress: Callable[[str, float], None]
) -> tuple[FloatArray, FloatArray, TempoMap[Any] | None]:
    """(times, levels in dB, the file's own pace)."""
    with opened(path, on_progress) as (source, _):
        heard = analyse_named(source, path, on_progress)
        return np.asarray(heard.onsets.times), levels_of(source, heard.onsets), heard.pace


def read_groove(path: Path) -> Groove:
    """Read a groove file. Raises MediaError where there is none, ParameterError for what is no groove."""
    if not path.is_file():
        raise MediaError(f"There is no file “{path}”.")
    if path.stat().st_size > MOST_BYTES:
        raise ParameterError(f"“{path.name}” is too large for a groove. Nothing was changed.")
    try:
        return groove_from(json.loads(path.read_text(encoding="utf-8")))
    except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as error:
        raise ParameterError(f"“{path.name}” is no JSON. Nothing was changed.") from error
