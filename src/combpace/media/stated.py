"""What a file says of itself: a tempo in its tags or its name, and the padding that its encoder put before
the sound.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import av

from combpace.media.decode import open_with_av

# Files of other endings hold their sound as it was, and have no padding.
LOSSY = (".mp3", ".m4a", ".mp4", ".aac", ".ogg", ".oga", ".opus")
LEAST_BPM, MOST_BPM = 20.0, 400.0
# "92 bpm", "92.5bpm", "BPM92", "bpm_92": a number beside the word, nothing else.
_NUMBER = r"(\d{2,3}(?:[.,]\d{1,4})?)"
_BEFORE = re.compile(rf"(?<![\d.,]){_NUMBER}[ _-]?bpm(?![a-z])", re.IGNORECASE)
_AFTER = re.compile(rf"(?<![a-z])bpm[ _-]?{_NUMBER}(?!\d)", re.IGNORECASE)
# ID3v2 TBPM, Vorbis comments BPM and TEMPO, MP4 tmpo; as libavformat names them.
_TAGS = ("tbpm", "bpm", "tempo", "tmpo")
# An MPEG frame's header is this long at most before the mark of an information frame.
_FIRST_FRAME = 4096


@dataclass(frozen=True, slots=True)
class StatedTempo:
    """A tempo that a file claims; source: "tags" or "file name"."""

    bpm: float
    source: str


def is_lossy(name: str) -> bool:
    """Whether an encoder may have put padding before the sound of a file, by its name."""
    return name.lower().endswith(LOSSY)


def tempo_in_name(name: str) -> float | None:
    """The BPM a file's name states, None where it states none ("track 92" does not)."""
    found = _BEFORE.search(name) or _AFTER.search(name)
    return _believable(found.group(1)) if found else None


def tempo_in_tags(path: Path) -> float | None:
    """The BPM that a file's tags state; None where they state none, or where the file cannot be read."""
    found = (_believable(value) for tag, value in _tags(path).items() if tag.lower() in _TAGS)
    return next((bpm for bpm in found if bpm is not None), None)


def stated_tempi(in_tags: float | None, name: str) -> tuple[StatedTempo, ...]:
    """Tempi that a file states: by tags first, then by its name; none of them is taken for true."""
    found = [] if in_tags is None else [StatedTempo(in_tags, "tags")]
    by_name = tempo_in_name(name)
    if by_name is not None and all(abs(one.bpm - by_name) > 0.005 for one in found):
        found.append(StatedTempo(by_name, "file name"))
    return tuple(found)


def padding_is_stated(path: Path) -> bool:
    """Whether a file's header says how much padding its encoder put before the sound; our decoders take that
    off.

    MP3: an information frame ("Xing", "Info") with the encoder's delay behind it (its gapless extension);
    MP4: an edit list or a gapless tag; Opus: pre-skip (RFC 7845, 5.1); Vorbis: granule positions (Vorbis I
    specification, A.2). False for PCM and FLAC, which have none.
    """
    head = _head(path)
    if head[:4] == b"OggS":
        return b"OpusHead" in head or b"vorbis" in head
    if head[4:8] == b"ftyp":
        return b"elst" in path.read_bytes() or b"iTunSMPB" in path.read_bytes()
    start = _behind_id3(head)
    if start:
        with path.open("rb") as file:
            file.seek(start)
            head = file.read(_FIRST_FRAME)
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE0 != 0xE0:
        return False
    at = max(head[:256].find(b"Xing"), head[:256].find(b"Info"))
    if at < 0:
        return False
    flags = int.from_bytes(head[at + 4 : at + 8], "big")
    behind = at + 8 + 4 * bool(flags & 1) + 4 * bool(flags & 2) + 100 * bool(flags & 4) + 4 * bool(flags & 8)
    # Nine letters of the encoder's name, then twelve bytes; delay and padding are 12 bits each.
    delay = head[behind + 21 : behind + 24]
    return len(delay) == 3 and (delay[0] << 4 | delay[1] >> 4) > 0


def _head(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(_FIRST_FRAME)


def _behind_id3(head: bytes) -> int:
    """Length of an ID3v2 tag at the front (ID3v2.4 structure, 3.1: a size of four bytes with seven bits
    each).
    """
    if head[:3] != b"ID3" or len(head) < 10:
        return 0
    return 10 + sum((byte & 0x7F) << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))


def _tags(path: Path) -> dict[str, str]:
    try:
        with open_with_av(path) as container:
            found = dict(container.metadata)
            for stream in container.streams.audio:
                found |= dict(stream.metadata)
            return found
    except (av.FFmpegError, ValueError, OSError):
        return {}


def _believable(text: str) -> float | None:
    try:
        value = float(str(text).strip().replace(",", "."))
    except ValueError:
        return None
    return value if LEAST_BPM <= value <= MOST_BPM else None
