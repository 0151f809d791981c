"""Errors as answers: the only place that knows status codes."""

from __future__ import annotations

import logging

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.exceptions import HTTPException

from combpace.core.errors import (
    CombPaceError,
    DamagedError,
    MapConflictError,
    MediaError,
    NotFoundError,
    ParameterError,
    StaleError,
    StorageError,
)
from combpace.session.document.model import NewerFormatError
from combpace.store.trouble import storage_error
from combpace.web.pages.render import error_page
from combpace.workers.warm import SlowError

# Insufficient Storage (RFC 4918, 11.5), Service Unavailable.
FULL, LOCKED = 507, 503
LOG = logging.getLogger("combpace")
STATUS: tuple[tuple[type[CombPaceError], int], ...] = (
    (StaleError, 409),
    (SlowError, 503),
    (NotFoundError, 404),
    (NewerFormatError, 409),
    (DamagedError, 422),
    (MapConflictError, 422),
    (MediaError, 422),
    (ParameterError, 422),
)


def install(app: FastAPI) -> None:
    """Turn every error into a sentence: JSON for the wire, a page for people."""

    @app.exception_handler(CombPaceError)
    def ours(request: Request, error: CombPaceError) -> Response:
        if isinstance(error, StorageError):
            LOG.error("at %s: %s", request.url.path, error)
            return answer(request, FULL if error.full else LOCKED, str(error))
        status = next((code for kind, code in STATUS if isinstance(error, kind)), 400)
        extra: dict[str, object] = {}
        if isinstance(error, StaleError):
            extra = {"newest": error.newest, "parts": list(error.parts)}
        elif isinstance(error, MapConflictError) and error.offers:
            extra = {"offers": error.offers}
        return answer(request, status, str(error), extra)

    @app.exception_handler(RequestValidationError)
    def invalid(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0] if error.errors() else {}
        where = ".".join(str(part) for part in first.get("loc", ())[1:])
        return answer(
            request,
            422,
            f"This request cannot be used: {where or 'a value'}: {first.get('msg', 'not valid')}. "
            "Nothing was changed.",
        )

    @app.exception_handler(HTTPException)
    def http(request: Request, error: HTTPException) -> Response:
        text = "There is nothing at this address." if error.status_code == 404 else str(error.detail)
        return answer(request, error.status_code, text)

    @app.exception_handler(OSError)
    def system(request: Request, error: OSError) -> Response:
        said = storage_error(error, app.state.folder.settings.data_dir)
        return ours(request, said) if said is not None else fault(request, error)

    @app.exception_handler(Exception)
    def fault(request: Request, error: Exception) -> Response:
        LOG.exception("fault at %s", request.url.path, exc_info=error)
        return answer(
            request,
            500,
            "This failed because of a fault in the program. Nothing was changed; the server's log "
            "has the details.",
        )


def answer(request: Request, status: int, text: str, extra: dict[str, object] | None = None) -> Response:
    """JSON under /api, a page elsewhere."""
    if request.url.path.startswith("/api/") or "application/json" in request.headers.get("accept", ""):
        return JSONResponse({"error": text, **(extra or {})}, status)
    return HTMLResponse(error_page(request, status, text), status)
