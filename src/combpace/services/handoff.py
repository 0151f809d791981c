"""Hand-off: fitted audio of equal length that starts together, the tempo map, a click track."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from combpace.core.clocks import SessionTimes, session_times
from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap
from combpace.core.sounds.click import ClickBeat, ClickTrack
from combpace.core.tempo.map import TempoMap
from combpace.media.decode import FileSource
from combpace.media.encode import FORMATS, at_rate, write_sound
from combpace.media.mapfiles import bars_csv, beats_between, map_document, write_json
from combpace.media.midi import write_map
from combpace.media.names import file_name
from combpace.services import fit, jobs, words
from combpace.services.sounding import Placed, Sounding, sounding
from combpace.services.workplace import SessionState, Workplace, session_state
from combpace.store.models import FileRow

Progress = Callable[[str, float], None]
EXTRAS = ("midi", "json", "csv", "click")


def order(workplace: Workplace, session_id: str, take_ids: list[str], kind: str, start: str, extras: list[str]) -> str:
    """Queue a hand-off. Returns the job's id.

    kind    one of media.encode.FORMATS
    start   "bar 1" or "lead-in"
    """
    if kind not in FORMATS:
        raise ParameterError(f"“{kind}” is not a format; choose WAV 16, 24, 32 float or FLAC.")
    if start not in ("bar 1", "lead-in"):
        raise ParameterError("Files start at bar 1 or with the lead-in.")
    unknown = [extra for extra in extras if extra not in EXTRAS]
    if unknown:
        raise ParameterError(f"There is no “{unknown[0]}” to hand off.")
    if not take_ids and not extras:
        raise ParameterError("Nothing is chosen to hand off.")
    seen = session_state(workplace, session_id)
    seen.need_map()
    takes = []
    for take_id in take_ids:
        entry = seen.document.take(take_id)
        if not seen.rows[take_id].frames:
            raise ParameterError(f"{entry.name} is still being read, or could not be. Leave it out, or wait.")
        plan: dict[str, Any] = {"take": take_id, "name": entry.name, "offset_s": entry.offset_s, "fit": None}
        if is_fitted(seen, take_id):
            made = fit.take_fit(seen, take_id)
            time_map = made.fit.time_map
            plan["fit"] = {"source_s": list(map(float, time_map.source_s)), "target_s": list(map(float, time_map.target_s)), "method": made.method}
        takes.append(plan)
    args = {"session": session_id, "takes": takes, "kind": kind, "start": start, "extras": sorted(extras), "version": seen.opened.revision.version}
    return jobs.enqueue(workplace, session_id, "handoff", session_id, args)


def is_fitted(seen: SessionState, take_id: str) -> bool:
    """Whether a take leaves fitted: a sentence was stated for it, or it follows the session at its own pace."""
    timing = seen.document.timing_take(take_id)
    entry = seen.document.take(timing)
    return timing in seen.document.rules or (entry.role != "lead" and entry.pace == "own" and seen.own_pace(timing) is not None)


def write_handoff(workplace: Workplace, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: write all files of a hand-off, and one archive of them."""
    seen = session_state(workplace, args["session"])
    session_map = seen.need_map()
    rates = [seen.rows[plan["take"]].sample_rate_hz or 48000 for plan in args["takes"]]
    first = next(
        (seen.rows[take.id].sample_rate_hz for take in seen.document.takes if take.id in seen.rows and seen.rows[take.id].sample_rate_hz), None
    )
    rate = first or (rates[0] if rates else 48000)
    start_s = session_map.second(0.0) if args["start"] == "bar 1" else min([0.0, *(_starts_s(plan) for plan in args["takes"])])
    end_s = max([seen.end_s(), *(_ends_s(plan, seen) for plan in args["takes"])])
    start = round(start_s * rate)
    frames = max(1, round(end_s * rate) - start)
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
            target = workplace.blobs.new_path(suffix)
            with _sounding(workplace, seen, plan, args["session"]) as source:
                written = write_sound(at_rate(source, rate), target, args["kind"], start=start, stop=start + frames, on_progress=share)
            note = f"lowered by {-written.gain_db:.1f} dB, it would have clipped" if written.gain_db < -0.05 else ""
            name = file_name(f"{stem} - {plan['name']}{' fitted' if plan['fit'] else ''}", suffix, taken)
            files.append((target, name, "audio", {"frames": frames, "rate": rate, "note": note}))
        files += _extras(workplace, seen, session_map, args, (start / rate, end_s, frames, rate), stem, taken)
        tell("packing", (steps - 0.5) / steps)
        archive = workplace.blobs.new_path(".zip")
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED) as pack:
            for path, name, _, _ in files:
                pack.write(path, name)
        files.append((archive, file_name(stem, ".zip", taken), "archive", {"files": len(files)}))
        return {"files": [_keep(workplace, args["session"], *file) for file in files]}
    finally:
        for path, *_ in files:
            path.unlink(missing_ok=True)


