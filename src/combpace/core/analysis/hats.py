"""How often the hats play: what rides in the highs between the beats is the named cue for half and double the
tempo.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from combpace.core.clocks import FloatArray
from combpace.core.spectra import OnsetStrength

# An attack in the highs so near to its place is played on it.
NEAR_S = 0.025
# How loud it must be beside the loud ones of the next seconds, and beside the quiet just around it.
LOUD, ABOVE = 0.2, 2.5
# The hats play so many to the beat where so many of the places are struck; below it they say nothing.
STRUCK = 0.7
PER_BEAT = (4, 3, 2, 1)
# What they mostly play to the beat (common practice: eighths).
USUAL = 2
# Fewer beats than this say nothing of a habit.
LEAST_BEATS = 8
LOUDEST_OVER_S, QUIET_OVER_S = 4.0, 0.25
HIGHS = 2


@dataclass(frozen=True, slots=True)
class Hats:
    """What plays steadily in the highs.

    per_beat    1 to 4 to the beat as it was read
    share       of those places that are struck, 0-1
    per_minute  how many in a minute, whatever a beat is
    """

    per_beat: int
    share: float
    per_minute: float


def hats(heard: OnsetStrength, beats_s: FloatArray) -> Hats | None:
    """The finest even division of the beat that is played in the highs.

    beats_s  shape (n,), take time
    Returns  None for fewer than eight beats, or where even the beats are not struck in the highs
    """
    if len(beats_s) < LEAST_BEATS:
        return None
    high = np.asarray(heard.flux[:, HIGHS], dtype=np.float64)
    rate = heard.frame_rate_hz
    peak = ndimage.maximum_filter1d(high, 2 * round(NEAR_S * rate) + 1, mode="constant")
    loud = ndimage.maximum_filter1d(high, 2 * round(LOUDEST_OVER_S / 2 * rate) + 1, mode="nearest")
    quiet = ndimage.median_filter(high, 2 * round(QUIET_OVER_S / 2 * rate) + 1, mode="nearest")
    struck = (peak > LOUD * loud) & (peak > ABOVE * quiet) & (peak > 0)
    length = np.diff(beats_s)
    for count in PER_BEAT:
        places = [beats_s[:-1] + length * part / count for part in range(count)]
        shares = [
            float(struck[np.clip(np.round(at * rate).astype(int), 0, len(struck) - 1)].mean())
            for at in places
        ]
        # Every place of the division, not the beats alone, is played. Four to the beat would be lost at the
        # ear's reach below it.
        if min(shares) >= STRUCK and float(np.median(length)) / count > 2 * NEAR_S:
            return Hats(count, float(np.mean(shares)), 60.0 * count / float(np.median(length)))
    return None


def suggested_bpm(per_minute: float) -> float:
    """The tempo at which the hats would play eighths."""
    return per_minute / USUAL
