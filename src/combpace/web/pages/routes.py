"""Addresses of pages: the shelf and the stations."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from combpace.drawing import picture, ranges
from combpace.session import cleaning, shelf
from combpace.session.data_folder import view_in
from combpace.session.state import SessionState, session_state
from combpace.stations import registry
from combpace.stations.explained import EXPLAINED
from combpace.stations.handoff.ordering import Wish
from combpace.stations.handoff.station import plan
from combpace.stations.station import Station
from combpace.stations.takes.arriving import arrival_lines
from combpace.stations.takes.station import take_lines
from combpace.web.api.health import health
from combpace.web.deps import Folder
from combpace.web.pages.render import in_json, page

router = APIRouter()
# So many places are listed; the wire has all of them.
MOST_LISTED = 200
# So many bars stand in the table for screen readers.
MOST_BARS = 400


@router.get("/", response_class=HTMLResponse)
def the_shelf(folder: Folder, find: str = "") -> HTMLResponse:
    freed = cleaning.found(folder)
    return page("shelf.html", entries=shelf.shelf(folder, find), find=find, ago=_ago, freed=freed)


@router.get("/health", response_class=HTMLResponse)
def the_health(request: Request, folder: Folder) -> HTMLResponse:
    """Whether the server is well, in words; 503 where it is not."""
    found = health(request, folder)
    made = page("health.html", found=found, data=str(folder.settings.data_dir))
    made.status_code = 200 if found["ok"] else 503
    return made


@router.get("/explained", response_class=HTMLResponse)
def the_explanations() -> HTMLResponse:
    """What the reasons in Look here mean."""
    return page("explained.html", explained=EXPLAINED)


@router.get("/sessions/{session_id}")
def session(session_id: str, folder: Folder) -> Response:
    has_takes = bool(folder.open(session_id).document.takes)
    return RedirectResponse(
        f"/sessions/{session_id}/{registry.OPENS_AT if has_takes else registry.OPENS_EMPTY_AT}", 303
    )


@router.get("/sessions/{session_id}/{station}", response_class=HTMLResponse)
def workspace(
    session_id: str,
    station: str,
    folder: Folder,
    take: str | None = None,
    of: str | None = None,
    part: bool = False,
) -> HTMLResponse:
    """A station, whole or (part=1) only what a change of station swaps; of: the take whose own bars Bars is
    about.
    """
    here, state = registry.station(station), session_state(folder, session_id)
    return page(
        "_regions.html" if part else "workspace.html",
        **_values(state, here, registry.focus_of(state, take, here), of, part=part),
    )


@router.post("/sessions/{session_id}/hand-off/plan", response_class=HTMLResponse)
def hand_off_plan(session_id: str, body: Wish, folder: Folder) -> HTMLResponse:
    """What an order would write, as the page shows it."""
    return page("handoff/plan.html", plan=plan(session_state(folder, session_id), body))


def _values(
    state: SessionState, here: Station, focus: str | None, of: str | None, *, part: bool
) -> dict[str, Any]:
    """What every station is given, and what this one asks for."""
    seen = registry.seen_by(state, here, of)
    places = registry.places(seen, here, focus)
    return {
        "picture": picture.head(seen, focus) if part else ranges.in_short(seen, focus, fit=here.fitted),
        "bar_rows": picture.shown_bars(seen),
        "most_bars": MOST_BARS,
        "session_id": state.opened.row.id,
        "name": state.opened.row.name,
        "here": here,
        "stations": registry.findings(state, focus),
        "focus": focus,
        "takes": take_lines(state),
        "arrivals": arrival_lines(state),
        "places": places[:MOST_LISTED],
        "place_count": len(places),
        "heard": registry.heard(seen, here, focus),
        "next": registry.next_step(seen, here, focus, places),
        "json": in_json,
        "view": view_in(state.opened.row.view),
        "bars_of": of if seen is not state else None,
        "own_bars": [
            take
            for take in (*state.document.takes, *state.document.arrivals)
            if take.role == "lead" or take.pace == "own"
        ],
        **here.values(seen, focus),
    }


def _ago(moment: float) -> str:
    """When a session was last touched, in words."""
    seconds = datetime.now(UTC).timestamp() - moment
    for size, one, many in ((86400, "day", "days"), (3600, "hour", "hours"), (60, "minute", "minutes")):
        if seconds >= size:
            number = int(seconds // size)
            return f"{number} {one if number == 1 else many} ago"
    return "just now"
