"""The demo sessions: made once for a data folder, through the same doors as any user's."""

from __future__ import annotations

import shutil
from pathlib import Path

from combpace.demo.build import CUT_NAME, write_demo
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import TakeArgs, decide, record
from combpace.session.grooves import GrooveLibrary, groove_taken
from combpace.session.state import session_state
from combpace.stations.takes.arriving import arrival_keep
from combpace.stations.takes.decisions import BundleArgs, bundle
from combpace.stations.takes.importing import add_upload, hear_together, import_take
from combpace.stations.takes.parts import PartArgs, add_parts, is_midi, part
from combpace.store import rows

GROOVE_NAME = "Boiler house lilt"


def build(folder: DataFolder) -> str:
    """Build the demo sessions where they are missing. Returns the id of the one to open."""
    marker = folder.settings.data_dir / "demo-session"
    if marker.is_file():
        session_id = marker.read_text(encoding="utf-8").strip()
        if any(entry.id == session_id for entry in shelf.shelf(folder)):
            return session_id
    sounds = folder.settings.data_dir / "demo-sounds"
    first = ""
    for name, paths in reversed(write_demo(sounds).items()):
        first = shelf.create(folder, name)
        for path in paths:
            _bring_in(folder, first, path)
        if name == CUT_NAME:
            _cut_and_laid(folder, first)
    _keep_arrivals(folder, first)
    _bundle_mics(folder, first)
    _bells_and_groove(folder, first)
    marker.write_text(first, encoding="utf-8")
    return first


def _bring_in(folder: DataFolder, session_id: str, path: Path) -> None:
    copy = folder.blobs.new_path(path.suffix)
    shutil.copyfile(path, copy)
    if is_midi(path.name):
        add_parts(folder, session_id, copy, path.name)
        return
    take_id = add_upload(folder, session_id, copy, path.name)
    # Read here and now instead of by a worker: the demo is complete when the server starts.
    import_take(folder, {"take": take_id}, lambda phase, share: None)
    rows.end_jobs_about(folder.database, [take_id])


def _cut_and_laid(folder: DataFolder, session_id: str) -> None:
    """The pipes at a quicker tempo, unstretched: eight bars, a stutter before the fifth, the last beat of the
    sixth dropped.
    """
    loop = session_state(folder, session_id).need_lead().id

    def act(name: str, **args: object) -> None:
        decide(folder, session_id, name, folder.open(session_id).revision.version, args)

    act("steady", bpm="112", bar_1_s="0")
    act("cut-and-lay", take=loop, at="onsets", lay="1/8", fill="tail")
    act("cells", takes=[loop], from_q=0.0, to_q=8.0, what="repeat", times=3)
    act("cells", takes=[loop], from_q=14.0, to_q=14.5, what="repeat", times=3)
    act("cells", takes=[loop], from_q=23.0, to_q=24.0, what="silence")


def _keep_arrivals(folder: DataFolder, session_id: str) -> None:
    for entry in session_state(folder, session_id).document.arrivals:
        state = session_state(folder, session_id)
        record(state, state.opened.revision.version, arrival_keep(state, TakeArgs(take=entry.id)))


def _bundle_mics(folder: DataFolder, session_id: str) -> None:
    state = session_state(folder, session_id)
    mics = [take.id for take in state.document.takes if take.name.startswith("Tubs kit")]
    record(state, state.opened.revision.version, bundle(state, BundleArgs(takes=mics, name="Tubs kit")))
    hear_together(folder, mics, lambda phase, share: None)
    rows.end_jobs_about(folder.database, mics[:1])


def _bells_and_groove(folder: DataFolder, session_id: str) -> None:
    """The bells play from bar 5 to bar 21 on a groove that was taken from the tubs; it waits in the library
    for other sessions.
    """
    state = session_state(folder, session_id)
    lead = state.need_lead().id
    library = GrooveLibrary(folder)
    known = [one for one in library.all() if one.groove.name == GROOVE_NAME]
    kept = known[0] if known else library.add(groove_taken(state, lead, (5, 12), "1/8", GROOVE_NAME))
    bells = state.document.notes[0].id
    for field, value in (("first_bar", "5"), ("times", "until 21"), ("grid", f"groove:{kept.id}")):
        state = session_state(folder, session_id)
        record(
            state, state.opened.revision.version, part(state, PartArgs(part=bells, field=field, value=value))
        )
