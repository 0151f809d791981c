"""Hand-off: everything that leaves the session."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.jobs import queue
from combpace.media.encode import FORMATS
from combpace.session import pieces, words
from combpace.session.state import SessionState
from combpace.stations.handoff.ordering import (
    RATES_HZ,
    Wish,
    announced,
    last_wish,
    start_bar,
    ticked,
)
from combpace.stations.handoff.write import files_of
from combpace.stations.handoff.writers import offered
from combpace.stations.station import Next, Place, Station, Step
from combpace.store.models import WANTED

__all__ = ["FORMAT_NAMES", "HAND_OFF"]

FORMAT_NAMES = {
    "wav16": "WAV, 16 bit",
    "wav24": "WAV, 24 bit",
    "wav32f": "WAV, 32 bit float",
    "flac": "FLAC, 24 bit",
}
assert set(FORMAT_NAMES) == set(FORMATS)


def finding(state: SessionState, focus: str | None) -> str:
    files = [file for file in files_of(state.folder, state.opened.row.id) if file.kind != "handoff archive"]
    return words.count(len(files), "file") if files else "nothing handed off"


def places(state: SessionState, focus: str | None) -> list[Place]:
    found = []
    for take in state.document.takes:
        row = state.rows.get(take.id)
        if row is not None and row.state == "failed":
            found.append(
                Place(
                    take.name, "Could not be read", "it is left out; Takes says why", None, 6, about="unread"
                )
            )
        elif row is not None and row.state == WANTED:
            found.append(
                Place(
                    take.name,
                    "Its sound is not here",
                    "it is left out; drop its file in Takes",
                    None,
                    6,
                    about="wanted",
                )
            )
        elif row is None or row.state not in ("ready", "listening"):
            found.append(
                Place(
                    take.name,
                    "Still being read",
                    "it is left out until it is there",
                    None,
                    5,
                    about="reading-now",
                )
            )
    return found


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    writers = offered(
        bool(state.document.notes), any(pieces.in_pieces(state, take.id) for take in state.document.takes)
    )
    wish = proposed(state)
    number = start_bar(wish)
    return {
        "orders": orders_of(state),
        "formats": FORMAT_NAMES,
        "rates": RATES_HZ,
        "writers": writers,
        "wish": wish,
        "wish_bar": 1 if number is None else number,
        "parts": state.document.notes,
        "plan": plan(state, wish),
        "open_jobs": [view for view in queue.jobs_of(state.folder, state.opened.row.id) if view.is_open],
    }


def proposed(state: SessionState) -> Wish:
    """What the sentence says at first: as the last time, or everything from bar 1 on."""
    kept = last_wish(state)
    if kept is not None:
        return kept
    writers = offered(bool(state.document.notes), False)
    return Wish(takes=ticked(state), extras=[one.name for one in writers if one.proposed])


def plan(state: SessionState, wish: Wish) -> dict[str, Any]:
    """What would be written, or why nothing can be: {"refusal"}."""
    try:
        return announced(state, wish)
    except CombPaceError as error:
        return {"refusal": str(error)}


def orders_of(state: SessionState) -> list[dict[str, Any]]:
    """What was handed off, by order, newest first: {when, version, old, files: [{id, name, what, note,
    bytes}]}, the zip first.
    """
    found: dict[str, dict[str, Any]] = {}
    for file in files_of(state.folder, state.opened.row.id):
        details = json.loads(file.details or "{}")
        one = found.setdefault(
            str(details.get("order")),
            {
                "id": str(details.get("order")),
                "when": datetime.fromtimestamp(file.created).strftime("%-d %b %Y, %H:%M"),
                "version": details.get("version"),
                "old": details.get("revision") != state.opened.revision.id,
                "files": [],
            },
        )
        what = "all in one zip" if file.kind == "handoff archive" else file.kind.removeprefix("handoff ")
        one["files"].append(
            {
                "id": file.id,
                "name": file.name,
                "what": what,
                "note": details.get("note", ""),
                "bytes": file.bytes,
                "takes": details.get("takes"),
            }
        )
    return list(found.values())


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    jobs = queue.jobs_of(state.folder, state.opened.row.id)
    if any(view.kind == "handoff" and view.is_open for view in jobs):
        return Next("The files are being written; what is below is older.", Step("Play it", command="play"))
    newest = next(iter(orders_of(state)), None)
    if newest is None or newest["old"]:
        return None
    archive = next((file for file in newest["files"] if file["what"] == "all in one zip"), None)
    if archive is None:
        return None
    absent = left_out_of(state, archive["takes"])
    return Next(
        "It is ready. One zip holds "
        + (f"everything but {words.listed(absent)}" if absent else "everything")
        + "; each file can also be taken alone below.",
        Step("Download the zip" if absent else "Download everything", href=f"/api/files/{archive['id']}"),
    )


def left_out_of(state: SessionState, takes: Sequence[str] | None) -> list[str]:
    """Names of what is ticked and not in an order of these takes; none where those are not known."""
    names = {take.id: take.name for take in state.document.takes}
    names |= {part.id: part.name for part in state.document.notes}
    return [] if takes is None else [names[one] for one in ticked(state) if one not in takes]


HAND_OFF = Station(
    "hand-off",
    "Hand-off",
    7,
    finding,
    places,
    "handoff/side.html",
    values,
    ledger="handoff/ledger.html",
    next=next_step,
)
