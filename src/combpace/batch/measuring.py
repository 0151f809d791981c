"""A range of a file measured without a session: `combpace measure`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from combpace.batch.files import Progress, analyse_named, opened
from combpace.core.tempo.measure import measure_along
from combpace.session.measured import measured_document


def measure_file(
    path: Path, edges: tuple[float, float] | None, bars: int | None, limit_ms: float, on_progress: Progress
) -> dict[str, Any]:
    """Decode, listen and measure; edges None: the first frame to the last, as they stand."""
    with opened(path, on_progress) as (source, _):
        heard = analyse_named(source, path, on_progress)
        return measured_document(measure_along(source, heard.onsets, heard.pace, edges, bars, limit_ms))
