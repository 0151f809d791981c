"""Marks that hands move: one by itself, or with the bar line that was put on it.

Where a statement put a line on a mark, and the line is then pulled off it by a little, the mark was late: it
goes along. Whoever moves such a mark moves its line. Nothing else couples marks and lines.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from combpace.core.errors import ParameterError
from combpace.session import words
from combpace.session.document.model import MapPart, OnsetEdits
from combpace.session.document.stated import MomentStatement
from combpace.session.saying import at_moment, with_list
from combpace.session.state import EDIT_REACH_S, SessionState

# A line lies on a mark that is this near; farther than LATE_S no mark is late.
ON_MARK_S, LATE_S = 0.001, 0.040


def mark_moved(edits: OnsetEdits, at: float, to_s: float) -> OnsetEdits:
    """Hand edits with a mark moved. Moved twice is moved once: it is known by where it was detected."""
    if any(abs(time - at) <= EDIT_REACH_S for time in edits.added):
        return replace(
            edits, added=tuple(to_s if abs(time - at) <= EDIT_REACH_S else time for time in edits.added)
        )
    origin = next((old for old, now in edits.moved if abs(now - at) <= 1e-6), at)
    return replace(edits, moved=(*(pair for pair in edits.moved if pair[0] != origin), (origin, to_s)))


def goes_along(state: SessionState, old: MomentStatement | None, at: float) -> OnsetEdits | None:
    """The lead's hand edits with the mark that a line was put on, where the line is pulled off it to a moment
    of the session; None where no mark goes along.
    """
    if old is None or not ON_MARK_S < abs(at - old.time_s) <= LATE_S:
        return None
    lead = state.need_lead()
    times = np.asarray(state.onsets(lead.id).times) + lead.offset_s
    edits = state.document.edits.get(lead.id, OnsetEdits())
    if not len(times) or float(np.abs(times - old.time_s).min()) > ON_MARK_S:
        return None
    mark = float(times[int(np.argmin(np.abs(times - old.time_s)))])
    nearer = times[(np.abs(times - at) < abs(mark - at)) & (times != mark)]
    locked = any(abs(time + lead.offset_s - mark) <= EDIT_REACH_S for time in edits.locked)
    if len(nearer) or locked or not 0.0 <= at - lead.offset_s <= state.duration_s(lead.id):
        return None
    return mark_moved(edits, mark - lead.offset_s, at - lead.offset_s)


def went_along(state: SessionState, one: MomentStatement) -> float | None:
    """Where the mark that went along with a stated line was detected, on the lead's clock; None where its
    mark lies where it was, or it has none.
    """
    lead = state.need_lead()
    moved = state.document.edits.get(lead.id, OnsetEdits()).moved
    here = one.time_s - lead.offset_s
    return next((old for old, now in moved if abs(now - here) <= ON_MARK_S), None)


def line_along(state: SessionState, take_id: str, at: float, to_s: float) -> MapPart | None:
    """The map with the line that was put on a mark of the lead, where that mark moves; None where none was.

    Raises ParameterError where the line is locked
    """
    lead, chosen = state.document.lead, state.map_choice()
    if lead is None or lead.id != take_id:
        return None
    old = at_moment(chosen, at + lead.offset_s)
    if old is not None and old.heard_s is None and state.one_tempo is not None:
        # One tempo does not go through what only opens a bar.
        return None
    if old is None or abs(old.time_s - at - lead.offset_s) > ON_MARK_S:
        return None
    if old.locked:
        raise ParameterError(
            f"The bar line that was put on this mark is locked at {words.clock(old.time_s)}; unlock it "
            "first. Nothing was changed."
        )
    heard_s = old.time_s if old.heard_s is None else old.heard_s
    new = old.model_copy(update={"time_s": to_s + lead.offset_s, "heard_s": heard_s, "knotted": False})
    return with_list(chosen, [new if one == old else one for one in chosen.statements])
