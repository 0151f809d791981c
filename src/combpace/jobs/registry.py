"""Jobs by name: long work is a function, registered where it lives."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from combpace.session.data_folder import DataFolder

# Told a phase in words and the share of it that is done; raises CancelledError where the user stopped it.
Progress = Callable[[str, float], None]
JobFunction = Callable[[DataFolder, dict[str, Any], Progress], dict[str, Any]]

JOBS: dict[str, JobFunction] = {}


def job(kind: str) -> Callable[[JobFunction], JobFunction]:
    """Register a job: `run(folder, args, tell) -> result`, the last as JSON."""

    def register(run: JobFunction) -> JobFunction:
        if kind in JOBS:
            raise ValueError(f"two jobs are called {kind}")
        JOBS[kind] = run
        return run

    return register
