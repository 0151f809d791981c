"""Marks: add, move, remove, lock; detecting again never loses them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import OnsetEdits
from combpace.session.state import EDIT_REACH_S, SessionState

LEAST_GAP_S = 0.003


class MarkArgs(Args):
    take: TakeId
    time_s: Seconds


class MarkMoveArgs(Args):
    take: TakeId
    from_s: Seconds
    to_s: Seconds


class MarksArgs(Args):
    take: TakeId
    times_s: list[Seconds] = Field(max_length=5000, min_length=1)


class ThresholdArgs(Args):
    take: TakeId
    threshold: str | float


@decision("onset-add", MarkArgs)
def add(state: SessionState, args: MarkArgs) -> Change:
    """Add a mark at a moment of a take."""
    edits = _edits(state, args.take)
    _inside(state, args.take, args.time_s)
    times = np.asarray(state.onsets(args.take).times)
    if len(times) and float(np.min(np.abs(times - args.time_s))) < LEAST_GAP_S:
        raise ParameterError("There is a mark within 3 ms already. Nothing was changed.")
    removed = tuple(time for time in edits.removed if abs(time - args.time_s) > EDIT_REACH_S)
    new = replace(edits, added=(*edits.added, args.time_s), removed=removed)
    return _change(args.take, new, f"A mark was added at {words.clock(args.time_s)}.")


@decision("onset-move", MarkMoveArgs)
def move(state: SessionState, args: MarkMoveArgs) -> Change:
    """Move a mark."""
    edits, to_s = _edits(state, args.take), args.to_s
    _inside(state, args.take, to_s)
    at = _near(state, args.take, args.from_s)
    others = np.array([time for time in np.asarray(state.onsets(args.take).times) if time != at])
    if len(others) and float(np.min(np.abs(others - to_s))) < LEAST_GAP_S:
        raise ParameterError("There is another mark within 3 ms. Nothing was changed.")
    if any(abs(time - at) <= EDIT_REACH_S for time in edits.added):
        new = replace(edits, added=tuple(to_s if abs(time - at) <= EDIT_REACH_S else time for time in edits.added))
    else:
        # Moved twice is moved once: the mark is known by where it was detected.
        origin = next((old for old, now in edits.moved if abs(now - at) <= 1e-6), at)
        new = replace(edits, moved=(*(pair for pair in edits.moved if pair[0] != origin), (origin, to_s)))
    return _change(args.take, new, f"A mark moved by {words.signed_ms(1000 * (to_s - at))} ms.")


@decision("onset-remove", MarksArgs)
def remove(state: SessionState, args: MarksArgs) -> Change:
    """Remove one or several marks."""
    edits = _edits(state, args.take)
    added, removed, moved = list(edits.added), list(edits.removed), list(edits.moved)
    for time_s in args.times_s:
        at = _near(state, args.take, time_s)
        if any(abs(time - at) <= EDIT_REACH_S for time in added):
            added = [time for time in added if abs(time - at) > EDIT_REACH_S]
            continue
        origin = next((old for old, now in moved if abs(now - at) <= 1e-6), at)
        moved = [pair for pair in moved if pair[0] != origin]
        removed.append(origin)
    new = replace(edits, added=tuple(added), removed=tuple(removed), moved=tuple(moved))
    return _change(args.take, new, f"{words.count(len(args.times_s), 'mark')} removed; the audio there rides between its neighbours.")


@decision("onset-lock", MarksArgs)
def lock(state: SessionState, args: MarksArgs) -> Change:
    """It is right: the marks are certain from now on."""
    edits = _edits(state, args.take)
    locked = tuple(_near(state, args.take, time) for time in args.times_s)
    return _change(args.take, replace(edits, locked=(*edits.locked, *locked)), f"{words.count(len(locked), 'mark')} locked as right.")


@decision("threshold", ThresholdArgs)
def threshold(state: SessionState, args: ThresholdArgs) -> Change:
    """Keep only attacks at least this strong (0-1); hand-made marks stay."""
    least = words.read_number(args.threshold, "The threshold", 0, 1)
    before = len(state.onsets(args.take))
    new = replace(_edits(state, args.take), threshold=least)
    document = replace(state.document, edits={**state.document.edits, args.take: new})
    after = len(replace(state, opened=replace(state.opened, document=document)).onsets(args.take))
    note = f"{words.count(after, 'mark')} instead of {before}: those of at least {least:.2f}."
    return _change(args.take, new, note, f"threshold:{args.take}")


def _edits(state: SessionState, take_id: str) -> OnsetEdits:
    state.document.take(take_id)
    return state.document.edits.get(take_id, OnsetEdits())


def _inside(state: SessionState, take_id: str, time_s: float) -> None:
    length = state.duration_s(take_id)
    if not 0.0 <= time_s <= length:
        raise ParameterError(f"A mark lies inside its take, which is {words.clock(length)} long. Nothing was changed.")


def _near(state: SessionState, take_id: str, time_s: float) -> float:
    times = np.asarray(state.onsets(take_id).times)
    if not len(times) or float(np.min(np.abs(times - time_s))) > EDIT_REACH_S:
        raise ParameterError(f"There is no mark at {words.clock(time_s)} (any more). Nothing was changed.")
    return float(times[int(np.argmin(np.abs(times - time_s)))])


def _change(take_id: str, edits: OnsetEdits, note: str, gesture: str | None = None) -> Change:
    return Change({f"onsets:{take_id}": forms.edits_part(edits)}, note, gesture)
