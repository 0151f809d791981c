"""Marks: add, move, remove, lock; detecting again never loses them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from combpace.core.errors import ParameterError
from combpace.services import document as forms
from combpace.services import words
from combpace.services.document import OnsetEdits
from combpace.services.workplace import EDIT_REACH_S, SessionState, Workplace, session_state
from combpace.store.history import Revision

LEAST_GAP_S = 0.003


def add(workplace: Workplace, session_id: str, version: int, take_id: str, time_s: float) -> Revision:
    """Add a mark at a moment of a take."""
    seen, edits = _edits(workplace, session_id, take_id)
    _inside(seen, take_id, time_s)
    times = np.asarray(seen.onsets(take_id).times)
    if len(times) and float(np.min(np.abs(times - time_s))) < LEAST_GAP_S:
        raise ParameterError("There is a mark within 3 ms already. Nothing was changed.")
    removed = tuple(time for time in edits.removed if abs(time - time_s) > EDIT_REACH_S)
    new = replace(edits, added=(*edits.added, time_s), removed=removed)
    return _record(seen, version, take_id, new, f"A mark was added at {words.clock(time_s)}.")


def move(workplace: Workplace, session_id: str, version: int, take_id: str, from_s: float, to_s: float) -> Revision:
    """Move a mark."""
    seen, edits = _edits(workplace, session_id, take_id)
    _inside(seen, take_id, to_s)
    at = _near(seen, take_id, from_s)
    others = np.array([time for time in np.asarray(seen.onsets(take_id).times) if time != at])
    if len(others) and float(np.min(np.abs(others - to_s))) < LEAST_GAP_S:
        raise ParameterError("There is another mark within 3 ms. Nothing was changed.")
    if any(abs(time - at) <= EDIT_REACH_S for time in edits.added):
        new = replace(edits, added=tuple(to_s if abs(time - at) <= EDIT_REACH_S else time for time in edits.added))
    else:
        # Moved twice is moved once: the mark is known by where it was detected.
        origin = next((old for old, now in edits.moved if abs(now - at) <= 1e-6), at)
        new = replace(edits, moved=(*(pair for pair in edits.moved if pair[0] != origin), (origin, to_s)))
    return _record(seen, version, take_id, new, f"A mark moved by {words.signed_ms(1000 * (to_s - at))} ms.")


def remove(workplace: Workplace, session_id: str, version: int, take_id: str, times_s: list[float]) -> Revision:
    """Remove one or several marks."""
    seen, edits = _edits(workplace, session_id, take_id)
    added, removed, moved = list(edits.added), list(edits.removed), list(edits.moved)
    for time_s in times_s:
        at = _near(seen, take_id, time_s)
        if any(abs(time - at) <= EDIT_REACH_S for time in added):
            added = [time for time in added if abs(time - at) > EDIT_REACH_S]
            continue
        origin = next((old for old, now in moved if abs(now - at) <= 1e-6), at)
        moved = [pair for pair in moved if pair[0] != origin]
        removed.append(origin)
    new = replace(edits, added=tuple(added), removed=tuple(removed), moved=tuple(moved))
    return _record(seen, version, take_id, new, f"{words.count(len(times_s), 'mark')} removed; the audio there rides between its neighbours.")


def lock(workplace: Workplace, session_id: str, version: int, take_id: str, times_s: list[float]) -> Revision:
    """It is right: the marks are certain from now on."""
    seen, edits = _edits(workplace, session_id, take_id)
    locked = tuple(_near(seen, take_id, time) for time in times_s)
    return _record(seen, version, take_id, replace(edits, locked=(*edits.locked, *locked)), f"{words.count(len(locked), 'mark')} locked as right.")


def set_threshold(workplace: Workplace, session_id: str, version: int, take_id: str, threshold: float) -> Revision:
    """Keep only attacks at least this strong (0-1); hand-made marks stay."""
    if not 0.0 <= threshold <= 1.0:
        raise ParameterError("Strength lies between 0 and 1. Nothing was changed.")
    seen, edits = _edits(workplace, session_id, take_id)
    before = len(seen.onsets(take_id))
    new = replace(edits, threshold=threshold)
    opened = replace(seen.document, edits={**seen.document.edits, take_id: new})
    after = len(SessionState(replace(seen.opened, document=opened), seen.rows, workplace).onsets(take_id))
    return _record(
        seen, version, take_id, new, f"{words.count(after, 'mark')} instead of {before}: those of at least {threshold:.2f}.", f"threshold:{take_id}"
    )


def _edits(workplace: Workplace, session_id: str, take_id: str) -> tuple[SessionState, OnsetEdits]:
    seen = session_state(workplace, session_id)
    seen.document.take(take_id)
    return seen, seen.document.edits.get(take_id, OnsetEdits())


def _inside(seen: SessionState, take_id: str, time_s: float) -> None:
    length = seen.duration_s(take_id)
    if not 0.0 <= time_s <= length:
        raise ParameterError(f"A mark lies inside its take, which is {words.clock(length)} long. Nothing was changed.")


def _near(seen: SessionState, take_id: str, time_s: float) -> float:
    times = np.asarray(seen.onsets(take_id).times)
    if not len(times) or float(np.min(np.abs(times - time_s))) > EDIT_REACH_S:
        raise ParameterError(f"There is no mark at {words.clock(time_s)} (any more). Nothing was changed.")
    return float(times[int(np.argmin(np.abs(times - time_s)))])


def _record(seen: SessionState, version: int, take_id: str, edits: OnsetEdits, note: str, gesture: str | None = None) -> Revision:
    return seen.workplace.decide(seen.opened, version, {f"onsets:{take_id}": forms.edits_part(edits)}, note, gesture)
