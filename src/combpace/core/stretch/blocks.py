"""A stretched take as something that can be read from anywhere: previews, slow listening and renders are the same sound."""

from __future__ import annotations

from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import BoolArray
from combpace.core.errors import ParameterError
from combpace.core.stretch import chord, line, seam
from combpace.core.stretch.plan import Segment, plan
from combpace.core.timemap import TimeMap

Fill = Callable[[Source, Segment], Samples]
_FILLERS: dict[str, Fill] = {"cut": seam.fill_cut, "strike": seam.fill_strike, "chord": chord.fill, "line": line.fill}
_KEPT_SEGMENTS = 4


class StretchedSource:
    """A `Source` over another one, moved along a time map. Frame 0 is target time 0; sound may lie before it.

    Reading any range gives the same samples as reading everything.
    """

    def __init__(self, source: Source, time_map: TimeMap, method: str, attacks: BoolArray | None = None) -> None:
        if method not in _FILLERS:
            raise ParameterError(f"“{method}” is not a method that exists; use Cut, Strike, Chord or Line.")
        self._source = source
        self._fill = _FILLERS[method]
        self._segments = plan(source, time_map, attacks, lasting=method in ("chord", "line"))
        self._starts = [segment.target[0] for segment in self._segments]
        self._made: OrderedDict[int, Samples] = OrderedDict()
        self.first_frame = self._segments[0].target[0]
        self.frames = self._segments[-1].target[1]

    @property
    def sample_rate_hz(self) -> int:
        return self._source.sample_rate_hz

    @property
    def channels(self) -> int:
        return self._source.channels

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop) of the output; zeros outside of the map's targets."""
        block = np.zeros((self.channels, max(0, stop - start)), np.float32)
        lo, hi = max(start, self.first_frame), min(stop, self.frames)
        at = max(0, bisect_right(self._starts, lo) - 1)
        while at < len(self._segments) and self._starts[at] < hi:
            begin, end = max(self._starts[at], lo), min(self._segments[at].target[1], hi)
            if end > begin:
                offset = self._starts[at]
                block[:, begin - start : end - start] = self._sound(at)[:, begin - offset : end - offset]
            at += 1
        return block

    def _sound(self, index: int) -> Samples:
        if index in self._made:
            self._made.move_to_end(index)
            return self._made[index]
        segment = self._segments[index]
        unmoved = segment.have == segment.length and segment.inner_source == segment.inner_target
        sound = self._source.read(*segment.source) if unmoved else self._fill(self._source, segment)
        self._made[index] = sound
        while len(self._made) > _KEPT_SEGMENTS:
            self._made.popitem(last=False)
        return sound
