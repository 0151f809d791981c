"""Levels as they are set in the player: a strip a take, and all of them as one sound.

What a strip does is what the page's own nodes do (W3C, Web Audio API 1.1, GainNode and StereoPannerNode), so
that a file is what was heard.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.playback.sound import stereo
from combpace.session.data_folder import view_in
from combpace.session.state import SessionState

# No strip is set lower or higher, dB.
LEAST_DB, MOST_DB = -120.0, 24.0


@dataclass(frozen=True, slots=True)
class Strip:
    """One take's level (dB), pan (-1 left to 1 right), mute and solo."""

    level_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    solo: bool = False

    @property
    def says(self) -> str:
        """In words: "−3.0 dB, 20 left"."""
        said = [f"{self.level_db:+.1f} dB".replace("-", "−") if self.level_db else "0 dB"]
        if self.pan:
            said.append(f"{abs(self.pan) * 100:.0f} {'left' if self.pan < 0 else 'right'}")
        if self.mute:
            said.append("muted")
        return ", ".join(said)


def strips_of(state: SessionState) -> dict[str, Strip]:
    """The strips that are set, by take or part; what is not there is as it came."""
    kept = view_in(state.opened.row.view).get("mix")
    if not isinstance(kept, dict):
        return {}
    return {str(name): _strip(one) for name, one in kept.items() if isinstance(one, dict)}


def _strip(one: Any) -> Strip:
    pan = max(-1.0, min(1.0, _number(one.get("pan"))))
    level = max(LEAST_DB, min(MOST_DB, _number(one.get("level"))))
    return Strip(level, pan, one.get("mute") is True, one.get("solo") is True)


def _number(value: object) -> float:
    return float(value) if isinstance(value, int | float) and math.isfinite(value) else 0.0


def heard_of(state: SessionState, names: Sequence[str]) -> list[str]:
    """Those of some takes and parts that sound in the mix: what is solo, or all that is not muted."""
    strips = strips_of(state)
    alone = any(strip.solo for strip in strips.values())
    return [
        name
        for name in names
        if (strips.get(name, Strip()).solo if alone else not strips.get(name, Strip()).mute)
    ]


class Mixed:
    """A `Source` through its strip: two channels."""

    channels = 2

    def __init__(self, source: Source, strip: Strip) -> None:
        self._source, self._gain, self._pan = source, 10 ** (strip.level_db / 20), strip.pan
        self.sample_rate_hz, self.frames = source.sample_rate_hz, source.frames

    def read(self, start: int, stop: int) -> Samples:
        return panned(stereo(self._source.read(start, stop)) * np.float32(self._gain), self._pan)


def panned(block: Samples, pan: float) -> Samples:
    """One or two channels in their place between left and right: equal power (Web Audio API 1.1, 1.33,
    "Panning algorithm").
    """
    if len(block) == 1:
        turn = (pan + 1) / 2 * math.pi / 2
        return np.concatenate([block * np.float32(math.cos(turn)), block * np.float32(math.sin(turn))])
    turn = (pan + 1 if pan <= 0 else pan) * math.pi / 2
    left, right = block
    near, far = np.float32(math.cos(turn)), np.float32(math.sin(turn))
    if pan <= 0:
        return np.stack([left + right * near, right * far])
    return np.stack([left * near, right + left * far])


class Together:
    """A `Source` that is the sum of others of one rate and two channels each."""

    channels = 2

    def __init__(self, sources: Sequence[Source], sample_rate_hz: int) -> None:
        self._sources, self.sample_rate_hz = sources, sample_rate_hz
        self.frames = max((source.frames for source in sources), default=0)

    def read(self, start: int, stop: int) -> Samples:
        sum_of = np.zeros((2, max(0, stop - start)), np.float64)
        for source in self._sources:
            sum_of += source.read(start, stop)
        return sum_of.astype(np.float32)
