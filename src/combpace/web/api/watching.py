"""One look at the database for all event streams: each is woken when something moved, and only then asks."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable

from starlette.concurrency import run_in_threadpool

from combpace.core.errors import StorageError
from combpace.store.database import Changes, Database

# So often it is looked, for all streams together.
LOOK_S = 0.2


class Watcher:
    """Wakes streams. It looks only while there are any.

    also    what else moves that a stream tells of, beside the database: compared from look to look
    is_over whether the server is being stopped: then all are woken
    """

    def __init__(self, database: Database, also: Callable[[], object], is_over: Callable[[], bool]) -> None:
        self._database, self._also, self._is_over = database, also, is_over
        self._bells: set[asyncio.Event] = set()
        self._looking: asyncio.Task[None] | None = None

    def join(self) -> asyncio.Event:
        """A bell that is set whenever something moved. Whoever waits for it clears it, and leaves at last."""
        bell = asyncio.Event()
        self._bells.add(bell)
        if self._looking is None or self._looking.done():
            self._looking = asyncio.get_running_loop().create_task(self._look())
        return bell

    def leave(self, bell: asyncio.Event) -> None:
        self._bells.discard(bell)

    async def _look(self) -> None:
        changes = Changes(self._database)
        seen: tuple[object, ...] = ()
        try:
            while self._bells:
                now: tuple[object, ...] = ()
                # Where the database does not answer, what moved is told when it does again.
                with contextlib.suppress(StorageError):
                    now = (await run_in_threadpool(changes.mark), self._also(), self._is_over())
                if now != seen:
                    seen = now
                    for bell in self._bells:
                        bell.set()
                await asyncio.sleep(LOOK_S)
        finally:
            changes.close()
