"""A file cut into pieces, written one by one or laid anew, without a session and without stretching."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import named, opened
from combpace.batch.following import tempo_of
from combpace.core.analysis.opening import listen
from combpace.core.analysis.take import Hints, analyse
from combpace.core.audio import Source
from combpace.core.clocks import FloatArray, Quarters, TakeTimes
from combpace.core.errors import MediaError, ParameterError
from combpace.core.pieces.cutting import cut_frames, grid_times, has_lead, places_apart
from combpace.core.pieces.laying import Piece, Pieces
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from combpace.media.cues import add_points
from combpace.media.encode import write_sound
from combpace.media.mapfiles import six, write_json
from combpace.media.mapforms import read_any

ONSETS, BAR_PLACE = "onsets", "bar-place"
MOST_PIECES = 5000

Progress = Callable[[str, float], None]


@dataclass(frozen=True, slots=True)
class Cutting:
    """What is cut, and where it is laid.

    at         "onsets" or a grid like "1/8"; stronger: the least strength of an onset, 0-1
    map_path, from_bpm, bars  the file's own tempo: a map in its own time, quarters a minute from bar 1 on, or
                              how many bars it is; at most one
    lay        a grid, "bar-place" (its own place in the bar), or None: where it was
    bpm        the tempo it is laid at, quarters a minute
    fade_s     of crossfades; fill: "nothing" or "tail"
    """

    at: str
    stronger: float = 0.0
    map_path: Path | None = None
    from_bpm: float | None = None
    bars: float | None = None
    lay: str | None = None
    bpm: float | None = None
    fade_s: float = 0.005
    fill: str = "nothing"


@dataclass(frozen=True, slots=True)
class Cut:
    """pieces: how many; written: the files; frames: of the laid result, or 0."""

    pieces: int
    written: tuple[Path, ...]
    frames: int


def cut_file(path: Path, out: Path, said: Cutting, hints: Hints, on_progress: Progress) -> Cut:
    """Cut a file and write its pieces into a folder, or, for OUT.wav, all of them as they are laid.

    Raises ParameterError or MediaError, in a sentence
    """
    to_file = out.suffix.lower() == ".wav"
    if sum(one is not None for one in (said.map_path, said.from_bpm, said.bars)) > 1:
        raise ParameterError("Say its own tempo once: --map, --from-bpm or --bars. Nothing was written.")
    if (said.lay is None) != (said.bpm is None):
        raise ParameterError(
            "--lay and --bpm go together: on what the pieces are laid, and at which tempo. Nothing "
            "was written."
        )
    if said.bpm is not None:
        tempo_of(said.bpm, "--bpm")
    with opened(path, on_progress) as (source, decoded):
        needs_pace = said.at != ONSETS or said.lay is not None
        pace = _pace(path, source, decoded.duration_s, said, hints, on_progress) if needs_pace else None
        if said.at == ONSETS:
            heard = listen(source, None, lambda share: on_progress("listening for attacks", share)).onsets
            times: FloatArray = np.asarray(heard.times)[heard.strength >= said.stronger]
        else:
            assert pace is not None
            times = grid_times(pace, parse_grid(said.at), decoded.duration_s)
        frames = cut_frames(source, times, on_places=said.at != ONSETS)
        cuts = [0, *(int(frame) for frame in frames), source.frames]
        if len(cuts) - 1 > MOST_PIECES:
            raise ParameterError(
                f"That is {len(cuts) - 1} pieces; at most {MOST_PIECES} are cut. Nothing was written."
            )
        spans = list(itertools.pairwise(cuts))
        pieces, zero = _laid(spans, source.sample_rate_hz, pace, said, len(spans) > 1 and has_lead(times))
        if not to_file:
            return _one_by_one(path, out, source, spans, pieces, zero, on_progress)
        if not out.parent.is_dir():
            raise MediaError(f"There is no folder “{out.parent}” to write to.")
        made = Pieces(source, pieces, fade_s=said.fade_s, fill=said.fill)
        written = write_sound(made, out, "wav24", on_progress=lambda share: on_progress("writing", share))
        points = [
            (piece.at, f"piece {k}")
            for k, piece in enumerate(sorted(pieces, key=lambda piece: piece.at), 1)
            if piece.at < written.frames
        ]
        add_points(out, points, (0, written.frames - 1), source.sample_rate_hz)
        return Cut(len(pieces), (out,), written.frames)


def _pace(
    path: Path, source: Source, length_s: float, said: Cutting, hints: Hints, on_progress: Progress
) -> TempoMap[TakeTimes]:
    """The file's own pace: as stated, else as it is heard; bar 1 at its start where nothing else says."""
    bar_1_s = next((time for time, number in hints.bars if number == 1), 0.0)
    meter = hints.meter or Meter(1, 4, 4)
    if said.map_path is not None:
        if not said.map_path.is_file():
            raise MediaError(f"There is no file “{said.map_path}”.")
        line: Any = read_any(said.map_path).line
        return TempoMap(line.knots, line.meters)
    if said.from_bpm is not None:
        return steady_map(tempo_of(said.from_bpm, "--from-bpm"), bar_1_s, (meter,))
    if said.bars is not None:
        if not 0 < said.bars <= 100_000:
            raise ParameterError(f"A file holds more than 0 bars, not {said.bars:g}. Nothing was written.")
        return TempoMap((Knot(bar_1_s, 0.0), Knot(length_s, said.bars * meter.bar_quarters)), (meter,))
    stated = hints if hints.bars or hints.downbeats else replace(hints, bars=((0.0, 1),))
    heard = analyse(source, named(path, stated), on_progress=on_progress)
    if heard.pace is None:
        raise ParameterError(
            f"No pulse was found in “{path.name}”; say its tempo with --from-bpm, --bars or --map. "
            "Nothing was written."
        )
    return heard.pace


