"""What was removed is freed: old sessions, hand-offs and renders that nobody needs, and their bytes."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy.orm import Session

from combpace.session.data_folder import DataFolder
from combpace.store import cleaning
from combpace.store.cleaning import Unneeded
from combpace.store.models import now

# A removed session can be brought back so long; hand-offs are kept so long, and the newest ones of a session
# for good. Seconds.
REMOVED_S, HANDED_OFF_S, NEWEST = 30 * 86_400.0, 7 * 86_400.0, 3
# A blob that came so lately may belong to what is just being written down.
FRESH_S = 3600.0


@dataclass(frozen=True, slots=True)
class Freed:
    """How many there are of each, and what they come to."""

    sessions: int
    hand_offs: int
    renders: int
    bytes: int


def found(folder: DataFolder) -> Freed:
    """What would be freed now."""
    with folder.database.reading() as db:
        return _freed(folder, _unneeded(db))


def clean(folder: DataFolder, tell: Callable[[str, float], None]) -> Freed:
    """Free it. What a session, its history or a job that waits or runs needs stays."""
    with folder.database.writing() as db:
        gone = _unneeded(db)
        freed = _freed(folder, gone)
        cleaning.drop(db, gone)
    for number, sha in enumerate(sorted(gone.blobs)):
        tell("freeing", number / len(gone.blobs))
        folder.blobs.remove(sha, time.time() - FRESH_S)
    return freed


def remove_hand_off(folder: DataFolder, session_id: str, order: str) -> int:
    """Remove what was handed off at once, and free what only it held. Returns how many files it had."""
    with folder.database.writing() as db:
        gone = cleaning.hand_off(db, session_id, order)
        cleaning.drop(db, gone)
    for sha in gone.blobs:
        folder.blobs.remove(sha, time.time())
    return len(gone.files)


def _unneeded(db: Session) -> Unneeded:
    moment = now()
    return cleaning.unneeded(db, moment - REMOVED_S, moment - HANDED_OFF_S, NEWEST)


def _freed(folder: DataFolder, gone: Unneeded) -> Freed:
    size = sum(folder.blobs.size(sha) for sha in gone.blobs)
    return Freed(len(gone.sessions), len(gone.hand_offs), len(gone.renders), size)
