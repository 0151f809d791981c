"""Hand-off: fitted audio of equal length that starts together, with what lies beside it, written by a job."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.clocks import SessionTimes, session_times
from combpace.core.errors import ParameterError
from combpace.core.fit.pauses import Pauses
from combpace.core.fit.time_map import TimeMap
from combpace.core.tempo.map import TempoMap
from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.media.decode import FileSource
from combpace.media.encode import FORMATS, at_rate, write_sound
from combpace.media.mapfiles import map_document
from combpace.media.names import file_name
from combpace.playback.sound import Placed, Sounding, sounding
from combpace.session import fits, notes, pieces, words
from combpace.session.data_folder import DataFolder
from combpace.session.state import SessionState, session_state
from combpace.stations.handoff.writers import WRITERS, Contents
from combpace.store import rows
from combpace.store.models import FileRow


def order(folder: DataFolder, session_id: str, take_ids: list[str], kind: str, start: str, extras: list[str], pauses: Pauses | None = None) -> str:
    """Queue a hand-off. Returns the job's id.

    kind    one of media.encode.FORMATS
    start   "bar 1" or "lead-in"
    pauses  what is silenced in fitted takes; None leaves them as they are
    """
    if kind not in FORMATS:
        raise ParameterError(f"“{kind}” is not a format; choose WAV 16, 24, 32 float or FLAC.")
    if start not in ("bar 1", "lead-in"):
        raise ParameterError("Files start at bar 1 or with the lead-in.")
    unknown = [extra for extra in extras if extra not in WRITERS]
    if unknown:
        raise ParameterError(f"There is no “{unknown[0]}” to hand off.")
    if not take_ids and not extras:
        raise ParameterError("Nothing is chosen to hand off.")
    seen = session_state(folder, session_id)
    seen.need_map()
    takes = []
    parts = {part.id: part for part in seen.document.notes}
    for take_id in take_ids:
        if take_id in parts:
            takes.append({"take": take_id, "name": parts[take_id].name, "offset_s": 0.0, "fit": None, "part": True})
            continue
        entry = seen.document.take(take_id)
        if not seen.rows[take_id].frames:
            raise ParameterError(f"{entry.name} is still being read, or could not be. Leave it out, or wait.")
        plan: dict[str, Any] = {"take": take_id, "name": entry.name, "offset_s": entry.offset_s, "fit": None}
        if pieces.in_pieces(seen, take_id):
            plan["pieces"] = True
        if fits.is_fitted(seen, take_id):
            made = fits.take_fit(seen, take_id)
            time_map = made.fit.time_map
            plan["fit"] = {"source_s": list(map(float, time_map.source_s)), "target_s": list(map(float, time_map.target_s)), "method": made.method}
            plan["fit"]["levels"] = [list(one) for one in made.levels]
            if pauses is not None:
                plan["attacks_s"] = [float(time) for time in time_map.to_target(np.asarray(seen.onsets(take_id).times))]
        takes.append(plan)
    args: dict[str, Any] = {"session": session_id, "takes": takes, "kind": kind, "start": start, "extras": sorted(extras)}
    if pauses is not None:
        args["pauses"] = [pauses.below_db, pauses.least_s]
    # What is written is what was ordered, whatever is decided while it waits.
    args["revision"] = seen.opened.revision.id
    return enqueue(folder, session_id, "handoff", session_id, args)


@dataclass(frozen=True, slots=True)
class Span:
    """From which moment of the session on, and how long, the files of a hand-off are."""

    start_s: float
    length_s: float
    frames: int
    sample_rate_hz: int


@job("handoff")
def write_handoff(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: write all files of a hand-off, and one archive of them."""
    seen = session_state(folder, args["session"], args.get("revision"))
    session_map = seen.need_map()
    rates = [seen.rows[plan["take"]].sample_rate_hz or 48000 for plan in args["takes"] if not plan.get("part")]
    first = next(
        (seen.rows[take.id].sample_rate_hz for take in seen.document.takes if take.id in seen.rows and seen.rows[take.id].sample_rate_hz), None
    )
    rate = first or (rates[0] if rates else 48000)
    # The map counts from bar 1's line itself, which lies within half a frame of the first one.
    start_s = session_map.second(0.0) if args["start"] == "bar 1" else min([0.0, *(_starts_s(plan) for plan in args["takes"])])
    end_s = max([seen.end_s(), *(_ends_s(plan, seen) for plan in args["takes"])])
    start = round(start_s * rate)
    frames = max(1, round(end_s * rate) - start)
    span = Span(start_s, end_s - start_s, frames, rate)
    files: list[tuple[Path, str, str, dict[str, Any]]] = []
    taken: set[str] = set()
    stem = _stem(seen, session_map)
    steps = len(args["takes"]) + 1
    suffix = FORMATS[args["kind"]][2]
    try:
        for number, plan in enumerate(args["takes"]):

            def share(done: float, number: int = number, name: str = plan["name"]) -> None:
                tell(f"writing {name}", (number + done) / steps)

            share(0.0)
            target = folder.blobs.new_path(suffix)
            with _sounding(folder, seen, plan, args["session"]) as source:
                written = write_sound(
                    at_rate(source, rate),
                    target,
                    args["kind"],
                    start=start,
                    stop=start + frames,
                    pauses=Pauses(*args["pauses"]) if plan["fit"] and args.get("pauses") else None,
                    attacks_s=plan.get("attacks_s", ()),
                    on_progress=share,
                )
            said = [f"lowered by {-written.gain_db:.1f} dB, it would have clipped"] if written.gain_db < -0.05 else []
            if plan["fit"] and args.get("pauses"):
                said.append(f"{words.count(len(written.pauses), 'pause')} silenced")
            note = "; ".join(said)
            name = file_name(f"{stem} - {plan['name']}{' fitted' if plan['fit'] else ' in pieces' if plan.get('pieces') else ''}", suffix, taken)
            files.append((target, name, "audio", {"frames": frames, "rate": rate, "note": note}))
        files += _extras(folder, seen, session_map, args, span, stem, taken)
        tell("packing", (steps - 0.5) / steps)
        archive = folder.blobs.new_path(".zip")
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED) as pack:
            for path, name, _, _ in files:
                pack.write(path, name)
        files.append((archive, file_name(stem, ".zip", taken), "archive", {"files": len(files)}))
        return {"files": [_keep(folder, args["session"], *file) for file in files]}
    finally:
        for path, *_ in files:
            path.unlink(missing_ok=True)


