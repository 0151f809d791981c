"""Parts of a session: notes that follow its map, as they sound now."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.fit.ranges import counted_from
from combpace.core.parts.cells import with_edit
from combpace.core.parts.part import SAME_NOTE_Q, Heard, Laying, Part, laid
from combpace.core.sounds.tones import FAMILIES, PartSource
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index
from combpace.media.midi_parts import FileParts, read_parts
from combpace.session.document.model import PartEntry, TakePegs
from combpace.session.keys import part_key
from combpace.session.page_forms import PartFacts
from combpace.session.state import SessionState

RATE = 48_000


def file_parts(seen: SessionState, entry: PartEntry) -> FileParts:
    """What the part's file holds. Raises MediaError, NotFoundError."""
    found: FileParts = seen.folder.once(
        ("midi", entry.sha), lambda: read_parts(seen.folder.blob(entry.sha), entry.name)
    )
    return found


def part_of(seen: SessionState, entry: PartEntry) -> Part:
    return file_parts(seen, entry).parts[entry.number]


def heard(seen: SessionState, part_id: str) -> list[Heard]:
    """The notes of a part as they sound in the session; none while there is no map to lay them on."""
    found: list[Heard] = seen.once("part", lambda: _edited(seen, seen.document.part(part_id)), part_id)
    return found


def _edited(seen: SessionState, entry: PartEntry) -> list[Heard]:
    notes, line = _heard(seen, entry), seen.session_map()
    if line is not None:
        for edit in entry.edits:
            notes = with_edit(notes, edit, line)
    return notes


def _heard(seen: SessionState, entry: PartEntry) -> list[Heard]:
    line, part = seen.session_map(), part_of(seen, entry)
    if line is None:
        return []
    keeps_time = entry.keeps == "time" or part.in_seconds
    own = file_parts(seen, entry).line
    until = None if entry.until_bar is None else bar_index(entry.until_bar)
    choice = seen.document.rules.get(entry.id)
    rule = choice.rule if choice else None
    if rule is not None:
        # A groove counts from the part's first bar, or from the rule's.
        rule = counted_from(rule, bar_index(rule.bars[0] if rule.bars else entry.first_bar))
    hand = seen.document.pegs.get(entry.id, TakePegs()).pegs
    how = Laying(bar_index(entry.first_bar), entry.times, until, rule, hand, entry.accent, entry.lengths)
    if not keeps_time:
        return laid(part, line, how)
    if part.in_seconds or own is None:
        return _moved(part, line, entry.offset_s)
    # It keeps the moments of its own tempo map.
    zero = own.second(0.0)
    times = (
        np.asarray([note.start for note in part.notes]),
        np.asarray([note.start + note.length for note in part.notes]),
    )
    starts, ends = (np.asarray(own.to_seconds(one)) - zero for one in times)  # type: ignore[arg-type]
    notes = tuple(
        replace(note, start=float(a), length=float(b - a))
        for note, a, b in zip(part.notes, starts, ends, strict=True)
    )
    return _moved(Part(part.name, notes, in_seconds=True), line, entry.offset_s)


def _moved(part: Part, line: TempoMap[SessionTimes], offset_s: float) -> list[Heard]:
    zero = line.second(0.0)
    notes = tuple(replace(note, start=note.start + offset_s - zero) for note in part.notes)
    return laid(Part(part.name, notes, in_seconds=True), line, Laying())


def source_of(seen: SessionState, part_id: str, sample_rate_hz: int = RATE, speed: float = 1.0) -> PartSource:
    """How a part sounds, on the session's clock divided by the speed; what lies before session time 0 is left
    out.
    """
    notes = heard(seen, part_id)
    if speed == 1.0:
        slowed = notes
    else:
        slowed = [replace(note, start_s=note.start_s / speed, end_s=note.end_s / speed) for note in notes]
    found: PartSource = seen.folder.once(
        ("part sound", part_key(slowed), sample_rate_hz), lambda: PartSource(slowed, sample_rate_hz)
    )
    return found


def facts(seen: SessionState, entry: PartEntry) -> PartFacts:
    """What a page knows of a part: its fields, how it sounds, and its notes to be drawn [start_s, end_s, key,
    velocity, quarters from its bar 1 at which it is written, 1 where it is pulled by hand]."""
    notes = heard(seen, entry.id)
    part, found = part_of(seen, entry), file_parts(seen, entry)
    end_s = max((note.end_s for note in notes), default=0.0)
    choice = seen.document.rules.get(entry.id)
    pegs = [peg.take_s for peg in seen.document.pegs.get(entry.id, TakePegs()).pegs]
    programs = sorted({"drums" if note.is_drum else FAMILIES[note.program // 8].name for note in part.notes})
    return {
        "id": entry.id,
        "name": entry.name,
        "count": len(part.notes),
        "instruments": programs,
        "first_bar": entry.first_bar,
        "times": entry.times,
        "until_bar": entry.until_bar,
        "keeps": "time" if part.in_seconds else entry.keeps,
        "offset_s": entry.offset_s,
        "grid": None if choice is None else str(choice.rule.places),
        "strength": 100.0 if choice is None else choice.rule.strength,
        "accent": 100.0 * entry.accent,
        "lengths": entry.lengths,
        "said": list(found.said),
        "own_map": found.line is not None,
        "in_seconds": part.in_seconds,
        "frames": round(end_s * RATE),
        "sound": part_key(notes) if notes else None,
        "notes": [
            [
                round(note.start_s, 5),
                round(note.end_s, 5),
                note.key,
                note.velocity,
                round(note.own_q, 6),
                int(_is_pegged(note, pegs)),
            ]
            for note in notes
        ],
        "hand": len(pegs),
        "sounds_s": [round(min((note.start_s for note in notes), default=0.0), 6), round(end_s, 6)],
    }


def _is_pegged(note: Heard, pegs: list[float]) -> bool:
    return any(abs(note.own_q - peg) <= SAME_NOTE_Q for peg in pegs)


def checked_bar(text: str) -> int:
    """A bar by its number; there is no bar 0."""
    try:
        bar = int(text.strip().replace("−", "-"))
    except ValueError as error:
        raise ParameterError(
            f"“{text}” is no bar; write a whole number, 1, 5 or 17. Nothing was changed."
        ) from error
    if bar == 0 or abs(bar) > 100_000:
        raise ParameterError("There is no such bar. Nothing was changed.")
    return bar
