"""All rows of one session, out of one database and into another."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from sqlalchemy import insert as sa_insert
from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert

from combpace.store.database import Database
from combpace.store.errors import MissingError
from combpace.store.models import FileRow, PartRow, RevisionRow, SessionRow, TakeRow, new_id, now
from combpace.store.rows import queue_job

# What of each row travels: nothing that is a time, or this data folder's own.
TAKE = (
    "id", "name", "source_sha", "source_bytes", "state", "error", "decoded_sha", "peaks_sha",
    "analysis_sha", "decoder", "sample_rate_hz", "channels",
    "frames", "peak", "notes",
)  # fmt: skip
REVISION = ("id", "parent_id", "format", "parts", "changed", "note")
FILE = ("kind", "key", "name", "sha", "bytes", "details")


def taken(database: Database, session_id: str, *, newest: bool = False) -> dict[str, Any]:
    """Everything that a session is: {name, view, cursor, takes, revisions, parts, files}, in an order that is
    the same each time.

    newest  its present state alone, without the steps that led there
    Raises  MissingError
    """
    with database.reading() as db:
        row = db.get(SessionRow, session_id)
        if row is None:
            raise MissingError(f"session {session_id}")
        kept = db.scalars(
            select(RevisionRow).where(RevisionRow.session_id == session_id).order_by(RevisionRow.id)
        ).all()
        revisions = [_only(one, REVISION) for one in kept if not newest or one.id == row.cursor]
        if newest:
            revisions = [{**one, "parent_id": None} for one in revisions]
        wanted = {sha for one in revisions for sha in json.loads(one["parts"]).values()}
        bodies = {part.sha: part.body for part in db.scalars(select(PartRow).where(PartRow.sha.in_(wanted)))}
        takes = db.scalars(
            select(TakeRow).where(TakeRow.session_id == session_id).order_by(TakeRow.created, TakeRow.id)
        ).all()
        files = db.scalars(
            select(FileRow).where(FileRow.session_id == session_id).order_by(FileRow.created, FileRow.id)
        ).all()
        return {
            "name": row.name,
            "view": row.view,
            "cursor": row.cursor,
            "takes": [_only(take, TAKE) for take in takes],
            "revisions": revisions,
            "parts": {sha: bodies[sha] for sha in sorted(bodies)},
            "files": [_only(file, FILE) for file in files if not file.kind.startswith("handoff")],
        }


def _only(row: Any, names: Sequence[str]) -> dict[str, Any]:
    return {name: getattr(row, name) for name in names}


def put(
    database: Database,
    name: str,
    view: str,
    cursor: int,
    takes: Sequence[Mapping[str, Any]],
    revisions: Sequence[Mapping[str, Any]],
    parts: Mapping[str, str],
    files: Sequence[Mapping[str, Any]],
    job: tuple[str, str] | None = None,
) -> tuple[str, str | None]:
    """A new session with all its rows, and the job that goes on with it: (its kind, its arguments as JSON).
    Ids of takes are those that are given; revisions get new ones, in their order.

    Written in steps, so that others write in between. Until the last step it has no present state: it is on
    no shelf, and one that was cut off is removed (`remove_unfinished`).
    Returns (the session's id, the job's or None)
    """
    with database.writing() as db:
        session = SessionRow(id=new_id(), name=name, view=view, removed=now())
        db.add(session)
        db.flush()
        made = session.id
        for take in takes:
            db.add(TakeRow(session_id=made, **take))
        for file in files:
            db.add(FileRow(session_id=made, **file))
    for some in _chunks([{"sha": sha, "body": body} for sha, body in parts.items()], CHUNK_BYTES):
        with database.writing() as db:
            db.execute(insert(PartRow).on_conflict_do_nothing(), some)
    known: dict[int, int] = {}
    for chunk in _chunks(list(revisions), CHUNK_BYTES):
        with database.writing() as db:
            for one in chunk:
                values = {**one, "id": None, "session_id": made, "parent_id": known.get(one["parent_id"])}
                query = sa_insert(RevisionRow).values(**values).returning(RevisionRow.id)
                known[one["id"]] = db.scalars(query).one()
    with database.writing() as db:
        row = db.get(SessionRow, made)
        assert row is not None
        row.cursor, row.version, row.removed = known[cursor], len(revisions), None
        queued = None if job is None else queue_job(db, made, job[0], made, job[1])
    return made, queued


# So much is written at a time: a writer beside it waits for tens of milliseconds.
CHUNK_BYTES, CHUNK_ROWS = 4_000_000, 200


def _chunks(rows: list[Any], most_bytes: int) -> Iterator[list[Any]]:
    """Rows in lots of so many bytes of text, and CHUNK_ROWS, at most."""
    chunk: list[Any] = []
    size = 0
    for row in rows:
        chunk.append(row)
        size += sum(len(value) for value in row.values() if isinstance(value, str))
        if size > most_bytes or len(chunk) >= CHUNK_ROWS:
            yield chunk
            chunk, size = [], 0
    if chunk:
        yield chunk


def remove_unfinished(database: Database) -> int:
    """Remove sessions whose coming in was cut off. Returns how many. Only while nobody else works here."""
    with database.writing() as db:
        rows = db.scalars(
            select(SessionRow).where(SessionRow.cursor.is_(None), SessionRow.removed.is_not(None))
        ).all()
        for row in rows:
            db.delete(row)
        return len(rows)
