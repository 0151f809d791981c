"""Marks: add, move, remove, lock; detecting again never loses them."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import replace

import numpy as np
from pydantic import Field

from combpace.core.analysis.bleed import bleed_in
from combpace.core.errors import ParameterError
from combpace.core.onsets.refine import StartFinder
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, TakeArgs, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import OnsetEdits, TakeEntry
from combpace.session.foresight import as_if
from combpace.session.map_changes import replaced_in, restated
from combpace.session.marks import line_along, mark_moved
from combpace.session.state import EDIT_REACH_S, SessionState

LEAST_GAP_S = 0.003
# A mark by hand goes to an attack that begins this near.
CATCH_S = 0.030


class MarkArgs(Args):
    """catch: to the attack start near that moment, at a zero crossing within 1 ms; else the moment stands."""

    take: TakeId
    time_s: Seconds
    catch: bool = False


class MarkMoveArgs(Args):
    """alone: the bar line that was put on it stays."""

    take: TakeId
    from_s: Seconds
    to_s: Seconds
    catch: bool = False
    alone: bool = False


class MarksArgs(Args):
    take: TakeId
    times_s: list[Seconds] = Field(max_length=5000, min_length=1)


class ShiftArgs(Args):
    """ms: later is positive."""

    take: TakeId
    times_s: list[Seconds] = Field(max_length=5000, min_length=1)
    ms: float = Field(allow_inf_nan=False, ge=-1000, le=1000)


class ThresholdArgs(Args):
    take: TakeId
    threshold: str | float


class SentenceArgs(Args):
    """field: threshold, listen ("everything", "lows", "highs"), apart_ms, or on ("anywhere", "bars", "beats",
    "1/8" ...).
    """

    take: TakeId
    field: str = Field(max_length=20)
    value: str | float


@decision("onset-add", MarkArgs)
def add(state: SessionState, args: MarkArgs) -> Change:
    """Add a mark at a moment of a take."""
    edits = _edits(state, args.take)
    _inside(state, args.take, args.time_s)
    time_s = _attack_start(state, args.take, args.time_s) if args.catch else args.time_s
    times = np.asarray(state.onsets(args.take).times)
    if len(times) and float(np.min(np.abs(times - time_s))) < LEAST_GAP_S:
        raise ParameterError("There is a mark within 3 ms already. Nothing was changed.")
    removed = tuple(time for time in edits.removed if abs(time - time_s) > EDIT_REACH_S)
    new = replace(edits, added=(*edits.added, time_s), removed=removed)
    caught = (
        f", at the attack's start, {words.signed_ms(1000 * (time_s - args.time_s))} ms from there"
        if time_s != args.time_s
        else ""
    )
    return _change(args.take, new, f"A mark was added at {words.clock(time_s)}{caught}.")


@decision("onset-move", MarkMoveArgs)
def move(state: SessionState, args: MarkMoveArgs) -> Change:
    """Move a mark."""
    edits = _edits(state, args.take)
    _inside(state, args.take, args.to_s)
    to_s = _attack_start(state, args.take, args.to_s) if args.catch else args.to_s
    at = _near(state, args.take, args.from_s)
    others = np.array([time for time in np.asarray(state.onsets(args.take).times) if time != at])
    if len(others) and float(np.min(np.abs(others - to_s))) < LEAST_GAP_S:
        raise ParameterError("There is another mark within 3 ms. Nothing was changed.")
    new = mark_moved(edits, at, to_s)
    note = f"A mark moved by {words.signed_ms(1000 * (to_s - at))} ms"
    chosen = None if args.alone else line_along(state, args.take, at, to_s)
    if chosen is None:
        return _change(args.take, new, f"{note}.")
    chosen, parts = replaced_in(state, chosen)
    parts |= _change(args.take, new, "").parts
    return restated(state, chosen, f"{note}, and the bar line that was put on it with it", parts=parts)


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
    return _change(
        args.take,
        new,
        f"{words.count(len(args.times_s), 'mark')} removed; the audio there rides between its neighbours.",
    )


@decision("onset-bleed", TakeArgs)
def bleed(state: SessionState, args: TakeArgs) -> Change:
    """Remove all marks of a mic that are other instruments, heard by the other mics of its bundle; locked and
    hand-made ones stay.
    """
    entry = state.document.take(args.take)
    mates = [mate for mate in state.document.bundle_of(args.take) if state.analysis(mate.id) is not None]
    if len(mates) < 2:
        raise ParameterError(
            f"{entry.name} is in no bundle with another mic, so nothing says what is bleed. Nothing "
            "was changed."
        )
    if len({(state.rows[mate.id].sample_rate_hz, mate.offset_s) for mate in mates}) > 1:
        raise ParameterError(
            "The takes of this bundle differ in start or sample rate, so their strokes cannot be "
            "compared. Nothing was changed."
        )
    found = state.folder.once(
        ("bleed", *(state.rows[mate.id].analysis_sha for mate in mates)), lambda: _bleed(state, mates)
    )[args.take]
    edits = _edits(state, args.take)
    certain = [*edits.added, *edits.locked, *(new for _, new in edits.moved)]
    marks = [float(time) for time in state.onsets(args.take).times]
    gone = [
        time
        for time in marks
        if any(abs(time - other) <= EDIT_REACH_S for other in found)
        and not any(abs(time - other) <= EDIT_REACH_S for other in certain)
    ]
    if not gone:
        raise ParameterError(
            f"No mark of {entry.name} is bleed, or too few strokes are loud enough to tell. Nothing "
            "was changed."
        )
    made = remove(state, MarksArgs(take=args.take, times_s=gone))
    return Change(
        made.parts,
        f"{len(gone)} of {len(marks)} marks of {entry.name} are bleed of the other mics, and removed.",
    )


def _bleed(state: SessionState, mates: list[TakeEntry]) -> dict[str, list[float]]:
    """Moments of each mic that are bleed, on its own clock."""
    with ExitStack() as stack:
        sources = [stack.enter_context(state.folder.source(state.rows[mate.id])) for mate in mates]
        each = [heard.onsets for mate in mates if (heard := state.analysis(mate.id)) is not None]
        flags = bleed_in(sources, each)
    return {
        mate.id: [float(time) for time in onsets.times[flag]]
        for mate, onsets, flag in zip(mates, each, flags, strict=True)
    }


@decision("onset-shift", ShiftArgs)
def shift(state: SessionState, args: ShiftArgs) -> Change:
    """Move several marks as one, by the same time."""
    by_s, change = args.ms / 1000.0, None
    if by_s == 0:
        raise ParameterError("Say by how many milliseconds the marks move. Nothing was changed.")
    # The one that others would be run into goes first.
    for time in sorted(args.times_s, key=lambda time: -time * by_s):
        moved = move(
            state, MarkMoveArgs(take=args.take, from_s=time, to_s=_near(state, args.take, time) + by_s)
        )
        state, change = as_if(state, moved.parts), moved
    assert change is not None
    return Change(
        change.parts, f"{words.count(len(args.times_s), 'mark')} moved by {words.signed_ms(args.ms)} ms."
    )


@decision("onset-lock", MarksArgs)
def lock(state: SessionState, args: MarksArgs) -> Change:
    """It is right: the marks are certain from now on."""
    edits = _edits(state, args.take)
    locked = tuple(_near(state, args.take, time) for time in args.times_s)
    return _change(
        args.take,
        replace(edits, locked=(*edits.locked, *locked)),
        f"{words.count(len(locked), 'mark')} locked as right.",
    )


@decision("threshold", ThresholdArgs)
def threshold(state: SessionState, args: ThresholdArgs) -> Change:
    """Keep only attacks at least this strong (0-1); hand-made marks stay."""
    least = words.read_number(args.threshold, "The threshold", 0, 1)
    return _sentence(state, args.take, "threshold", replace(_edits(state, args.take), threshold=least))


@decision("onset-rule", SentenceArgs)
def sentence(state: SessionState, args: SentenceArgs) -> Change:
    """Change one field of the sentence that chooses a take's marks; hand-made marks and locks stay."""
    edits, heard = _edits(state, args.take), state.analysis(args.take)
    match args.field:
        case "threshold":
            new = replace(edits, threshold=words.read_number(args.value, "The threshold", 0, 1))
        case "apart_ms":
            new = replace(edits, apart_ms=words.read_number(args.value, "The distance", 0, 2000))
        case "listen":
            if args.value != "everything" and heard is not None and heard.bands is None:
                raise ParameterError(
                    "This take was heard by an earlier version; listen to it again in Takes first. "
                    "Nothing was changed."
                )
            new = replace(edits, listen=str(args.value))
        case "on":
            new = replace(edits, on=str(args.value).strip().lower())
        case _:
            raise ParameterError(f"The sentence has no “{args.field}”. Nothing was changed.")
    # A choice checks itself.
    assert new.choice
    return _sentence(state, args.take, args.field, new)


