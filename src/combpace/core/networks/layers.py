"""Weights of small learnt networks, and what one of two layers says of rows of figures."""

from __future__ import annotations

import numpy as np

from combpace.core.spectra import Float32Array

# What lies further from what was learnt than this, in standard deviations, says no more.
FURTHEST = 5.0


def outputs(rows: Float32Array, w: dict[str, Float32Array]) -> Float32Array:
    """Rows (n, inputs), finite; `w` holds centre, spread, w1, b1, w2, b2 (`bench/ear/two_layers.py`); returns
    (n, outputs).
    """
    scaled = np.clip((rows - w["centre"]) / w["spread"], -FURTHEST, FURTHEST)
    return np.asarray(np.tanh(scaled @ w["w1"] + w["b1"]) @ w["w2"] + w["b2"], dtype=np.float32)
