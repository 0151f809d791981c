"""Loops that follow a map, and sound from one tempo to another, without a session."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from combpace.batch.files import chosen_method, opened, write_stretched
from combpace.core.analysis.opening import listen
from combpace.core.analysis.take import Hints
from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.pipeline import stretched
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import check_method
from combpace.core.tempo.following import Repeated, follow
from combpace.core.tempo.map import MAX_BPM, MIN_BPM
from combpace.core.tempo.meters import bar_index
from combpace.media.mapforms import read_any
from combpace.session.take_names import guessed_kind

# A loop said to run at a tempo is so many whole bars where its length says so to within this.
WHOLE = 0.01

Progress = Callable[[str, float], None]


@dataclass(frozen=True, slots=True)
class Following:
    """What is said of a loop: its bars or its own tempo (quarters a minute); from which bar on, how often or
    until which bar (by number).
    """

    bars: int | None = None
    from_bpm: float | None = None
    from_bar: int = 1
    times: int | None = None
    until_bar: int | None = None


@dataclass(frozen=True, slots=True)
class Followed:
    """frames of the file, its first and last bar line on the map in seconds, how often the loop is heard, the
    method and why.
    """

    frames: int
    start_s: float
    end_s: float
    times: int
    method: str
    reason: str


def follow_file(
    path: Path, out: Path, map_path: Path, said: Following, hints: Hints, method: str, on_progress: Progress
) -> Followed:
    """Write a loop as it follows a map: a 24-bit WAV that starts at the map's zero and is silent before its
    first bar.

    Its bar 1 is the file's start, or where a hint has bar 1; a hint of a meter is the loop's own, else the
    session's there counts.
    Raises   ParameterError for what contradicts itself, MediaError for files that cannot be read
    """
    name = check_method(method)
    if (said.bars is None) == (said.from_bpm is None):
        raise ParameterError(
            "Say how long the loop is: --bars N, or its own tempo with --from-bpm X. Nothing was written."
        )
    if said.times is not None and said.until_bar is not None:
        raise ParameterError("Say how often or until which bar, not both. Nothing was written.")
    if 0 in (said.from_bar, said.until_bar):
        raise ParameterError("There is no bar 0. Nothing was written.")
    if not map_path.is_file():
        raise MediaError(f"There is no file “{map_path}”.")
    line, first = read_any(map_path).line, bar_index(said.from_bar)
    with opened(path, on_progress) as (source, decoded):
        start_s = next((time for time, number in hints.bars if number == 1), 0.0)
        start = round(start_s * source.sample_rate_hz)
        if not 0 <= start < source.frames:
            raise ParameterError(
                f"Bar 1 at {start_s:g} s lies outside the loop, which is {decoded.duration_s:.3f} s "
                "long. Nothing was written."
            )
        loop_s = (source.frames - start) / source.sample_rate_hz
        bar = hints.meter.bar_quarters if hints.meter is not None else line.meter_of(first).bar_quarters
        if said.bars is not None:
            if not 1 <= said.bars <= 1000:
                raise ParameterError(f"A loop has 1 to 1000 bars, not {said.bars}. Nothing was written.")
            quarters = (
                said.bars * bar
                if hints.meter is not None
                else line.bar_line(first + said.bars) - line.bar_line(first)
            )
        else:
            quarters = loop_s * tempo_of(said.from_bpm, "--from-bpm") / 60.0
            whole = max(1, round(quarters / bar))
            quarters = whole * bar if abs(quarters / (whole * bar) - 1) < WHOLE else quarters
        until = None if said.until_bar is None else bar_index(said.until_bar)
        laid = follow(loop_s, quarters, line, first, 1 if said.times is None else said.times, until)
        if float(laid.time_map.target_s[-1]) <= 0:
            raise ParameterError("All of it would lie before the map's zero. Nothing was written.")
        repeated = Repeated(source, start, source.frames, laid.times)
        name, reason = chosen_method([repeated], laid.time_map, name, guessed_kind(path.name))
        written = write_stretched(
            stretched([repeated], 0, laid.time_map, name), laid.time_map, out, on_progress
        )
        return Followed(
            written.frames,
            float(laid.time_map.target_s[0]),
            float(laid.time_map.target_s[-1]),
            laid.times,
            name,
            reason,
        )


def tempo_file(
    path: Path, out: Path, from_bpm: float, to_bpm: float, method: str, on_progress: Progress
) -> tuple[int, str, str]:
    """Write a file that was at one tempo at another: (frames, method, why). It has round(frames * from / to)
    frames.
    """
    name = check_method(method)
    factor = tempo_of(from_bpm, "--from-bpm") / tempo_of(to_bpm, "--to-bpm")
    with opened(path, on_progress) as (source, decoded):
        attacks = np.asarray(
            listen(source, None, lambda share: on_progress("listening for attacks", share)).onsets.times
        )
        length = decoded.duration_s
        time_map = TimeMap(
            np.array([0.0, length]), np.array([0.0, round(source.frames * factor) / source.sample_rate_hz])
        ).through(attacks)
        name, reason = chosen_method([source], time_map, name, guessed_kind(path.name))
        written = write_stretched(stretched([source], 0, time_map, name), time_map, out, on_progress)
        return written.frames, name, reason


def tempo_of(bpm: float | None, option: str) -> float:
    """A tempo that can be one. Raises ParameterError."""
    if bpm is None or not MIN_BPM <= bpm <= MAX_BPM:
        raise ParameterError(
            f"{option} takes a tempo from {MIN_BPM:g} to {MAX_BPM:g} BPM, not {bpm}. Nothing was written."
        )
    return bpm
