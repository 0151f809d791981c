"""A stretched take as something that can be read from anywhere: previews, slow listening and renders are the same sound."""

from __future__ import annotations

from bisect import bisect_right
from collections import OrderedDict

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import BoolArray
from combpace.core.errors import ParameterError
from combpace.core.stretch import chord, cut
from combpace.core.stretch.plan import FADE_S, PRE_S, plan
from combpace.core.timemap import TimeMap

_FILLERS = {"cut": cut.fill, "chord": chord.fill}
_KEPT_SEGMENTS = 4


class StretchedSource:
    """A `Source` over another one, moved along a time map. Frame 0 is target time 0; sound may lie before it.

    Reading any range gives the same samples as reading everything.
    """

    def __init__(self, source: Source, time_map: TimeMap, method: str, attacks: BoolArray | None = None) -> None:
        if method not in _FILLERS:
            raise ParameterError(f"“{method}” is not a method that exists; use Cut or Chord.")
        self._source = source
        self._fill = _FILLERS[method]
        self._segments = plan(source, time_map, attacks)
        rate = source.sample_rate_hz
        self._pre, self._fade = round(PRE_S * rate), round(FADE_S * rate)
        self._starts = [self._from(i) for i in range(len(self._segments))]
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
        if hi <= lo:
            return block
        at = max(0, bisect_right(self._starts, lo) - 1)
        # The crossfade at a segment's start needs what the one before it would have gone on with.
        while at < len(self._segments) and self._starts[at] < hi:
            begin = max(self._starts[at], lo)
            end = min(self._starts[at + 1] if at + 1 < len(self._starts) else self.frames, hi)
            if end > begin:
                sound = self._sound(at)
                offset = self._starts[at]
                block[:, begin - start : end - start] = sound[:, begin - offset : end - offset]
            at += 1
        return block

    def _from(self, index: int) -> int:
        """First output frame of a segment: before its attack, where its crossfade begins."""
        segment = self._segments[index]
        return segment.target[0] - (self._lead(index) if segment.starts else 0)

    def _lead(self, index: int) -> int:
        """Frames a segment begins before its first point: less where the one before is very short."""
        if index == 0:
            return 0
        before = self._segments[index - 1]
        room = min(before.target[1] - before.target[0], before.source[1] - before.source[0])
        return max(0, min(self._pre + self._fade, room // 2))

    def _sound(self, index: int) -> Samples:
        """A segment's own stretch of output, from its crossfade to where the next one begins."""
        if index in self._made:
            self._made.move_to_end(index)
            return self._made[index]
        raw = self._raw(index)
        fade = min(self._fade, self._lead(index))
        if fade > 0:
            raw = raw.copy()
            over = self._over(index, fade)
            ramp = (np.sin(np.linspace(0, np.pi / 2, fade + 2)[1:-1]) ** 2).astype(np.float32)
            raw[:, :fade] = over * (1 - ramp) + raw[:, :fade] * ramp
        self._made[index] = raw
        while len(self._made) > _KEPT_SEGMENTS:
            self._made.popitem(last=False)
        return raw

    def _over(self, index: int, fade: int) -> Samples:
        """What the segment before plays during this one's crossfade: its last frames."""
        before = self._raw(index - 1)
        offset = self._starts[index] - self._starts[index - 1]
        return before[:, offset : offset + fade]

    def _raw(self, index: int) -> Samples:
        """A segment without its crossfade, up to the end of the next one's fade."""
        key = -1 - index
        if key in self._made:
            return self._made[key]
        segment = self._segments[index]
        lead = self._lead(index) if segment.starts else 0
        s0, t0 = segment.source[0] - lead, segment.target[0] - lead
        tail = 0
        if index + 1 < len(self._segments):
            following = self._lead(index + 1)
            tail = max(0, following - min(self._fade, following))
        s1, t1 = segment.source[1] - tail, segment.target[1] - tail
        sound = self._fill(self._source, segment, s0, s1, t1 - t0, lead)
        self._made[key] = sound
        while len(self._made) > _KEPT_SEGMENTS:
            self._made.popitem(last=False)
        return sound
