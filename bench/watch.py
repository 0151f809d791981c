"""The server with the demo, begun again whenever a file of the application changes: `make watch`."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src" / "combpace"
LOOK_S = 0.5
STOP_S = 10


def newest() -> float:
    """When a file of the application was last changed, seconds since 1970."""
    return max(
        path.stat().st_mtime for path in SOURCE.rglob("*") if path.suffix in (".py", ".html", ".js", ".css")
    )


def begun() -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "combpace.cli", "serve", "--demo"]
    command += ["--data", os.environ.get("COMBPACE_DATA", "demo-data")]
    return subprocess.Popen([*command, "--port", os.environ.get("COMBPACE_PORT", "8420")])


def ended(server: subprocess.Popen[bytes]) -> None:
    server.send_signal(signal.SIGTERM)
    try:
        server.wait(timeout=STOP_S)
    except subprocess.TimeoutExpired:
        server.kill()
        server.wait()


def main() -> None:
    server, seen = begun(), newest()
    try:
        while True:
            time.sleep(LOOK_S)
            now = newest()
            if now > seen:
                seen = now
                print("a file changed: the server begins again", flush=True)
                ended(server)
                server = begun()
    except KeyboardInterrupt:
        ended(server)


if __name__ == "__main__":
    main()
