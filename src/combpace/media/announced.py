"""How long a sound file says that it is, read from its own header: decoders correct that without a word, or
break off at it.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

# What a program writes as the size of sound that it does not know yet: everything from here on.
_UNKNOWN = 0x7FFFF000
_CHUNK_ID = frozenset(range(0x20, 0x7F))
# An Ogg page is 65,307 bytes at most (RFC 3533, 6).
_MOST_OGG_PAGE = 65_307
_OGG_LAST = 4


@dataclass(frozen=True, slots=True)
class Announced:
    """What a header says.

    frames    of the sound; None where it says nothing that can be used
    ends      whether the last page of the file is marked as the last one (Ogg); True where a format marks
              none
    md5       of the sound as whole numbers, and their bits (FLAC); None where none is stated
    patches   (offset, bytes) of a header's sizes as they would be if everything behind them is sound; empty
              where they are right
    """

    frames: int | None = None
    ends: bool = True
    patches: tuple[tuple[int, bytes], ...] = ()
    md5: tuple[bytes, int] | None = None


def announced(path: Path) -> Announced:
    """Read the header of a WAV, RF64, AIFF, FLAC or Ogg file. Never raises for what is in the file: what
    cannot be read announces nothing.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        try:
            if head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:] == b"WAVE":
                return _wave(file, size, head[:4] != b"RIFF")
            if head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC"):
                return _aiff(file, size)
            if head[:4] == b"fLaC":
                return _flac(file)
            if head[:4] == b"OggS":
                return Announced(ends=_ogg_ends(file, size))
        except struct.error:
            pass
    return Announced()


def _chunks(file: BinaryIO, size: int, order: str) -> Iterator[tuple[bytes, int, int]]:
    """(id, offset of its bytes, announced length) of each chunk (EA IFF 85; RIFF is the same,
    little-endian).
    """
    at = 12
    while at + 8 <= size:
        file.seek(at)
        name, length = struct.unpack(f"{order}4sI", file.read(8))
        yield name, at + 8, length
        at += 8 + length + length % 2


def _wave(file: BinaryIO, size: int, large: bool) -> Announced:
    align, long = 0, None
    for name, at, length in _chunks(file, size, "<"):
        if name == b"ds64" and large:
            file.seek(at)
            # Sizes of file and of sound, 64 bits each (EBU Tech 3306).
            long = struct.unpack("<QQ", file.read(16))[1]
        elif name == b"fmt ":
            file.seek(at)
            tag, align = struct.unpack("<HxxxxxxxxxxH", file.read(14))
            if tag not in (1, 3, 0xFFFE):
                # Compressed: a block is no frame.
                return Announced()
        elif name == b"data":
            stated = long if large and length == 0xFFFFFFFF and long is not None else length
            if not align or (not large and stated >= _UNKNOWN and at + stated > size):
                return Announced()
            behind = size - (at + stated + stated % 2)
            if (
                not large
                and behind >= align
                and not _is_chunk(file, at + stated + stated % 2)
                and size < _UNKNOWN
            ):
                # Its program ended before it wrote the last size: all that is there is sound.
                return Announced(
                    stated // align or None,
                    patches=((4, struct.pack("<I", size - 8)), (at - 4, struct.pack("<I", size - at))),
                )
            return Announced(stated // align or None)
    return Announced()


def _is_chunk(file: BinaryIO, at: int) -> bool:
    file.seek(at)
    name = file.read(4)
    # Some programs hang tags behind the last chunk without one of their own.
    return len(name) == 4 and (
        set(name) <= _CHUNK_ID or not any(name) or name[:3] in (b"ID3", b"TAG", b"3DI")
    )


def _aiff(file: BinaryIO, size: int) -> Announced:
    for name, at, _ in _chunks(file, size, ">"):
        if name == b"COMM":
            file.seek(at)
            # Channels, then frames (AIFF 1.3, the common chunk).
            frames = struct.unpack(">HI", file.read(6))[1]
            return Announced(frames if 0 < frames < _UNKNOWN else None)
    return Announced()


def _flac(file: BinaryIO) -> Announced:
    file.seek(4)
    kind, _ = struct.unpack(">B3s", file.read(4))
    if kind & 0x7F:
        return Announced()
    # STREAMINFO (RFC 9639, 8.2): the number of frames is the last 36 bits of bytes 10 to 17.
    stream = file.read(34)
    facts = struct.unpack(">Q", stream[10:18])[0]
    bits, md5 = (facts >> 36 & 31) + 1, stream[18:34]
    return Announced(facts & (2**36 - 1) or None, md5=(md5, bits) if any(md5) and bits in (16, 24) else None)


def _ogg_ends(file: BinaryIO, size: int) -> bool:
    file.seek(max(0, size - 2 * _MOST_OGG_PAGE))
    tail = file.read()
    at = tail.rfind(b"OggS")
    while at >= 0:
        if at + 27 <= len(tail):
            segments = tail[at + 26]
            table = tail[at + 27 : at + 27 + segments]
            whole = len(table) == segments and at + 27 + segments + sum(table) <= len(tail)
            return whole and bool(tail[at + 5] & _OGG_LAST)
        at = tail.rfind(b"OggS", 0, at)
    return False


class Patched(io.RawIOBase):
    """A file read as if some of its bytes were others."""

    def __init__(self, path: Path, patches: tuple[tuple[int, bytes], ...]) -> None:
        self._file, self._patches = path.open("rb"), patches

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._file.seek(offset, whence)

    def tell(self) -> int:
        return self._file.tell()

    def readinto(self, buffer: Any) -> int:
        at = self._file.tell()
        data = bytearray(self._file.read(len(buffer)))
        for offset, new in self._patches:
            for k, byte in enumerate(new):
                if at <= offset + k < at + len(data):
                    data[offset + k - at] = byte
        buffer[: len(data)] = bytes(data)
        return len(data)

    def close(self) -> None:
        self._file.close()
        super().close()
