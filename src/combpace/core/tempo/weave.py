"""The comb of a whole song at one glance: a row a bar, dark where something is struck."""

from __future__ import annotations

import numpy as np

from combpace.core.clocks import FloatArray


def darkness(
    bar_lines: FloatArray, take_activation: FloatArray, offset_s: float, columns: int = 240
) -> FloatArray:
    """The comb of a whole song as darkness 0-1: a row a bar, an eighth of a bar over both ends.

    bar_lines  shape (bars + 1,), session seconds of the lines
    """
    if len(bar_lines) < 2:
        return np.zeros((0, columns))
    start, length = bar_lines[:-1], np.diff(bar_lines)
    edges = start[:, None] + length[:, None] * (np.linspace(-0.125, 1.125, columns + 1)[None, :])
    lo = np.floor((edges[:, :-1] - offset_s) * 100.0).astype(int)
    hi = np.maximum(np.floor((edges[:, 1:] - offset_s) * 100.0).astype(int), lo + 1)
    # Before the take and after it there is nothing.
    padded = np.concatenate([[0.0], take_activation, [0.0]])
    last = len(take_activation) + 1
    deepest = np.maximum(padded[np.clip(lo + 1, 0, last)], padded[np.clip(hi, 0, last)])
    return np.asarray(deepest)
