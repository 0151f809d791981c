"""Addresses of the wire."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import FileResponse, JSONResponse, Response, StreamingResponse
from sqlalchemy import select
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import MediaError, NotFoundError, ParameterError
from combpace.media.peaks import read_peaks
from combpace.services import fit, handoff, jobs, picture, sessions, takes
from combpace.services.sounding import Sounding
from combpace.services.workplace import SessionState, Workplace, session_state
from combpace.store.models import FileRow, SessionRow
from combpace.web.api.actions import act
from combpace.web.deps import Place, Preview
from combpace.web.schemas import actions as a

router = APIRouter(prefix="/api")
EVENT_POLL_S = 0.2
IMMUTABLE = "private, max-age=31536000, immutable"


@router.post("/sessions")
def new_session(body: a.NewSession, place: Place) -> dict[str, str]:
    return {"id": sessions.create(place, body.name)}


@router.patch("/sessions/{session_id}")
def rename_session(session_id: str, body: a.Rename, place: Place) -> dict[str, bool]:
    sessions.rename(place, session_id, body.name)
    return {"ok": True}


@router.delete("/sessions/{session_id}")
def remove_session(session_id: str, place: Place) -> dict[str, bool]:
    sessions.remove(place, session_id)
    return {"ok": True}


@router.post("/sessions/{session_id}/restore")
def restore_session(session_id: str, place: Place) -> dict[str, bool]:
    sessions.restore(place, session_id)
    return {"ok": True}


@router.post("/sessions/{session_id}/duplicate")
def duplicate_session(session_id: str, place: Place) -> dict[str, str]:
    return {"id": sessions.duplicate(place, session_id)}


@router.put("/sessions/{session_id}/levels")
def keep_view(session_id: str, body: dict[str, Any], place: Place) -> dict[str, bool]:
    sessions.save_view(place, session_id, body)
    return {"ok": True}


@router.put("/sessions/{session_id}/uploads")
async def upload(session_id: str, request: Request, place: Place, name: str = Query(max_length=1000)) -> dict[str, str]:
    """The raw bytes of one file, streamed to disk under the cap."""
    await run_in_threadpool(place.open, session_id)
    cap = place.settings.upload_cap
    too_large = MediaError(
        f"“{takes.clean_name(name)}” is larger than {cap / 2**20:,.0f} MiB, which is the most that is taken. Nothing was imported."
    )
    announced = request.headers.get("content-length", "")
    if announced.isdecimal() and int(announced) > cap:
        raise too_large
    path = place.blobs.new_path()
    try:
        size = 0
        with path.open("wb") as out:
            async for chunk in request.stream():
                size += len(chunk)
                if size > cap:
                    raise too_large
                await run_in_threadpool(out.write, chunk)
        if not size:
            raise MediaError(f"“{takes.clean_name(name)}” is empty. Nothing was imported.")
        return {"take": await run_in_threadpool(takes.add_upload, place, session_id, path, name)}
    finally:
        path.unlink(missing_ok=True)


@router.post("/sessions/{session_id}/act/{name}")
def decide(session_id: str, name: str, body: a.Act, place: Place) -> dict[str, Any]:
    revision = act(place, session_id, name, body)
    return {"version": revision.version, "note": revision.note, "can_undo": revision.can_undo, "can_redo": revision.can_redo}


@router.post("/sessions/{session_id}/takes/{take_id}/listen-again")
def listen_again(session_id: str, take_id: str, place: Place) -> dict[str, bool]:
    takes.listen_again(place, session_id, take_id)
    return {"ok": True}


@router.get("/sessions/{session_id}/picture")
def get_picture(session_id: str, place: Place, focus: str | None = None) -> Response:
    return JSONResponse(picture.picture(session_state(place, session_id), focus))


@router.get("/sessions/{session_id}/weave")
def get_weave(session_id: str, place: Place, columns: int = Query(240, ge=8, le=2000)) -> Response:
    """Darkness 0-255, a row of bytes a bar; the headers say how many."""
    first, dark = sessions.weave_of(place, session_id, columns)
    headers = {"X-First-Bar-Index": str(first), "X-Rows": str(len(dark)), "X-Columns": str(columns)}
    return Response((dark * 255).clip(0, 255).astype("uint8").tobytes(), media_type="application/octet-stream", headers=headers)


@router.get("/takes/{take_id}/peaks")
def get_peaks(
    take_id: str, place: Place, request: Request, size: int, first: int = Query(0, ge=0), count: int = Query(65536, ge=1, le=1_000_000)
) -> Response:
    """Pairs of little-endian int16: lowest and highest sample of each bin."""
    row = place.take_row(take_id)
    path = place.blob(row.peaks_sha)
    tag = f'"{row.peaks_sha}"'
    headers = {"ETag": tag, "Cache-Control": "private, no-cache"}
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers=headers)
    return Response(read_peaks(path, row.frames or 0, size, first, count), media_type="application/octet-stream", headers=headers)


@router.get("/sessions/{session_id}/takes/{take_id}/sound")
def get_sound(
    session_id: str,
    take_id: str,
    place: Place,
    preview: Preview,
    segment: int = Query(ge=-100_000, le=1_000_000),
    rate: int = Query(ge=8000, le=192000),
    fitted: bool = False,
    speed: float = Query(1.0, ge=0.5, le=1.0),
    v: str = "",
) -> Response:
    """Two seconds of a take on the session's clock, float32, one channel after the other. `v` names what is heard, so that it may be kept."""
    seen = session_state(place, session_id)
    entry = seen.document.take(take_id)
    row = seen.rows[take_id]
    made = fit.take_fit(seen, take_id) if fitted else None
    how = Sounding(
        entry.offset_s,
        (made.fit.time_map, made.method) if made else None,
        speed,
        tuple(float(time) for time in seen.onsets(take_id).times) if speed != 1.0 else (),
        *fit.bundle_files(place, seen.document.bundle_of(take_id), seen.rows, take_id),
    )
    channels, data = preview.segment(place.blob(row.decoded_sha), how, rate, segment)
    headers = {"X-Channels": str(channels), "Cache-Control": IMMUTABLE if v else "no-store"}
    return Response(data, media_type="application/octet-stream", headers=headers)


