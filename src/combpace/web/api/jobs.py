"""Long work on the wire: ordered, looked at, cancelled."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from combpace.core.fit.pauses import parse_pauses
from combpace.jobs import queue
from combpace.session.decisions import TakeId
from combpace.stations.fit import rendering
from combpace.stations.handoff import write
from combpace.stations.pieces import keeping
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")


class Render(BaseModel):
    take: TakeId
    version: int


class HandOff(BaseModel):
    takes: list[TakeId] = Field(max_length=256)
    kind: str = "wav24"
    start: Literal["bar 1", "lead-in"] = "bar 1"
    extras: list[str] = Field(default_factory=list, max_length=8)
    # dB below the peak and least length in ms, "50,80"; null leaves pauses as they are
    silence: str | None = Field(default=None, max_length=40)


@router.post("/sessions/{session_id}/render")
def render(session_id: str, body: Render, folder: Folder) -> dict[str, str]:
    return {"job": rendering.order_render(folder, session_id, body.version, body.take)}


@router.post("/sessions/{session_id}/keep-pieces")
def keep_pieces(session_id: str, body: Render, folder: Folder) -> dict[str, str]:
    return {"job": keeping.order_keep(folder, session_id, body.take)}


@router.post("/sessions/{session_id}/hand-off")
def hand_off(session_id: str, body: HandOff, folder: Folder) -> dict[str, str]:
    pauses = None if body.silence is None else parse_pauses(body.silence)
    return {"job": write.order(folder, session_id, body.takes, body.kind, body.start, body.extras, pauses)}


@router.get("/jobs/{job_id}")
def get_job(job_id: str, folder: Folder) -> dict[str, Any]:
    return wire(queue.job(folder, job_id))


@router.post("/jobs/{job_id}/cancel")
def cancel_job(job_id: str, folder: Folder) -> dict[str, Any]:
    return wire(queue.cancel(folder, job_id))


def wire(view: queue.JobView) -> dict[str, Any]:
    """A job as pages are told of it."""
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
