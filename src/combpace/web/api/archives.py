"""Whole sessions on the wire: out as an archive, in as a new session."""

from __future__ import annotations

from fastapi import APIRouter, BackgroundTasks, Query, Request
from fastapi.responses import FileResponse
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import MediaError
from combpace.media.names import file_name
from combpace.session.archive import ENDING, read_archive, write_archive
from combpace.session.take_names import clean_name
from combpace.web.deps import Folder, receive

router = APIRouter(prefix="/api")


@router.get("/sessions/{session_id}/archive")
def get_archive(session_id: str, folder: Folder, background: BackgroundTasks, newest: bool = False) -> FileResponse:
    """A session as one file; newest: its present state alone, without what led there."""
    name = folder.open(session_id).row.name
    path = folder.blobs.new_path(ENDING)
    background.add_task(path.unlink, missing_ok=True)
    with path.open("wb") as out:
        write_archive(folder, session_id, out, newest=newest)
    return FileResponse(path, filename=file_name(name, ENDING, set()), media_type="application/zip")


@router.put("/archives")
async def put_archive(request: Request, folder: Folder, name: str = Query(max_length=1000)) -> dict[str, str]:
    """The raw bytes of an archive: {"id"} of the new session that it opens as."""
    cap = folder.settings.upload_cap
    too_large = MediaError(f"“{clean_name(name)}” is larger than {cap / 2**20:,.0f} MiB, which is the most that is taken. Nothing was imported.")
    path = folder.blobs.new_path(ENDING)
    try:
        await receive(request, path, cap, too_large)
        return {"id": await run_in_threadpool(read_archive, folder, path)}
    finally:
        path.unlink(missing_ok=True)
