"""What a start finds half done, made whole or taken up again; each is said."""

from __future__ import annotations

import json

from combpace.session.data_folder import DataFolder
from combpace.session.decisions import begin
from combpace.store import archives, rows


def repair(folder: DataFolder) -> list[str]:
    """Mend what an earlier end left behind. Returns what was done, in sentences; nothing where all is
    well.
    """
    said = []
    if gone := archives.remove_unfinished(folder.database):
        said.append(
            f"{gone} archive{'s were' if gone > 1 else ' was'} being opened when the program ended. Nothing "
            "was imported; drop it again."
        )
    for session_id in rows.without_history(folder.database):
        with folder.database.writing() as db:
            begin(db, session_id)
        said.append(
            f"Session {session_id} had no first step: its making was cut off. It is empty now, and "
            "can be used or removed."
        )
    waiting = rows.unheard_takes(folder.database)
    if waiting:
        with folder.database.writing() as db:
            for row in waiting:
                rows.queue_job(db, row.session_id, "import", row.id, json.dumps({"take": row.id}))
        said.append(
            f"{len(waiting)} take{'s' if len(waiting) > 1 else ''} waited to be read and nobody "
            "did; they are read now."
        )
    return said
