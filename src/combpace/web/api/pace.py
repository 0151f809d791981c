"""Pace on the wire: what is heard and drawn before a tempo is taken. Reads only; decisions change."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from combpace.core.errors import ParameterError
from combpace.core.tempo.measure import measure_along
from combpace.core.tempo.proposal import LIMIT_MS
from combpace.drawing.picture import map_table
from combpace.drawing.seam import seam_picture
from combpace.drawing.weave import lead_activation
from combpace.media.decode import FileSource
from combpace.session.decisions import Seconds
from combpace.session.measured import measured_document
from combpace.session.state import session_state
from combpace.stations.lead_readings import sentence, ways
from combpace.stations.pace.tapping import MOST_TAPS, taps_say
from combpace.web.deps import Folder

router = APIRouter(prefix="/api/sessions/{session_id}")


class Taps(BaseModel):
    """Session times."""

    times_s: list[Seconds] = Field(max_length=MOST_TAPS)


@router.get("/readings")
def readings(session_id: str, folder: Folder) -> list[dict[str, Any]]:
    """The ways to count the lead, each as a map of the session's clock."""
    state = session_state(folder, session_id)
    lead = state.document.lead
    if lead is None:
        return []
    said = {way.rank: way.sentence for way in ways(state)}
    return [
        {
            "rank": one.rank,
            "sentence": said.get(one.rank, sentence(one)),
            "map": map_table(one.pace.shifted(lead.offset_s)),  # type: ignore[arg-type]
        }
        for one in state.readings(lead.id)
    ]


@router.get("/activation")
def activation(session_id: str, folder: Folder) -> Response:
    """How much of an attack there is in the lead, a byte each hundredth of a second of its own clock: what a
    weave is made of.
    """
    values, offset = lead_activation(session_state(folder, session_id))
    return Response(
        values,
        media_type="application/octet-stream",
        headers={"X-Offset-S": repr(offset), "Cache-Control": "no-store"},
    )


@router.get("/measure")
def measure(
    session_id: str,
    folder: Folder,
    from_s: float = Query(0.0, ge=-1e6, le=1e6),
    to_s: float = Query(0.0, ge=-1e6, le=1e6),
    whole: bool = False,
    bars: int | None = Query(None, ge=1, le=1000),
    limit_ms: float = Query(LIMIT_MS, ge=0.1, le=10000),
    catch: bool = True,
) -> dict[str, Any]:
    """A range of the lead measured, session time, with the picture of its seam; `catch` false: the edges are
    meant as they stand.
    """
    state = session_state(folder, session_id)
    lead = state.need_lead()
    row = state.rows[lead.id]
    if not row.decoded_sha:
        raise ParameterError(f"{lead.name} has not been read yet. Nothing was changed; wait until it is.")
    onsets, pace = state.onsets(lead.id), state.own_pace(lead.id)
    with FileSource(folder.blob(row.decoded_sha)) as source:
        edges = None if whole else (from_s - lead.offset_s, to_s - lead.offset_s)
        found = measure_along(source, onsets, pace, edges, bars, limit_ms, catch=catch)
        picture = seam_picture(source, found.from_s, found.to_s)
    exact = {"from_s": found.from_s + lead.offset_s, "to_s": found.to_s + lead.offset_s}
    return {
        **measured_document(found, lead.offset_s),
        **exact,
        "picture": picture,
        "frame_s": 1.0 / (row.sample_rate_hz or 1),
    }


@router.post("/taps")
def taps(session_id: str, body: Taps, folder: Folder) -> dict[str, Any]:
    """What taps say so far; nothing is changed."""
    said = taps_say(session_state(folder, session_id), body.times_s)
    return {
        "bpm": said.found.bpm,
        "bar_1_s": said.bar_1_s,
        "sentence": said.sentence,
        "taps": said.found.taps,
    }
