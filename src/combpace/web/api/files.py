"""Files that were made, for download."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import FileResponse

from combpace.core.errors import NotFoundError
from combpace.session import cleaning
from combpace.stations.handoff.writers import mime_of
from combpace.store import rows
from combpace.store.errors import MissingError
from combpace.web.deps import Folder

router = APIRouter(prefix="/api/files")


@router.delete("/hand-offs/{session_id}/{order}")
def remove_hand_off(session_id: str, order: str, folder: Folder) -> dict[str, int]:
    """Remove what was handed off at once: {"files"}, how many."""
    folder.session_row(session_id)
    return {"files": cleaning.remove_hand_off(folder, session_id, order)}


@router.get("/{file_id}")
def download(file_id: str, folder: Folder) -> FileResponse:
    """A file that was handed off or rendered, by its id only."""
    try:
        row = rows.file_row(folder.database, file_id)
    except MissingError as error:
        raise NotFoundError("This file does not exist, or no longer. Hand it off again.") from error
    return FileResponse(folder.blob(row.sha), filename=row.name, media_type=mime_of(row.name))
