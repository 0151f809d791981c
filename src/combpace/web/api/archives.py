"""Whole sessions on the wire: out as an archive, in as a new session."""

from __future__ import annotations

from functools import partial
from urllib.parse import quote

from fastapi import APIRouter, BackgroundTasks, Query, Request
from fastapi.responses import FileResponse, Response

from combpace.batch.recipe import recipe_of
from combpace.core.errors import MediaError
from combpace.media.names import file_name
from combpace.session.archive import ENDING, begin_archive, write_archive
from combpace.session.archive_judge import judge
from combpace.session.state import session_state
from combpace.session.take_names import clean_name
from combpace.web.deps import Folder, filed, receive
from combpace.workers.bounded import bounded

router = APIRouter(prefix="/api")


@router.get("/sessions/{session_id}/archive")
def get_archive(
    session_id: str, folder: Folder, background: BackgroundTasks, newest: bool = False, sound: bool = True
) -> FileResponse:
    """A session as one file; newest: its present state alone; sound=false: without the takes' files."""
    name = folder.session_row(session_id).name
    path = folder.blobs.new_path(ENDING)
    background.add_task(path.unlink, missing_ok=True)
    try:
        with path.open("wb") as out:
            write_archive(folder, session_id, out, newest=newest, sound=sound)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return FileResponse(path, filename=file_name(name, ENDING, set()), media_type="application/zip")


@router.get("/sessions/{session_id}/recipe")
def get_recipe(session_id: str, folder: Folder) -> Response:
    """What was done with the session's takes, as the fields of a batch: for other files."""
    seen = session_state(folder, session_id)
    name = file_name(f"{seen.opened.row.name} recipe", ".json", set())
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
    return Response(
        recipe_of(seen).model_dump_json(indent=1) + "\n", media_type="application/json", headers=headers
    )


@router.put("/archives")
async def put_archive(request: Request, folder: Folder, name: str = Query(max_length=1000)) -> dict[str, str]:
    """The raw bytes of an archive: {"id"} of the new session that it opens as; with {"job"} beside it while
    its sound is read.
    """
    cap = folder.settings.upload_cap
    too_large = MediaError(
        f"“{clean_name(name)}” is larger than {cap / 2**20:,.0f} MiB, which is the most that is "
        "taken. Nothing was imported."
    )
    path = folder.blobs.new_path(ENDING)
    try:
        await receive(request, path, cap, too_large)
        judged = partial(bounded, "This archive", judge)
        made, job = await filed(begin_archive, folder, path, judged)
        return {"id": made} if job is None else {"id": made, "job": job}
    finally:
        path.unlink(missing_ok=True)
