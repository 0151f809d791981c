"""All rows of one session, out of one database and into another."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert

from combpace.store.database import Database
from combpace.store.errors import MissingError
from combpace.store.models import FileRow, PartRow, RevisionRow, SessionRow, TakeRow, new_id

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
) -> str:
    """A new session with all its rows, in one transaction. Ids of takes are those that are given; revisions
    get new ones, in their order.

    Returns the session's id
    """
    with database.writing() as db:
        session = SessionRow(id=new_id(), name=name, view=view)
        db.add(session)
        db.flush()
        for take in takes:
            db.add(TakeRow(session_id=session.id, **take))
        for sha, body in parts.items():
            db.execute(insert(PartRow).values(sha=sha, body=body).on_conflict_do_nothing())
        known: dict[int, int] = {}
        for one in revisions:
            row = RevisionRow(
                **{**one, "id": None, "session_id": session.id, "parent_id": known.get(one["parent_id"])}
            )
            db.add(row)
            db.flush()
            known[one["id"]] = row.id
        for file in files:
            db.add(FileRow(session_id=session.id, **file))
        session.cursor, session.version = known[cursor], len(revisions)
        return session.id
