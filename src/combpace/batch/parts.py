"""MIDI files as parts, without a session: laid on a map, pulled, repeated; written as a MIDI file on that map
or as sound.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from combpace.core.clocks import FloatArray, SessionTimes
from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.ranges import refuse_other_bars
from combpace.core.parts.part import Heard, Laying, Part, laid
from combpace.core.sounds.tones import PartSource
from combpace.core.tempo.map import TempoMap
from combpace.media.encode import write_sound
from combpace.media.mapforms import read_any
from combpace.media.midi import write_parts
from combpace.media.midi_parts import FileParts, read_parts

RATE = 48_000
# Velocities as levels: amplitude goes with the square.
QUIETEST_DB = -84.0


@dataclass(frozen=True, slots=True)
class Written:
    """What was written: how many parts and notes, until when they sound, and what is to be said."""

    parts: int
    notes: int
    end_s: float
    said: tuple[str, ...]


def part_file(
    path: Path,
    out: Path,
    map_path: Path | None,
    how: Laying,
    only: str | None,
    on_progress: Callable[[str, float], None],
) -> Written:
    """Lay the parts of a MIDI file on a map and write them: a MIDI file (.mid) on that map, or a 24-bit WAV
    from the map's zero on.

    map_path  the session's map; without it the file's own
    only      the number or the name of the one part that is meant
    Raises    ParameterError or MediaError, in a sentence
    """
    if out.suffix.lower() not in (".mid", ".wav"):
        raise ParameterError(
            f"“{out.name}” names no form that a part is written in; use .mid or .wav. Nothing was written."
        )
    if not out.parent.is_dir():
        raise MediaError(f"There is no folder “{out.parent}” to write to.")
    found = read_parts(path)
    line = _line(found, map_path)
    heard = [(part.name, _laid(part, line, how)) for part in chosen(found, only)]
    notes = [note for _, each in heard for note in each]
    end_s = max((note.end_s for note in notes), default=0.0)
    if end_s <= 0:
        raise ParameterError("All of it would lie before the map's zero. Nothing was written.")
    if out.suffix.lower() == ".mid":
        write_parts(line, end_s, heard, out)
    else:
        write_sound(
            PartSource(notes, RATE), out, "wav24", on_progress=lambda share: on_progress("rendering", share)
        )
    return Written(len(heard), len(notes), end_s, found.said)


def _line(found: FileParts, map_path: Path | None) -> TempoMap[SessionTimes]:
    if map_path is not None:
        if not map_path.is_file():
            raise MediaError(f"There is no file “{map_path}”.")
        return read_any(map_path).line
    if found.line is None:
        raise ParameterError(
            "This file counts in frames and has no tempo map; give one with --map. Nothing was written."
        )
    return found.line


def _laid(part: Part, line: TempoMap[SessionTimes], how: Laying) -> list[Heard]:
    begin = line.bar_line(how.first_bar)
    try:
        refuse_other_bars((how.rule,) if how.rule else (), line, begin, begin + max(0.0, part.end - 1e-6))
    except ParameterError as error:
        raise ParameterError(f"{error} Nothing was written.") from error
    return laid(part, line, how)


def chosen(found: FileParts, only: str | None) -> tuple[Part, ...]:
    """The parts that are meant: all, or the one of that number (from 1) or name."""
    if only is None:
        return found.parts
    if only.isdecimal() and 1 <= int(only) <= len(found.parts):
        return (found.parts[int(only) - 1],)
    named = [part for part in found.parts if part.name.casefold() == only.strip().casefold()]
    if len(named) != 1:
        raise ParameterError(
            f"“{only}” is none of its parts, or several: "
            f"{', '.join(f'{k} {part.name}' for k, part in enumerate(found.parts, 1))}."
        )
    return (named[0],)


def strokes_of(path: Path, only: str | None = None) -> tuple[FloatArray, FloatArray, TempoMap[SessionTimes]]:
    """(times, levels in dB, map) of a MIDI file's notes, those that begin together as one; for a groove.
    Raises as `read_parts`.
    """
    found = read_parts(path)
    if found.line is None:
        raise ParameterError(f"“{path.name}” counts in frames, so it has no bars. Nothing was taken.")
    loudest: dict[float, int] = {}
    for part in chosen(found, only):
        for note in part.notes:
            place = round(note.start, 6)
            loudest[place] = max(loudest.get(place, 0), note.velocity)
    places = np.array(sorted(loudest))
    levels = np.array([max(QUIETEST_DB, 40 * np.log10(loudest[place] / 127)) for place in places])
    return np.asarray(found.line.to_seconds(places)), levels, found.line  # type: ignore[arg-type]
