"""Addresses of pages: the shelf and the stations."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from combpace.core.errors import NotFoundError, ParameterError
from combpace.media.encode import FORMATS
from combpace.services import handoff, jobs, look, picture, sessions, stations
from combpace.services.workplace import SessionState, session_state
from combpace.web.deps import Place
from combpace.web.pages.render import page

router = APIRouter()
FORMAT_NAMES = {"wav16": "WAV, 16 bit", "wav24": "WAV, 24 bit", "wav32f": "WAV, 32 bit float", "flac": "FLAC, 24 bit"}
assert set(FORMAT_NAMES) == set(FORMATS)


@router.get("/", response_class=HTMLResponse)
def shelf(place: Place, find: str = "") -> HTMLResponse:
    entries = sessions.shelf(place, find)
    return page("shelf.html", entries=entries, find=find, ago=_ago)


@router.get("/sessions/{session_id}")
def session(session_id: str, place: Place) -> Response:
    opened = place.open(session_id)
    return RedirectResponse(f"/sessions/{session_id}/{'bars' if opened.document.takes else 'takes'}", 303)


@router.get("/sessions/{session_id}/{station}", response_class=HTMLResponse)
def workspace(session_id: str, station: str, request: Request, place: Place, take: str | None = None, part: bool = False) -> HTMLResponse:
    """A station, whole or (part=1) only what a change of station swaps."""
    if station not in stations.STATIONS:
        raise NotFoundError("There is no such station. Takes, Pace, Bars, Onsets, Fit and Hand-off are.")
    seen = session_state(place, session_id)
    values = _station_values(seen, station, take)
    return page("_regions.html" if part else "workspace.html", **values)


def _station_values(seen: SessionState, station: str, take: str | None) -> dict[str, Any]:
    focus = stations.focus_of(seen, take, station)
    session_id = seen.opened.row.id
    shown = picture.picture(seen, focus)
    values: dict[str, Any] = {
        "seen": seen,
        "picture": shown,
        "session_id": session_id,
        "name": seen.opened.row.name,
        "station": station,
        "stations": stations.findings(seen, focus),
        "focus": focus,
        "takes": stations.take_lines(seen),
        "places": look.places(seen, station, focus),
        "json": json.dumps,
        "view": json.loads(seen.opened.row.view),
        "pace": None,
        "bars": None,
        "fit": None,
        "fit_missing": "",
        "threshold": "0",
        "files": [],
        "formats": FORMAT_NAMES,
        "open_jobs": [view for view in jobs.jobs_of(seen.workplace, session_id) if view.state in jobs.OPEN],
    }
    if station == "pace":
        values["pace"] = stations.pace_facts(seen)
        values["bars"] = stations.bars_facts(seen)
    elif station == "bars":
        values["bars"] = stations.bars_facts(seen)
    elif station == "onsets" and focus:
        edits = seen.document.edits.get(focus)
        values["threshold"] = f"{edits.threshold:.2f}" if edits else "0.00"
        values["hand_edits"] = edits.count if edits else 0
    elif station == "fit" and focus:
        try:
            values["fit"] = stations.fit_sentence(seen, focus)
        except ParameterError as error:
            values["fit_missing"] = str(error)
    elif station == "hand-off":
        values["files"] = handoff.files_of(seen.workplace, session_id)
    return values


def _ago(moment: float) -> str:
    """When a session was last touched, in words."""
    seconds = datetime.now(UTC).timestamp() - moment
    for size, one, many in ((86400, "day", "days"), (3600, "hour", "hours"), (60, "minute", "minutes")):
        if seconds >= size:
            number = int(seconds // size)
            return f"{number} {one if number == 1 else many} ago"
    return "just now"
