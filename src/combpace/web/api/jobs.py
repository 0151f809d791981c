"""Long work on the wire: ordered, looked at, cancelled."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from combpace.jobs import queue
from combpace.session.decisions import TakeId
from combpace.session.state import session_state
from combpace.stations.fit import rendering
from combpace.stations.handoff import ordering
from combpace.stations.pieces import keeping
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")


class Render(BaseModel):
    take: TakeId
    version: int


@router.post("/sessions/{session_id}/render")
def render(session_id: str, body: Render, folder: Folder) -> dict[str, Any]:
    """{"job", "version", "note"}: a proposed sentence becomes a step with it, which `note` says (else
    null).
    """
    return asdict(rendering.order_render(folder, session_id, body.version, body.take))


@router.post("/sessions/{session_id}/keep-pieces")
def keep_pieces(session_id: str, body: Render, folder: Folder) -> dict[str, str]:
    """{"job"}: writes the pieces as they lie in the version that was seen."""
    return {"job": keeping.order_keep(folder, session_id, body.version, body.take)}


@router.post("/sessions/{session_id}/hand-off")
def hand_off(session_id: str, body: ordering.Wish, folder: Folder) -> dict[str, str]:
    return {"job": ordering.order(folder, session_id, body)}


@router.post("/sessions/{session_id}/hand-off/plan")
def plan_hand_off(session_id: str, body: ordering.Wish, folder: Folder) -> dict[str, Any]:
    """What an order would write, before anything is made: see `ordering.announced`."""
    return ordering.announced(session_state(folder, session_id), body)


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
        # Seconds since 1970: what it does is what was decided then.
        "ordered": view.created,
    }
