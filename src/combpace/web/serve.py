"""Starting the server: one per data folder."""

from __future__ import annotations

import contextlib
import logging
import socket
import sys
import webbrowser
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import uvicorn

from combpace.core.errors import ParameterError
from combpace.machine import LockedError, keep_private, locked
from combpace.session.data_folder import ADDRESS, LOCK
from combpace.settings import Settings
from combpace.web.app import create_app


def serve(settings: Settings, *, demo: bool = False, told: Callable[[str], None] | None = None) -> int:
    """Run until stopped. Prints the address when it answers, and hands it to `told`."""
    # What is kept is for whoever runs this, and nobody else on the machine.
    keep_private()
    settings.data_dir.mkdir(parents=True, exist_ok=True)
    said = settings.data_dir / ADDRESS
    try:
        with locked(settings.data_dir / LOCK):
            said.unlink(missing_ok=True)
            try:
                _run(settings, said, demo=demo, told=told)
            finally:
                said.unlink(missing_ok=True)
    except LockedError as error:
        raise ServedError(settings.data_dir, _text(said)) from error
    return 0


def _run(settings: Settings, said: Path, *, demo: bool, told: Callable[[str], None] | None) -> None:
    logging.basicConfig(
        stream=sys.stderr,
        level=settings.log.upper(),
        format="%(asctime)s %(levelname)s %(name)s: %(message)s",
    )
    logging.getLogger("alembic").setLevel(logging.WARNING)
    app = create_app(settings)
    path = "/"
    if demo:
        from combpace.stations.takes.demo import build

        print("Building the demo where it is missing: about a minute the first time ...", flush=True)
        path = f"/sessions/{build(app.state.folder)}/bars"
    listener = _listener(settings)
    port = listener.getsockname()[1]
    host = f"[{settings.host}]" if ":" in settings.host else settings.host
    address = f"http://{host}:{port}{path}"
    said.write_text(address, encoding="utf-8")
    print(f"Comb Pace is at {address}", flush=True)
    if told is not None:
        told(address)
    config = uvicorn.Config(
        app, log_level="warning", log_config=None, timeout_graceful_shutdown=2, access_log=False
    )
    with contextlib.suppress(KeyboardInterrupt):
        uvicorn.Server(config).run(sockets=[listener])
    print(f"Comb Pace has stopped. Everything is kept in {settings.data_dir.resolve()}.", flush=True)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8").strip()
    except OSError:
        return ""


class ServedError(ParameterError):
    """Another server works on this folder; address: where it answers, "" where it has not said so yet."""

    def __init__(self, folder: Path, address: str) -> None:
        at = f" at {address}" if address else ""
        super().__init__(
            f"Another server already works on {folder}{at}; stop it, or give --data another folder."
        )
        self.address = address


def at_home(settings: Settings) -> int:
    """The application on its user's own data folder, opened in the browser; one that runs there already is
    only opened.
    """

    def opened(address: str) -> None:
        print(
            f"It keeps everything in {settings.data_dir.resolve()}. Ctrl+C in this window ends it; "
            "nothing is lost.",
            flush=True,
        )
        webbrowser.open(address)

    try:
        return serve(settings if _is_free(settings) else replace(settings, port=0), told=opened)
    except ServedError as error:
        if not error.address:
            raise
        print(f"Comb Pace runs already at {error.address}.", flush=True)
        webbrowser.open(error.address)
        return 0


def _is_free(settings: Settings) -> bool:
    try:
        _listener(settings).close()
    except ParameterError:
        return False
    return True


def _listener(settings: Settings) -> socket.socket:
    family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((settings.host, settings.port))
    except OSError as error:
        listener.close()
        raise ParameterError(
            f"Port {settings.port} on {settings.host} cannot be used ({error.strerror}); give "
            "--port another one, or 0 for a free one."
        ) from error
    listener.listen(128)
    return listener
