"""What a disk or a database says when it takes nothing, as sentences that name it."""

from __future__ import annotations

import errno
import shutil
from pathlib import Path

from combpace.core.errors import StorageError

# SQLite needs room for its own files beside the database, and says only that it failed.
NO_ROOM_BYTES = 2**20
_FULL = (errno.ENOSPC, errno.EDQUOT)
_CLOSED = (errno.EROFS, errno.EACCES, errno.EPERM)


def storage_error(error: BaseException, place: Path) -> StorageError | None:
    """The sentence for an error of the operating system or of SQLite (sqlite.org/rescode.html); None for any
    other.

    place  the folder that was worked on
    """
    text = str(getattr(error, "orig", None) or error)
    number = error.errno if isinstance(error, OSError) else None
    if number in _FULL or "is full" in text or ("disk I/O error" in text and _room(place) < NO_ROOM_BYTES):
        return StorageError(
            f"The disk of {place} is full ({_free(place)} free). Nothing was changed; make room "
            "there and do this again.",
            full=True,
        )
    if number in _CLOSED or "readonly database" in text or "unable to open database" in text:
        return StorageError(
            f"{place} cannot be written to ({text}). Nothing was changed; see who may write there.",
            full=False,
        )
    if "is locked" in text:
        return StorageError(
            f"Another program holds the database in {place} locked. Nothing was changed; do this "
            "again when it has finished.",
            full=False,
        )
    if number == errno.EIO or "disk I/O error" in text:
        return StorageError(
            f"The disk of {place} does not answer as it should ({text}). Nothing was changed; look "
            "after that disk.",
            full=False,
        )
    if "malformed" in text or "not a database" in text:
        return StorageError(
            f"The database in {place} is damaged ({text}). Nothing was changed; put back a copy of "
            "that folder, or start with another.",
            full=False,
        )
    return None


def _room(place: Path) -> int:
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return 0


def _free(place: Path) -> str:
    return f"{_room(place) / 2**20:,.1f} MiB"
