"""A source with what was measured in it and made from it, so that a map that changes in one place costs what
that place costs.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from combpace.core.audio import Samples, Source
from combpace.core.clocks import IntArray

Rows = NDArray[Any]
# Of all channels: 90 s of stereo at 44.1 kHz, 32 MB.
KEPT_SAMPLES = 8_000_000
MOST_ROWS, MOST_THINGS = 200_000, 5_000


class Remembered:
    """A `Source` that remembers, for stretching it again and again, from one thread."""

    def __init__(self, source: Source, kept_samples: int = KEPT_SAMPLES) -> None:
        """kept_samples: how much made sound is kept, of all channels; the last one always is."""
        self._source, self._most = source, kept_samples
        self.sample_rate_hz, self.channels, self.frames = (
            source.sample_rate_hz,
            source.channels,
            source.frames,
        )
        self._rows: dict[tuple[str, int], Any] = {}
        self._things: dict[Hashable, Any] = {}
        self._sounds: OrderedDict[Hashable, Any] = OrderedDict()
        self._held = 0

    def read(self, start: int, stop: int) -> Samples:
        """As the source's."""
        return self._source.read(start, stop)

    def rows(self, measure: Callable[[Source, IntArray], Rows], frames: IntArray) -> Rows:
        """What `measure` says of each frame, measured where it is asked for the first time."""
        name = measure.__qualname__
        if len(self._rows) > MOST_ROWS:
            self._rows.clear()
        new = np.array(
            sorted({int(frame) for frame in frames if (name, int(frame)) not in self._rows}), dtype=np.int64
        )
        if len(new):
            self._rows |= {
                (name, int(frame)): row for frame, row in zip(new, measure(self._source, new), strict=True)
            }
        return (
            np.array([self._rows[name, int(frame)] for frame in frames])
            if len(frames)
            else measure(self._source, frames)
        )

    def thing(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """What was made under this key, made where it is asked for the first time."""
        if key not in self._things:
            if len(self._things) >= MOST_THINGS:
                self._things.clear()
            self._things[key] = make()
        return self._things[key]

    def sound(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """As `thing` for sound, of which only the last is kept, and what was used before it as far as there
        is room.
        """
        if key in self._sounds:
            self._sounds.move_to_end(key)
            return self._sounds[key]
        made = self._sounds[key] = make()
        self._held += made.size
        while len(self._sounds) > 1 and self._held > self._most:
            self._held -= self._sounds.popitem(last=False)[1].size
        return made


def measured(source: Source, measure: Callable[[Source, IntArray], Rows], frames: IntArray) -> Rows:
    """What `measure` says of each frame of a source, from memory where it has one."""
    return source.rows(measure, frames) if isinstance(source, Remembered) else measure(source, frames)


def once(source: Source, key: Hashable, make: Callable[[], Any]) -> Any:
    """What was made of a source under this key, from memory where it has one."""
    return source.thing(key, make) if isinstance(source, Remembered) else make()
