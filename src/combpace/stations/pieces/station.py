"""Pieces: cut, lay, repeat, without stretching."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.core.fit import advice
from combpace.session import fits, pieces, words
from combpace.session.document.model import TakePieces
from combpace.session.state import SessionState
from combpace.stations.pieces import cells, chosen, decisions, keeping
from combpace.stations.station import Action, Next, Place, Station, Step

__all__ = ["PIECES", "cells", "chosen", "decisions", "keeping"]

CUTS = (
    ("onsets", "its onsets"),
    ("bars", "every bar"),
    ("beats", "every beat"),
    ("1/8", "every 1/8"),
    ("1/16", "every 1/16"),
)
LAYS = (
    ("1/4", "the nearest 1/4"), ("1/8", "the nearest 1/8"), ("1/8t", "the nearest 1/8 triplet"), ("1/16",
    "the nearest 1/16"),
    ("bar-place", "its own place in the bar"), ("where", "where it was"),
)  # fmt: skip
FILLS = (("nothing", "nothing"), ("tail", "its own tail"))
MEETINGS = (("ends", "the earlier ends"), ("rings", "both ring"))


def focus(state: SessionState) -> str | None:
    """A take in pieces, else a loop, else one that is not of the lead's bundle, else the lead."""
    takes = state.document.takes
    lead = state.document.lead
    order = (
        *(take.id for take in takes if pieces.in_pieces(state, take.id)),
        *(take.id for take in takes if take.kind == "loop"),
        *(take.id for take in takes if not take.bundle and take.role != "lead"),
    )
    return next(iter(order), lead.id if lead else None)


def finding(state: SessionState, focus: str | None) -> str:
    cut = [take for take in state.document.takes if pieces.in_pieces(state, take.id)]
    if not cut:
        return "nothing cut"
    count = sum(len(state.document.pieces[take.id].pieces) for take in cut)
    return f"{words.count(len(cut), 'take')} in {words.count(count, 'piece')}"


def places(state: SessionState, focus: str | None) -> list[Place]:
    """Takes whose cuts lie where a mark was that has been moved since: an offer, taken by nobody but the
    user.
    """
    found = []
    for take in state.document.takes:
        moved = decisions.moved_cuts(state, take.id)
        if not moved:
            continue
        rate = pieces.rate_of(state, take.id)
        farthest = max(abs(frame / rate - now) for frame, now in moved)
        lie = "cut lies on a moved mark" if len(moved) == 1 else "cuts lie on moved marks"
        reason = f"by up to {1000 * farthest:.0f} ms; every piece stays on its place"
        found.append(
            Place(
                take.name,
                f"{len(moved)} {lie}",
                reason,
                None,
                3.0 + len(moved),
                Action("Move them", "cuts-to-marks", {"take": take.id}),
                about="cuts",
            )
        )
    return found


def _waits_for_render(state: SessionState, take_id: str) -> bool:
    """Whether a take is fitted by a rule and not rendered as it stands: what sounds cannot be cut yet."""
    if state.document.timing_take(take_id) not in state.document.rules or not fits.is_fitted(state, take_id):
        return False
    try:
        return not fits.is_rendered(state, fits.take_fit(state, take_id))
    except CombPaceError:
        return False


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    made = state.document.pieces.get(focus) if focus and pieces.in_pieces(state, focus) else None
    to_render = focus is not None and made is None and _waits_for_render(state, focus)
    return {
        "cuts": CUTS,
        "lays": LAYS,
        "fills": FILLS,
        "meetings": MEETINGS,
        "in_pieces": made is not None,
        "made": made,
        **_said(state, focus, made),
        "to_render": to_render,
        "mics": len(state.document.bundle_of(focus)) if focus else 1,
    }


def _said(state: SessionState, focus: str | None, made: TakePieces | None) -> dict[str, Any]:
    """The sentence that cut the pieces that are there, as it was; else what is proposed: at the onsets, laid
    on the smallest note value that is really played.
    """
    if made is not None and made.at is not None:
        return {"at": made.at, "stronger": f"{made.stronger:.2f}", "lay": made.lay}
    pace = state.own_pace(focus) if focus else None
    lay = str(advice.USUAL)
    if focus and pace is not None:
        lay = str(advice.finest_played(pace.to_quarters(fits.joint_marks(state, focus).times), pace))
    return {"at": decisions.ONSETS, "stronger": "0.00", "lay": lay}


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    if focus is None or not pieces.in_pieces(state, focus):
        return None
    return Next(
        f"{state.document.take(focus).name} sounds in pieces, and will be handed off like this.",
        Step("Hand it off", go="hand-off"),
    )


PIECES = Station(
    "pieces",
    "Pieces",
    6,
    finding,
    places,
    "pieces/side.html",
    values,
    more="pieces/more.html",
    focus=focus,
    next=next_step,
)
