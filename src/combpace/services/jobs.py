"""Long work: queued as rows, run each in a process of its own, watched, resumed or honestly failed."""

from __future__ import annotations

import json
import multiprocessing
import threading
from dataclasses import dataclass
from multiprocessing.process import BaseProcess
from typing import Any

from sqlalchemy import select, update

from combpace.core.errors import NotFoundError
from combpace.services.workplace import Workplace
from combpace.store.models import JobRow, TakeRow, now

POLL_S = 0.1
MOST_TRIES = 3
OPEN = ("queued", "running")


@dataclass(frozen=True, slots=True)
class JobView:
    """What a page is told about a job."""

    id: str
    session_id: str
    kind: str
    subject: str
    state: str
    phase: str
    progress: float
    error: str | None
    result: dict[str, Any]
    changed: float


def view(row: JobRow) -> JobView:
    return JobView(row.id, row.session_id, row.kind, row.subject, row.state, row.phase, row.progress, row.error, json.loads(row.result), row.changed)


def enqueue(workplace: Workplace, session_id: str, kind: str, subject: str, args: dict[str, Any]) -> str:
    """Queue a job; the same work that is already waiting or running is not queued twice."""
    with workplace.database.writing() as db:
        same = select(JobRow).where(JobRow.session_id == session_id, JobRow.kind == kind, JobRow.subject == subject, JobRow.state.in_(OPEN))
        for row in db.scalars(same):
            if row.args == json.dumps(args, sort_keys=True):
                return row.id
        row = JobRow(session_id=session_id, kind=kind, subject=subject, args=json.dumps(args, sort_keys=True))
        db.add(row)
        db.flush()
        return row.id


def job(workplace: Workplace, job_id: str) -> JobView:
    with workplace.database.reading() as db:
        row = db.get(JobRow, job_id)
    if row is None:
        raise NotFoundError("This job does not exist, or no longer.")
    return view(row)


def jobs_of(workplace: Workplace, session_id: str, since: float = 0.0) -> list[JobView]:
    """Jobs of a session that changed after a moment, oldest first."""
    with workplace.database.reading() as db:
        rows = db.scalars(select(JobRow).where(JobRow.session_id == session_id, JobRow.changed > since).order_by(JobRow.created))
        return [view(row) for row in rows]


def cancel(workplace: Workplace, job_id: str) -> JobView:
    """Ask a job to stop; one that waits is stopped at once, one that has ended stays as it is."""
    with workplace.database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is None:
            raise NotFoundError("This job does not exist, or no longer.")
        if row.state in OPEN:
            row.cancel, row.changed = True, now()
            if row.state == "queued":
                row.state, row.phase = "cancelled", "cancelled"
                _mark_take(db, row, "Cancelled before it was read; the file is kept. Listen again to go on.")
        return view(row)


def _mark_take(db: Any, row: JobRow, error: str) -> None:
    """A take whose import will not go on says so."""
    if row.kind == "import":
        db.execute(update(TakeRow).where(TakeRow.id == row.subject, TakeRow.state != "ready").values(state="failed", error=error))


class Dispatcher:
    """Starts queued jobs and looks after their processes; one thread of the server."""

    def __init__(self, workplace: Workplace) -> None:
        self._workplace = workplace
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["combpace.services.work"])
        self._running: dict[str, BaseProcess] = {}
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="dispatcher", daemon=True)

    def start(self) -> None:
        """Take up what an earlier server left behind, then begin."""
        with self._workplace.database.writing() as db:
            for row in db.scalars(select(JobRow).where(JobRow.state == "running")):
                if row.cancel:
                    row.state, row.phase = "cancelled", "cancelled"
                elif row.tries >= MOST_TRIES:
                    row.state = "failed"
                    row.error = (
                        f"This was started {row.tries} times and the program ended each time. What was decided is unchanged; try a shorter file."
                    )
                    _mark_take(db, row, row.error)
                else:
                    row.state, row.phase = "queued", "waiting to go on after a restart"
                row.changed = now()
        self._thread.start()

    def stop(self) -> None:
        """End the workers; what they did is taken up again by the next start."""
        self._stopping.set()
        self._thread.join(timeout=5)
        for process in self._running.values():
            process.terminate()
        for process in self._running.values():
            process.join(timeout=5)

    def processes(self) -> dict[str, int]:
        """Running jobs and the processes that do them."""
        return {job_id: process.pid or 0 for job_id, process in self._running.items()}

    def _loop(self) -> None:
        while not self._stopping.wait(POLL_S):
            self._collect()
            while len(self._running) < self._workplace.settings.workers and self._start_next():
                pass

    def _start_next(self) -> bool:
        import os

        from combpace.services import work

        with self._workplace.database.reading() as db:
            waiting = db.scalars(select(JobRow.id).where(JobRow.state == "queued").limit(1)).first()
        if waiting is None:
            return False
        with self._workplace.database.writing() as db:
            row = db.scalars(select(JobRow).where(JobRow.state == "queued").order_by(JobRow.created).limit(1)).first()
            if row is None:
                return False
            row.state, row.phase, row.tries = "running", "starting", row.tries + 1
            row.heartbeat = row.changed = now()
            job_id = row.id
        process = self._context.Process(target=work.run, args=(self._workplace.settings, job_id, os.getpid()), name=f"job-{job_id}")
        process.start()
        self._running[job_id] = process
        return True

    def _collect(self) -> None:
        for job_id, process in list(self._running.items()):
            if process.is_alive():
                continue
            process.join()
            del self._running[job_id]
            with self._workplace.database.writing() as db:
                row = db.get(JobRow, job_id)
                if row is not None and row.state == "running":
                    row.state, row.changed = "failed", now()
                    code = process.exitcode or 0
                    why = f"it was ended by signal {-code}" if code < 0 else f"it ended with status {code}"
                    row.error = f"The worker stopped before it was done ({why}; memory may have run out). Nothing else is touched; start it again."
                    _mark_take(db, row, row.error)
            process.close()
