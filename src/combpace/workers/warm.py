"""One warm process that answers one request after the other. It is replaced when it dies, hangs or grows too
large.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.machine import limit_memory, starting
from combpace.workers.backend import GUARD, watch


class SlowError(CombPaceError):
    """There is no answer in time; it may come later."""


class Warm:
    """Answers `answer(*request)` in a process of its own.

    patience_s  how long a request waits for its answer, and for its turn
    most_s      a process that has not answered for so long is replaced
    """

    def __init__(
        self,
        answer: Callable[..., Any],
        preload: Sequence[str],
        memory_bytes: int | None = None,
        patience_s: float = 5.0,
        most_s: float = 60.0,
    ) -> None:
        self._answer, self._memory, self._patience_s, self._most_s = answer, memory_bytes, patience_s, most_s
        self._context = starting([GUARD, *preload])
        self._turn = threading.Lock()
        self._process: BaseProcess | None = None
        self._pipe: Connection | None = None
        # Since when an answer is owed that nobody waits for any longer.
        self._owed_since: float | None = None
        self._closed = False

    def start(self) -> None:
        """Start the process before it is needed."""
        with self._turn:
            self._ready()

    def ask(self, *request: Any) -> Any:
        """Its answer. Raises SlowError after the patience is over, and what `answer` raises."""
        begun = time.monotonic()
        if not self._turn.acquire(timeout=self._patience_s):
            raise SlowError("Sound is being made for another request. Nothing is lost; press Space again.")
        try:
            for attempt in range(2):
                try:
                    pipe = self._ready()
                    self._settle(pipe, self._patience_s - (time.monotonic() - begun))
                    pipe.send(request)
                    self._owed_since = time.monotonic()
                    if not pipe.poll(max(0.1, self._patience_s - (time.monotonic() - begun))):
                        raise SlowError(
                            "This sound takes longer to make than usual. It is being made; press Space again."
                        )
                    good, value = pipe.recv()
                    self._owed_since = None
                except (EOFError, BrokenPipeError, ConnectionResetError):
                    # It was killed while it answered.
                    self._end()
                    if attempt:
                        raise SlowError(
                            "What makes stretched sound ended twice: this take may need too much "
                            "memory. Nothing is lost."
                        ) from None
                    continue
                if not good:
                    raise value
                return value
            raise AssertionError("unreachable")
        finally:
            self._turn.release()

    def _settle(self, pipe: Connection, patience_s: float) -> None:
        """Take an answer that nobody waited for, so that the next one belongs to the next request."""
        if self._owed_since is None:
            return
        if pipe.poll(max(0.0, patience_s)):
            pipe.recv()
            self._owed_since = None
            return
        if time.monotonic() - self._owed_since > self._most_s:
            self._end()
            raise EOFError
        raise SlowError(
            "Sound is still being made for an earlier request. Nothing is lost; press Space again."
        )

    def _ready(self) -> Connection:
        if self._closed:
            raise SlowError("The server is stopping.")
        if self._process is None or not self._process.is_alive() or self._pipe is None:
            self._end()
            here, there = self._context.Pipe()
            process = self._context.Process(
                target=_serve, args=(there, self._answer, self._memory, os.getpid()), name="warm", daemon=True
            )
            try:
                # A fork server that is killed while it starts this is made anew by the next attempt.
                process.start()
            except OSError as error:
                raise EOFError from error
            finally:
                there.close()
            self._process, self._pipe = process, here
        return self._pipe

    def _end(self) -> None:
        if self._pipe is not None:
            self._pipe.close()
        if self._process is not None:
            self._process.kill()
            self._process.join(timeout=5)
        self._process, self._pipe, self._owed_since = None, None, None

    @property
    def pid(self) -> int | None:
        return self._process.pid if self._process is not None else None

    def close(self) -> None:
        """End it, also while it answers."""
        self._closed = True
        process = self._process
        if process is not None:
            process.kill()
        with self._turn:
            self._end()


def _serve(pipe: Connection, answer: Callable[..., Any], memory_bytes: int | None, parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=watch, args=(parent,), daemon=True).start()
    if memory_bytes:
        limit_memory(memory_bytes)
    while True:
        try:
            request = pipe.recv()
        except EOFError:
            return
        try:
            said = True, answer(*request)
        except MemoryError:
            said = False, CombPaceError("This sound needs more memory than it may have. Nothing is lost.")
        except Exception as error:
            said = (
                False,
                error
                if isinstance(error, CombPaceError)
                else CombPaceError(f"This sound could not be made ({error}). Nothing is lost."),
            )
        pipe.send(said)
