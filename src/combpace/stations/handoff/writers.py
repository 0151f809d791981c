"""What can leave a session beside its audio: one writer a format, registered with its words, its ending and
its MIME type.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from combpace.core.clocks import SessionTimes
from combpace.core.parts.part import Heard
from combpace.core.sounds.click import ClickBeat, ClickTrack
from combpace.core.tempo.map import TempoMap
from combpace.drawing.reporting import of_session
from combpace.media.encode import FORMATS, write_sound
from combpace.media.mapfiles import bars_csv, beats_between, write_json
from combpace.media.midi import write_map, write_parts
from combpace.media.names import file_name
from combpace.media.report import page
from combpace.media.zips import write_zip
from combpace.session import pieces, words
from combpace.session.state import SessionState


@dataclass(frozen=True, slots=True)
class Contents:
    """What a writer writes of: everything counts from the moment at which the files of a hand-off start.

    document  the tempo map as `analyse --json` has it
    audio     one of media.encode.FORMATS
    parts     (name, notes as they sound) of each part
    seen      the session that is handed off
    markers   whether every bar gets one
    pieces    takes that are in pieces
    """

    tempo_map: TempoMap[SessionTimes]
    document: dict[str, Any]
    length_s: float
    frames: int
    sample_rate_hz: int
    audio: str
    parts: Sequence[tuple[str, Sequence[Heard]]] = ()
    seen: SessionState | None = None
    markers: bool = False
    pieces: Sequence[str] = ()


Write = Callable[[Contents, Path], dict[str, Any]]


@dataclass(frozen=True, slots=True)
class Writer:
    """One format out.

    words     what it is, for people; title: what its file's name ends with
    ending    of its file, given the audio format of the hand-off
    mime      its MIME type, or None where the audio format has one
    proposed  whether it is chosen unless the user says otherwise
    write     writes one file; returns facts to keep with it
    of        only where the session has some: "parts", "pieces", or "" for always
    """

    name: str
    words: str
    title: str
    kind: str
    ending: Callable[[str], str]
    mime: str | None
    proposed: bool
    write: Write
    of: str = ""


WRITERS: dict[str, Writer] = {}
AUDIO_MIME = {".wav": "audio/wav", ".flac": "audio/flac", ".zip": "application/zip"}


def writer(
    name: str,
    words: str,
    title: str,
    kind: str,
    ending: str | None,
    mime: str | None,
    *,
    proposed: bool = True,
    of: str = "",
) -> Callable[[Write], Write]:
    """Register a writer; without an ending it writes sound, in the format of the hand-off."""

    def register(write: Write) -> Write:
        if name in WRITERS:
            raise ValueError(f"two writers are called {name}")
        WRITERS[name] = Writer(
            name,
            words,
            title,
            kind,
            (lambda audio: ending) if ending else (lambda audio: FORMATS[audio][2]),
            mime,
            proposed,
            write,
            of,
        )
        return write

    return register


def offered(has_parts: bool, has_pieces: bool) -> list[Writer]:
    """Those that a session can have."""
    there = {"": True, "parts": has_parts, "pieces": has_pieces}
    return [one for one in WRITERS.values() if there[one.of]]


def mime_of(file_name: str) -> str:
    """The MIME type of a file that was handed off."""
    suffix = Path(file_name).suffix
    known = {one.ending("wav24"): one.mime for one in WRITERS.values() if one.mime}
    return known.get(suffix) or AUDIO_MIME.get(suffix, "application/octet-stream")


@writer("midi", "tempo map as standard MIDI file", "tempo map", "map", ".mid", "audio/midi")
def midi(contents: Contents, path: Path) -> dict[str, Any]:
    write_map(contents.tempo_map, contents.length_s, path, markers=contents.markers)
    return {}


@writer("json", "tempo map as JSON", "tempo map", "map", ".json", "application/json")
def json_map(contents: Contents, path: Path) -> dict[str, Any]:
    write_json(contents.document, path)
    return {}


@writer("csv", "bars as CSV", "tempo map", "map", ".csv", "text/csv", proposed=False)
def csv_bars(contents: Contents, path: Path) -> dict[str, Any]:
    path.write_text(bars_csv(contents.document), encoding="utf-8")
    return {}


@writer("click", "click track", "click", "click", None, None)
def click(contents: Contents, path: Path) -> dict[str, Any]:
    beats, downbeats = beats_between(contents.tempo_map, 0.0, contents.length_s)
    opening = {round(time, 6) for time in downbeats}
    track = ClickTrack(
        [ClickBeat(time, round(time, 6) in opening) for time in beats],
        contents.frames,
        contents.sample_rate_hz,
    )
    write_sound(track, path, contents.audio)
    return {"frames": contents.frames, "rate": contents.sample_rate_hz}


@writer(
    "parts",
    "parts as standard MIDI file, on the session's map",
    "parts",
    "parts",
    ".mid",
    "audio/midi",
    of="parts",
)
def parts_midi(contents: Contents, path: Path) -> dict[str, Any]:
    write_parts(contents.tempo_map, contents.length_s, contents.parts, path)
    return {}


@writer(
    "report",
    "report of what was moved, as a page that prints",
    "report",
    "report",
    ".html",
    "text/html",
    proposed=False,
)
def report(contents: Contents, path: Path) -> dict[str, Any]:
    assert contents.seen is not None
    path.write_text(page(of_session(contents.seen)), encoding="utf-8")
    return {}


@writer(
    "pieces",
    "each piece as a file, in one zip",
    "pieces",
    "pieces",
    ".zip",
    "application/zip",
    proposed=False,
    of="pieces",
)
def single_pieces(contents: Contents, path: Path) -> dict[str, Any]:
    """Each as it sounds alone, with its level and fades, of exactly its length; a folder a take."""
    seen = contents.seen
    assert seen is not None
    line, taken = seen.need_map(), set[str]()
    made: list[tuple[Path, str]] = []
    try:
        for take_id in contents.pieces:
            folder = file_name(seen.document.take(take_id).name, "", taken)
            rate = pieces.rate_of(seen, take_id)
            with pieces.opened(seen, take_id) as laid:
                for number, piece in enumerate(pieces.laid(seen, take_id)):
                    alone, part = laid.alone(number), path.with_name(f"{path.name}.{len(made)}")
                    write_sound(alone, part, contents.audio, stop=alone.frames)
                    place = words.place(line, line.place(piece.at / rate)).replace("·", ".")
                    made.append(
                        (
                            part,
                            f"{folder}/{file_name(f'{number + 1:03d} {place}', FORMATS[contents.audio][2])}",
                        )
                    )
        write_zip(path, made)
    finally:
        for part, _ in made:
            part.unlink(missing_ok=True)
    return {"pieces": len(made)}
