"""Starts queued jobs, each in a process of its own, and looks after them; resumed or honestly failed."""

from __future__ import annotations

import os
import threading

from combpace.jobs.process import run
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.workers.backend import Processes

POLL_S = 0.1
MOST_TRIES = 3


class Dispatcher:
    """Starts queued jobs and looks after their processes; one thread of the server."""

    def __init__(self, folder: DataFolder, rooms: str) -> None:
        """rooms: the module that registers every job, imported once for all workers."""
        self._folder, self._rooms = folder, rooms
        self._processes = Processes(folder.settings.workers, ["combpace.jobs.process", rooms])
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="dispatcher", daemon=True)

    def start(self) -> None:
        """Take up what an earlier server left behind, then begin."""
        refusal = "This was started {} times and the program ended each time. What was decided is unchanged; try a shorter file."
        rows.requeue_running(self._folder.database, MOST_TRIES, refusal)
        self._thread.start()

    def stop(self) -> None:
        """End the workers; what they did is taken up again by the next start."""
        self._stopping.set()
        self._thread.join(timeout=5)
        self._processes.close()

    def processes(self) -> dict[str, int]:
        """Running jobs and the processes that do them."""
        return self._processes.pids()

    def _loop(self) -> None:
        while not self._stopping.wait(POLL_S):
            self._collect()
            while self._processes.free() > 0 and self._start_next():
                pass

    def _start_next(self) -> bool:
        job_id = rows.next_job(self._folder.database)
        if job_id is None:
            return False
        self._processes.start_plain(job_id, run, (self._folder.settings, job_id, os.getpid(), self._rooms))
        return True

    def _collect(self) -> None:
        for job_id in self._processes.started():
            if self._processes.alive(job_id):
                continue
            why = self._processes.outcome(job_id).error
            error = f"The worker stopped before it was done ({why}; memory may have run out). Nothing else is touched; start it again."
            rows.fail_if_running(self._folder.database, job_id, error)