def _extras(
    folder: DataFolder, seen: SessionState, session_map: TempoMap[SessionTimes], args: dict[str, Any], span: Span, stem: str, taken: set[str]
) -> Iterator[tuple[Path, str, str, dict[str, Any]]]:
    """Everything beside the audio, counted from the moment at which the files start."""
    moved = replace(session_map, knots=tuple(replace(knot, time_s=knot.time_s - span.start_s) for knot in session_map.knots))
    lead = seen.document.lead
    attacks = session_times(np.asarray(seen.onsets(lead.id).times) + lead.offset_s - span.start_s) if lead else session_times([])
    document = {"version": 1, "session": seen.opened.row.name, "start": args["start"], "start_session_s": span.start_s, "duration_s": span.length_s}
    document |= map_document(moved, 0.0, span.length_s, attacks)
    parts = [
        (part.name, [replace(note, start_s=note.start_s - span.start_s, end_s=note.end_s - span.start_s) for note in notes.heard(seen, part.id)])
        for part in seen.document.notes
    ]
    contents = Contents(moved, document, span.length_s, span.frames, span.sample_rate_hz, args["kind"], parts)
    for one in (WRITERS[name] for name in WRITERS if name in args["extras"] and (parts or not WRITERS[name].of_parts)):
        path = folder.blobs.new_path(one.ending(args["kind"]))
        details = one.write(contents, path)
        yield path, file_name(f"{stem} {one.title}", one.ending(args["kind"]), taken), one.kind, details


def _keep(folder: DataFolder, session_id: str, path: Path, name: str, kind: str, details: dict[str, Any]) -> str:
    size = path.stat().st_size
    sha = folder.blobs.adopt(path)
    return rows.add_file(
        folder.database,
        session_id=session_id,
        kind=f"handoff {kind}",
        key=sha,
        name=name,
        sha=sha,
        bytes=size,
        details=json.dumps(details),
    )


@contextmanager
def _sounding(folder: DataFolder, seen: SessionState, plan: dict[str, Any], session_id: str) -> Iterator[Any]:
    """A take on the session's clock at its own rate; a render that exists already is used."""
    if plan.get("part"):
        yield notes.source_of(seen, plan["take"])
        return
    row = seen.rows[plan["take"]]
    made = plan["fit"]
    if plan.get("pieces"):
        with pieces.opened(seen, plan["take"]) as made_of_pieces:
            yield made_of_pieces
        return
    if made is None:
        with folder.source(row) as source:
            yield sounding(source, Sounding(plan["offset_s"]), source.sample_rate_hz)
        return
    time_map = TimeMap(np.array(made["source_s"]), np.array(made["target_s"]))
    together = seen.document.bundle_of(plan["take"])
    assert row.decoded_sha is not None
    levels = tuple((moment, level) for moment, level in made.get("levels", ()))
    key = fits.fit_key(row.decoded_sha, time_map, made["method"], fits.bundle_shas(together, seen.rows), levels)
    known = rows.render_of(folder.database, session_id, key)
    if known is not None:
        with FileSource(folder.blob(known.sha)) as render:
            yield Placed(render, json.loads(known.details)["first_frame"])
        return
    with folder.source(row) as source:
        yield sounding(
            source,
            Sounding(plan["offset_s"], (time_map, made["method"]), 1.0, (), *fits.bundle_files(folder, together, seen.rows, row.id), levels),
            source.sample_rate_hz,
        )


def _starts_s(plan: dict[str, Any]) -> float:
    return float(plan["fit"]["target_s"][0]) if plan["fit"] else float(plan["offset_s"])


def _ends_s(plan: dict[str, Any], seen: SessionState) -> float:
    if plan.get("part"):
        return max((note.end_s for note in notes.heard(seen, plan["take"])), default=0.0)
    if plan.get("pieces"):
        rate = seen.rows[plan["take"]].sample_rate_hz or 48_000
        return max(one.at + one.frames for one in pieces.laid(seen, plan["take"])) / rate
    return float(plan["fit"]["target_s"][-1]) if plan["fit"] else plan["offset_s"] + seen.duration_s(plan["take"])


def _stem(seen: SessionState, session_map: TempoMap[SessionTimes]) -> str:
    beat = session_map.meters[0].beat_quarters
    if seen.map_choice().kind == "steady":
        tempo = f"{session_map.bpm_at(0.0) / beat:.2f}".rstrip("0").rstrip(".")
    else:
        tempo = words.bpm_range(session_map, max(0.0, session_map.second(0.0)), seen.end_s()).replace("–", "-")
    return f"{seen.opened.row.name} {tempo} BPM"


def files_of(folder: DataFolder, session_id: str) -> list[FileRow]:
    """Everything that was handed off from a session, newest first."""
    return rows.files_like(folder.database, session_id, "handoff %")
