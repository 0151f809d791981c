"""What runs in a worker process: one job, with progress, heartbeat, cancel and a memory limit."""

from __future__ import annotations

import json
import os
import resource
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

import scipy.signal  # noqa: F401 - workers fork from here with it imported

from combpace.core.errors import CancelledError, CombPaceError
from combpace.services import fit, handoff, takes
from combpace.services.workplace import Workplace
from combpace.settings import Settings
from combpace.store.models import JobRow, TakeRow, now

Progress = Callable[[str, float], None]
JobFunction = Callable[[Workplace, dict[str, Any], Progress], dict[str, Any]]

KINDS: dict[str, JobFunction] = {"import": takes.import_take, "render": fit.render_take, "handoff": handoff.write_handoff}
HEARTBEAT_S = 1.0
REPORT_S = 0.15


def run(settings: Settings, job_id: str, server_pid: int) -> None:
    """The whole life of one worker."""
    resource.setrlimit(resource.RLIMIT_AS, (settings.worker_bytes, settings.worker_bytes))
    workplace = Workplace(settings)
    threading.Thread(target=_beat, args=(workplace, job_id, server_pid), daemon=True).start()
    with workplace.database.reading() as db:
        row = db.get(JobRow, job_id)
    if row is None:
        return
    try:
        result = KINDS[row.kind](workplace, json.loads(row.args), _Reporter(workplace, job_id))
        _finish(workplace, job_id, "done", "done", None, result)
    except CancelledError:
        _finish(workplace, job_id, "cancelled", "cancelled", "Cancelled; nothing was changed.", {})
    except CombPaceError as error:
        _finish(workplace, job_id, "failed", "failed", str(error), {})
    except MemoryError:
        _finish(workplace, job_id, "failed", "failed", "This needs more memory than one job may have. Nothing was changed; try a shorter file.", {})
    except Exception as error:
        # The trace goes to the server's log, the user gets a sentence.
        print(f"job {job_id} ({row.kind}) failed", file=sys.stderr)
        sys.excepthook(type(error), error, error.__traceback__)
        _finish(
            workplace,
            job_id,
            "failed",
            "failed",
            "This did not work out because of a fault in the program. Nothing was changed; the log has the details.",
            {},
        )


class _Reporter:
    """Writes progress to the job's row, not more often than is worth reading, and notices a cancel."""

    def __init__(self, workplace: Workplace, job_id: str) -> None:
        self._workplace, self._job_id = workplace, job_id
        self._last, self._phase = 0.0, ""

    def __call__(self, phase: str, share: float) -> None:
        moment = time.monotonic()
        if phase == self._phase and moment - self._last < REPORT_S:
            return
        self._last, self._phase = moment, phase
        with self._workplace.database.writing() as db:
            row = db.get(JobRow, self._job_id)
            if row is None or row.cancel:
                raise CancelledError("cancelled")
            row.phase, row.progress = phase, round(min(1.0, max(0.0, share)), 4)
            row.heartbeat = row.changed = now()


def _beat(workplace: Workplace, job_id: str, server_pid: int) -> None:
    while True:
        time.sleep(HEARTBEAT_S)
        try:
            os.kill(server_pid, 0)
        except OSError:
            # The server is gone: its next start takes this job up again.
            os._exit(1)
        with workplace.database.writing() as db:
            row = db.get(JobRow, job_id)
            if row is not None and row.state == "running":
                row.heartbeat = now()


def _finish(workplace: Workplace, job_id: str, state: str, phase: str, error: str | None, result: dict[str, Any]) -> None:
    with workplace.database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is None:
            return
        row.state, row.phase, row.error, row.result = state, phase, error, json.dumps(result)
        row.progress = 1.0 if state == "done" else row.progress
        row.changed = now()
        if row.kind == "import" and state != "done":
            take = db.get(TakeRow, row.subject)
            if take is not None and take.state != "ready":
                take.state, take.error = "failed", error
