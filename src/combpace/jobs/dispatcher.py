"""Starts queued jobs, each in a process of its own, and looks after them; resumed or honestly failed."""

from __future__ import annotations

import logging
import os
import threading
import time
from typing import Any

from combpace.jobs.process import run
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.workers.backend import Processes

LOG = logging.getLogger("combpace")
POLL_S = 0.1
# How long is waited after a round that failed; how often silent jobs are looked for, and after how long a job is one.
TROUBLE_S, LOOK_S, SILENT_S = 1.0, 5.0, 60.0
MOST_TRIES = 3


class Dispatcher:
    """Starts queued jobs and looks after their processes; one thread of the server."""

    def __init__(self, folder: DataFolder, rooms: str) -> None:
        """rooms: the module that registers every job, imported once for all workers."""
        self._folder, self._rooms = folder, rooms
        self._processes = Processes(folder.settings.workers, ["combpace.jobs.process", rooms])
        self._stopping = threading.Event()
        # Jobs whose process is gone, and why, until that is written down.
        self._ended: dict[str, str] = {}
        self._why: dict[str, str] = {}
        self._trouble: str | None = None
        self._last = self._looked = time.monotonic()
        self._thread = threading.Thread(target=self._loop, name="dispatcher", daemon=True)

    def start(self) -> None:
        """Take up what an earlier server left behind, then begin."""
        refusal = "This was started {} times and the program ended each time. What was decided is unchanged; try a shorter file."
        rows.requeue_running(self._folder.database, MOST_TRIES, refusal)
        self._thread.start()

    def stop(self) -> None:
        """End the workers; what they did is taken up again by the next start, and an orderly stop is no failed try."""
        self._stopping.set()
        if self._thread.is_alive():
            self._thread.join(timeout=5)
        stopped = [job_id for job_id in self._processes.started() if self._processes.alive(job_id)]
        self._processes.close()
        try:
            rows.put_back(self._folder.database, stopped)
        except Exception:
            LOG.exception("what was running could not be put back; the next start does it")

    def processes(self) -> dict[str, int]:
        """Running jobs and the processes that do them."""
        return self._processes.pids()

    def health(self) -> dict[str, Any]:
        """{alive, last_s (since its last round), trouble (what its last round failed with, or None), running, ended (not written down yet)}."""
        return {
            "alive": self._thread.is_alive(),
            "last_s": round(time.monotonic() - self._last, 1),
            "trouble": self._trouble,
            "running": len(self._processes.started()),
            "ended": len(self._ended),
        }

    def _loop(self) -> None:
        while not self._stopping.wait(POLL_S if self._trouble is None else TROUBLE_S):
            try:
                self._round()
                if self._trouble is not None:
                    LOG.warning("jobs go on")
                self._trouble = None
            except Exception as error:
                # A full disk, a locked database: said once, and tried again until it is over.
                if self._trouble is None:
                    LOG.exception("jobs are held up")
                self._trouble = f"{type(error).__name__}: {error}".splitlines()[0]
            self._last = time.monotonic()

    def _round(self) -> None:
        self._collect()
        self._look_for_silent_ones()
        while self._processes.free() > 0 and self._start_next():
            pass

    def _look_for_silent_ones(self) -> None:
        """A job whose process gives no sign of life is ended."""
        now = time.monotonic()
        if now - self._looked < LOOK_S:
            return
        self._looked = now
        for job_id in rows.silent_jobs(self._folder.database, SILENT_S):
            if job_id in self._processes.started():
                self._processes.kill(job_id)
                self._why[job_id] = f"it gave no sign of life for {SILENT_S:.0f} s"
            elif job_id not in self._ended:
                self._ended[job_id] = f"it gave no sign of life for {SILENT_S:.0f} s"

    def _start_next(self) -> bool:
        job_id = rows.next_job(self._folder.database)
        if job_id is None:
            return False
        self._processes.start_plain(job_id, run, (self._folder.settings, job_id, os.getpid(), self._rooms))
        return True

    def _collect(self) -> None:
        for job_id in self._processes.started():
            if not self._processes.alive(job_id):
                why = self._processes.outcome(job_id).error
                self._ended[job_id] = self._why.pop(job_id, "") or f"{why}; memory may have run out"
        # What cannot be written down now, on a full disk, is written down later.
        for job_id, why in list(self._ended.items()):
            error = f"The worker stopped before it was done ({why}). Nothing else is touched; start it again."
            rows.fail_if_running(self._folder.database, job_id, error)
            self._ended.pop(job_id)
