"""Server-sent events: what moved since the page last heard."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import StorageError
from combpace.jobs import queue
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.web.api.jobs import wire
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")
EVENT_POLL_S = 0.2
TROUBLE_S = 2.0
QUIET_S = 15


@router.get("/sessions/{session_id}/events")
async def events(session_id: str, request: Request, folder: Folder) -> StreamingResponse:
    """`jobs` when one moved, `version` when the session was changed, by whatever page; `trouble` when jobs
    are held up, or "" when they go on.
    """
    await run_in_threadpool(folder.open, session_id)
    return StreamingResponse(_events(session_id, request, folder), media_type="text/event-stream")


async def _events(session_id: str, request: Request, folder: DataFolder) -> AsyncIterator[str]:
    since, version, trouble = 0.0, -1, ""
    dispatcher = request.app.state.dispatcher
    first = True
    quiet = 0.0
    while not request.app.state.stopping.is_set():
        try:
            found, now = await run_in_threadpool(_news, folder, session_id, since)
        except StorageError:
            # What is to be told is told when the database answers again.
            await asyncio.sleep(TROUBLE_S)
            continue
        held_up = (dispatcher.trouble or "") if dispatcher else ""
        if held_up != trouble:
            trouble = held_up
            yield f"event: trouble\ndata: {json.dumps(trouble)}\n\n"
        since = max([since, *(view.changed for view in found)])
        if first:
            # What ended before the page was there is no news.
            found = [view for view in found if view.is_open]
            first = False
        quiet += EVENT_POLL_S
        if found:
            quiet = 0.0
            yield f"event: jobs\ndata: {json.dumps([wire(view) for view in found])}\n\n"
        if now != version:
            version, quiet = now, 0.0
            yield f"event: version\ndata: {version}\n\n"
        if quiet > QUIET_S:
            quiet = 0.0
            yield ": still here\n\n"
        await asyncio.sleep(EVENT_POLL_S)


def _news(folder: DataFolder, session_id: str, since: float) -> tuple[list[queue.JobView], int]:
    return queue.jobs_of(folder, session_id, since), rows.session_version(folder.database, session_id)
