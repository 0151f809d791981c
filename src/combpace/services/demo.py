"""The demo sessions: made once for a data folder, through the same doors as any user's."""

from __future__ import annotations

import shutil
from pathlib import Path

from combpace.demo.build import write_demo
from combpace.services import sessions, takes
from combpace.services.workplace import Workplace
from combpace.store.models import JobRow


def build(workplace: Workplace) -> str:
    """Build the demo sessions where they are missing. Returns the id of the one to open."""
    marker = workplace.settings.data_dir / "demo-session"
    if marker.is_file():
        session_id = marker.read_text(encoding="utf-8").strip()
        if any(entry.id == session_id for entry in sessions.shelf(workplace)):
            return session_id
    sounds = workplace.settings.data_dir / "demo-sounds"
    first = ""
    for name, paths in reversed(write_demo(sounds).items()):
        first = sessions.create(workplace, name)
        for path in paths:
            _bring_in(workplace, first, path)
    _bundle_mics(workplace, first)
    marker.write_text(first, encoding="utf-8")
    return first


def _bring_in(workplace: Workplace, session_id: str, path: Path) -> None:
    copy = workplace.blobs.new_path(path.suffix)
    shutil.copyfile(path, copy)
    take_id = takes.add_upload(workplace, session_id, copy, path.name)
    # Read here and now instead of by a worker: the demo is complete when the server starts.
    takes.import_take(workplace, {"take": take_id}, lambda phase, share: None)
    with workplace.database.writing() as db:
        for row in db.query(JobRow).where(JobRow.subject == take_id):
            row.state, row.phase, row.progress = "done", "done", 1.0


def _bundle_mics(workplace: Workplace, session_id: str) -> None:
    opened = workplace.open(session_id)
    mics = [take.id for take in opened.document.takes if take.name.startswith("Tubs kit")]
    takes.bundle(workplace, session_id, opened.revision.version, mics, "Tubs kit", listen=False)
    takes.hear_together(workplace, mics, lambda phase, share: None)
