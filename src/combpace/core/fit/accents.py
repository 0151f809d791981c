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
from combpace.core.fit.ranges import Rules, governed
from combpace.core.tempo.map import TempoMap

# A level changes by no more than this, and in so long, just before the attack.
MOST_DB, RAMP_S = 6.0, 0.005

# (session seconds, dB): from this moment on, until the next.
Levels = tuple[tuple[float, float], ...]


def accent_levels(pegs: Sequence[Peg], rules: Rules, session_map: TempoMap[SessionTimes]) -> Levels:
    """Levels at the struck places of a fit, moved or not, by the sentence that each of them is pulled by;
    where none takes a groove's accents the level is as it was played.

    Returns  nothing where no sentence takes any
    """
    if not pegs or not any(rule.accent > 0.0 and rule.groove is not None for rule in rules):
        return ()
    places = Quarters(np.array([peg.quarters for peg in pegs]))
    which, _ = governed(rules, places, session_map)
    gains = np.zeros(len(pegs))
    for k, rule in enumerate(rules):
        grid, here = rule.places, which == k
        if isinstance(grid, GrooveGrid) and rule.accent > 0.0 and here.any():
            accents = grid.accent_db(Quarters(places[here]), session_map)
            gains[here] = np.clip(rule.accent / 100.0 * accents, -MOST_DB, MOST_DB)
    return tuple((float(peg.target_s), round(float(gain), 3)) for peg, gain in zip(pegs, gains, strict=True))


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
