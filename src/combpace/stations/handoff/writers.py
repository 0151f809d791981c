"""What can leave a session beside its audio: one writer a format, registered with its words, its ending and its MIME type."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from combpace.core.clocks import SessionTimes
from combpace.core.parts.part import Heard
from combpace.core.sounds.click import ClickBeat, ClickTrack
from combpace.core.tempo.map import TempoMap
from combpace.media.encode import FORMATS, write_sound
from combpace.media.mapfiles import bars_csv, beats_between, write_json
from combpace.media.midi import write_map, write_parts


@dataclass(frozen=True, slots=True)
class Contents:
    """What a writer writes of: everything counts from the moment at which the files of a hand-off start.

    document  the tempo map as `analyse --json` has it
    audio     one of media.encode.FORMATS
    parts     (name, notes as they sound) of each part
    """

    tempo_map: TempoMap[SessionTimes]
    document: dict[str, Any]
    length_s: float
    frames: int
    sample_rate_hz: int
    audio: str
    parts: Sequence[tuple[str, Sequence[Heard]]] = ()


Write = Callable[[Contents, Path], dict[str, Any]]


@dataclass(frozen=True, slots=True)
class Writer:
    """One format out.

    words     what it is, for people; title: what its file's name ends with
    ending    of its file, given the audio format of the hand-off
    mime      its MIME type, or None where the audio format has one
    proposed  whether it is chosen unless the user says otherwise
    write     writes one file; returns facts to keep with it
    of_parts  only where the session has parts
    """

    name: str
    words: str
    title: str
    kind: str
    ending: Callable[[str], str]
    mime: str | None
    proposed: bool
    write: Write
    of_parts: bool = False


WRITERS: dict[str, Writer] = {}
AUDIO_MIME = {".wav": "audio/wav", ".flac": "audio/flac", ".zip": "application/zip"}


def writer(
    name: str, words: str, title: str, kind: str, ending: str | None, mime: str | None, *, proposed: bool = True, of_parts: bool = False
) -> Callable[[Write], Write]:
    """Register a writer; without an ending it writes sound, in the format of the hand-off."""

    def register(write: Write) -> Write:
        if name in WRITERS:
            raise ValueError(f"two writers are called {name}")
        WRITERS[name] = Writer(
            name, words, title, kind, (lambda audio: ending) if ending else (lambda audio: FORMATS[audio][2]), mime, proposed, write, of_parts
        )
        return write

    return register


def mime_of(file_name: str) -> str:
    """The MIME type of a file that was handed off."""
    suffix = Path(file_name).suffix
    known = {one.ending("wav24"): one.mime for one in WRITERS.values() if one.mime}
    return known.get(suffix) or AUDIO_MIME.get(suffix, "application/octet-stream")


@writer("midi", "tempo map as standard MIDI file", "tempo map", "map", ".mid", "audio/midi")
def midi(contents: Contents, path: Path) -> dict[str, Any]:
    write_map(contents.tempo_map, contents.length_s, path)
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
    track = ClickTrack([ClickBeat(time, round(time, 6) in opening) for time in beats], contents.frames, contents.sample_rate_hz)
    write_sound(track, path, contents.audio)
    return {"frames": contents.frames, "rate": contents.sample_rate_hz}


@writer("parts", "parts as standard MIDI file, on the session's map", "parts", "parts", ".mid", "audio/midi", of_parts=True)
def parts_midi(contents: Contents, path: Path) -> dict[str, Any]:
    write_parts(contents.tempo_map, contents.length_s, contents.parts, path)
    return {}
