"""Bringing audio in: an upload becomes a take, a job decodes it and listens to it."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.errors import MediaError, ParameterError, StaleError
from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.media.decode import FileSource, decode_to_wav
from combpace.media.peaks import write_peaks
from combpace.media.stated import padding_is_stated, tempo_in_tags
from combpace.session import carried, keys, known
from combpace.session.analysis_store import read_analysis
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change, Job, NewTake, record
from combpace.session.document import parts as forms
from combpace.session.document.model import TakeEntry
from combpace.session.state import session_state
from combpace.session.take_names import clean_name, guessed_kind, unused_name
from combpace.stations.takes.hearing import listened, stated
from combpace.store import rows
from combpace.store.models import WANTED, TakeRow, new_id

# So many other takes may arrive in the same moment.
MOST_MEETINGS = 20


def add_upload(folder: DataFolder, session_id: str, path: Path, name: str) -> str:
    """Keep an uploaded file, put a take into the session and queue its reading; what this folder heard in the
    same bytes before is there at once. Returns the take's id.

    Every take that arrives is one undo step; two that arrive at once both arrive.
    """
    name = clean_name(name)
    size = path.stat().st_size
    sha = folder.blobs.adopt(path)
    asked_for = next(
        (
            row
            for row in folder.take_rows(session_id).values()
            if row.state == WANTED and row.source_sha == sha
        ),
        None,
    )
    if asked_for is not None:
        enqueue(folder, session_id, "import", asked_for.id, {"take": asked_for.id})
        return asked_for.id
    heard = _heard_before(folder, sha, name)
    take_id, kind, stem = new_id(), guessed_kind(name), re.sub(r"\.\w{2,4}$", "", name)
    shown = stem
    for _ in range(MOST_MEETINGS):
        state = session_state(folder, session_id)
        others, lead = state.opened.document.takes, state.opened.document.lead
        # A loop leads only while nothing else is there; one that the user chose to lead shares the lead's
        # pace and stays.
        gives_way = lead is not None and lead.kind == "loop" and lead.pace == "own" and kind != "loop"
        if gives_way:
            others = tuple(replace(other, role="follower") for other in others)
        leads = lead is None or gives_way
        shown = unused_name(stem, state.opened.document.names)
        entry = TakeEntry(
            take_id,
            shown,
            kind,
            "lead" if leads else "follower",
            "own" if kind == "loop" else "lead",
            arrival=not leads,
        )
        note = f"{shown} came in and leads instead of a loop." if gives_way else f"{shown} came in."
        change = Change(
            {"takes": forms.takes_part((*others, entry))},
            note,
            jobs=() if heard else (Job("import", take_id, {"take": take_id}),),
            takes=(NewTake(take_id, name, sha, size, heard or {}),),
        )
        try:
            record(state, state.opened.revision.version, change)
            return take_id
        except StaleError:
            # Another take arrived in the same moment: both stay.
            continue
    raise ParameterError(
        f"{shown} could not be put into the session: it is changed all the time. Nothing was "
        "imported; drop it again."
    )


def _heard_before(folder: DataFolder, source_sha: str, name: str) -> dict[str, Any] | None:
    """The columns of a take whose bytes were decoded and heard here before, None where that is to be done."""
    sound = known.sound_of(folder, source_sha)
    if sound is None:
        return None
    said = stated(sound.tagged_bpm, sound.padding, name)
    heard = known.analyses_of(
        folder, keys.analyses_key([sound.decoded_sha], guessed_kind(name) == "loop", [said])
    )
    return None if heard is None else {**sound.columns, "state": "ready", "analysis_sha": heard[0]}


@job("import")
def import_take(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: decode, make peaks, listen; or, for takes that are there, listen to them as one.

    args  {take}, or {together: takes}; again: listen, whatever was heard before; marks: the attacks of the
          take that it was made of (`session.carried`)
    """
    again = bool(args.get("again"))
    if "together" in args:
        return hear_together(folder, args["together"], tell, again)
    row = folder.take_row(args["take"])
    if row.state == "ready":
        return {"take": row.id}
    sound = _decoded(folder, row, tell, again)
    if row.state == WANTED:
        return _completed(folder, row, sound, tell)
    # The picture is there before the pulse is: the page can be used meanwhile.
    rows.change_take(folder.database, row.id, folder.job, state="listening", error=None, **sound.columns)
    heard = _heard(folder, row, sound, tell, again)
    if args.get("marks"):
        heard = carried.marked(folder, heard, args["marks"])
    rows.change_take(folder.database, row.id, folder.job, state="ready", analysis_sha=heard, alone=None)
    return {"take": row.id}


def _decoded(folder: DataFolder, row: TakeRow, tell: Progress, again: bool) -> known.Sound:
    """What comes out of a take's file: known, or decoded now."""
    with known.alone(folder, keys.sound_key(row.source_sha), tell):
        sound = None if again else known.sound_of(folder, row.source_sha)
        if sound is None:
            sound = _decode(folder, row, tell)
            known.keep_sound(folder, row.source_sha, sound)
        return sound


