"""The shelf: all sessions, found, made, renamed, duplicated, removed and brought back."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy import select

from combpace.core.clocks import FloatArray
from combpace.core.errors import CombPaceError, NotFoundError, ParameterError
from combpace.services import document as forms
from combpace.services import takes, words
from combpace.services.bars import map_sentence
from combpace.services.workplace import SessionState, Workplace, session_state, stale
from combpace.store.errors import OutdatedError
from combpace.store.history import Revision
from combpace.store.models import FileRow, SessionRow, TakeRow, new_id, now

MOST_NAME = 120


@dataclass(frozen=True, slots=True)
class ShelfEntry:
    """A session on the shelf."""

    id: str
    name: str
    sentence: str
    length: str
    takes: str
    touched: float
    has_weave: bool


def clean_name(name: str) -> str:
    clean = " ".join(name.replace("\x00", "").split())[:MOST_NAME]
    if not clean:
        raise ParameterError("A session needs a name. Nothing was changed.")
    return clean


def create(workplace: Workplace, name: str) -> str:
    """A new, empty session. Returns its id."""
    row = SessionRow(name=clean_name(name))
    with workplace.database.writing() as db:
        db.add(row)
        db.flush()
        session_id = row.id
    workplace.history.begin(session_id, forms.FORMAT, {"takes": []}, "A new session.")
    return session_id


def rename(workplace: Workplace, session_id: str, name: str) -> None:
    _change(workplace, session_id, name=clean_name(name))


def remove(workplace: Workplace, session_id: str) -> None:
    """Off the shelf; `restore` brings it back with everything in it."""
    _change(workplace, session_id, removed=now())


def restore(workplace: Workplace, session_id: str) -> None:
    _change(workplace, session_id, removed=None)


def save_view(workplace: Workplace, session_id: str, view: dict[str, Any]) -> None:
    """Levels, mutes, loop: kept, but not steps of undo."""
    text = json.dumps(view)
    if len(text) > 20000:
        raise ParameterError("This is too much to keep as a view.")
    _change(workplace, session_id, view=text, touched=None)


def _change(workplace: Workplace, session_id: str, **values: Any) -> None:
    with workplace.database.writing() as db:
        row = db.get(SessionRow, session_id)
        if row is None:
            raise NotFoundError("This session does not exist, or no longer.")
        for name, value in ({"touched": now()} | values).items():
            if not (name == "touched" and value is None):
                setattr(row, name, value)


def duplicate(workplace: Workplace, session_id: str) -> str:
    """A copy that shares the sounds and goes its own way from here. Its history begins with this state."""
    opened = workplace.open(session_id)
    copy = SessionRow(id=new_id(), name=clean_name(f"{opened.row.name[: MOST_NAME - 7]} (copy)"), view=opened.row.view)
    renamed: dict[str, str] = {}
    with workplace.database.writing() as db:
        db.add(copy)
        db.flush()
        for row in db.scalars(select(TakeRow).where(TakeRow.session_id == session_id)):
            values = {column.name: getattr(row, column.name) for column in TakeRow.__table__.columns}
            renamed[row.id] = new_id()
            db.add(TakeRow(**(values | {"id": renamed[row.id], "session_id": copy.id})))
        for file in db.scalars(select(FileRow).where(FileRow.session_id == session_id, FileRow.kind == "render")):
            values = {column.name: getattr(file, column.name) for column in FileRow.__table__.columns}
            db.add(FileRow(**(values | {"id": new_id(), "session_id": copy.id})))
    workplace.history.copy(session_id, copy.id, renamed)
    return copy.id


def undo(workplace: Workplace, session_id: str, version: int, *, forwards: bool) -> Revision:
    """One step back or forward."""
    try:
        move = workplace.history.redo if forwards else workplace.history.undo
        before = workplace.open(session_id).revision
        revision = move(session_id, version)
    except OutdatedError as error:
        raise stale(error) from error
    if revision is None:
        raise ParameterError("There is nothing to do again." if forwards else "There is nothing to undo.")
    return revision if forwards else replace(revision, note=f"Undone: {before.note}")


def shelf(workplace: Workplace, find: str = "") -> list[ShelfEntry]:
    """All sessions that are not removed, last touched first; `find` looks in names and sentences."""
    with workplace.database.reading() as db:
        rows = list(db.scalars(select(SessionRow).where(SessionRow.removed.is_(None)).order_by(SessionRow.touched.desc())))
    entries = [_entry(workplace, row) for row in rows]
    wanted = find.casefold().split()
    return [entry for entry in entries if all(word in f"{entry.name} {entry.sentence}".casefold() for word in wanted)]


def _entry(workplace: Workplace, row: SessionRow) -> ShelfEntry:
    known = json.loads(row.summary)
    ready = _ready(workplace, row.id)
    if known.get("version") != row.version or known.get("ready") != ready:
        known = {"version": row.version, "ready": ready} | _summary(workplace, row.id)
        with workplace.database.writing() as db:
            fresh = db.get(SessionRow, row.id)
            if fresh is not None:
                fresh.summary = json.dumps(known)
    return ShelfEntry(row.id, row.name, known["sentence"], known["length"], known["takes"], row.touched, known["weave"])


def _ready(workplace: Workplace, session_id: str) -> int:
    with workplace.database.reading() as db:
        return len(db.scalars(select(TakeRow.id).where(TakeRow.session_id == session_id, TakeRow.state == "ready")).all())


def _summary(workplace: Workplace, session_id: str) -> dict[str, Any]:
    try:
        seen = session_state(workplace, session_id)
    except CombPaceError as error:
        return {"sentence": str(error), "length": "", "takes": "", "weave": False}
    session_map = seen.session_map()
    return {
        "sentence": map_sentence(session_map, seen.map_choice().kind, seen.end_s()),
        "length": words.clock(seen.end_s())[:-4],
        "takes": words.count(len(seen.document.takes), "take"),
        "weave": session_map is not None,
    }


def weave_of(workplace: Workplace, session_id: str, columns: int = 240, most_rows: int = 2000) -> tuple[int, FloatArray]:
    """(number of the first bar, darkness 0-1 of shape (bars, columns)) of the lead against the session's map."""
    seen = session_state(workplace, session_id)
    return weave_from(seen, columns, most_rows)


def weave_from(seen: SessionState, columns: int = 240, most_rows: int = 2000) -> tuple[int, FloatArray]:
    session_map, lead = seen.session_map(), seen.document.lead
    heard = seen.analysis(lead.id) if lead else None
    if session_map is None or heard is None or lead is None:
        return 1, np.zeros((0, columns))
    first = session_map.bar_of(session_map.place(max(0.0, lead.offset_s)))
    last = session_map.bar_of(session_map.place(lead.offset_s + seen.duration_s(lead.id)))
    bars = int(np.clip(last - first + 1, 1, most_rows))
    lines = session_map.to_seconds(session_map.bar_lines(first, bars))
    return first, takes.weave(lines, heard.activation, lead.offset_s, columns)
