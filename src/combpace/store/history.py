"""Append-only revisions of a session's document, made of content-addressed parts."""

from __future__ import annotations

import hashlib
import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from combpace.store.database import Database
from combpace.store.errors import MissingError, OutdatedError
from combpace.store.models import PartRow, RevisionRow, SessionRow, now

# Typed and nudged fields of one gesture merge into one step of undo when they follow each other within this
# time.
MERGE_S = 1.0


@dataclass(frozen=True, slots=True)
class Revision:
    """One state of a document.

    id            of this state; it never comes again
    version       counts every move of the session, also undo and redo
    format        version of the document's form
    parts         name -> JSON value
    note          what the change that led here did
    can_undo/redo and what they would take back or bring back
    """

    session_id: str
    id: int
    version: int
    format: int
    parts: Mapping[str, Any]
    note: str
    can_undo: bool
    can_redo: bool
    redo_note: str


# Told, in the transaction of a move, what the step that it goes over changed.
Beside = Callable[[Session, list[str]], None]


class History:
    """All histories of a database."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def begin(self, session_id: str, format: int, parts: Mapping[str, Any], note: str) -> None:
        """The first revision of a session."""
        with self._database.writing() as db:
            begin(db, session_id, format, parts, note)

    def current(self, session_id: str) -> Revision:
        with self._database.reading() as db:
            return _revision(db, _session(db, session_id))

    def revision(self, session_id: str, revision_id: int) -> Revision:
        """A state that the session had, by its id. Raises MissingError."""
        with self._database.reading() as db:
            session, row = _session(db, session_id), db.get(RevisionRow, revision_id)
            if row is None or row.session_id != session_id:
                raise MissingError(f"revision {revision_id}")
            return _revision(db, session, row)

    def check(self, session_id: str, base_version: int) -> None:
        """Raises OutdatedError where the session has moved since a version."""
        with self._database.reading() as db:
            session = _session(db, session_id)
            if session.version != base_version:
                raise _outdated(db, session, base_version)

    def record(
        self,
        session_id: str,
        base_version: int,
        format: int,
        changes: Mapping[str, Any],
        note: str,
        gesture: str | None = None,
        beside: Callable[[Session], Sequence[str]] | None = None,
        needs: Sequence[str] | None = None,
    ) -> Revision:
        """Append a revision.

        needs         keys of the renders that are right for it; None: not known
        base_version  what the change was made on; OutdatedError where the session has moved since
        changes       part name -> new value, or None to drop the part; parts not named stay
        gesture       changes of one gesture within MERGE_S become one step
        beside        writes the rows that belong to the change, in the same transaction: all of it is kept,
                      or nothing. Returns what else it changed, which a move over this step is told of
        """
        with self._database.writing() as db:
            session = _session(db, session_id)
            if session.version != base_version:
                raise _outdated(db, session, base_version)
            current = _row(db, session)
            names: dict[str, str] = json.loads(current.parts)
            for name, value in changes.items():
                if value is None:
                    names.pop(name, None)
                else:
                    names[name] = _part(db, value)
            merges = (
                gesture is not None
                and current.gesture == gesture
                and 0 <= now() - current.created <= MERGE_S
                and current.parent_id is not None
            )
            row = RevisionRow(
                session_id=session_id,
                parent_id=current.parent_id if merges else current.id,
                format=format,
                parts=json.dumps(names, sort_keys=True),
                changed=json.dumps(sorted(changes)),
                note=note,
                gesture=gesture,
                needs=None if needs is None else json.dumps(list(needs)),
            )
            db.add(row)
            db.flush()
            session.cursor, session.version, session.touched = row.id, session.version + 1, now()
            if beside is not None and (more := beside(db)):
                row.changed = json.dumps([*sorted(changes), *more])
            return _revision(db, session)

    def undo(self, session_id: str, base_version: int, beside: Beside | None = None) -> Revision | None:
        """Go back one step; None where there is nothing before. beside: see `Beside`."""
        return self._move(session_id, base_version, beside, forwards=False)

    def redo(self, session_id: str, base_version: int, beside: Beside | None = None) -> Revision | None:
        """Go forward to the newest step that follows; None where there is none."""
        return self._move(session_id, base_version, beside, forwards=True)

    def _move(
        self, session_id: str, base_version: int, beside: Beside | None, *, forwards: bool
    ) -> Revision | None:
        with self._database.writing() as db:
            session = _session(db, session_id)
            if session.version != base_version:
                raise _outdated(db, session, base_version)
            target = (
                _following(db, session.cursor)
                if forwards
                else db.get(RevisionRow, _row(db, session).parent_id or -1)
            )
            if target is None:
                return None
            over = target if forwards else _row(db, session)
            session.cursor, session.version, session.touched = target.id, session.version + 1, now()
            if beside is not None:
                beside(db, json.loads(over.changed))
            return _revision(db, session)

    def copy(self, db: Session, from_id: str, to_id: str, rename: Mapping[str, str]) -> None:
        """Begin a session with another one's present state, in the caller's transaction; ids inside it are
        renamed.
        """
        state = _revision(db, _session(db, from_id))
        text = json.dumps(dict(state.parts))
        for old, new in rename.items():
            text = text.replace(old, new)
        needs = _row(db, _session(db, from_id)).needs
        begin(db, to_id, state.format, json.loads(text), state.note, needs)


def begin(
    db: Session, session_id: str, format: int, parts: Mapping[str, Any], note: str, needs: str | None = "[]"
) -> None:
    """The first revision of a session, in the caller's transaction."""
    session = _session(db, session_id)
    row = RevisionRow(
        session_id=session_id,
        parent_id=None,
        format=format,
        parts=_store(db, parts),
        note=note,
        needs=needs,
    )
    db.add(row)
    db.flush()
    session.cursor, session.version, session.touched = row.id, session.version + 1, now()


