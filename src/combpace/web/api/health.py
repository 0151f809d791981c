"""Whether the server is well: for people, for whoever restarts it, for a load balancer."""

from __future__ import annotations

import shutil
from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse

from combpace import __version__
from combpace.session import cleaning
from combpace.stations import cleaning as clean_job
from combpace.store import rows
from combpace.web.deps import Folder

router = APIRouter(prefix="/api")
# With less room than this an upload or a render may fail.
LOW_BYTES = 256 * 2**20
# A round of the dispatcher takes a tenth of a second.
LATE_S = 30.0


def health(request: Request, folder: Folder) -> dict[str, Any]:
    """ok, says: a sentence for each thing that is not well; what was looked at."""
    dispatcher = request.app.state.dispatcher
    jobs = None if dispatcher is None else dispatcher.health()
    free = shutil.disk_usage(folder.settings.data_dir).free
    says = []
    if jobs is not None:
        if not jobs["alive"]:
            says.append("What starts jobs had stopped; it was started again.")
        elif jobs["last_s"] > LATE_S:
            says.append(f"No job was started or ended for {jobs['last_s']:.0f} s.")
        if jobs["trouble"]:
            says.append(jobs["trouble"])
    if free < LOW_BYTES:
        says.append(f"The disk of {folder.settings.data_dir} has {free / 2**20:,.0f} MiB left.")
    open_jobs = rows.count_open_jobs(folder.database)
    preview = request.app.state.previewer.pid
    return {
        "ok": not says,
        "says": says,
        "version": __version__,
        "free_bytes": free,
        "open_jobs": open_jobs,
        "jobs": jobs,
        "preview_process": preview,
    }


@router.get("/clean")
def get_clean(folder: Folder) -> dict[str, int]:
    """What would be freed: {"sessions", "hand_offs", "renders", "bytes"}."""
    return asdict(cleaning.found(folder))


@router.post("/clean")
def post_clean(folder: Folder) -> dict[str, str]:
    """Free it, as long work: {"job"}; its result is as `get_clean` says."""
    return {"job": clean_job.order(folder)}


@router.get("/health")
def get_health(request: Request, folder: Folder) -> JSONResponse:
    """As `health`; status 503 where something is not well."""
    found = health(request, folder)
    return JSONResponse(found, 200 if found["ok"] else 503)
