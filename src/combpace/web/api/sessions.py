"""The shelf on the wire: made, renamed, removed, brought back, duplicated; what is kept of a session's
view.
"""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from combpace.session import shelf
from combpace.web.deps import Folder

router = APIRouter(prefix="/api/sessions")


class NewSession(BaseModel):
    name: str = Field(default="New session", max_length=300)


class Rename(BaseModel):
    name: str = Field(max_length=300)


@router.post("")
def new_session(body: NewSession, folder: Folder) -> dict[str, str]:
    return {"id": shelf.create(folder, body.name)}


@router.patch("/{session_id}")
def rename_session(session_id: str, body: Rename, folder: Folder) -> dict[str, bool]:
    shelf.rename(folder, session_id, body.name)
    return {"ok": True}


@router.delete("/{session_id}")
def remove_session(session_id: str, folder: Folder) -> dict[str, bool]:
    shelf.remove(folder, session_id)
    return {"ok": True}


@router.post("/{session_id}/restore")
def restore_session(session_id: str, folder: Folder) -> dict[str, bool]:
    shelf.restore(folder, session_id)
    return {"ok": True}


@router.post("/{session_id}/duplicate")
def duplicate_session(session_id: str, folder: Folder) -> dict[str, str]:
    return {"id": shelf.duplicate(folder, session_id)}


@router.put("/{session_id}/levels")
def keep_view(session_id: str, body: dict[str, Any], folder: Folder) -> dict[str, bool]:
    shelf.save_view(folder, session_id, body)
    return {"ok": True}