def _session(db: Session, session_id: str) -> SessionRow:
    row = db.get(SessionRow, session_id)
    if row is None:
        raise MissingError(f"session {session_id}")
    return row


def _row(db: Session, session: SessionRow) -> RevisionRow:
    row = db.get(RevisionRow, session.cursor or -1)
    if row is None:
        raise MissingError(f"history of {session.id}")
    return row


def _following(db: Session, cursor: int | None) -> RevisionRow | None:
    return db.scalars(
        select(RevisionRow).where(RevisionRow.parent_id == cursor).order_by(RevisionRow.id.desc()).limit(1)
    ).first()


def _revision(db: Session, session: SessionRow, row: RevisionRow | None = None) -> Revision:
    row = row or _row(db, session)
    names: dict[str, str] = json.loads(row.parts)
    values = _values(db, set(names.values()))
    following = _following(db, row.id)
    return Revision(
        session.id,
        row.id,
        session.version,
        row.format,
        {name: values[sha] for name, sha in names.items()},
        row.note,
        row.parent_id is not None,
        following is not None,
        following.note if following else "",
    )


def _values(db: Session, shas: set[str]) -> dict[str, Any]:
    """The JSON values of parts. Those of long ones are kept: they are named by what they hold, and nobody
    changes them.
    """
    with _LONG_LOCK:
        found = {sha: _LONG[sha] for sha in shas if sha in _LONG}
    for part in db.scalars(select(PartRow).where(PartRow.sha.in_(shas - set(found)))):
        found[part.sha] = json.loads(part.body)
        if len(part.body) > LONG_CHARS:
            with _LONG_LOCK:
                _LONG[part.sha] = found[part.sha]
                while len(_LONG) > MOST_LONG:
                    _LONG.popitem(last=False)
    return found


# A part whose text is longer takes noticeable time to read; so many of them are kept.
LONG_CHARS, MOST_LONG = 50_000, 8
_LONG: OrderedDict[str, Any] = OrderedDict()
_LONG_LOCK = threading.Lock()


def _outdated(db: Session, session: SessionRow, base_version: int) -> OutdatedError:
    row = _row(db, session)
    # Every move counts one version; the last ones tell which parts the other page touched.
    behind = max(1, session.version - base_version)
    rows = db.scalars(
        select(RevisionRow)
        .where(RevisionRow.session_id == session.id)
        .order_by(RevisionRow.id.desc())
        .limit(behind)
    ).all()
    changed = {name for revision in rows for name in json.loads(revision.changed)}
    return OutdatedError(session.version, row.note, tuple(sorted(changed)))


def _store(db: Session, parts: Mapping[str, Any]) -> str:
    return json.dumps({name: _part(db, value) for name, value in parts.items()}, sort_keys=True)


def _part(db: Session, value: Any) -> str:
    body = json.dumps(value, sort_keys=True, separators=(",", ":"), allow_nan=False)
    sha = hashlib.sha256(body.encode()).hexdigest()
    db.execute(insert(PartRow).values(sha=sha, body=body).on_conflict_do_nothing())
    return sha