def _laid(
    spans: list[tuple[int, int]], rate: int, pace: TempoMap[TakeTimes] | None, said: Cutting, lead: bool
) -> tuple[list[Piece], int]:
    """(pieces as they are laid, the frame of the result on which bar 1 lies); lead: the first one lies before
    the first onset.
    """
    if said.lay is None or said.bpm is None or pace is None:
        return [Piece(start, stop, start) for start, stop in spans], 0
    session: TempoMap[TakeTimes] = steady_map(said.bpm, 0.0, pace.meters)
    own = np.asarray(pace.to_quarters(np.array([start / rate for start, _ in spans])))  # type: ignore[arg-type]
    if said.lay == BAR_PLACE:
        goal = own.copy()
    else:
        goal = np.asarray(parse_grid(said.lay).nearest(Quarters(own), session))
        first = 1 if lead else 0
        goal[first:] = places_apart(own[first:], goal[first:])
    # What lies before the first cut is no stroke: it keeps its distance to the first one.
    if lead:
        goal[0] = goal[1] - (spans[1][0] - spans[0][0]) / rate * said.bpm / 60.0
    frames = [round(float(place) * 60.0 / said.bpm * rate) for place in goal]
    zero = max(0, -min(frames))
    return [Piece(start, stop, at + zero) for (start, stop), at in zip(spans, frames, strict=True)], zero


def _one_by_one(
    path: Path,
    out: Path,
    source: Source,
    spans: list[tuple[int, int]],
    pieces: list[Piece],
    zero: int,
    on_progress: Progress,
) -> Cut:
    out.mkdir(exist_ok=True, parents=False) if out.parent.is_dir() else None
    if not out.is_dir():
        raise MediaError(f"There is no folder “{out.parent}” to write to.")
    digits, rows, written = len(str(len(spans))), [], []
    for k, ((start, stop), piece) in enumerate(zip(spans, pieces, strict=True), 1):
        target = out / f"{path.stem} {k:0{digits}}.wav"
        write_sound(source, target, "wav24", start=start, stop=stop)
        on_progress("writing", k / len(spans))
        written.append(target)
        rows.append(
            {
                "file": target.name,
                "start_frame": start,
                "stop_frame": stop,
                "at_frame": piece.at - zero,
                "start_s": six(start / source.sample_rate_hz),
            }
        )
    listed = out / f"{path.stem} pieces.json"
    write_json({"version": 1, "file": path.name, "rate": source.sample_rate_hz, "pieces": rows}, listed)
    return Cut(len(spans), (*written, listed), 0)
