"""Renders that are kept: which of them are there, and what they were made of."""

from __future__ import annotations

import json
from typing import Any

from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.store.models import FileRow

KIND = "render"


def render_of(folder: DataFolder, session_id: str, key: str, *, whole: bool = False) -> FileRow | None:
    """The render that a key names, None where it was not made, or is gone or damaged.

    whole  it is looked at byte for byte, as whatever is written, cut or kept from it must be; else only
           whether it is there
    """
    row = rows.render_of(folder.database, session_id, key)
    if row is None or not (folder.is_whole(row.sha) if whole else folder.seems_whole(row.sha)):
        return None
    return row


def keep_render(
    folder: DataFolder, session_id: str, key: str, name: str, sha: str, size: int, details: dict[str, Any]
) -> str:
    """Keep a render that was made, under what names it; its bytes are there already. Returns its file's id.

    details  its frames, its rate, what it was made of, and what was proved of it
    """
    file = {
        "session_id": session_id,
        "kind": KIND,
        "key": key,
        "name": name,
        "sha": sha,
        "bytes": size,
        "details": json.dumps(details),
    }
    return rows.add_files(folder.database, [file], folder.job)[0]


def made_of(folder: DataFolder, session_id: str, sha: str) -> dict[str, Any] | None:
    """What a render was made of, as `playback.rendering.render` takes it, with the hashes of its sounds as
    `files`; None where that was not kept.
    """
    for row in rows.files_of_sha(folder.database, session_id, KIND, sha):
        recipe: dict[str, Any] | None = json.loads(row.details).get("made_of")
        if recipe is not None:
            return recipe
    return None
