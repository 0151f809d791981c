"""Decisions on the wire, and what the pages draw and list from: picture, weave, places to look at."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field
from pydantic_core import to_json
from starlette.concurrency import run_in_threadpool

from combpace.core.errors import MapConflictError, MediaError, ParameterError, StaleError
from combpace.drawing import picture, ranges, weave
from combpace.session import decisions
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change
from combpace.session.foresight import as_if, foreseen
from combpace.session.led import led_by
from combpace.session.page_forms import MapTable, PieceRow
from combpace.session.state import SessionState, session_state
from combpace.session.take_names import clean_name
from combpace.stations import registry
from combpace.stations.bars.map_in import read_file
from combpace.web.deps import Folder, receive

router = APIRouter(prefix="/api/sessions/{session_id}")
# No tempo map that is read is larger.
MOST_MAP_BYTES = 32 * 2**20
# So many ranges of a picture are given at once.
MOST_RANGES = 64


class Act(BaseModel):
    """A decision on a session: the version it is based on, and its arguments."""

    version: int
    args: dict[str, object] = Field(default_factory=dict)


@router.post("/act/{name}")
def take_decision(session_id: str, name: str, body: Act, folder: Folder) -> dict[str, Any]:
    revision = decisions.decide(folder, session_id, name, body.version, body.args)
    return {
        "version": revision.version,
        "note": revision.note,
        "can_undo": revision.can_undo,
        "can_redo": revision.can_redo,
    }


@router.put("/map-file")
async def map_file(
    session_id: str, request: Request, folder: Folder, name: str = Query(max_length=1000)
) -> dict[str, Any]:
    """The raw bytes of a tempo map: what it holds, as arguments of `map-in`, and a sentence. Nothing is
    kept.
    """
    await run_in_threadpool(folder.open, session_id)
    called = clean_name(name)
    path = folder.blobs.new_path(Path(called).suffix)
    too_large = MediaError(
        f"“{called}” is larger than {MOST_MAP_BYTES // 2**20} MiB; a tempo map is not. Nothing was changed."
    )
    try:
        await receive(request, path, MOST_MAP_BYTES, too_large)
        return await run_in_threadpool(read_file, folder, session_id, path, called)
    finally:
        path.unlink(missing_ok=True)


@router.post("/foresee/{name}")
def foresee(session_id: str, name: str, body: Act, folder: Folder) -> dict[str, Any]:
    """What a decision would do, without taking it: {"note", "sentence", "lines", "takes", "keep", "pieces",
    "map", "refused", "stale"}; pieces: of takes that it cuts; map: the table of the picture, where it would
    be another one; refused: why it would not be taken, all else is null then; stale: the session has moved
    on.
    """
    nothing: dict[str, Any] = dict.fromkeys(("note", "sentence", "lines", "takes", "keep", "pieces", "map"))
    try:
        state, change = decisions.considered(folder, session_id, name, body.version, body.args)
    except StaleError:
        return {**nothing, "refused": None, "stale": True}
    except (ParameterError, MapConflictError, MediaError) as error:
        return {**nothing, "refused": str(error), "stale": False}
    found = foreseen(state, change)
    lines = (
        None
        if found.lines is None
        else {"first": found.lines[0], "last": found.lines[1], "ms": round(found.lines[2], 3)}
    )
    takes = [{"name": take, "ms": round(ms, 3)} for take, ms in found.takes]
    return {
        "note": found.note,
        "sentence": found.sentence,
        "lines": lines,
        "takes": takes,
        "keep": list(found.keep),
        "pieces": _pieces(state, change),
        "map": _other_map(state, change, body.args.get("take") if name == "in-take" else None),
        "refused": None,
        "stale": False,
    }


def _other_map(state: SessionState, change: Change, of: object) -> MapTable | None:
    """The map as it would be, of the session or of a take with a pace of its own; None where it stays."""
    before, after = state, as_if(state, change.parts)
    if isinstance(of, str):
        before, after = led_by(before, of), led_by(after, of)
    old, new = before.session_map(), after.session_map()
    return None if new is None or new == old else picture.map_table(new)


def _pieces(state: SessionState, change: Change) -> dict[str, list[PieceRow]]:
    cut = [
        name.removeprefix("pieces:")
        for name, part in change.parts.items()
        if name.startswith("pieces:") and part is not None
    ]
    after = as_if(state, change.parts) if cut else state
    return {take_id: picture.piece_rows(after, take_id) for take_id in cut}


@router.get("/look")
def get_look(
    session_id: str, folder: Folder, station: str, take: str | None = None
) -> dict[str, list[dict[str, Any]]]:
    """All places of a station that deserve a look, worst first."""
    here, state = registry.station(station), session_state(folder, session_id)
    return {
        "places": [place.wire for place in registry.places(state, here, registry.focus_of(state, take, here))]
    }


@router.get("/picture")
def get_picture(
    session_id: str,
    folder: Folder,
    focus: str | None = None,
    of: str | None = None,
    short: bool = False,
    fit: bool = True,
    at: str = "",
) -> Response:
    """What is drawn; of: as if that take with a pace of its own led the session.

    short  for a page: of a long session bars and map packed, of marks and fit only the ranges whose indices
           `at` names, as 3,4
    fit    whether the fit is wanted; only in short
    """
    seen = _seen(folder, session_id, of)
    return _json(
        ranges.in_short(seen, focus, _indices(at), fit=fit) if short else picture.picture(seen, focus)
    )


@router.get("/picture/ranges")
def get_ranges(
    session_id: str,
    folder: Folder,
    at: str,
    focus: str | None = None,
    of: str | None = None,
    fit: bool = True,
) -> Response:
    """Ranges of a picture in short: {"version", "parts"}."""
    seen = _seen(folder, session_id, of)
    return _json(
        {"version": seen.opened.revision.version, "parts": ranges.parts(seen, focus, _indices(at), fit=fit)}
    )


def _seen(folder: DataFolder, session_id: str, of: str | None) -> SessionState:
    """A session, or as if a take with a pace of its own led it."""
    state = session_state(folder, session_id)
    return led_by(state, of) if of else state


def _indices(text: str) -> list[int]:
    """Numbers with commas between them; what is no number is none."""
    return [
        int(one) for one in text.split(",")[:MOST_RANGES] if one.isascii() and one.isdigit() and len(one) < 9
    ]


def _json(value: Any) -> Response:
    return Response(to_json(value), media_type="application/json")


@router.get("/weave")
def get_weave(session_id: str, folder: Folder, columns: int = Query(240, ge=8, le=2000)) -> Response:
    """Darkness 0-255, a row of bytes a bar; the headers say how many."""
    first, dark = weave.weave_of(folder, session_id, columns)
    headers = {"X-First-Bar-Index": str(first), "X-Rows": str(len(dark)), "X-Columns": str(columns)}
    return Response(
        (dark * 255).clip(0, 255).astype("uint8").tobytes(),
        media_type="application/octet-stream",
        headers=headers,
    )
