"""Decisions on the wire, and what the pages draw and list from: picture, weave, places to look at."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Query
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, Field

from combpace.drawing import picture, weave
from combpace.session import decisions
from combpace.session.state import session_state
from combpace.stations import registry
from combpace.web.deps import Folder

router = APIRouter(prefix="/api/sessions/{session_id}")


class Act(BaseModel):
    """A decision on a session: the version it is based on, and its arguments."""

    version: int
    args: dict[str, object] = Field(default_factory=dict)


@router.post("/act/{name}")
def take_decision(session_id: str, name: str, body: Act, folder: Folder) -> dict[str, Any]:
    revision = decisions.decide(folder, session_id, name, body.version, body.args)
    return {"version": revision.version, "note": revision.note, "can_undo": revision.can_undo, "can_redo": revision.can_redo}


@router.get("/look")
def get_look(session_id: str, folder: Folder, station: str, take: str | None = None) -> dict[str, list[dict[str, Any]]]:
    """All places of a station that deserve a look, worst first."""
    here, state = registry.station(station), session_state(folder, session_id)
    return {"places": [place.wire for place in registry.places(state, here, registry.focus_of(state, take, here))]}


@router.get("/picture")
def get_picture(session_id: str, folder: Folder, focus: str | None = None) -> Response:
    return JSONResponse(picture.picture(session_state(folder, session_id), focus))


@router.get("/weave")
def get_weave(session_id: str, folder: Folder, columns: int = Query(240, ge=8, le=2000)) -> Response:
    """Darkness 0-255, a row of bytes a bar; the headers say how many."""
    first, dark = weave.weave_of(folder, session_id, columns)
    headers = {"X-First-Bar-Index": str(first), "X-Rows": str(len(dark)), "X-Columns": str(columns)}
    return Response((dark * 255).clip(0, 255).astype("uint8").tobytes(), media_type="application/octet-stream", headers=headers)
