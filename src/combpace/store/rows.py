"""Questions to the tables and changes of single rows: all SQL beside the histories.

Functions that take a `Session` belong to a transaction of their caller's; those that take a `Database` are
one of their own.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from combpace.core.errors import CancelledError
from combpace.store.database import Database
from combpace.store.errors import MissingError
from combpace.store.models import BEING_READ, FileRow, HeardRow, JobRow, SessionRow, TakeRow, new_id, now

OPEN = ("queued", "running")

# -- sessions


def session_row(database: Database, session_id: str) -> SessionRow:
    """Raises MissingError."""
    with database.reading() as db:
        row = db.get(SessionRow, session_id)
    if row is None:
        raise MissingError(f"session {session_id}")
    return row


def add_session(db: Session, name: str) -> str:
    """A new row; returns its id."""
    row = SessionRow(id=new_id(), name=name)
    db.add(row)
    db.flush()
    return row.id


def without_history(database: Database) -> list[str]:
    """Sessions whose making was cut off before their first step."""
    with database.reading() as db:
        return list(db.scalars(select(SessionRow.id).where(SessionRow.cursor.is_(None))))


def unheard_takes(database: Database) -> list[TakeRow]:
    """Takes that wait to be read, or are being read, by a job that is not there."""
    with database.reading() as db:
        # By itself, or with all takes of an archive.
        reading = set(
            db.scalars(
                select(JobRow.subject).where(JobRow.kind.in_(("import", "archive")), JobRow.state.in_(OPEN))
            )
        )
        return [
            row
            for row in db.scalars(select(TakeRow).where(TakeRow.state.in_(BEING_READ)))
            if row.id not in reading and row.session_id not in reading
        ]


def keep_summary(database: Database, session_id: str, summary: str) -> None:
    """What the shelf shows of a session, for the next time; where another writes just now it is left out."""
    with database.writing(patience_ms=0) as db:
        db.execute(update(SessionRow).where(SessionRow.id == session_id).values(summary=summary))


def change_session(database: Database, session_id: str, **values: Any) -> None:
    """Set columns of a session. Raises MissingError."""
    with database.writing() as db:
        row = db.get(SessionRow, session_id)
        if row is None:
            raise MissingError(f"session {session_id}")
        for name, value in values.items():
            setattr(row, name, value)


def change_view(database: Database, session_id: str, change: Callable[[str], str]) -> None:
    """Change the view of a session by what it is, in one transaction. Raises MissingError."""
    with database.writing() as db:
        row = db.get(SessionRow, session_id)
        if row is None:
            raise MissingError(f"session {session_id}")
        row.view = change(row.view)


def shelf_rows(database: Database) -> list[SessionRow]:
    """All sessions that are not removed, last touched first."""
    with database.reading() as db:
        return list(
            db.scalars(
                select(SessionRow).where(SessionRow.removed.is_(None)).order_by(SessionRow.touched.desc())
            )
        )


def session_bytes(database: Database) -> dict[str, int]:
    """How large each session is: sources, decoded sounds, files that were made; what several hold counts in
    each.
    """
    with database.reading() as db:
        takes = select(
            TakeRow.session_id,
            func.sum(TakeRow.source_bytes + func.coalesce(TakeRow.frames * TakeRow.channels * 4, 0)),
        ).group_by(TakeRow.session_id)
        files = select(FileRow.session_id, func.sum(FileRow.bytes)).group_by(FileRow.session_id)
        found: dict[str, int] = {}
        for session, size in (*db.execute(takes).all(), *db.execute(files).all()):
            found[session] = found.get(session, 0) + int(size or 0)
        return found


def session_version(database: Database, session_id: str) -> int:
    """How often a session has moved; 0 where it does not exist."""
    with database.reading() as db:
        return db.scalar(select(SessionRow.version).where(SessionRow.id == session_id)) or 0


def copy_session(db: Session, session_id: str, name: str) -> tuple[str, dict[str, str], list[str]]:
    """A copy of a session's row, takes, renders and files of parts. Returns (its id, old take id -> new one,
    new takes that are not heard yet).
    """
    renamed: dict[str, str] = {}
    unheard: list[str] = []
    old = db.get(SessionRow, session_id)
    if old is None:
        raise MissingError(f"session {session_id}")
    copy = SessionRow(id=new_id(), name=name)
    db.add(copy)
    db.flush()
    for row in db.scalars(select(TakeRow).where(TakeRow.session_id == session_id)):
        renamed[row.id] = new_id()
        changed: dict[str, Any] = {"id": renamed[row.id], "session_id": copy.id, "alone": row.alone}
        if row.state in BEING_READ:
            # Whoever reads the original reads not this one.
            unheard.append(renamed[row.id])
            changed["state"] = "waiting"
        db.add(TakeRow(**(_values(row) | changed)))
    for file in db.scalars(
        select(FileRow).where(FileRow.session_id == session_id, FileRow.kind.in_(("render", "part", "piece")))
    ):
        db.add(FileRow(**(_values(file) | {"id": new_id(), "session_id": copy.id})))
    for copied in db.scalars(select(TakeRow).where(TakeRow.session_id == copy.id)):
        for take, other in renamed.items():
            copied.alone = copied.alone and copied.alone.replace(take, other)
    # What is kept of the view names takes too: levels and mutes go along.
    text = old.view
    for take, other in renamed.items():
        text = text.replace(take, other)
    copy.view = text
    return copy.id, renamed, unheard


def _values(row: Any) -> dict[str, Any]:
    return {column.name: getattr(row, column.name) for column in row.__table__.columns}


# -- takes


def take_row(database: Database, take_id: str) -> TakeRow:
    """Raises MissingError."""
    with database.reading() as db:
        row = db.get(TakeRow, take_id)
    if row is None:
        raise MissingError(f"take {take_id}")
    return row


def take_rows(database: Database, session_id: str) -> dict[str, TakeRow]:
    """All takes that ever came into a session, by id, in the order in which they came."""
    with database.reading() as db:
        return {
            row.id: row
            for row in db.scalars(
                select(TakeRow).where(TakeRow.session_id == session_id).order_by(TakeRow.created)
            )
        }


def ready_takes(database: Database, session_id: str) -> int:
    """How many takes of a session have been listened to."""
    with database.reading() as db:
        return (
            db.scalar(
                select(func.count())
                .select_from(TakeRow)
                .where(TakeRow.session_id == session_id, TakeRow.state == "ready")
            )
            or 0
        )


def add_take(
    db: Session,
    session_id: str,
    name: str,
    source_sha: str,
    source_bytes: int,
    take_id: str | None = None,
    known: Mapping[str, Any] | None = None,
) -> str:
    """A new row; `known` are columns that are known already. Returns its id."""
    row = TakeRow(
        id=take_id or new_id(),
        session_id=session_id,
        name=name,
        source_sha=source_sha,
        source_bytes=source_bytes,
        **(known or {}),
    )
    db.add(row)
    db.flush()
    return row.id


def change_take(database: Database, take_id: str, by: str | None = None, **values: Any) -> None:
    """Set columns of a take that is still there. by: the job that does it; CancelledError where that was
    cancelled, for another may be at the same take.
    """
    with database.writing() as db:
        _still_wanted(db, by)
        row = db.get(TakeRow, take_id)
        if row is not None:
            for name, value in values.items():
                setattr(row, name, value)


def blobs_of_takes_and_files(database: Database) -> set[str]:
    """Every blob that a row names."""
    with database.reading() as db:
        takes = db.execute(
            select(TakeRow.source_sha, TakeRow.decoded_sha, TakeRow.peaks_sha, TakeRow.analysis_sha)
        ).all()
        alone = {json.loads(text)["sha"] for text in db.scalars(select(TakeRow.alone)) if text}
        files = db.scalars(select(FileRow.sha)).all()
    return {sha for row in takes for sha in row if sha} | set(files) | alone


# -- what was heard, by content


def heard(database: Database, key: str) -> tuple[list[str], dict[str, Any]] | None:
    """(hashes of what was found, facts) under a key, None where nothing is kept."""
    with database.reading() as db:
        row = db.get(HeardRow, key)
    return None if row is None else (json.loads(row.made), json.loads(row.facts))


def keep_heard(
    database: Database, key: str, about: Iterable[str], made: Iterable[str], facts: Mapping[str, Any]
) -> None:
    """Keep what was found, in place of what was kept under that key before."""
    with database.writing() as db:
        db.merge(
            HeardRow(
                key=key,
                about=json.dumps(list(about)),
                made=json.dumps(list(made)),
                facts=json.dumps(dict(facts)),
                created=now(),
            )
        )


def forget_heard(database: Database, named: set[str]) -> set[str]:
    """Drop what was found in blobs that no row names any longer; returns the hashes of what is kept."""
    kept: set[str] = set()
    with database.writing() as db:
        for row in db.scalars(select(HeardRow)).all():
            if named.issuperset(json.loads(row.about)):
                kept.update(json.loads(row.made))
            else:
                db.delete(row)
    return kept


# -- files


def add_files(database: Database, files: Iterable[Mapping[str, Any]], by: str | None = None) -> list[str]:
    """New rows, all of them or none; returns their ids. by: as in `change_take`."""
    with database.writing() as db:
        _still_wanted(db, by)
        made = [FileRow(**values) for values in files]
        for row in made:
            db.add(row)
            db.flush()
        return [row.id for row in made]


def put_file(db: Session, session_id: str, kind: str, key: str, name: str, sha: str, bytes: int) -> None:
    """A new row within a transaction that is open."""
    db.add(FileRow(session_id=session_id, kind=kind, key=key, name=name, sha=sha, bytes=bytes))


def file_row(database: Database, file_id: str) -> FileRow:
    """Raises MissingError."""
    with database.reading() as db:
        row = db.get(FileRow, file_id)
    if row is None:
        raise MissingError(f"file {file_id}")
    return row


def render_of(database: Database, session_id: str, key: str) -> FileRow | None:
    """The newest render that a key names, if it was made."""
    with database.reading() as db:
        query = select(FileRow).where(
            FileRow.session_id == session_id, FileRow.kind == "render", FileRow.key == key
        )
        return db.scalars(query.order_by(FileRow.created.desc()).limit(1)).first()


def files_of_sha(database: Database, session_id: str, kind: str, sha: str) -> list[FileRow]:
    """Files of a session that hold these bytes, newest first."""
    with database.reading() as db:
        query = select(FileRow).where(
            FileRow.session_id == session_id, FileRow.kind == kind, FileRow.sha == sha
        )
        return list(db.scalars(query.order_by(FileRow.created.desc())))


def files_like(database: Database, session_id: str, kind: str) -> list[FileRow]:
    """Files of a session whose kind matches an SQL pattern, newest first."""
    with database.reading() as db:
        return list(
            db.scalars(
                select(FileRow)
                .where(FileRow.session_id == session_id, FileRow.kind.like(kind))
                .order_by(FileRow.created.desc())
            )
        )


def remove_files(database: Database, kind: str, sha: str) -> None:
    """Remove the rows of files of a kind that hold these bytes."""
    with database.writing() as db:
        db.execute(delete(FileRow).where(FileRow.kind == kind, FileRow.sha == sha))


# -- jobs


def queue_job(db: Session, session_id: str | None, kind: str, subject: str, args: str) -> str:
    """A new row, or the one that waits or runs with the same work already; returns its id. One that is being
    cancelled does the work no more.
    """
    same = select(JobRow).where(
        JobRow.session_id == session_id,
        JobRow.kind == kind,
        JobRow.subject == subject,
        JobRow.state.in_(OPEN),
        JobRow.cancel.is_(False),
    )
    for row in db.scalars(same):
        if row.args == args:
            return row.id
    row = JobRow(session_id=session_id, kind=kind, subject=subject, args=args, changed=_stamp(db))
    db.add(row)
    db.flush()
    return row.id


def count_open_jobs(database: Database) -> int:
    """Jobs that wait or run."""
    with database.reading() as db:
        return db.scalar(select(func.count()).select_from(JobRow).where(JobRow.state.in_(OPEN))) or 0


def job_row(database: Database, job_id: str) -> JobRow | None:
    with database.reading() as db:
        return db.get(JobRow, job_id)


def jobs_changed(database: Database, session_id: str, since: float) -> list[JobRow]:
    """Jobs of a session that changed after a moment, oldest first."""
    with database.reading() as db:
        return list(
            db.scalars(
                select(JobRow)
                .where(JobRow.session_id == session_id, JobRow.changed > since)
                .order_by(JobRow.created)
            )
        )


def cancel_job(database: Database, job_id: str, why: str) -> JobRow | None:
    """Ask a job to stop; one that waits is stopped at once, and its take says why."""
    with database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is not None and row.state in OPEN:
            row.cancel, row.changed = True, _stamp(db)
            if row.state == "queued":
                row.state, row.phase = "cancelled", "cancelled"
                _mark_take(db, row, why)
        return row


def requeue_running(database: Database, most_tries: int, refusal: str) -> None:
    """What ran when an earlier server ended waits again, or has failed as often as it may; `refusal` takes
    the number of tries.
    """
    with database.writing() as db:
        for row in db.scalars(select(JobRow).where(JobRow.state == "running")):
            if row.cancel:
                row.state, row.phase = "cancelled", "cancelled"
            elif row.tries >= most_tries:
                row.state, row.error = "failed", refusal.format(row.tries)
                _mark_take(db, row, row.error)
            else:
                row.state, row.phase = "queued", "waiting to go on after a restart"
            row.changed = _stamp(db)


def put_back(database: Database, job_ids: Iterable[str]) -> None:
    """What ran when the server was stopped in good order waits again; that is no failed try."""
    with database.writing() as db:
        for row in db.scalars(select(JobRow).where(JobRow.id.in_(list(job_ids)), JobRow.state == "running")):
            if row.cancel:
                row.state, row.phase = "cancelled", "cancelled"
            else:
                row.state, row.phase, row.tries = (
                    "queued",
                    "waiting to go on after a restart",
                    max(0, row.tries - 1),
                )
            row.changed = _stamp(db)


def running_jobs(database: Database) -> dict[str, float]:
    """Running jobs with the moment of their last sign of life."""
    with database.reading() as db:
        return {
            job_id: beat or 0.0
            for job_id, beat in db.execute(
                select(JobRow.id, JobRow.heartbeat).where(JobRow.state == "running")
            ).all()
        }


def _stamp(db: Session) -> float:
    """Now, or a little after the newest change of a job: also where the clock was set back each change is
    later than those before.
    """
    return max(now(), (db.scalar(select(func.max(JobRow.changed))) or 0.0) + 1e-6)


def next_job(database: Database) -> str | None:
    """The oldest job that waits, marked as running; its id."""
    with database.reading() as db:
        if db.scalars(select(JobRow.id).where(JobRow.state == "queued").limit(1)).first() is None:
            return None
    with database.writing() as db:
        row = db.scalars(
            select(JobRow).where(JobRow.state == "queued").order_by(JobRow.created).limit(1)
        ).first()
        if row is None:
            return None
        row.state, row.phase, row.tries = "running", "starting", row.tries + 1
        row.heartbeat, row.changed = now(), _stamp(db)
        return row.id


def fail_if_running(database: Database, job_id: str, error: str) -> None:
    """A job whose worker is gone."""
    with database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is not None and row.state == "running":
            row.state, row.error, row.changed = "failed", error, _stamp(db)
            _mark_take(db, row, error)


def report_job(database: Database, job_id: str, phase: str, progress: float) -> bool:
    """Keep how far a job is; whether it is to go on."""
    with database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is None or row.cancel:
            return False
        row.phase, row.progress = phase, progress
        row.heartbeat, row.changed = now(), _stamp(db)
        return True


def beat_job(database: Database, job_id: str) -> None:
    """A running job is alive."""
    with database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is not None and row.state == "running":
            row.heartbeat = now()


def finish_job(database: Database, job_id: str, state: str, error: str | None, result: str) -> None:
    """The end of a job; a take that it was to read says what became of that."""
    with database.writing() as db:
        row = db.get(JobRow, job_id)
        if row is None:
            return
        row.state, row.phase, row.error, row.result = state, state, error, result
        row.progress = 1.0 if state == "done" else row.progress
        row.changed = _stamp(db)
        if state != "done":
            _mark_take(db, row, error or state)


def end_jobs_about(database: Database, subjects: Iterable[str]) -> None:
    """Jobs whose work was done by other means."""
    with database.writing() as db:
        db.execute(
            update(JobRow)
            .where(JobRow.subject.in_(list(subjects)))
            .values(state="done", phase="done", progress=1.0)
        )


def _still_wanted(db: Session, job_id: str | None) -> None:
    """Raises CancelledError where a job that is about to change something was cancelled, or is over."""
    if job_id is None:
        return
    row = db.get(JobRow, job_id)
    if row is None or row.cancel or row.state not in OPEN:
        raise CancelledError("cancelled")


def _mark_take(db: Session, row: JobRow, error: str) -> None:
    """A take whose reading will not go on says so; not where another job reads it by now."""
    if row.kind == "import":
        others = select(JobRow.id).where(
            JobRow.kind == "import",
            JobRow.subject == row.subject,
            JobRow.id != row.id,
            JobRow.state.in_(OPEN),
            JobRow.cancel.is_(False),
        )
        if db.scalars(others.limit(1)).first() is not None:
            return
        db.execute(
            update(TakeRow)
            .where(TakeRow.id == row.subject, TakeRow.state != "ready")
            .values(state="failed", error=error)
        )
