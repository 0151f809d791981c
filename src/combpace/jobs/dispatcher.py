"""Starts queued jobs, each in a process of its own, and looks after them; resumed or honestly failed."""

from __future__ import annotations

import logging
import os
import threading
import time
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.jobs.process import NO_ROOM, run
from combpace.session.data_folder import DataFolder
from combpace.store import rows
from combpace.store.database import Changes
from combpace.store.trouble import storage_error
from combpace.workers.backend import PRELOAD, Processes

LOG = logging.getLogger("combpace")
POLL_S = 0.1
# After a round that failed it waits so long.
TROUBLE_S = 1.0
# A job that has not been heard of for SILENT_S is dead; every LOOK_S it looks for such.
LOOK_S, SILENT_S = 5.0, 60.0
MOST_TRIES = 3


class Dispatcher:
    """Starts queued jobs and looks after their processes; one thread of the server."""

    def __init__(self, folder: DataFolder, rooms: str) -> None:
        """rooms: the module that registers every job, imported once for all workers."""
        self._folder, self._rooms = folder, rooms
        self._processes = Processes(folder.settings.workers, [*PRELOAD, rooms])
        self._stopping = threading.Event()
        # Jobs whose process is gone, and why, until that is written down.
        self._ended: dict[str, str] = {}
        self._why: dict[str, str] = {}
        # Of each running job its last sign of life, and when that was first seen.
        self._beats: dict[str, tuple[float, float]] = {}
        self._trouble: str | None = None
        # Made by the loop itself: before it begins there may be no database.
        self._changes: Changes | None = None
        # The mark of the database at which nothing was left to begin, or None.
        self._begun_at: int | None = None
        self._last = self._looked = time.monotonic()
        self._thread = self._new_thread()

    def _new_thread(self) -> threading.Thread:
        return threading.Thread(target=self._loop, name="dispatcher", daemon=True)

    def start(self) -> None:
        """Take up what an earlier server left behind, then begin."""
        refusal = (
            "This was started {} times and the program ended each time. What was decided is unchanged; "
            "try a shorter file."
        )
        rows.requeue_running(self._folder.database, MOST_TRIES, refusal)
        self._thread.start()

    def stop(self) -> None:
        """End the workers; what they did is taken up again by the next start, and an orderly stop is no
        failed try.
        """
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

    @property
    def trouble(self) -> str | None:
        """Why no job begins or ends at present, a sentence; None where all is well."""
        return self._trouble

    def health(self) -> dict[str, Any]:
        """What a watchdog asks; a loop that has ended is begun again.

        {alive (before that), last_s (since its last round), trouble (what that failed with, or None),
        running, ended (not written down yet)}
        """
        alive = self._thread.is_alive()
        if not alive and not self._stopping.is_set():
            LOG.error("the dispatcher had ended; it is begun again")
            self._thread = self._new_thread()
            self._thread.start()
        return {
            "alive": alive,
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
                said = storage_error(error, self._folder.settings.data_dir)
                self._trouble = (
                    str(said or error)
                    if said or isinstance(error, CombPaceError)
                    else "Jobs are held up by a fault; the log has it."
                )
            self._last = time.monotonic()
        if self._changes is not None:
            self._changes.close()
            self._changes = None

    def _round(self) -> None:
        self._collect()
        self._look_for_silent_ones()
        # Nothing new waits where nothing was written since all that waited was begun.
        if self._changes is None:
            # Marks of another connection say nothing.
            self._changes, self._begun_at = Changes(self._folder.database), None
        mark = self._changes.mark()
        if mark == self._begun_at:
            return
        self._begun_at = None
        while self._processes.free() > 0:
            if not self._start_next():
                self._begun_at = mark
                break

    def _look_for_silent_ones(self) -> None:
        """A job whose process gives no sign of life is ended."""
        now = time.monotonic()
        if now - self._looked < LOOK_S:
            return
        self._looked = now
        beats = rows.running_jobs(self._folder.database)
        # By our own clock: the machine's may be set meanwhile.
        self._beats = {
            job_id: known if (known := self._beats.get(job_id)) and known[0] == beat else (beat, now)
            for job_id, beat in beats.items()
        }
        for job_id, (_, since) in self._beats.items():
            if now - since < SILENT_S:
                continue
            if job_id in self._processes.started():
                self._processes.kill(job_id)
                self._why[job_id] = f"it gave no sign of life for {SILENT_S:.0f} s"
            elif job_id not in self._ended:
                self._ended[job_id] = f"it gave no sign of life for {SILENT_S:.0f} s"

    def _start_next(self) -> bool:
        job_id = rows.next_job(self._folder.database)
        if job_id is None:
            return False
        LOG.info("job %s begins", job_id)
        try:
            self._processes.start_plain(
                job_id, run, (self._folder.settings, job_id, os.getpid(), self._rooms)
            )
        except Exception:
            # It did not begin: it waits for the next round, and that is no failed try.
            rows.put_back(self._folder.database, [job_id])
            raise
        return True

    def _collect(self) -> None:
        for job_id in self._processes.started():
            if not self._processes.alive(job_id):
                why = self._processes.outcome(job_id).error
                LOG.info("job %s ended: %s", job_id, why or "done")
                full = why == f"it ended with status {NO_ROOM}"
                why = (
                    f"the disk of {self._folder.settings.data_dir} was full"
                    if full
                    else f"{why}; memory may have run out"
                )
                self._ended[job_id] = self._why.pop(job_id, "") or why
                self._folder.blobs.clear(job_id)
        # What cannot be written down now, on a full disk, is written down later.
        for job_id, why in list(self._ended.items()):
            error = f"The worker stopped before it was done ({why}). Nothing else is touched; start it again."
            rows.fail_if_running(self._folder.database, job_id, error)
            self._ended.pop(job_id)
