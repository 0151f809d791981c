"""What runs in a worker process: one job, with progress, heartbeat, cancel and a memory limit."""

from __future__ import annotations

import contextlib
import importlib
import json
import sys
import threading
import time
from typing import Any

from combpace.core.errors import CancelledError, CombPaceError, StorageError
from combpace.jobs.registry import JOBS
from combpace.machine import limit_memory
from combpace.session.data_folder import DataFolder
from combpace.settings import Settings
from combpace.store import rows
from combpace.store.trouble import storage_error
from combpace.workers.backend import watch

HEARTBEAT_S = 1.0
REPORT_S = 0.15
# The status with which a process ends that can write nothing down.
NO_ROOM = 28


def run(settings: Settings, job_id: str, server_pid: int, rooms: str) -> None:
    """The whole life of one worker; `rooms` is the module that registers every job."""
    importlib.import_module(rooms)
    limit_memory(settings.worker_bytes)
    folder = DataFolder(settings)
    folder.job = job_id
    # Where the server is gone its next start takes this job up again.
    threading.Thread(target=watch, args=(server_pid,), daemon=True).start()
    threading.Thread(target=_beat, args=(folder, job_id), daemon=True).start()
    row = rows.job_row(folder.database, job_id)
    if row is None:
        return
    try:
        folder.blobs.work_in(job_id)
        _do(folder, row.kind, json.loads(row.args), job_id)
    except (StorageError, OSError):
        # Not even the end can be written down: whoever started this does it when there is room.
        sys.exit(NO_ROOM)


def _do(folder: DataFolder, kind: str, args: dict[str, Any], job_id: str) -> None:
    try:
        result = JOBS[kind](folder, args, _Reporter(folder, job_id))
        finish(folder, job_id, "done", None, result)
    except CancelledError:
        finish(folder, job_id, "cancelled", "Cancelled; nothing was changed.", {})
    except CombPaceError as error:
        finish(folder, job_id, "failed", str(error), {})
    except MemoryError:
        finish(
            folder,
            job_id,
            "failed",
            "This needs more memory than one job may have. Nothing was changed; try a shorter file.",
            {},
        )
    except Exception as error:
        said = storage_error(error, folder.settings.data_dir)
        if said is not None:
            finish(folder, job_id, "failed", str(said), {})
            return
        # The trace goes to the server's log, the user gets a sentence.
        print(f"job {job_id} ({kind}) failed", file=sys.stderr)
        sys.excepthook(type(error), error, error.__traceback__)
        finish(
            folder,
            job_id,
            "failed",
            "This failed because of a fault in the program. Nothing was changed; the log has the details.",
            {},
        )


class _Reporter:
    """Writes progress to the job's row, not more often than is worth reading, and notices a cancel."""

    def __init__(self, folder: DataFolder, job_id: str) -> None:
        self._folder, self._job_id = folder, job_id
        self._last, self._phase = 0.0, ""

    def __call__(self, phase: str, share: float) -> None:
        moment = time.monotonic()
        if phase == self._phase and moment - self._last < REPORT_S:
            return
        self._last, self._phase = moment, phase
        if not rows.report_job(
            self._folder.database, self._job_id, phase, round(min(1.0, max(0.0, share)), 4)
        ):
            raise CancelledError("cancelled")


def _beat(folder: DataFolder, job_id: str) -> None:
    while True:
        time.sleep(HEARTBEAT_S)
        with contextlib.suppress(Exception):
            # A full disk ends no heartbeat: the next beat may be kept.
            rows.beat_job(folder.database, job_id)


def finish(folder: DataFolder, job_id: str, state: str, error: str | None, result: dict[str, Any]) -> None:
    """Keep how a job ended."""
    rows.finish_job(folder.database, job_id, state, error, json.dumps(result))
