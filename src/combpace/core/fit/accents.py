"""Accents of a groove as level of audio: from each struck place to the next the sound is a little louder or
softer.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import Quarters, SessionTimes
from combpace.core.fit.groove import GrooveGrid
from combpace.core.fit.pegs import Peg
from combpace.core.tempo.map import TempoMap

# A level changes by no more than this, and in so long, just before the attack.
MOST_DB, RAMP_S = 6.0, 0.005

# (session seconds, dB): from this moment on, until the next.
Levels = tuple[tuple[float, float], ...]


def accent_levels(
    pegs: Sequence[Peg], grid: object, session_map: TempoMap[SessionTimes], share: float
) -> Levels:
    """Levels at the struck places of a fit, moved or not.

    share    0-1, how much of the groove's accents is taken
    Returns  nothing where the grid is no groove, or nothing of its accents is taken
    """
    struck = [peg for peg in pegs if peg.kind != "held"]
    if share <= 0.0 or not isinstance(grid, GrooveGrid) or not struck:
        return ()
    gains = np.clip(
        share * grid.accent_db(Quarters(np.array([peg.quarters for peg in struck])), session_map),
        -MOST_DB,
        MOST_DB,
    )
    return tuple(
        (float(peg.target_s), round(float(gain), 3)) for peg, gain in zip(struck, gains, strict=True)
    )


class Accented:
    """A `Source` on the session's clock whose level follows `Levels`; before the first of them it is as it
    was.
    """

    def __init__(self, source: Source, levels: Levels) -> None:
        self._source = source
        self.frames, self.channels, self.sample_rate_hz = (
            source.frames,
            source.channels,
            source.sample_rate_hz,
        )
        self.first_frame = int(getattr(source, "first_frame", 0))
        at, gain, now, last = [], [], 1.0, -np.inf
        for moment, level in levels:
            frame = moment * source.sample_rate_hz
            if frame <= last:
                continue
            # Where two are nearer than a ramp, it is as short as the time between them.
            at += [max(frame - RAMP_S * source.sample_rate_hz, last), frame]
            gain += [now, 10 ** (level / 20)]
            now, last = gain[-1], frame
        self._at, self._gain = np.array(at), np.array(gain)

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`, with the accents in it."""
        block = self._source.read(start, stop)
        if not len(self._at):
            return block
        gain = np.interp(np.arange(start, start + block.shape[1]), self._at, self._gain).astype(np.float32)
        return np.asarray(block * gain, np.float32)
