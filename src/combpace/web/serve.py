"""Starting the server: one per data folder."""

from __future__ import annotations

import contextlib
import fcntl
import logging
import os
import socket
import sys

import uvicorn

from combpace.core.errors import ParameterError
from combpace.settings import Settings
from combpace.web.app import create_app


def serve(settings: Settings, *, demo: bool = False) -> int:
    """Run until stopped. Prints the address when it answers."""
    # What is kept is for whoever runs this, and nobody else on the machine.
    os.umask(0o077)
    settings.data_dir.mkdir(parents=True, exist_ok=True)
    with (settings.data_dir / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise ParameterError(f"Another server already works on {settings.data_dir}; stop it, or give --data another folder.") from error
        logging.basicConfig(stream=sys.stderr, level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
        app = create_app(settings)
        path = ""
        if demo:
            from combpace.stations.takes.demo import build

            print("building the demo where it is missing ...", flush=True)
            path = f"/sessions/{build(app.state.folder)}/bars"
        listener = _listener(settings)
        port = listener.getsockname()[1]
        host = f"[{settings.host}]" if ":" in settings.host else settings.host
        print(f"Comb Pace is at http://{host}:{port}{path or '/'}", flush=True)
        config = uvicorn.Config(app, log_level="warning", timeout_graceful_shutdown=2, access_log=False)
        with contextlib.suppress(KeyboardInterrupt):
            uvicorn.Server(config).run(sockets=[listener])
        print(f"Comb Pace has stopped. Everything is kept in {settings.data_dir.resolve()}.", flush=True)
    return 0


def _listener(settings: Settings) -> socket.socket:
    family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((settings.host, settings.port))
    except OSError as error:
        listener.close()
        raise ParameterError(
            f"Port {settings.port} on {settings.host} cannot be used ({error.strerror}); give --port another one, or 0 for a free one."
        ) from error
    listener.listen(128)
    return listener