@router.post("/sessions/{session_id}/render")
def render(session_id: str, body: a.Render, place: Place) -> dict[str, str]:
    return {"job": fit.order_render(place, session_id, body.version, body.take)}


@router.post("/sessions/{session_id}/hand-off")
def hand_off(session_id: str, body: a.HandOff, place: Place) -> dict[str, str]:
    return {"job": handoff.order(place, session_id, body.takes, body.kind, body.start, body.extras)}


@router.get("/jobs/{job_id}")
def get_job(job_id: str, place: Place) -> dict[str, Any]:
    return _job(jobs.job(place, job_id))


@router.post("/jobs/{job_id}/cancel")
def cancel_job(job_id: str, place: Place) -> dict[str, Any]:
    return _job(jobs.cancel(place, job_id))


def _job(view: jobs.JobView) -> dict[str, Any]:
    return {
        "id": view.id,
        "kind": view.kind,
        "subject": view.subject,
        "state": view.state,
        "phase": view.phase,
        "progress": view.progress,
        "error": view.error,
        "result": view.result,
    }


@router.get("/sessions/{session_id}/events")
async def events(session_id: str, request: Request, place: Place) -> StreamingResponse:
    """Server-sent events: `jobs` when one moved, `version` when the session was changed, by whatever page."""
    await run_in_threadpool(place.open, session_id)
    return StreamingResponse(_events(session_id, request, place), media_type="text/event-stream")


async def _events(session_id: str, request: Request, place: Workplace) -> AsyncIterator[str]:
    since, version = 0.0, -1
    first = True
    quiet = 0.0
    while not request.app.state.stopping.is_set():
        found, now = await run_in_threadpool(_news, place, session_id, since)
        since = max([since, *(view.changed for view in found)])
        if first:
            # What ended before the page was there is no news.
            found = [view for view in found if view.state in jobs.OPEN]
            first = False
        quiet += EVENT_POLL_S
        if found:
            quiet = 0.0
            yield f"event: jobs\ndata: {json.dumps([_job(view) for view in found])}\n\n"
        if now != version:
            version, quiet = now, 0.0
            yield f"event: version\ndata: {version}\n\n"
        if quiet > 15:
            quiet = 0.0
            yield ": still here\n\n"
        await asyncio.sleep(EVENT_POLL_S)


def _news(place: Workplace, session_id: str, since: float) -> tuple[list[jobs.JobView], int]:
    with place.database.reading() as db:
        version = db.scalar(select(SessionRow.version).where(SessionRow.id == session_id)) or 0
    return jobs.jobs_of(place, session_id, since), version


@router.get("/files/{file_id}")
def download(file_id: str, place: Place) -> FileResponse:
    """A file that was handed off or rendered, by its id only."""
    with place.database.reading() as db:
        row = db.get(FileRow, file_id)
    if row is None:
        raise NotFoundError("This file does not exist, or no longer. Hand it off again.")
    kind = {
        ".wav": "audio/wav",
        ".flac": "audio/flac",
        ".mid": "audio/midi",
        ".json": "application/json",
        ".csv": "text/csv",
        ".zip": "application/zip",
    }
    return FileResponse(place.blob(row.sha), filename=row.name, media_type=kind.get(Path(row.name).suffix, "application/octet-stream"))


@router.get("/sessions/{session_id}/sources/{take_id}")
def original(session_id: str, take_id: str, place: Place) -> FileResponse:
    """The bytes of a take as they came."""
    seen: SessionState = session_state(place, session_id)
    if take_id not in seen.rows:
        raise ParameterError("This take belongs to another session.")
    row = seen.rows[take_id]
    return FileResponse(place.blob(row.source_sha), filename=row.name, media_type="application/octet-stream")
