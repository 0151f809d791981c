"""Pieces: cut, lay, repeat, without stretching."""

from __future__ import annotations

from typing import Any

from combpace.drawing import picture
from combpace.session import pieces, words
from combpace.session.state import SessionState
from combpace.stations.pieces import cells, chosen, decisions, keeping
from combpace.stations.station import Action, Place, Station

__all__ = ["PIECES", "cells", "chosen", "decisions", "keeping"]

CUTS = (("onsets", "its onsets"), ("bars", "every bar"), ("beats", "every beat"), ("1/8", "every 1/8"), ("1/16", "every 1/16"))
LAYS = (
    ("1/4", "the nearest 1/4"), ("1/8", "the nearest 1/8"), ("1/8t", "the nearest 1/8 triplet"), ("1/16", "the nearest 1/16"),
    ("bar-place", "its own place in the bar"), ("where", "where it was"),
)  # fmt: skip
FILLS = (("nothing", "nothing"), ("tail", "its own tail"))
MEETINGS = (("ends", "the earlier ends"), ("rings", "both ring"))
MOST_LISTED = 300


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
    """Takes whose cuts lie where a mark was that has been moved since: an offer, taken by nobody but the user."""
    found = []
    for take in state.document.takes:
        moved = decisions.moved_cuts(state, take.id)
        if not moved:
            continue
        rate = pieces.rate_of(state, take.id)
        farthest = max(abs(frame / rate - now) for frame, now in moved)
        lie = "cut lies on a moved mark" if len(moved) == 1 else "cuts lie on moved marks"
        reason = f"by up to {1000 * farthest:.0f} ms; every piece stays on its place"
        found.append(Place(take.name, f"{len(moved)} {lie}", reason, None, 3.0 + len(moved), Action("Move them", "cuts-to-marks", {"take": take.id})))
    return found


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    made = state.document.pieces.get(focus) if focus and pieces.in_pieces(state, focus) else None
    line = state.session_map()
    rows = picture.piece_rows(state, focus)[:MOST_LISTED] if focus and made else []
    listed = [
        {
            "number": row["number"],
            "place": words.place(line, line.place(row["at"])) if line else "",
            "ms": round(1000 * (row["stop"] - row["start"])),
            "off": None if row["off"] is None else words.signed_ms(row["off"]),
        }
        for row in sorted(rows, key=lambda row: row["at"])
    ]
    return {"cuts": CUTS, "lays": LAYS, "fills": FILLS, "meetings": MEETINGS, "in_pieces": made is not None, "made": made, "listed": listed}


PIECES = Station("pieces", "Pieces", 6, finding, places, "pieces/side.html", values, more="pieces/more.html", focus=focus)
