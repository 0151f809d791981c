"""What a take sounds like in session time: as it was played, or fitted; any range, any rate, also slowed."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.fit import pipeline
from combpace.core.fit.accents import Accented
from combpace.core.fit.pipeline import Kept
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import StretchedSource
from combpace.media.decode import FileSource
from combpace.media.encode import at_rate
from combpace.session.sounding import Sounding


class Placed:
    """A `Source` whose frame 0 is session time 0: another source, moved by whole frames."""

    def __init__(self, source: Source, first_frame: int) -> None:
        self._source = source
        self.first_frame = first_frame
        self.sample_rate_hz = source.sample_rate_hz
        self.channels = source.channels
        self.frames = max(0, source.frames + first_frame)

    def read(self, start: int, stop: int) -> Samples:
        return self._source.read(start - self.first_frame, stop - self.first_frame)


def sounding(source: Source, how: Sounding, sample_rate_hz: int, kept: Kept | None = None) -> Source:
    """A take on the session's clock (divided by the speed), at a rate. `kept`: see `stretched`."""
    rate = source.sample_rate_hz
    if how.fit is None and how.speed == 1.0:
        return at_rate(Placed(source, round(how.offset_s * rate)), sample_rate_hz)
    if how.fit is not None:
        time_map, method = how.fit
    else:
        duration = source.frames / rate
        time_map, method = (
            TimeMap(np.array([0.0, duration]), np.array([how.offset_s, how.offset_s + duration])),
            "chord",
        )
    if how.speed != 1.0:
        # What is slowed is drawn out by far more than a fit does: cutting would leave holes.
        time_map, method = time_map.then_scaled(1.0 / how.speed).through(np.array(how.attacks)), "chord"
    made: Source = stretched(source, time_map, method, how.bundle, how.own, kept)
    if how.levels:
        made = Accented(made, tuple((moment / how.speed, level) for moment, level in how.levels))
    return at_rate(made, sample_rate_hz)


def stretched(
    source: Source,
    time_map: TimeMap,
    method: str,
    bundle: tuple[Path, ...] = (),
    own: int = 0,
    kept: Kept | None = None,
) -> StretchedSource:
    """A take along a time map, together with the mics of its bundle where it has some (see `Sounding`).

    kept  remembers what is measured and made, for the next map of the same sounds; it is asked for the whole
          bundle
    """
    mics = [source if index == own else FileSource(path) for index, path in enumerate(bundle)]
    return pipeline.stretched(mics or [source], own, time_map, method, kept)


def stereo(block: Samples) -> Samples:
    """One channel stays one; of more, the odd ones go left and the even ones right."""
    if len(block) <= 2:
        return block
    return np.stack([block[0::2].mean(axis=0), block[1::2].mean(axis=0)]).astype(np.float32)
