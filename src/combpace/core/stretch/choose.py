"""Which method suits a sound: hits that die away before the next one can be cut, everything else is stretched as chords."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Source
from combpace.core.timemap import TimeMap

# What still sounds right before the next attack, against the attack itself.
DIED_AWAY_DB = -26.0


@dataclass(frozen=True, slots=True)
class Choice:
    """A method and, in one sentence, why."""

    method: str
    reason: str


def choose_method(source: Source, time_map: TimeMap) -> Choice:
    """Choose from what exists by how far the sound has died away before each attack of the map."""
    rate = source.sample_rate_hz
    span = round(0.012 * rate)
    levels = []
    points = time_map.source_s[1:-1]
    for time in points[:: max(1, len(points) // 64)]:
        at = round(float(time) * rate)
        before = source.read(at - span - round(0.003 * rate), at - round(0.003 * rate))
        after = source.read(at, at + 3 * span)
        loud = float(np.sqrt(np.mean(np.square(after)))) + 1e-9
        levels.append(20 * np.log10((float(np.sqrt(np.mean(np.square(before)))) + 1e-9) / loud))
    if not levels:
        return Choice("chord", "No attacks are pulled, so the sound is stretched as a whole (Chord).")
    level = float(np.median(levels))
    if level < DIED_AWAY_DB:
        return Choice("cut", f"Sounds have died away by {-level:.0f} dB before the next attack, so they can be moved without stretching (Cut).")
    return Choice("chord", f"Sounds still ring at {level:.0f} dB when the next one starts, so they are stretched (Chord).")
