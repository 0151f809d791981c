"""Files written whole or not at all, and a disk that is full said as one."""

from __future__ import annotations

import errno
import os
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from combpace.machine import is_alive

# Less than this is no room for a file.
LEAST_ROOM = 4096
_PART = re.compile(r"\..+\.(\d+)\.part")


@contextmanager
def sound_file(path: Path, **form: Any) -> Iterator[sf.SoundFile]:
    """A sound file that is written. form: as `soundfile.SoundFile` takes it.

    Raises  OSError where it cannot be begun or ended, on a full disk
    """
    try:
        out = sf.SoundFile(path, "w", **form)
    except sf.SoundFileError as error:
        raise _said(path, 0) from error
    try:
        yield out
    finally:
        try:
            out.close()
        except sf.SoundFileError as error:
            raise _said(path, 0) from error


def _said(path: Path, wanted: int) -> OSError:
    full = shutil.disk_usage(path.parent).free < max(LEAST_ROOM, wanted)
    number = errno.ENOSPC if full else errno.EIO
    return OSError(number, os.strerror(number), str(path))


def put(out: sf.SoundFile, block: np.ndarray[Any, Any], path: Path) -> None:
    """Write frames by channels into a sound file that lies at `path`.

    Raises  OSError where they are not written: libsndfile says only that the system had an error
    """
    try:
        out.write(block)
    except sf.SoundFileError as error:
        raise _said(path, block.size * 4) from error


def put_text(path: Path, text: str) -> None:
    """A text in UTF-8. Where it cannot be written whole, what was there before stays. Raises OSError."""
    put_bytes(path, text.encode("utf-8"))


def put_bytes(path: Path, data: bytes) -> None:
    """As `put_text`."""
    if path.exists() and not path.is_file():
        # A pipe or a terminal takes what comes.
        path.write_bytes(data)
        return
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        part.write_bytes(data)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def clear_parts(folder: Path) -> None:
    """Remove what processes that are gone left half written below a folder."""
    for path in folder.rglob(".*.part"):
        written_by = _PART.fullmatch(path.name)
        if written_by is None:
            continue
        if not is_alive(int(written_by[1])):
            path.unlink(missing_ok=True)
