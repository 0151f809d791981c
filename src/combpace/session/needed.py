"""Which renders a step of a session's history needs: kept with the step, so that freeing the others derives
nothing.
"""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.session import fits
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import NEEDS
from combpace.session.foresight import as_if
from combpace.session.renders import KIND
from combpace.session.state import SessionState, session_state
from combpace.store import cleaning, rows

# So long it is looked which older steps a new render is right for; what is left then counts as not known, and
# keeps all renders.
MOST_S = 30.0
# What a fit depends on, of the parts of a document.
ABOUT = ("takes", "map", "pace:", "said:", "onsets:", "rule:", "pegs:")


def needed(seen: SessionState) -> list[str]:
    """Keys of the renders that are there and right for a session as it is."""
    made = rows.files_like(seen.folder.database, seen.opened.row.id, KIND)
    if not made:
        return []
    keys, found = {row.key for row in made}, set()
    there = {take.id for take in seen.document.takes}
    for take_id in {str(json.loads(row.details or "{}").get("take")) for row in made} & there:
        try:
            key = fits.key_of(seen, fits.take_fit(seen, seen.document.timing_take(take_id)), take_id)
        except CombPaceError:
            continue
        found |= {key} & keys
    return sorted(found)


def _after(state: SessionState, parts: Mapping[str, Any]) -> list[str]:
    """The same of a session as a change makes it."""
    if not rows.files_like(state.folder.database, state.opened.row.id, KIND):
        return []
    return needed(as_if(state, parts))


NEEDS.append(_after)


def keep(folder: DataFolder, session_id: str) -> None:
    """A render was made: say of every step that undo and redo reach whether it needs that."""
    until = time.monotonic() + MOST_S
    with folder.database.reading() as db:
        steps = cleaning.steps_of(db, session_id)
    known: dict[str, list[str]] = {}
    found: dict[int, list[str]] = {}
    unknown: list[int] = []
    for step, names in steps:
        about = json.dumps(
            {name: sha for name, sha in names.items() if name.startswith(ABOUT)}, sort_keys=True
        )
        if about not in known:
            if time.monotonic() > until:
                unknown.append(step)
                continue
            try:
                known[about] = needed(session_state(folder, session_id, step))
            except CombPaceError:
                unknown.append(step)
                continue
        found[step] = known[about]
    with folder.database.writing() as db:
        cleaning.need(db, session_id, found, unknown)
