"""Long work as rows: queued, looked at, cancelled."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from combpace.core.errors import NotFoundError
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.store.models import JobRow
from combpace.store.rows import OPEN

NO_JOB = "This job does not exist, or no longer."


@dataclass(frozen=True, slots=True)
class JobView:
    """What a page is told about a job."""

    id: str
    session_id: str | None
    kind: str
    subject: str
    state: str
    phase: str
    progress: float
    error: str | None
    result: dict[str, Any]
    changed: float
    created: float

    @property
    def is_open(self) -> bool:
        return self.state in OPEN


def view(row: JobRow) -> JobView:
    return JobView(
        row.id,
        row.session_id,
        row.kind,
        row.subject,
        row.state,
        row.phase,
        row.progress,
        row.error,
        json.loads(row.result),
        row.changed,
        row.created,
    )


def enqueue(
    folder: DataFolder, session_id: str | None, kind: str, subject: str, args: Mapping[str, Any]
) -> str:
    """Queue a job; the same work that is already waiting or running is not queued twice."""
    with folder.database.writing() as db:
        return rows.queue_job(db, session_id, kind, subject, json.dumps(dict(args), sort_keys=True))


def job(folder: DataFolder, job_id: str) -> JobView:
    row = rows.job_row(folder.database, job_id)
    if row is None:
        raise NotFoundError(NO_JOB)
    return view(row)


def jobs_of(folder: DataFolder, session_id: str, since: float = 0.0) -> list[JobView]:
    """Jobs of a session that changed after a moment, oldest first."""
    return [view(row) for row in rows.jobs_changed(folder.database, session_id, since)]


def cancel(folder: DataFolder, job_id: str) -> JobView:
    """Ask a job to stop; one that waits is stopped at once, one that has ended stays as it is."""
    row = rows.cancel_job(
        folder.database, job_id, "Cancelled before it was read; the file is kept. Listen again to go on."
    )
    if row is None:
        raise NotFoundError(NO_JOB)
    return view(row)
