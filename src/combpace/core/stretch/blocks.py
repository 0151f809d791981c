"""A stretched take as something that can be read from anywhere: previews, slow listening and renders are the
same sound.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from typing import Any, Generic, TypeVar

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import BoolArray
from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import chord, line, seam
from combpace.core.stretch.plan import BETTER_CHORD, BETTER_HIT, BETTER_LINE, Segment, plan
from combpace.core.stretch.remembered import Remembered
from combpace.core.stretch.sustain import Struck, Sustained, sounds_on

S = TypeVar("S", bound=Source)
Fill = Callable[[S, Segment], Samples | chord.Running]
_FILLERS: dict[str, Fill[Source]] = {
    "cut": seam.fill_cut,
    "strike": seam.fill_strike,
    "chord": chord.fill,
    "line": line.fill,
}
_BETTER = {"chord": BETTER_CHORD, "line": BETTER_LINE}
# Layers are made that long at a time, one beside the other: what they are both made from is kept no longer.
TOGETHER_S = 4.0
# What sounds on starts anew after that long at the latest.
THROUGH_S = 8.0
# How many seconds of finished segments are kept for a map, when it is the only one that sounds: one that
# sounds on, those that are struck beside it, and a second for windows that reach over an end.
KEPT_S = THROUGH_S + TOGETHER_S + 1.0


class StretchedSource:
    """A `Source` over another one, moved along a time map. Frame 0 is target time 0; sound may lie before it.

    Reading any range gives the same samples as reading everything. The mics of a bundle keep their phase when
    each is read from all of them side by side: one plan, the same cuts and the same periods for all.
    """

    def __init__(
        self,
        source: Source,
        time_map: TimeMap,
        method: str,
        attacks: BoolArray | None = None,
        *,
        channels: slice | None = None,
    ) -> None:
        """channels: which of the source's are wanted; all of them have their say."""
        if method not in _FILLERS:
            raise ParameterError(f"“{method}” is not a method that exists; use Cut, Strike, Chord or Line.")
        self._channels = channels or slice(0, source.channels)
        # Without one that outlives this map, a memory of some seconds: a preview reads ranges that share
        # segments.
        kept = round(KEPT_S * source.sample_rate_hz) * source.channels
        memory = source if isinstance(source, Remembered) else Remembered(source, kept)
        self.sample_rate_hz = source.sample_rate_hz
        self.channels = len(range(*self._channels.indices(source.channels)))
        segments = plan(
            memory,
            time_map,
            attacks,
            lasting=method in ("chord", "line"),
            better=_BETTER.get(method, BETTER_HIT),
        )
        self._layers: list[_Layer[Any]] = [_Layer(memory, segments, _FILLERS[method], memory, "whole")]
        if method == "chord" and any(segment.starts for segment in segments):
            struck = np.array([segment.source[0] for segment in segments if segment.starts])
            if sounds_on(memory, struck):
                sustained = memory.thing("sustained", lambda: Sustained(source))
                through = plan(
                    memory, time_map, np.zeros(len(time_map.source_s), dtype=bool), longest_s=THROUGH_S
                )
                self._layers = [
                    _Layer(Struck(source, sustained), segments, seam.fill_struck, memory, "struck"),
                    _Layer(sustained, through, chord.running_sustained, memory, "sustained"),
                ]
        self.first_frame = segments[0].target[0]
        self.frames = segments[-1].target[1]

    def read(self, start: int, stop: int) -> Samples:
        """Frames [start, stop) of the output; zeros outside of the map's targets."""
        block = np.zeros((self.channels, max(0, stop - start)), np.float32)
        step = round(TOGETHER_S * self.sample_rate_hz)
        for first in range(0, block.shape[1], step):
            for layer in self._layers:
                layer.add_to(block[:, first : first + step], start + first, self._channels)
        return block


class _Layer(Generic[S]):
    """Segments of one source, made when they are asked for."""

    def __init__(
        self, source: S, segments: list[Segment], fill: Fill[S], memory: Remembered, part: str
    ) -> None:
        """memory: what keeps segments; part: what the source is of the one that remembers."""
        self._source, self._segments, self._fill, self._memory, self._part = (
            source,
            segments,
            fill,
            memory,
            part,
        )
        self._starts = [segment.target[0] for segment in segments]

    def add_to(self, block: Samples, start: int, channels: slice) -> None:
        lo, hi = max(start, self._starts[0]), min(start + block.shape[1], self._segments[-1].target[1])
        at = max(0, bisect_right(self._starts, lo) - 1)
        while at < len(self._segments) and self._starts[at] < hi:
            offset = self._starts[at]
            begin, end = max(offset, lo), min(self._segments[at].target[1], hi)
            if end > begin:
                block[:, begin - start : end - start] += self._sound(at, end - offset)[
                    channels, begin - offset : end - offset
                ]
            at += 1

    def _sound(self, index: int, stop: int) -> Samples:
        """A segment, as far as its frame `stop` at least."""
        segment = self._segments[index]
        made = self._memory.sound((self._part, self._fill, segment.shape), lambda: self._new(segment))
        return made.until(stop) if isinstance(made, chord.Running) else made

    def _new(self, segment: Segment) -> Samples | chord.Running:
        unmoved = segment.have == segment.length and segment.inner_source == segment.inner_target
        return self._source.read(*segment.source) if unmoved else self._fill(self._source, segment)