def _sentence(state: SessionState, take_id: str, field: str, new: OnsetEdits) -> Change:
    before = len(state.onsets(take_id))
    after = len(as_if(state, {f"onsets:{take_id}": forms.edits_part(new)}).onsets(take_id))
    listening = "" if new.listen == "everything" else f" in the {new.listen}"
    apart = f", {new.apart_ms:g} ms apart" if new.apart_ms else ""
    on = "" if new.on == "anywhere" else f", on {new.on}"
    note = (
        f"{words.count(after, 'mark')} instead of {before}: those of at least "
        f"{new.threshold:.2f}{listening}{apart}{on}."
    )
    return _change(take_id, new, note, f"{field}:{take_id}")


def _edits(state: SessionState, take_id: str) -> OnsetEdits:
    state.document.take(take_id)
    return state.document.edits.get(take_id, OnsetEdits())


def _inside(state: SessionState, take_id: str, time_s: float) -> None:
    length = state.duration_s(take_id)
    if not 0.0 <= time_s <= length:
        raise ParameterError(
            f"A mark lies inside its take, which is {words.clock(length)} long. Nothing was changed."
        )


def _attack_start(state: SessionState, take_id: str, time_s: float) -> float:
    """The start of the attack near a moment, at a zero crossing; the moment itself where none begins within
    CATCH_S.
    """
    with state.folder.source(state.rows[take_id]) as source:
        found = float(StartFinder(source).starts(np.array([time_s]))[0])
    return found if abs(found - time_s) <= CATCH_S and 0.0 <= found <= state.duration_s(take_id) else time_s


def _near(state: SessionState, take_id: str, time_s: float) -> float:
    times = np.asarray(state.onsets(take_id).times)
    if not len(times) or float(np.min(np.abs(times - time_s))) > EDIT_REACH_S:
        raise ParameterError(f"There is no mark at {words.clock(time_s)} (any more). Nothing was changed.")
    return float(times[int(np.argmin(np.abs(times - time_s)))])


def _change(take_id: str, edits: OnsetEdits, note: str, gesture: str | None = None) -> Change:
    return Change({f"onsets:{take_id}": forms.edits_part(edits)}, note, gesture)
