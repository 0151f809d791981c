"""How sure a beat and a bar are: logistic models of a few readable features, so that 0.9 is right nine times
in ten.

Weights are learnt by `bench/ear/calibrate.py` from generated songs that nothing else was learnt from, and lie
in `confidence_weights.py`; the reliability table is in docs/decisions/ear.md. Right means: a beat within 40
ms of a true one; a bar whose line lies within 70 ms of a true one of the same meter.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.beats import confidence_weights
from combpace.core.beats.activations import Activations
from combpace.core.beats.bars import BarReading
from combpace.core.beats.candidates import heard_at
from combpace.core.beats.meter_network import Pattern, log_odds
from combpace.core.beats.track import Beats
from combpace.core.clocks import FloatArray

# What is about a beat, and about a bar: so many of them, itself in the middle.
ABOUT_BEATS, ABOUT_BARS = 9, 5
# Players move gaps by some hundredths (natural logarithm); more than that is a slip.
PLAYED = 0.08
# No beat counts as farther from its attack than this.
FARTHEST_S = 0.05
# Nothing is called surer or less sure than this.
LEAST_AND_MOST = (0.01, 0.99)
BEAT_NAMES = (
    *(
        "log odds of its level",
        "mean of nine",
        "least of nine",
        "log odds of a beat",
        "mean of nine",
        "carried",
        "irregular",
        "moved",
    ),
    *("log odds of the count", "all gaps the same", "log odds of likely ways that share it"),
    *("networks apart on levels about it", "on meters", "on downbeats"),
)
BAR_NAMES = (
    "log odds of the reading",
    "mean of five",
    "least of five",
    "beats sure",
    "log odds of the meter",
    "not 4/4",
    "length",
    "networks apart on downbeats",
    "on the meter",
)


def _around(values: FloatArray, size: int) -> FloatArray:
    result: FloatArray = ndimage.uniform_filter1d(values, size, mode="nearest")
    return result


def beat_features(pulse: Activations, pattern: Pattern, beats: Beats) -> FloatArray:
    """One row a beat, columns as in BEAT_NAMES; finite for two beats or more.

    Returns  shape (beats, len(BEAT_NAMES))
    """
    level, here = log_odds(pattern.level.astype(np.float64)), heard_at(pulse, beats.rough)
    gaps = np.diff(beats.rough)
    typical = ndimage.median_filter(gaps, min(ABOUT_BEATS, len(gaps)), mode="nearest")
    odd = np.minimum(np.abs(np.log(np.maximum(gaps, 1e-3) / np.maximum(typical, 1e-3))), 1.0)
    return np.column_stack(
        [
            level,
            _around(level, ABOUT_BEATS),
            ndimage.minimum_filter1d(level, ABOUT_BEATS, mode="nearest"),
            here,
            _around(here, ABOUT_BEATS),
            beats.carried,
            np.maximum(np.maximum(np.append(odd[:1], odd), np.append(odd, odd[-1:])) - PLAYED, 0.0),
            np.minimum(np.abs(np.asarray(beats.times) - beats.rough), FARTHEST_S) * (1.0 / FARTHEST_S),
            np.full(len(beats), log_odds(np.array([beats.counted]))[0]),
            # A steady row that was laid over a take: right as a whole or wrong as a whole.
            np.full(len(beats), float(odd.max() < 1e-6)),
            log_odds(beats.shared),
            _around(pattern.apart[:, 2], ABOUT_BEATS),
            _around(pattern.apart[:, 1], ABOUT_BEATS),
            _around(pattern.apart[:, 0], ABOUT_BEATS),
        ]
    )


def bar_features(pattern: Pattern, reading: BarReading, beats: FloatArray) -> FloatArray:
    """One row a bar, columns as in BAR_NAMES. `beats`: how sure each beat is, 0-1.

    beats    shape (beats,)
    Returns  shape (bars, len(BAR_NAMES))
    """
    starts = np.array(reading.starts)
    ends = np.append(starts[1:], len(beats))

    def each(values: FloatArray) -> FloatArray:
        return np.array([float(values[a:b].mean()) for a, b in zip(starts, ends, strict=True)])

    sure = log_odds(each(reading.sure))
    return np.column_stack(
        [
            sure,
            _around(sure, ABOUT_BARS),
            ndimage.minimum_filter1d(sure, ABOUT_BARS, mode="nearest"),
            log_odds(each(beats)),
            log_odds(each(reading.in_meter)),
            np.array([float(str(meter) != "4/4") for meter in reading.meters]),
            np.full(len(starts), np.log(max(2.0, float(len(beats))))),
            _around(each(pattern.apart[:, 0]), ABOUT_BARS),
            _around(each(pattern.apart[:, 1]), ABOUT_BARS),
        ]
    )


def _probability(rows: FloatArray, model: tuple[tuple[float, ...], float]) -> FloatArray:
    weights, bias = model
    result: FloatArray = np.clip(1.0 / (1.0 + np.exp(-(rows @ np.array(weights) + bias))), *LEAST_AND_MOST)
    return result


def beat_confidence(rows: FloatArray) -> FloatArray:
    """0-1 for each row of `beat_features`.

    rows     shape (n, len(BEAT_NAMES))
    Returns  shape (n,)
    """
    return _probability(rows, confidence_weights.BEATS)


def bar_confidence(rows: FloatArray) -> FloatArray:
    """0-1 for each row of `bar_features`.

    rows     shape (n, len(BAR_NAMES))
    Returns  shape (n,)
    """
    return _probability(rows, confidence_weights.BARS)
