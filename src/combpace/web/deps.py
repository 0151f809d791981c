"""What handlers are given."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Annotated, Any, TypeVar

from anyio import CapacityLimiter, to_thread
from fastapi import Depends, Request
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import MediaError
from combpace.playback.preview import Previewer
from combpace.session.data_folder import DataFolder

Value = TypeVar("Value")
# An upload that does not bring so many bytes in so long holds up a place for nothing.
SLOW_BYTES, SLOW_S = 30_000, 30.0


# What comes in as a file is kept by so many threads at a time.
FILING = 8
_filing = CapacityLimiter(FILING)


async def filed(work: Callable[..., Value], *args: Any, **named: Any) -> Value:
    """Do what may wait for the database or the disk, beside few others of its kind: pages must not wait
    behind it.
    """
    return await to_thread.run_sync(partial(work, *args, **named), limiter=_filing)


def data_folder(request: Request) -> DataFolder:
    found: DataFolder = request.app.state.folder
    return found


def previewer(request: Request) -> Previewer:
    found: Previewer = request.app.state.previewer
    return found


async def receive(request: Request, path: Path, most_bytes: int, too_large: Exception) -> int:
    """Write the body of a request into a file as it comes. Returns its bytes.

    Raises  `too_large` past the most that are taken, MediaError where it comes slower than SLOW_BYTES in
            SLOW_S
    """
    size, begun, before = 0, time.monotonic(), 0
    stream = aiter(request.stream())
    too_slow = MediaError(
        f"This file came slower than {SLOW_BYTES / SLOW_S / 1000:g} kB/s for {SLOW_S:g} s. Nothing "
        "was imported; drop it again."
    )
    with path.open("wb") as out:
        while True:
            try:
                async with asyncio.timeout(max(0.1, begun + SLOW_S - time.monotonic())):
                    chunk = await anext(stream, None)
            except TimeoutError:
                chunk = b""
            if chunk is None:
                return size
            size += len(chunk)
            if size > most_bytes:
                raise too_large
            if time.monotonic() - begun >= SLOW_S:
                if size - before < SLOW_BYTES:
                    raise too_slow
                begun, before = time.monotonic(), size
            if chunk:
                await run_in_threadpool(out.write, chunk)


Folder = Annotated[DataFolder, Depends(data_folder)]
Preview = Annotated[Previewer, Depends(previewer)]
