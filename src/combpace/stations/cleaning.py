"""Freeing what was removed, as long work."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.session import cleaning
from combpace.session.data_folder import DataFolder

KIND = "clean"


def order(folder: DataFolder) -> str:
    """Queue it. Returns the job's id."""
    return enqueue(folder, None, KIND, "folder", {})


@job(KIND)
def clean(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: free what nobody needs: {sessions, hand_offs, renders, bytes}."""
    return asdict(cleaning.clean(folder, tell))
