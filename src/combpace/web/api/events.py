"""Server-sent events: what moved since the page last heard."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import State

from combpace.core.errors import StorageError
from combpace.jobs import queue
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.web.api.jobs import wire
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")
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
    state = request.app.state
    bell = state.watcher.join()
    try:
        async for text in _told(session_id, state, folder, bell):
            yield text
    finally:
        state.watcher.leave(bell)


async def _told(session_id: str, state: State, folder: DataFolder, bell: asyncio.Event) -> AsyncIterator[str]:
    since, version, trouble, first = 0.0, -1, "", True
    while not state.stopping.is_set():
        bell.clear()
        try:
            found, now = await run_in_threadpool(_news, folder, session_id, since)
        except StorageError:
            # What is to be told is told when the database answers again.
            await asyncio.sleep(TROUBLE_S)
            bell.set()
            continue
        held_up = (state.dispatcher.trouble or "") if state.dispatcher else ""
        if held_up != trouble:
            trouble = held_up
            yield f"event: trouble\ndata: {json.dumps(trouble)}\n\n"
        since = max([since, *(view.changed for view in found)])
        if first:
            # What ended before the page was there is no news.
            found = [view for view in found if view.is_open]
            first = False
        if found:
            yield f"event: jobs\ndata: {json.dumps([wire(view) for view in found])}\n\n"
        if now != version:
            version = now
            yield f"event: version\ndata: {version}\n\n"
        try:
            await asyncio.wait_for(bell.wait(), QUIET_S)
        except TimeoutError:
            yield ": still here\n\n"


def _news(folder: DataFolder, session_id: str, since: float) -> tuple[list[queue.JobView], int]:
    return queue.jobs_of(folder, session_id, since), rows.session_version(folder.database, session_id)
