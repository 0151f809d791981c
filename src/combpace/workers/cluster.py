"""Errands on a Dask scheduler. Whoever reaches a scheduler can run code on its workers: keep both in a
network of your own.

Files travel with the task, unless they lie below a folder that workers see under the same path. A task notes
its start on the
scheduler; where its worker was killed Dask starts it once more elsewhere, and that second start only says so:
the same file is not
given to kill another worker. `allowed_failures` is the scheduler's own setting and may be anybody's.
"""

from __future__ import annotations

import logging
import time
import warnings
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from uuid import uuid4

from combpace.core.errors import CancelledError, CombPaceError, ParameterError
from combpace.workers.backend import LostError, said_of
from combpace.workers.errand import VERSION, Errand, Outcome, do, do_unpacked, packed, unpack

# How long is waited for a scheduler, for a worker, and until a silent scheduler counts as lost, s.
CONNECT_S, NO_WORKER_S, LOST_S = 10.0, 60.0, 8.0
# So many errands a thread wait at the scheduler: enough that none is idle, few enough that files do not fill
# it.
AHEAD = 2
CANCEL_S = 1.0
# So old may be what is known of the number of threads.
COUNT_S = 1.0
ENDED = "its worker ended while it was done: the file may be too large, or damaged in a new way"


class Cluster:
    """A `Backend` on a scheduler."""

    def __init__(self, address: str, shared: Path | None = None) -> None:
        """shared: workers see what lies below this folder under the same path. Raises ParameterError."""
        try:
            from distributed import Client
        except ImportError as error:
            raise ParameterError(
                "A scheduler needs Dask: pip install combpace[cluster]. Nothing was started."
            ) from error
        # What it logs of a lost connection is said here, once, in words.
        for name in ("distributed", "distributed.client"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
        self._address, self._shared = address, None if shared is None else shared.resolve()
        try:
            self._client = Client(address, timeout=CONNECT_S, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise ParameterError(
                f"No scheduler answers at {address} ({said_of(error)}). Nothing was started."
            ) from error
        self._run = uuid4().hex[:12]
        self._tasks: dict[str, tuple[Any, Errand, bool]] = {}
        self._counted: tuple[float, int] | None = None
        self._silent_since: float | None = None
        self._idle_since: float | None = None

    def free(self) -> int:
        self._ask()
        return max(1, AHEAD * self._threads()) - len(self._tasks)

    def _threads(self) -> int:
        """How many threads work; asked of the scheduler now and then only, for each time is a round trip."""
        now = time.monotonic()
        if self._counted is None or now - self._counted[0] > COUNT_S:
            workers = self._client.scheduler_info(n_workers=-1).get("workers", {})
            self._counted = now, sum(worker["nthreads"] for worker in workers.values())
        return self._counted[1]

    def _ask(self) -> None:
        """Raises LostError where the scheduler is silent, or has had no worker for too long."""
        now = time.monotonic()
        if self._client.status != "running":
            self._silent_since = self._silent_since or now
            if now - self._silent_since > LOST_S or self._client.status == "closed":
                raise LostError(f"The scheduler at {self._address} cannot be reached any longer.")
            return
        self._silent_since = None
        if self._threads():
            self._idle_since = None
            return
        self._idle_since = self._idle_since or now
        if now - self._idle_since > NO_WORKER_S:
            raise LostError(f"The scheduler at {self._address} has had no worker for {NO_WORKER_S:.0f} s.")

    def start(self, key: str, errand: Errand) -> None:
        stays = self._shared is not None and all(
            path.resolve().is_relative_to(self._shared) for path in (errand.inputs, errand.outputs)
        )
        name = f"combpace-{self._run}-{key}"
        files = None if stays else packed(errand)
        folders = (str(errand.inputs), str(errand.outputs)) if stays else None
        with warnings.catch_warnings():
            # Files are the point of the task; that they are large is known.
            warnings.simplefilter("ignore", UserWarning)
            args = (name, VERSION, errand.function, dict(errand.args), files, folders)
            try:
                future = self._client.submit(remote, *args, key=name, pure=False)
            except Exception as error:
                raise LostError(
                    f"The scheduler at {self._address} takes no tasks ({said_of(error)})."
                ) from error
        self._tasks[key] = future, errand, stays

    def alive(self, key: str) -> bool:
        future = self._tasks[key][0]
        if future.status in ("finished", "error"):
            return False
        self._ask()
        if future.status in ("cancelled", "lost"):
            if self._client.status != "running":
                return True
            raise LostError(f"The scheduler at {self._address} lost its tasks.")
        return True

    def outcome(self, key: str) -> Outcome:
        future, errand, stays = self._tasks.pop(key)
        try:
            if future.status == "error":
                return Outcome(error=_why(future.exception()))
            said = future.result(timeout=CONNECT_S)
        except Exception as error:
            return Outcome(error=_why(error))
        finally:
            self._forget(future.key)
            future.release()
        if "error" in said:
            return Outcome(error=said["error"])
        if not stays:
            unpack(errand.outputs, said["files"])
        return Outcome(said["value"])

    def cancel(self, key: str) -> None:
        """One that waits is taken away; one that runs is asked to stop, and what it makes is thrown away."""
        if key not in self._tasks:
            return
        from distributed import Event

        future, _, _ = self._tasks.pop(key)
        try:
            Event(f"cancel-{future.key}", client=self._client).set()
            self._client.cancel([future], force=True)
        except Exception:
            return

    def _forget(self, name: str) -> None:
        """The notes of a task that has ended are taken off the scheduler."""
        from distributed import Event

        try:
            Event(f"started-{name}", client=self._client).clear()
        except Exception:
            return

    def close(self) -> None:
        for key in list(self._tasks):
            self.cancel(key)
        try:
            self._client.close(timeout=2)
        except Exception:
            return


def _why(error: BaseException | None) -> str:
    kind = type(error).__name__
    if isinstance(error, ImportError | AttributeError):
        return f"its worker has no Comb Pace of this version ({VERSION}): {said_of(error)}"
    if kind == "KilledWorker":
        return ENDED
    return said_of(error) if error is not None else kind


def remote(
    name: str,
    version: str,
    function: str,
    args: Mapping[str, Any],
    files: Mapping[str, bytes] | None,
    folders: tuple[str, str] | None,
) -> dict[str, Any]:
    """What a worker does. Returns {"value", "files"}, or {"error"} in a sentence."""
    from distributed import Event, get_client

    if version != VERSION:
        return {
            "error": f"its worker has another version of Comb Pace ({VERSION}, not {version}); install the "
            "same there"
        }
    client = get_client()
    started = Event(f"started-{name}", client=client)
    if started.is_set():
        return {"error": ENDED}
    started.set()
    cancelled, asked = Event(f"cancel-{name}", client=client), time.monotonic()

    def tell(phase: str, share: float) -> None:
        nonlocal asked
        if time.monotonic() - asked > CANCEL_S:
            asked = time.monotonic()
            if cancelled.is_set():
                raise CancelledError("cancelled")

    try:
        if folders is not None:
            return {
                "value": do(Errand(function, Path(folders[0]), Path(folders[1]), (), args), tell),
                "files": {},
            }
        value, made = do_unpacked(function, args, files or {}, tell)
        return {"value": value, "files": made}
    except (CombPaceError, OSError, MemoryError, ValueError) as error:
        return {"error": said_of(error)}
