"""The real server in a process of its own, over a folder of its own."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import threading
from pathlib import Path

from rig.waiting import HANG_S


class Server:
    """`combpace serve` on a free port."""

    def __init__(self, folder: Path, **environment: str) -> None:
        self.folder = folder
        # Sound comes when it comes: a busy machine is no fault.
        self.environment = {"COMBPACE_WORKERS": "2", "COMBPACE_SOUND": str(int(HANG_S)), **environment}
        self.address = ""
        self._process: subprocess.Popen[str] | None = None

    def start(self) -> Server:
        command = [sys.executable, "-m", "combpace.cli", "serve", "--port", "0", "--data", str(self.folder)]
        self._process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
            env=os.environ | self.environment,
        )
        assert self._process.stdout is not None
        for line in self._process.stdout:
            found = re.search(r"http://\S+?:\d+", line)
            if found:
                self.address = found[0]
                break
        else:
            raise RuntimeError(self._process.stderr.read() if self._process.stderr else "no address")
        # What it says later is read, or its pipe would fill up.
        for stream in (self._process.stdout, self._process.stderr):
            threading.Thread(target=self._drain, args=(stream,), daemon=True).start()
        return self

    def _drain(self, stream: object) -> None:
        with stream:  # type: ignore[attr-defined]
            for _ in stream:  # type: ignore[attr-defined]
                pass

    def kill(self) -> None:
        """As in a power cut: nothing is said to the program, its workers go too."""
        assert self._process is not None
        os.killpg(self._process.pid, signal.SIGKILL)
        self._process.wait()

    def stop(self) -> None:
        if self._process is not None and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(timeout=HANG_S)
            except subprocess.TimeoutExpired:
                self.kill()
