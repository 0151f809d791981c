"""Hand-off: everything that leaves the session."""

from __future__ import annotations

import json
from typing import Any

from combpace.jobs import queue
from combpace.media.encode import FORMATS
from combpace.session import words
from combpace.session.state import SessionState
from combpace.stations.handoff.write import files_of
from combpace.stations.handoff.writers import WRITERS
from combpace.stations.station import Place, Station

__all__ = ["FORMAT_NAMES", "HAND_OFF"]

FORMAT_NAMES = {"wav16": "WAV, 16 bit", "wav24": "WAV, 24 bit", "wav32f": "WAV, 32 bit float", "flac": "FLAC, 24 bit"}
assert set(FORMAT_NAMES) == set(FORMATS)


def finding(state: SessionState, focus: str | None) -> str:
    files = [file for file in files_of(state.folder, state.opened.row.id) if file.kind != "handoff archive"]
    return words.count(len(files), "file") if files else "nothing handed off"


def places(state: SessionState, focus: str | None) -> list[Place]:
    found = []
    for take in state.document.takes:
        row = state.rows.get(take.id)
        if row is not None and row.state == "failed":
            found.append(Place(take.name, "Could not be read", "it is left out; Takes says why", None, 6))
        elif row is None or row.state not in ("ready", "listening"):
            found.append(Place(take.name, "Still being read", "it is left out until it is there", None, 5))
    return found


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    files = files_of(state.folder, state.opened.row.id)
    return {
        "files": files,
        "notes": {file.id: note for file in files if (note := json.loads(file.details or "{}").get("note"))},
        "formats": FORMAT_NAMES,
        "writers": [one for one in WRITERS.values() if state.document.notes or not one.of_parts],
        "parts": state.document.notes,
        "open_jobs": [view for view in queue.jobs_of(state.folder, state.opened.row.id) if view.is_open],
    }


HAND_OFF = Station("hand-off", "Hand-off", 7, finding, places, "handoff/side.html", values, ledger="handoff/ledger.html")
