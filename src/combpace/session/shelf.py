"""The shelf: all sessions, found, made, renamed, duplicated, removed and brought back."""

from __future__ import annotations

import contextlib
import json
import logging
import time
from dataclasses import dataclass, replace
from typing import Any

from combpace.core.errors import CombPaceError, ParameterError, StorageError
from combpace.media.names import clipped
from combpace.session import words
from combpace.session.data_folder import DataFolder, view_in
from combpace.session.decisions import begin
from combpace.session.state import session_state
from combpace.session.take_names import clean_text
from combpace.store import rows
from combpace.store.models import SessionRow, now

MOST_NAME = 120
LOG = logging.getLogger("combpace")
DAMAGED = "It cannot be read: what was kept of it is damaged. It can be exported or removed."


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
    damaged: bool = False
    bytes: int = 0


def session_name(name: str) -> str:
    clean = clipped(clean_text(" ".join(name.split())).strip(), MOST_NAME)
    if not clean:
        raise ParameterError("A session needs a name. Nothing was changed.")
    return clean


def create(folder: DataFolder, name: str) -> str:
    """A new, empty session. Returns its id."""
    clean = session_name(name)
    with folder.database.writing() as db:
        session_id = rows.add_session(db, clean)
        begin(db, session_id)
        return session_id


def rename(folder: DataFolder, session_id: str, name: str) -> None:
    _change(folder, session_id, name=session_name(name))


def remove(folder: DataFolder, session_id: str) -> None:
    """Off the shelf; `restore` brings it back with everything in it."""
    _change(folder, session_id, removed=now())


def restore(folder: DataFolder, session_id: str) -> None:
    _change(folder, session_id, removed=None)


# What is kept with the view but not by the page: the settings of the last hand-off.
BESIDE = ("handoff",)
MOST_VIEW = 20_000


def beside(view: str, name: str) -> Any:
    """One of BESIDE, out of a view as it is kept; None where it is not there."""
    return view_in(view).get(name)


def keep_beside(folder: DataFolder, session_id: str, name: str, value: Any) -> None:
    """Keep one of BESIDE with the view; no step of undo."""
    folder.change_view(session_id, lambda kept: {**kept, name: value})


def save_view(folder: DataFolder, session_id: str, view: dict[str, Any]) -> None:
    """Levels, mutes, loop: kept, but not steps of undo."""
    if len(json.dumps(view)) > MOST_VIEW:
        raise ParameterError("This is too much to keep as a view.")

    def beside_it(kept: dict[str, Any]) -> dict[str, Any]:
        # What is kept beside it is not the page's.
        return {**view, **{name: kept[name] for name in BESIDE if kept.get(name) is not None}}

    folder.change_view(session_id, beside_it)


def _change(folder: DataFolder, session_id: str, **values: Any) -> None:
    values = {"touched": now()} | values
    folder.change_session(
        session_id,
        **{name: value for name, value in values.items() if not (name == "touched" and value is None)},
    )


def duplicate(folder: DataFolder, session_id: str) -> str:
    """A copy that shares the sounds and goes its own way from here. Its history begins with this state."""
    opened = folder.open(session_id)
    with folder.database.writing() as db:
        copy_id, renamed, unheard = rows.copy_session(
            db, session_id, session_name(f"{clipped(opened.row.name, MOST_NAME - 7)} (copy)")
        )
        folder.history.copy(db, session_id, copy_id, renamed)
        for take in unheard:
            rows.queue_job(db, copy_id, "import", take, json.dumps({"take": take}))
        return copy_id


def shelf(folder: DataFolder, find: str = "") -> list[ShelfEntry]:
    """All sessions that are not removed, last touched first; `find` looks in names and sentences."""
    until = time.monotonic() + MOST_LOOKING_S
    sizes = rows.session_bytes(folder.database)
    entries = [
        replace(_entry(folder, row, time.monotonic() < until), bytes=sizes.get(row.id, 0))
        for row in rows.shelf_rows(folder.database)
    ]
    wanted = find.casefold().split()
    return [
        entry
        for entry in entries
        if all(word in f"{entry.name} {entry.sentence}".casefold() for word in wanted)
    ]


# So long sessions that moved are looked at anew; after that the shelf shows what it knew of the rest, and
# looks at them next time.
MOST_LOOKING_S = 0.7
NOT_YET = {
    "sentence": "changed since it was last shown here; reload to see its map",
    "length": "",
    "takes": "",
    "weave": False,
}


def _entry(folder: DataFolder, row: SessionRow, look: bool) -> ShelfEntry:
    known = json.loads(row.summary)
    if not look:
        known = NOT_YET | known
    elif known.get("version") != row.version or known.get("ready") != rows.ready_takes(
        folder.database, row.id
    ):
        ready = rows.ready_takes(folder.database, row.id)
        known = {"version": row.version, "ready": ready} | _summary(folder, row.id)
        with contextlib.suppress(StorageError):
            # On a full disk, or while another writes, the shelf is still read; its lines are made again
            # next time.
            rows.keep_summary(folder.database, row.id, json.dumps(known))
    return ShelfEntry(
        row.id,
        row.name,
        known["sentence"],
        known["length"],
        known["takes"],
        row.touched,
        known["weave"],
        known.get("damaged", False),
    )


def _summary(folder: DataFolder, session_id: str) -> dict[str, Any]:
    try:
        seen = session_state(folder, session_id)
        session_map = seen.session_map()
    except CombPaceError as error:
        return {"sentence": str(error), "length": "", "takes": "", "weave": False, "damaged": True}
    except Exception:
        # One session that is damaged never takes the shelf with it.
        LOG.exception("session %s cannot be shown on the shelf", session_id)
        return {"sentence": DAMAGED, "length": "", "takes": "", "weave": False, "damaged": True}
    return {
        "sentence": words.map_sentence(session_map, seen.map_choice().said, seen.end_s()),
        "length": words.clock(seen.end_s())[:-4],
        "takes": words.count(len(seen.document.takes), "take"),
        "weave": session_map is not None,
    }
