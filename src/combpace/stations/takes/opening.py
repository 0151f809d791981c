"""The sounds of an archive, read as long work."""

from __future__ import annotations

from typing import Any

from combpace.jobs.registry import Progress, job
from combpace.session import archive
from combpace.session.data_folder import DataFolder


@job(archive.KIND)
def read_in(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: keep every sound of an archive, make its takes ready: {takes}, how many."""
    archive.read_sounds(folder, args, tell)
    return {"takes": len(args["takes"])}
