"""Takes on the wire: their bytes in and out, their peaks."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, BackgroundTasks, Query, Request
from fastapi.responses import FileResponse, Response
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import MediaError, NotFoundError, ParameterError
from combpace.core.fit.pauses import find_pauses, parse_pauses
from combpace.media.decode import FileSource
from combpace.media.peaks import peaks_at, peaks_in_memory, read_peaks, samples_as_peaks
from combpace.session.pieces import in_pieces, key_of, peaks_of
from combpace.session.pieces import opened as laid_out
from combpace.session.stack import stacked
from combpace.session.state import session_state
from combpace.session.take_names import clean_name
from combpace.stations.handoff.ordering import last_wish
from combpace.stations.handoff.writers import mime_of
from combpace.stations.pieces import saving
from combpace.stations.takes import importing, parts
from combpace.web.deps import Folder, filed, receive

router = APIRouter(prefix="/api")

# What a pause is while no hand-off has said it: dB below the peak, ms.
USUAL_PAUSES = "50,80"


@router.put("/sessions/{session_id}/uploads")
async def upload(
    session_id: str, request: Request, folder: Folder, name: str = Query(max_length=1000)
) -> dict[str, Any]:
    """The raw bytes of one file, streamed to disk under the cap: {"take": id}, or of a MIDI file {"parts":
    [id, ...]}.
    """
    await run_in_threadpool(folder.open, session_id)
    cap = folder.settings.upload_cap
    too_large = MediaError(
        f"“{clean_name(name)}” is larger than {cap / 2**20:,.0f} MiB, which is the most that is "
        "taken. Nothing was imported."
    )
    announced = request.headers.get("content-length", "")
    if announced.isdecimal() and int(announced) > cap:
        raise too_large
    path = folder.blobs.new_path()
    try:
        if not await receive(request, path, cap, too_large):
            raise MediaError(f"“{clean_name(name)}” is empty. Nothing was imported.")
        if parts.is_midi(name):
            return {"parts": await filed(parts.add_parts, folder, session_id, path, name)}
        return {"take": await filed(importing.add_upload, folder, session_id, path, name)}
    finally:
        path.unlink(missing_ok=True)


@router.post("/sessions/{session_id}/takes/{take_id}/listen-again")
def listen_again(session_id: str, take_id: str, folder: Folder) -> dict[str, bool]:
    importing.listen_again(folder, session_id, take_id)
    return {"ok": True}


@router.get("/takes/{take_id}/peaks")
def get_peaks(
    take_id: str,
    folder: Folder,
    request: Request,
    size: int,
    first: int = Query(0, ge=0),
    count: int = Query(65536, ge=1, le=1_000_000),
) -> Response:
    """Pairs of little-endian int16: lowest and highest sample of each bin; of size 1 each sample twice, at
    most 65536 of them.
    """
    row = folder.take_row(take_id)
    path = folder.blob(row.peaks_sha)
    # Of size 1 they are the samples themselves.
    tag = f'"{row.peaks_sha}{row.decoded_sha if size == 1 else ""}"'
    headers = {"ETag": tag, "Cache-Control": "private, no-cache"}
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304, headers=headers)
    if size == 1:
        with folder.source(row) as source:
            return Response(
                samples_as_peaks(source, first, count), media_type="application/octet-stream", headers=headers
            )
    return Response(
        read_peaks(path, row.frames or 0, size, first, count),
        media_type="application/octet-stream",
        headers=headers,
    )


@router.get("/takes/{take_id}/sounds/{sha}/peaks")
def get_cut_peaks(
    take_id: str,
    sha: str,
    folder: Folder,
    size: int,
    first: int = Query(0, ge=0),
    count: int = Query(65536, ge=1, le=1_000_000),
) -> Response:
    """As the peaks of a take, of the render that its pieces are cut from."""
    state = session_state(folder, folder.take_row(take_id).session_id)
    if peaks_of(state, take_id) != sha:
        raise NotFoundError(
            "No piece of this take is cut from that sound. Nothing was changed; reload the page."
        )
    with FileSource(folder.checked_blob(sha)) as source:
        if size == 1:
            data = samples_as_peaks(source, first, count)
        else:
            made = folder.once(("peaks of a render", sha), lambda: peaks_in_memory(source))
            data = peaks_at(made, source.frames, size, first, count)
    return Response(
        data,
        media_type="application/octet-stream",
        headers={"Cache-Control": "private, max-age=31536000, immutable"},
    )


@router.get("/takes/{take_id}/laid/{key}/peaks")
def get_laid_peaks(
    take_id: str,
    key: str,
    folder: Folder,
    size: int,
    first: int = Query(0, ge=0),
    count: int = Query(65536, ge=1, le=1_000_000),
) -> Response:
    """As the peaks of a take, of what its pieces sound like together, from session time 0 on."""
    state = session_state(folder, folder.take_row(take_id).session_id)
    if not in_pieces(state, take_id) or key_of(state, take_id) != key:
        raise NotFoundError("These pieces lie otherwise by now. Nothing was changed; reload the page.")
    with laid_out(state, take_id) as source:
        if size == 1:
            data = samples_as_peaks(source, first, count)
        else:
            made = folder.once(("peaks of pieces", take_id, key), lambda: peaks_in_memory(source))
            data = peaks_at(made, source.frames, size, first, count)
    return Response(
        data,
        media_type="application/octet-stream",
        headers={"Cache-Control": "private, max-age=31536000, immutable"},
    )


@router.get("/sessions/{session_id}/takes/{take_id}/pieces/{number}")
def get_piece(
    session_id: str,
    take_id: str,
    number: int,
    folder: Folder,
    background: BackgroundTasks,
    kind: str = "wav24",
) -> FileResponse:
    """One piece as a file, as it sounds alone: its level and fades, of exactly its length."""
    path, name = saving.write_piece(folder, session_id, take_id, number, kind)
    background.add_task(path.unlink, missing_ok=True)
    return FileResponse(path, filename=name, media_type=mime_of(name))


@router.get("/sessions/{session_id}/stack")
def get_stack(session_id: str, folder: Folder, on: str = Query("1/16", max_length=10)) -> dict[str, Any]:
    """Takes above each other: {takes: [{id, name}], notes: [{q, t, spread_ms, of: [[take moment, ms after t]
    or null]}]}, in order of time.
    """
    above = stacked(session_state(folder, session_id), on)
    played = [k for k in range(len(above.takes)) if any(note.which[k] is not None for note in above.notes)]
    notes = [
        {
            "q": round(note.quarters, 6),
            "t": round(note.line_s, 6),
            "spread_ms": round(1000 * note.spread_s, 2),
            "of": [
                None
                if (k := note.which[take]) is None
                else [round(float(above.times[take][k]), 6), round(1000 * note.off_s[take], 2)]
                for take in played
            ],
        }
        for note in above.notes
    ]
    return {
        "takes": [
            {"id": take.id, "name": take.bundle or take.name} for take in (above.takes[k] for k in played)
        ],
        "notes": notes,
    }


@router.get("/sessions/{session_id}/takes/{take_id}/pauses")
def get_pauses(
    session_id: str, take_id: str, folder: Folder, limits: str | None = Query(None, max_length=30)
) -> dict[str, Any]:
    """Pauses of a take as it was played, [from, to] in seconds of the take. limits: dB below its peak and
    least length in ms; without them those of the session's hand-off. They are said beside what was found.
    """
    state = session_state(folder, session_id)
    wish = last_wish(state)
    limits = limits or (wish.silence if wish is not None and wish.silence else USUAL_PAUSES)
    rule = parse_pauses(limits)
    said = {"below_db": rule.below_db, "least_ms": round(1000.0 * rule.least_s, 3)}
    row, marks = state.rows.get(take_id), state.onsets(take_id).times
    if row is None or row.decoded_sha is None:
        return {"pauses": [], **said}

    def find() -> list[list[float]]:
        with folder.source(row) as source:
            found = find_pauses(source, rule, [float(time) for time in marks])
            return [
                [round(start / source.sample_rate_hz, 6), round(stop / source.sample_rate_hz, 6)]
                for start, stop in found
            ]

    return {"pauses": folder.once(("pauses", row.decoded_sha, limits, marks.tobytes()), find), **said}


@router.get("/sessions/{session_id}/sources/{take_id}")
def original(session_id: str, take_id: str, folder: Folder) -> FileResponse:
    """The bytes of a take as they came."""
    state = session_state(folder, session_id)
    if take_id not in state.rows:
        raise ParameterError("This take belongs to another session.")
    row = state.rows[take_id]
    return FileResponse(folder.blob(row.source_sha), filename=row.name, media_type="application/octet-stream")
