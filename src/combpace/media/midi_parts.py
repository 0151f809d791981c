"""Standard MIDI files as parts: a part for each track with notes.

Files of type 0 and 1, running status and all. A division in frames (SMPTE) is read in seconds, and such parts
keep their time; else notes are counted in quarters from the marker "bar 1", or from tick 0. The file's own
tempo map is read as well: it is offered, never taken by itself.
"""

from __future__ import annotations

from collections import defaultdict, deque
from dataclasses import dataclass
from pathlib import Path

import mido

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MediaError
from combpace.core.parts.part import MOST_NOTES, SHORTEST_Q, SHORTEST_S, Note, Part
from combpace.core.tempo.map import TempoMap
from combpace.media.midi import BAR_1_MARKER, read_map, too_much

# Frames a second of an SMPTE division, as MIDI 1.0 has them; 29 stands for 29.97 (drop frame).
FRAME_RATES = {24: 24.0, 25: 25.0, 29: 30000 / 1001, 30: 30.0}
MOST_BYTES = 32_000_000
# Nothing that was played is longer: 24 hours at 960 ticks a quarter and 300 BPM.
LAST_TICK = 2**31


@dataclass(frozen=True, slots=True)
class FileParts:
    """What a MIDI file holds: its parts; its own tempo map, None where it counts in frames; what is to be
    said of it.
    """

    parts: tuple[Part, ...]
    line: TempoMap[SessionTimes] | None
    said: tuple[str, ...]


def _file(path: Path, called: str) -> tuple[mido.MidiFile, int]:
    """(A standard MIDI file, its division as the header has it). Raises MediaError."""
    if not path.is_file():
        raise MediaError(f"There is no file “{called}”.")
    if path.stat().st_size > MOST_BYTES:
        raise MediaError(
            f"“{called}” is larger than {MOST_BYTES // 10**6} MB, which no MIDI file of notes is. "
            "Nothing was imported."
        )
    too_much(path, called, "imported")
    header = path.read_bytes()[:14]
    if header[:4] != b"MThd" or len(header) < 14:
        raise MediaError(f"“{called}” is not a standard MIDI file. Nothing was imported.")
    kind, tracks, division = (int.from_bytes(header[at : at + 2], "big") for at in (8, 10, 12))
    if kind == 2:
        raise MediaError(
            f"“{called}” holds songs that are independent of each other (type 2); save them one by "
            "one. Nothing was imported."
        )
    if division == 0:
        raise MediaError(
            f"“{called}” has a division of 0, so nothing in it has a length. Nothing was imported."
        )
    try:
        # A damaged track ends what can be read; mido says so in these.
        return mido.MidiFile(path), division
    except (
        OSError,
        EOFError,
        ValueError,
        KeyError,
        IndexError,
        TypeError,
        AttributeError,
        OverflowError,
        MemoryError,
    ) as error:
        held = f", and says that it has {tracks} tracks" if tracks > 1000 else ""
        raise MediaError(f"“{called}” is damaged or cut off{held}. Nothing was imported.") from error


def read_parts(path: Path, name: str | None = None) -> FileParts:
    """Read a standard MIDI file.

    name    the file's own, where `path` is a copy of it
    Raises  MediaError, in a sentence, for what is none, is damaged, or holds no notes
    """
    called = name or path.name
    file, division = _file(path, called)
    per_tick_s = _frames_in(division, called)
    origin, meters, changes = _marks(file)
    unit = 1.0 / division if per_tick_s is None else per_tick_s
    parts = []
    for number, track in enumerate(file.tracks, 1):
        part = _part(track, number, origin if per_tick_s is None else 0, unit, per_tick_s is not None, called)
        if part.notes:
            parts.append(part)
    if not parts:
        raise MediaError(
            f"“{called}” holds no notes. As a tempo map it can be read in Bars. Nothing was imported."
        )
    if sum(len(part.notes) for part in parts) > MOST_NOTES:
        raise MediaError(f"“{called}” holds more than {MOST_NOTES} notes. Nothing was imported.")
    said = []
    if per_tick_s is not None:
        said.append("It counts in frames, not in quarter notes, so it keeps its time.")
    elif meters - {(4, 4)}:
        said.append(
            f"It is written in {', '.join(f'{a}/{b}' for a, b in sorted(meters))}; its notes are "
            "counted in quarters."
        )
    line = read_map(path) if per_tick_s is None else None
    if changes > 1 and line is not None:
        said.append(
            f"It has a tempo map of its own with {changes} tempi, which can be taken as the session's."
        )
    return FileParts(tuple(parts), line, tuple(said))


def _frames_in(division: int, called: str) -> float | None:
    """Seconds a tick of a division in frames; None where it counts in quarters."""
    if division < 0x8000:
        return None
    # The upper byte is minus the frames a second, in two's complement; the lower one the ticks of a frame.
    frames, ticks = 256 - (division >> 8), division & 0xFF
    if frames not in FRAME_RATES or ticks == 0:
        raise MediaError(f"“{called}” counts in frames of a kind that there is not. Nothing was imported.")
    return 1.0 / (FRAME_RATES[frames] * ticks)


def _marks(file: mido.MidiFile) -> tuple[int, set[tuple[int, int]], int]:
    """(tick of bar 1, meters, number of tempi)."""
    origin, meters, tempi = 0, set(), set()
    for track in file.tracks:
        now = 0
        for message in track:
            now += message.time
            if message.type == "marker" and message.text == BAR_1_MARKER:
                origin = now
            elif message.type == "time_signature":
                meters.add((message.numerator, message.denominator))
            elif message.type == "set_tempo":
                tempi.add((now, message.tempo))
    return origin, meters, len({tempo for _, tempo in tempi})


def _part(
    track: mido.MidiTrack, number: int, origin: int, unit: float, in_seconds: bool, called: str
) -> Part:
    """The notes of one track; a note that is never let go ends with the track."""
    name, now, found = "", 0, []
    programs: dict[int, int] = defaultdict(int)
    open_notes: dict[tuple[int, int], deque[tuple[int, int, int]]] = defaultdict(deque)
    shortest = SHORTEST_S if in_seconds else SHORTEST_Q

    def close(channel: int, key: int, at: int) -> None:
        start, velocity, program = open_notes[channel, key].popleft()
        found.append(
            Note((start - origin) * unit, max((at - start) * unit, shortest), key, velocity, channel, program)
        )

    for message in track:
        now += message.time
        if now > LAST_TICK:
            raise MediaError(
                f"“{called}” has waits of more than a day between its events. Nothing was imported."
            )
        if message.type == "track_name" and not name:
            name = " ".join(message.name.split())[:80]
        elif message.type == "program_change":
            programs[message.channel] = message.program
        elif message.type == "note_on" and message.velocity > 0:
            open_notes[message.channel, message.note].append(
                (now, message.velocity, programs[message.channel])
            )
        elif message.type in ("note_on", "note_off") and open_notes[message.channel, message.note]:
            close(message.channel, message.note, now)
    for channel, key in [key for key, waiting in open_notes.items() for _ in waiting]:
        close(channel, key, now)
    return Part(
        name or f"part {number}", tuple(sorted(found, key=lambda note: (note.start, note.key))), in_seconds
    )
