"""Starts queued jobs, each in a process of its own, and looks after them; resumed or honestly failed."""

from __future__ import annotations

import multiprocessing
import os
import threading
from multiprocessing.process import BaseProcess

from combpace.jobs.process import run
from combpace.session.data_folder import DataFolder
from combpace.store import rows

POLL_S = 0.1
MOST_TRIES = 3


class Dispatcher:
    """Starts queued jobs and looks after their processes; one thread of the server."""

    def __init__(self, folder: DataFolder, rooms: str) -> None:
        """rooms: the module that registers every job, imported once for all workers."""
        self._folder, self._rooms = folder, rooms
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["combpace.jobs.process", rooms])
        self._running: dict[str, BaseProcess] = {}
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
        for process in self._running.values():
            process.terminate()
        for process in self._running.values():
            process.join(timeout=5)

    def processes(self) -> dict[str, int]:
        """Running jobs and the processes that do them."""
        return {job_id: process.pid or 0 for job_id, process in self._running.items()}

    def _loop(self) -> None:
        while not self._stopping.wait(POLL_S):
            self._collect()
            while len(self._running) < self._folder.settings.workers and self._start_next():
                pass

    def _start_next(self) -> bool:
        job_id = rows.next_job(self._folder.database)
        if job_id is None:
            return False
        args = (self._folder.settings, job_id, os.getpid(), self._rooms)
        process = self._context.Process(target=run, args=args, name=f"job-{job_id}")
        process.start()
        self._running[job_id] = process
        return True

    def _collect(self) -> None:
        for job_id, process in list(self._running.items()):
            if process.is_alive():
                continue
            process.join()
            del self._running[job_id]
            code = process.exitcode or 0
            why = f"it was ended by signal {-code}" if code < 0 else f"it ended with status {code}"
            error = f"The worker stopped before it was done ({why}; memory may have run out). Nothing else is touched; start it again."
            rows.fail_if_running(self._folder.database, job_id, error)
            process.close()