def _decode(folder: DataFolder, row: TakeRow, tell: Progress) -> known.Sound:
    file = folder.checked_blob(row.source_sha)
    decoded_path, peaks_path = folder.blobs.new_path(".wav"), folder.blobs.new_path(".peaks")
    try:
        tell("reading the file", 0.0)
        decoded = decode_to_wav(
            file, decoded_path, name=row.name, on_progress=lambda share: tell("reading the file", share)
        )
        with FileSource(decoded_path) as source:
            write_peaks(source, peaks_path, lambda share: tell("drawing", share))
        return known.Sound(
            folder.blobs.adopt(decoded_path),
            folder.blobs.adopt(peaks_path),
            decoded.decoder,
            decoded.sample_rate_hz,
            decoded.channels,
            decoded.frames,
            decoded.peak,
            decoded.notes,
            tempo_in_tags(file),
            padding_is_stated(file),
        )
    finally:
        for path in (decoded_path, peaks_path):
            path.unlink(missing_ok=True)


def _heard(folder: DataFolder, row: TakeRow, sound: known.Sound, tell: Progress, again: bool) -> str:
    """What is heard in a take alone, by its hash."""
    said = stated(sound.tagged_bpm, sound.padding, row.name)
    (heard,) = listened(folder, [sound.decoded_sha], guessed_kind(row.name) == "loop", [said], tell, again)
    return heard


def _completed(folder: DataFolder, row: TakeRow, sound: known.Sound, tell: Progress) -> dict[str, Any]:
    """A take whose file came after its archive: what was heard of it there stays; what only its sound tells
    is heard here.
    """
    if (sound.frames, sound.sample_rate_hz) != (row.frames, row.sample_rate_hz):
        raise MediaError(
            f"“{row.name}” does not come to the sound that was listened to: another decoder read it "
            "there. Nothing was changed."
        )
    pinned = folder.analysis(row)
    notes = list(sound.notes)
    if sound.decoded_sha != row.decoded_sha:
        notes.append(
            "It was decoded otherwise than where the archive was made; its marks are those of there."
        )
    heard = _heard(folder, row, sound, tell, again=False)
    fresh = read_analysis(folder.blob(heard))
    same = pinned is not None and np.array_equal(
        np.round(fresh.onsets.times, 6), np.round(pinned.onsets.times, 6)
    )
    rows.change_take(
        folder.database,
        row.id,
        folder.job,
        state="ready",
        error=None,
        decoded_sha=sound.decoded_sha,
        peaks_sha=sound.peaks_sha,
        # The same marks: with it comes what a new reading of the pulse needs.
        analysis_sha=heard if same else row.analysis_sha,
        decoder=sound.decoder,
        peak=sound.peak,
        notes=json.dumps(notes),
    )
    return {"take": row.id}


def hear_together(
    folder: DataFolder, take_ids: list[str], tell: Progress, again: bool = False
) -> dict[str, Any]:
    """Listen to the takes of a bundle as to one performance; those that are not read yet, or at another rate,
    keep what was heard.
    """
    takes = [row for row in map(folder.take_row, take_ids) if row.state == "ready" and row.decoded_sha]
    takes = [row for row in takes if row.sample_rate_hz == takes[0].sample_rate_hz]
    if len(takes) < 2:
        return {"takes": []}
    files = [folder.blob(row.source_sha) for row in takes]
    said = [
        stated(tempo_in_tags(file), padding_is_stated(file), row.name)
        for row, file in zip(takes, files, strict=True)
    ]
    decoded = [row.decoded_sha or "" for row in takes]
    for row, heard in zip(takes, listened(folder, decoded, False, said, tell, again), strict=True):
        before = json.loads(row.alone)["sha"] if row.alone else row.analysis_sha
        alone = json.dumps({"with": [one.id for one in takes], "sha": before})
        rows.change_take(folder.database, row.id, folder.job, analysis_sha=heard, alone=alone)
    return {"takes": [row.id for row in takes]}


def listen_again(folder: DataFolder, session_id: str, take_id: str) -> None:
    """Queue the reading of a take that failed, was cancelled, or was heard by an earlier version; a bundle is
    heard as one. It always listens.
    """
    row = folder.take_row(take_id)
    if row.session_id != session_id:
        raise ParameterError("This take belongs to another session.")
    together = [take.id for take in folder.open(session_id).document.bundle_of(take_id)]
    if row.state == "ready" and len(together) > 1:
        enqueue(folder, session_id, "import", take_id, {"take": take_id, "together": together, "again": True})
        return
    rows.change_take(folder.database, take_id, state="waiting", error=None)
    enqueue(folder, session_id, "import", take_id, {"take": take_id, "again": True})
