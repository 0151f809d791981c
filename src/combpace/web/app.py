"""The application, made by a factory."""

from __future__ import annotations

import logging
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from combpace import __version__
from combpace.jobs.dispatcher import Dispatcher
from combpace.playback.preview import Previewer
from combpace.session.data_folder import DataFolder
from combpace.session.repair import repair
from combpace.settings import Settings
from combpace.stations import registry
from combpace.web import errors
from combpace.web.api import ROUTERS
from combpace.web.api.watching import Watcher
from combpace.web.guard import Guard
from combpace.web.pages import routes as page_routes
from combpace.web.pages.render import STATIC, tree

LOG = logging.getLogger("combpace")


class _Static(StaticFiles):
    """Files that ship with the application; their addresses carry a hash of all of them, so they may be
    kept.
    """

    async def get_response(self, path: str, scope: Scope):  # type: ignore[no-untyped-def]
        response = await super().get_response(path, scope)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response


def create_app(settings: Settings, *, with_jobs: bool = True) -> FastAPI:
    """An application over one data folder.

    with_jobs  start the dispatcher and the warm worker; without, jobs stay queued (tests)
    """
    folder = DataFolder(settings)
    folder.prepare()
    for said in repair(folder):
        LOG.warning("%s", said)
    previewer = Previewer(settings.worker_bytes, settings.sound_s)
    dispatcher = Dispatcher(folder, registry.__name__) if with_jobs else None

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        if dispatcher:
            dispatcher.start()
            threading.Thread(target=previewer.warm, daemon=True).start()
        yield
        app.state.stopping.set()
        if dispatcher:
            dispatcher.stop()
        previewer.close()
        folder.close()

    app = FastAPI(title="Comb Pace", version=__version__, lifespan=life, docs_url=None, redoc_url=None)
    app.state.folder, app.state.previewer, app.state.dispatcher = folder, previewer, dispatcher
    app.state.stopping = threading.Event()
    app.state.watcher = Watcher(
        folder.database, lambda: dispatcher.trouble if dispatcher else None, app.state.stopping.is_set
    )
    for router in ROUTERS:
        app.include_router(router)
    app.include_router(page_routes.router)
    app.mount(f"/static/{tree()}", _Static(directory=STATIC), name="static")
    errors.install(app)
    app.add_middleware(Guard, hosts=settings.hosts)
    return app