def _extras(
    workplace: Workplace,
    seen: SessionState,
    session_map: TempoMap[SessionTimes],
    args: dict[str, Any],
    span: tuple[float, float, int, int],
    stem: str,
    taken: set[str],
) -> Iterator[tuple[Path, str, str, dict[str, Any]]]:
    """Map and click, counted from the moment at which the files start."""
    start_s, end_s, frames, rate = span
    moved = replace(session_map, knots=tuple(replace(knot, time_s=knot.time_s - start_s) for knot in session_map.knots))
    length_s = end_s - start_s
    lead = seen.document.lead
    attacks = session_times(np.asarray(seen.onsets(lead.id).times) + lead.offset_s - start_s) if lead else session_times([])
    document = {"version": 1, "session": seen.opened.row.name, "start": args["start"], "start_session_s": start_s, "duration_s": length_s}
    document |= map_document(moved, 0.0, length_s, attacks)
    if "midi" in args["extras"]:
        path = workplace.blobs.new_path(".mid")
        write_map(moved, length_s, path)
        yield path, file_name(f"{stem} tempo map", ".mid", taken), "map", {}
    if "json" in args["extras"]:
        path = workplace.blobs.new_path(".json")
        write_json(document, path)
        yield path, file_name(f"{stem} tempo map", ".json", taken), "map", {}
    if "csv" in args["extras"]:
        path = workplace.blobs.new_path(".csv")
        path.write_text(bars_csv(document), encoding="utf-8")
        yield path, file_name(f"{stem} tempo map", ".csv", taken), "map", {}
    if "click" in args["extras"]:
        kind = args["kind"]
        path = workplace.blobs.new_path(FORMATS[kind][2])
        beats, downbeats = beats_between(moved, 0.0, length_s)
        opening = {round(time, 6) for time in downbeats}
        track = ClickTrack([ClickBeat(time, round(time, 6) in opening) for time in beats], frames, rate)
        write_sound(track, path, kind)
        yield path, file_name(f"{stem} click", FORMATS[kind][2], taken), "click", {"frames": frames, "rate": rate}


def _keep(workplace: Workplace, session_id: str, path: Path, name: str, kind: str, details: dict[str, Any]) -> str:
    size = path.stat().st_size
    sha = workplace.blobs.adopt(path)
    with workplace.database.writing() as db:
        row = FileRow(session_id=session_id, kind=f"handoff {kind}", key=sha, name=name, sha=sha, bytes=size, details=json.dumps(details))
        db.add(row)
        db.flush()
        return row.id


@contextmanager
def _sounding(workplace: Workplace, seen: SessionState, plan: dict[str, Any], session_id: str) -> Iterator[Any]:
    """A take on the session's clock at its own rate; a render that exists already is used."""
    row = seen.rows[plan["take"]]
    made = plan["fit"]
    if made is None:
        with workplace.source(row) as source:
            yield sounding(source, Sounding(plan["offset_s"]), source.sample_rate_hz)
        return
    time_map = TimeMap(np.array(made["source_s"]), np.array(made["target_s"]))
    together = seen.document.bundle_of(plan["take"])
    assert row.decoded_sha is not None
    known = fit.rendered(workplace, session_id, fit.fit_key(row.decoded_sha, time_map, made["method"], fit.bundle_shas(together, seen.rows)))
    if known is not None:
        with FileSource(workplace.blob(known.sha)) as render:
            yield Placed(render, json.loads(known.details)["first_frame"])
        return
    with workplace.source(row) as source:
        yield sounding(
            source,
            Sounding(plan["offset_s"], (time_map, made["method"]), 1.0, (), *fit.bundle_files(workplace, together, seen.rows, row.id)),
            source.sample_rate_hz,
        )


def _starts_s(plan: dict[str, Any]) -> float:
    return float(plan["fit"]["target_s"][0]) if plan["fit"] else float(plan["offset_s"])


def _ends_s(plan: dict[str, Any], seen: SessionState) -> float:
    return float(plan["fit"]["target_s"][-1]) if plan["fit"] else plan["offset_s"] + seen.duration_s(plan["take"])


def _stem(seen: SessionState, session_map: TempoMap[SessionTimes]) -> str:
    beat = session_map.meters[0].beat_quarters
    if seen.map_choice().kind == "steady":
        tempo = f"{session_map.bpm_at(0.0) / beat:.2f}".rstrip("0").rstrip(".")
    else:
        tempo = words.bpm_range(session_map, max(0.0, session_map.second(0.0)), seen.end_s()).replace("–", "-")
    return f"{seen.opened.row.name} {tempo} BPM"


def files_of(workplace: Workplace, session_id: str) -> list[FileRow]:
    """Everything that was handed off from a session, newest first."""
    with workplace.database.reading() as db:
        query = select(FileRow).where(FileRow.session_id == session_id, FileRow.kind.like("handoff %"))
        return list(db.scalars(query.order_by(FileRow.created.desc())))
