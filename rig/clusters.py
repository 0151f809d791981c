"""A real Dask scheduler and its workers on the loopback, one thread each, for a test."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from rig.waiting import HANG_S

ROOT = Path(__file__).resolve().parents[1]


class DaskTest(unittest.TestCase):
    """Starts what a test asks for, and ends it."""

    def setUp(self) -> None:
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.scratch = Path(scratch.name)
        self.workers: list[subprocess.Popen[bytes]] = []
        # What a worker imports before its first task.
        self.preload: list[str] = []

    def begin(self, workers: int = 2, path: str = "") -> str:
        """A scheduler and so many workers; path: what stands before PYTHONPATH of the workers. Returns its
        address.
        """
        self.scheduler, address = self._started(
            "scheduler", ["--host", "127.0.0.1", "--port", "0", "--dashboard-address", "127.0.0.1:0"]
        )
        for _ in range(workers):
            self.add_worker(address, path)
        return address

    def add_worker(self, address: str, path: str = "") -> subprocess.Popen[bytes]:
        options = [address, "--nthreads", "1", "--no-nanny", "--no-dashboard", "--host", "127.0.0.1"]
        process, _ = self._started(
            "worker", [*options, *(part for name in self.preload for part in ("--preload", name))], path
        )
        self.workers.append(process)
        return process

    def _started(self, what: str, options: list[str], path: str = "") -> tuple[subprocess.Popen[bytes], str]:
        log = self.scratch / f"{what}-{len(self.workers)}.log"
        environment = os.environ | {
            "PYTHONPATH": os.pathsep.join(part for part in (path, str(ROOT), str(ROOT / "src")) if part)
        }
        # Its working files go where the test's do.
        command = [sys.executable, "-m", "distributed.cli.dask_" + what, *options]
        with log.open("wb") as out:
            process = subprocess.Popen(
                command, stdout=out, stderr=out, cwd=self.scratch, env=environment, start_new_session=True
            )
        self.addCleanup(self._end, process)
        end = time.monotonic() + HANG_S
        sign = r"Scheduler at:\s+(tcp://\S+)" if what == "scheduler" else r"Registered to:\s+(tcp://\S+)"
        while time.monotonic() < end:
            found = re.search(sign, log.read_text(errors="replace"))
            if found:
                return process, found[1]
            if process.poll() is not None:
                break
            time.sleep(0.05)
        self.fail(f"no {what} came up: {log.read_text(errors='replace')[-800:]}")

    def _end(self, process: subprocess.Popen[bytes]) -> None:
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(timeout=HANG_S)
