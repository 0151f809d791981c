"""What handlers are given."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import Depends, Request
from starlette.concurrency import run_in_threadpool

from combpace.playback.preview import Previewer
from combpace.session.data_folder import DataFolder


def data_folder(request: Request) -> DataFolder:
    found: DataFolder = request.app.state.folder
    return found


def previewer(request: Request) -> Previewer:
    found: Previewer = request.app.state.previewer
    return found


async def receive(request: Request, path: Path, most_bytes: int, too_large: Exception) -> int:
    """Write the body of a request into a file as it comes. Returns its bytes; raises `too_large` past the most that are taken."""
    size = 0
    with path.open("wb") as out:
        async for chunk in request.stream():
            size += len(chunk)
            if size > most_bytes:
                raise too_large
            await run_in_threadpool(out.write, chunk)
    return size


Folder = Annotated[DataFolder, Depends(data_folder)]
Preview = Annotated[Previewer, Depends(previewer)]
