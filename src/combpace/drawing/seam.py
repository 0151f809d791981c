"""The picture of a seam: what comes at a range's end laid over what comes at its start."""

from __future__ import annotations

from typing import Any

import numpy as np

from combpace.core.audio import Source

NEAR_S, FAR_S = 0.015, 0.150
MOST_COLUMNS = 600


def seam_picture(source: Source, from_s: float, to_s: float) -> dict[str, Any]:
    """For +-NEAR_S and +-FAR_S about both edges: lowest and highest value of each column, -1 to 1, shape
    (columns, 2).
    """
    found = {}
    for name, reach in (("near", NEAR_S), ("far", FAR_S)):
        frames = round(reach * source.sample_rate_hz)
        edges = [round(edge * source.sample_rate_hz) for edge in (from_s, to_s)]
        found[name] = {
            "reach_s": reach,
            "start": _columns(source, edges[0], frames),
            "end": _columns(source, edges[1], frames),
        }
    return found


def _columns(source: Source, middle: int, frames: int) -> list[list[float]]:
    sound = source.read(middle - frames, middle + frames).mean(axis=0)
    size = max(1, int(np.ceil(len(sound) / MOST_COLUMNS)))
    whole = sound[: len(sound) // size * size].reshape(-1, size)
    return [
        [round(float(low), 4), round(float(high), 4)]
        for low, high in zip(whole.min(axis=1), whole.max(axis=1), strict=True)
    ]
