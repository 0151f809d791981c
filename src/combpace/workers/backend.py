"""What starts work, knows whether it is alive, and cancels it: one protocol, and processes of this
machine.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from typing import Any, Protocol

from combpace.core.errors import CombPaceError
from combpace.machine import is_alive, starting
from combpace.workers.errand import Errand, Outcome, do

# So often a process looks whether who started it is still there.
WATCH_S = 0.5
# What a fork server imports first.
GUARD = "combpace.workers.guard"
# And what every process imports that listens or stretches. scipy.signal takes half a second: workers fork
# from a process that has it, and the server itself never imports it.
PRELOAD = ("combpace.jobs.process", "scipy.signal")
# So long processes have to end when they are told to.
CLOSE_S = 3.0


class LostError(CombPaceError):
    """Whoever does the work cannot be reached any longer; what was not done can be done elsewhere."""


class Backend(Protocol):
    """Where errands are done. Keys are the caller's."""

    def free(self) -> int:
        """How many more may be started now."""
        ...

    def start(self, key: str, errand: Errand) -> None: ...

    def alive(self, key: str) -> bool:
        """Whether it waits or runs. Raises LostError."""
        ...

    def outcome(self, key: str) -> Outcome:
        """How one that is no longer alive ended; it is forgotten then."""
        ...

    def cancel(self, key: str) -> None: ...

    def close(self) -> None: ...


class Processes:
    """A process each, so that one that is killed takes nothing with it. A fork server has everything
    imported.
    """

    def __init__(self, most: int, preload: Sequence[str] = ()) -> None:
        self._most = most
        self._context = starting([GUARD, *preload])
        self._running: dict[str, tuple[BaseProcess, Connection | None]] = {}

    def free(self) -> int:
        return self._most - len(self._running)

    def start(self, key: str, errand: Errand) -> None:
        here, there = self._context.Pipe(duplex=False)
        self.start_plain(key, _errand, (there, errand, os.getpid()), here, daemon=True)
        there.close()

    def start_plain(
        self,
        key: str,
        run: Callable[..., None],
        args: tuple[Any, ...],
        pipe: Connection | None = None,
        daemon: bool = False,
    ) -> None:
        """Any function of plain arguments, which says elsewhere how it ended."""
        process = self._context.Process(target=run, args=args, name=key, daemon=daemon)
        process.start()
        self._running[key] = process, pipe

    def alive(self, key: str) -> bool:
        return self._running[key][0].is_alive()

    def pids(self) -> dict[str, int]:
        return {key: process.pid or 0 for key, (process, _) in self._running.items()}

    def started(self) -> list[str]:
        return list(self._running)

    def outcome(self, key: str) -> Outcome:
        process, pipe = self._running.pop(key)
        process.join()
        said: Outcome | None = None
        if pipe is not None:
            try:
                said = pipe.recv() if pipe.poll() else None
            except EOFError:
                said = None
            pipe.close()
        code = process.exitcode or 0
        process.close()
        how = f"it was ended by signal {-code}" if code < 0 else f"it ended with status {code}"
        return said or Outcome(error=how)

    def cancel(self, key: str) -> None:
        if key in self._running:
            self._running[key][0].terminate()

    def kill(self, key: str) -> None:
        """End one that does not listen."""
        if key in self._running:
            self._running[key][0].kill()

    def close(self) -> None:
        for process, _ in self._running.values():
            process.terminate()
        end = time.monotonic() + CLOSE_S
        for process, _ in self._running.values():
            process.join(timeout=max(0.0, end - time.monotonic()))
            if process.is_alive():
                process.kill()
                process.join(timeout=1)


def _errand(pipe: Connection, errand: Errand, parent: int) -> None:
    """The whole life of one process."""
    # A key that stops the command is for the command; it ends this.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=watch, args=(parent,), daemon=True).start()
    try:
        pipe.send(Outcome(do(errand)))
    except Exception as error:
        pipe.send(Outcome(error=said_of(error)))


def said_of(error: BaseException) -> str:
    """An error in one line."""
    return (str(error) or type(error).__name__).replace("\n", " ")


def watch(parent: int) -> None:
    """End with whoever started this: what is half done is done again by the next."""
    while True:
        time.sleep(WATCH_S)
        if not is_alive(parent):
            os._exit(1)
