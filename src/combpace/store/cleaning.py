"""Questions of whoever frees what was removed: which rows nobody needs, and which blobs no row names then."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from combpace.store.models import FileRow, HeardRow, JobRow, PartRow, RevisionRow, SessionRow, TakeRow
from combpace.store.rows import OPEN


@dataclass
class Unneeded:
    """What can go: sessions, orders of hand-offs, files (of hand-offs and renders), renders among them, and
    the blobs that nothing names then.
    """

    sessions: list[str] = field(default_factory=list)
    hand_offs: list[str] = field(default_factory=list)
    files: list[str] = field(default_factory=list)
    renders: list[str] = field(default_factory=list)
    blobs: set[str] = field(default_factory=set)


def unneeded(db: Session, removed_before: float, handed_off_before: float, most_kept: int) -> Unneeded:
    """What nobody needs: sessions removed before a moment; hand-offs before another, but the newest
    `most_kept` of a session; renders that no step of a history needs that undo and redo reach.

    A session whose jobs wait or run is left alone.
    """
    found = Unneeded()
    busy = set(db.scalars(select(JobRow.session_id).where(JobRow.state.in_(OPEN))))
    rows = db.execute(select(SessionRow.id, SessionRow.removed, SessionRow.cursor)).all()
    found.sessions = [
        session
        for session, removed, cursor in rows
        if removed is not None and removed < removed_before and cursor is not None and session not in busy
    ]
    gone = {*found.sessions}
    cursors = {session: cursor for session, _, cursor in rows if session not in gone and session not in busy}
    files = [row for row in db.scalars(select(FileRow)).all() if row.session_id in cursors]
    orders: dict[str, dict[str, list[FileRow]]] = defaultdict(lambda: defaultdict(list))
    renders: dict[str, list[FileRow]] = defaultdict(list)
    for row in files:
        if row.kind.startswith("handoff"):
            orders[row.session_id][str(json.loads(row.details or "{}").get("order"))].append(row)
        elif row.kind == "render":
            renders[row.session_id].append(row)
    for each in orders.values():
        newest = sorted(each, key=lambda order: -max(row.created for row in each[order]))
        for order in newest[most_kept:]:
            if all(row.created < handed_off_before for row in each[order]):
                found.hand_offs.append(order)
                found.files += [row.id for row in each[order]]
    for session, made in renders.items():
        found.renders += [row.id for row in _unneeded_renders(db, session, cursors[session], made)]
    found.files += found.renders
    going = {*found.files}
    before = _named(db, (), ())
    found.blobs = before - _named(db, gone, going)
    return found


def _unneeded_renders(db: Session, session: str, cursor: int | None, made: list[FileRow]) -> list[FileRow]:
    steps = db.execute(
        select(RevisionRow.id, RevisionRow.parent_id, RevisionRow.needs, RevisionRow.parts).where(
            RevisionRow.session_id == session
        )
    ).all()
    reached = reachable({one.id: one.parent_id for one in steps}, cursor)
    if any(one.needs is None for one in steps if one.id in reached):
        # An earlier version kept no keys with its steps.
        return []
    needed = {key for one in steps if one.id in reached for key in json.loads(one.needs)}
    # Pieces are cut from renders: those are pinned by every step that ever had them.
    parts = {
        sha for one in steps for name, sha in json.loads(one.parts).items() if name.startswith("pieces:")
    }
    pinned = {
        value.get("sha")
        for body in db.scalars(select(PartRow.body).where(PartRow.sha.in_(parts)))
        if isinstance(value := json.loads(body), dict)
    }
    return [row for row in made if row.key not in needed and row.sha not in pinned]


def reachable(parents: dict[int, int | None], cursor: int | None) -> set[int]:
    """The steps that undo and redo reach: what came before the present one, and from each of them the newest
    that follows, and the newest that follows that.
    """
    newest: dict[int, int] = {}
    for step, parent in parents.items():
        if parent is not None:
            newest[parent] = max(step, newest.get(parent, step))
    found: set[int] = set()
    at = cursor
    while at is not None and at in parents and at not in found:
        found.add(at)
        at = parents[at]
    waiting = list(found)
    while waiting:
        following = newest.get(waiting.pop())
        if following is not None and following not in found:
            found.add(following)
            waiting.append(following)
    return found


def _named(db: Session, without_sessions: Iterable[str], without_files: Iterable[str]) -> set[str]:
    """Every blob that a row names, with what was heard in those, as if some rows were gone."""
    sessions, files = set(without_sessions), set(without_files)
    takes = db.execute(
        select(
            TakeRow.session_id,
            TakeRow.source_sha,
            TakeRow.decoded_sha,
            TakeRow.peaks_sha,
            TakeRow.analysis_sha,
        )
    ).all()
    named = {sha for session, *shas in takes if session not in sessions for sha in shas if sha}
    before = db.execute(select(TakeRow.session_id, TakeRow.alone).where(TakeRow.alone.is_not(None))).all()
    named |= {json.loads(text or "{}")["sha"] for session, text in before if session not in sessions}
    rows = db.execute(select(FileRow.id, FileRow.session_id, FileRow.sha)).all()
    named |= {sha for one, session, sha in rows if session not in sessions and one not in files}
    for about, made in db.execute(select(HeardRow.about, HeardRow.made)).all():
        if named.issuperset(json.loads(about)):
            named.update(json.loads(made))
    return named


def drop(db: Session, found: Unneeded) -> None:
    """Delete the rows of what was found, and what was heard in sounds that no row names any longer."""
    for some in _lots(found.files):
        db.execute(delete(FileRow).where(FileRow.id.in_(some)))
    parts: set[str] = set()
    for session in found.sessions:
        for text in db.scalars(select(RevisionRow.parts).where(RevisionRow.session_id == session)):
            parts.update(json.loads(text).values())
        db.execute(delete(SessionRow).where(SessionRow.id == session))
    if parts:
        for text in db.scalars(select(RevisionRow.parts)):
            parts.difference_update(json.loads(text).values())
        for some in _lots(sorted(parts)):
            db.execute(delete(PartRow).where(PartRow.sha.in_(some)))
    for row in db.scalars(select(HeardRow)).all():
        if found.blobs.intersection(json.loads(row.made)):
            db.delete(row)


def _lots(values: list[str], size: int = 500) -> Iterable[list[str]]:
    return (values[at : at + size] for at in range(0, len(values), size))


def hand_off(db: Session, session: str, order: str) -> Unneeded:
    """One order of a session's hand-offs, and what only it names."""
    rows = db.scalars(
        select(FileRow).where(FileRow.session_id == session, FileRow.kind.like("handoff %"))
    ).all()
    found = Unneeded(hand_offs=[order])
    found.files = [row.id for row in rows if str(json.loads(row.details or "{}").get("order")) == order]
    found.blobs = _named(db, (), ()) - _named(db, (), found.files)
    return found


def need(db: Session, session: str, needs: dict[int, list[str]], unknown: list[int]) -> None:
    """Add keys of renders to those that steps need; a step of which nothing was known is known then, and
    nothing is known of others.
    """
    for row in db.scalars(select(RevisionRow).where(RevisionRow.session_id == session)):
        if row.id in needs:
            row.needs = json.dumps(sorted({*json.loads(row.needs or "[]"), *needs[row.id]}))
    for some in _lots([str(step) for step in unknown]):
        db.execute(update(RevisionRow).where(RevisionRow.id.in_(map(int, some))).values(needs=None))


def steps_of(db: Session, session: str) -> list[tuple[int, dict[str, str]]]:
    """(id, names of parts with their hashes) of every step that undo and redo reach, newest first."""
    row = db.get(SessionRow, session)
    steps = db.execute(
        select(RevisionRow.id, RevisionRow.parent_id, RevisionRow.parts).where(
            RevisionRow.session_id == session
        )
    ).all()
    reached = reachable({one.id: one.parent_id for one in steps}, row.cursor if row else None)
    return [(one.id, json.loads(one.parts)) for one in sorted(steps, reverse=True) if one.id in reached]
