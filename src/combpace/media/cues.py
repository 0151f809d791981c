"""Points and a loop inside a WAV file: the chunks `cue `, `LIST adtl` with `labl`, and `smpl` (Multimedia
Programming Interface and Data Specifications 1.0, IBM and Microsoft 1991, "Waveform Audio File Format";
`smpl` from its 1994 additions), from memory.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from pathlib import Path

from combpace.core.errors import MediaError

# Nanoseconds of a sample are kept in `smpl`; the note that the sound is, where nobody says so: middle C.
MIDDLE_C = 60


def add_points(
    path: Path, points: Sequence[tuple[int, str]], loop: tuple[int, int] | None, sample_rate_hz: int
) -> None:
    """Write points (frame, label) and a loop (first and last frame) into a WAV file that has none, behind its
    sound.

    Raises MediaError for a file that is no plain WAV (RF64 files of more than 4 GB take none)
    """
    with path.open("r+b") as file:
        if file.read(4) != b"RIFF":
            raise MediaError(f"“{path.name}” takes no points: it is no plain WAV file.")
        file.seek(0, 2)
        if file.tell() % 2:
            file.write(b"\x00")
        if points:
            file.write(
                _chunk(
                    b"cue ",
                    struct.pack("<I", len(points))
                    + b"".join(_cue(k, frame) for k, (frame, _) in enumerate(points, 1)),
                )
            )
            labels = b"".join(
                _chunk(b"labl", struct.pack("<I", k) + _text(label)) for k, (_, label) in enumerate(points, 1)
            )
            file.write(_chunk(b"LIST", b"adtl" + labels))
        if loop is not None:
            head = struct.pack("<9I", 0, 0, round(1e9 / sample_rate_hz), MIDDLE_C, 0, 0, 0, 1, 0)
            file.write(_chunk(b"smpl", head + struct.pack("<6I", 1, 0, loop[0], loop[1], 0, 0)))
        size = file.tell()
        file.seek(4)
        file.write(struct.pack("<I", size - 8))


def points_bytes(points: Sequence[tuple[int, str]]) -> int:
    """By how much `add_points` makes a file longer, no loop given (a byte more behind sound of odd
    length).
    """
    if not points:
        return 0
    return (
        len(_chunk(b"cue ", bytes(4 + 24 * len(points))))
        + 12
        + sum(len(_chunk(b"labl", bytes(4) + _text(label))) for _, label in points)
    )


def _cue(number: int, frame: int) -> bytes:
    # Its own number, its place, the chunk it lies in, that chunk's start, a block's start, and the frame.
    return struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame)


def _text(label: str) -> bytes:
    return label.encode("latin-1", "replace") + b"\x00"


def _chunk(kind: bytes, data: bytes) -> bytes:
    return kind + struct.pack("<I", len(data)) + data + (b"\x00" if len(data) % 2 else b"")
