"""The library of grooves on the wire."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from combpace.core.fit.groove import groove_document, groove_from, in_words
from combpace.session.grooves import GrooveLibrary, Kept, groove_taken
from combpace.session.state import session_state
from combpace.session.take_names import clean_name
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")


class Taking(BaseModel):
    """bars by number; grid: its places; pattern: how many bars the groove has; name: "" for that of the take
    and its bars.
    """

    take: str = Field(max_length=64)
    from_bar: int
    to_bar: int
    grid: str = Field(default="1/16", max_length=10)
    pattern: int = Field(default=1, ge=1, le=64)
    name: str = Field(default="", max_length=200)


class Naming(BaseModel):
    name: str = Field(max_length=200)


def _said(kept: Kept) -> dict[str, Any]:
    return {"id": kept.id, "words": in_words(kept.groove), **groove_document(kept.groove)}


@router.get("/grooves")
def grooves(folder: Folder) -> dict[str, Any]:
    return {"grooves": [_said(one) for one in GrooveLibrary(folder).all()]}


@router.post("/sessions/{session_id}/grooves")
def take(session_id: str, body: Taking, folder: Folder) -> dict[str, Any]:
    """Take a groove from bars of a session into the library."""
    made = groove_taken(
        session_state(folder, session_id),
        body.take,
        (body.from_bar, body.to_bar),
        body.grid,
        body.name,
        body.pattern,
    )
    return _said(GrooveLibrary(folder).add(made))


@router.put("/grooves")
def bring(body: dict[str, Any], folder: Folder) -> dict[str, Any]:
    """Take a groove that was exported into the library."""
    return _said(GrooveLibrary(folder).add(groove_from(body)))


@router.patch("/grooves/{groove_id}")
def rename(groove_id: str, body: Naming, folder: Folder) -> dict[str, Any]:
    return _said(GrooveLibrary(folder).rename(groove_id, body.name))


@router.delete("/grooves/{groove_id}")
def remove(groove_id: str, folder: Folder) -> dict[str, str]:
    return {"removed": GrooveLibrary(folder).remove(groove_id).name}


@router.post("/grooves/{groove_id}/restore")
def restore(groove_id: str, folder: Folder) -> dict[str, Any]:
    return _said(GrooveLibrary(folder).restore(groove_id))


@router.get("/grooves/{groove_id}")
def export(groove_id: str, folder: Folder) -> Response:
    """A groove as a file."""
    made = GrooveLibrary(folder).get(groove_id)
    name = clean_name(made.name).encode("ascii", "replace").decode()
    headers = {"Content-Disposition": f'attachment; filename="{name}.json"'}
    return Response(
        json.dumps(groove_document(made), indent=1), media_type="application/json", headers=headers
    )
