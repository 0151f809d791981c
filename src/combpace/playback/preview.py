"""Sound made on demand: a warm worker stretches and lays the range that is listened to, so that the server
stays quick, and nothing that has a position is read by two threads.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.audio import Source
from combpace.core.errors import ParameterError
from combpace.core.fit.accents import Levels
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch.remembered import Remembered
from combpace.core.tempo.following import rounds_of
from combpace.media.decode import FileSource
from combpace.media.encode import at_rate
from combpace.playback.laid import Laid
from combpace.playback.sound import sounding, stereo
from combpace.session.pieces import LaidSound
from combpace.session.sounding import Sounding
from combpace.workers.backend import PRELOAD
from combpace.workers.warm import Warm

SEGMENT_S = 2
SPEEDS = (0.5, 1.0)
MOST_CHANNELS = 2
# Of the time that a request for sound may take, so much waits for the worker.
PATIENCE = 0.9
# Takes (or bundles) of which the worker remembers what it made, some 35 MB each at most.
MOST_REMEMBERED = 6
# Sounds that the worker holds open.
MOST_KEPT = 12


class Previewer:
    """Two kinds of sound: as played (read here) and stretched or laid (made by the worker, which is replaced
    when it dies).
    """

    def __init__(self, memory_bytes: int | None = None, most_s: float = 5.0) -> None:
        """most_s: seconds that a request for sound may take as a whole."""
        self._worker = Warm(_answer, [*PRELOAD, __name__], memory_bytes, PATIENCE * most_s)

    def warm(self) -> None:
        """Start the worker before it is needed."""
        self._worker.start()

    @property
    def pid(self) -> int | None:
        """The worker's process."""
        return self._worker.pid

    def segment(self, path: Path, how: Sounding, sample_rate_hz: int, number: int) -> tuple[int, bytes]:
        """Segment `number` (SEGMENT_S long, on the session's clock divided by the speed) at a rate.

        Returns  (channels, float32 little-endian, one channel after the other)
        """
        _within(sample_rate_hz, how.speed)
        if how.fit is None and how.speed == 1.0:
            return _made(_Kept(path, how, sample_rate_hz).source, sample_rate_hz, number)
        fit = (how.fit[0].source_s, how.fit[0].target_s, how.fit[1]) if how.fit else None
        given = (
            path,
            how.offset_s,
            fit,
            how.speed,
            how.attacks,
            (how.bundle, how.own),
            how.levels,
            sample_rate_hz,
            number,
        )
        found: tuple[int, bytes] = self._worker.ask(_stretched, given)
        return found

    def laid(
        self, key: str, sound: Callable[[], LaidSound], sample_rate_hz: int, number: int, speed: float
    ) -> tuple[int, bytes]:
        """As `segment`, of a take in pieces. key: names its sound; what it is made of is told only to a
        worker that has not made it yet.
        """
        _within(sample_rate_hz, speed)
        found: tuple[int, bytes] | None = self._worker.ask(_laid, (key, None, speed, sample_rate_hz, number))
        if found is None:
            found = self._worker.ask(_laid, (key, sound(), speed, sample_rate_hz, number))
            assert found is not None
        return found

    def close(self) -> None:
        self._worker.close()


def _within(sample_rate_hz: int, speed: float) -> None:
    if not 8000 <= sample_rate_hz <= 192000:
        raise ParameterError(f"Sound is not played at {sample_rate_hz} Hz.")
    if not SPEEDS[0] <= speed <= SPEEDS[1]:
        raise ParameterError("The speed lies between 50 and 100 %.")


def _answer(
    make: Callable[..., tuple[int, bytes] | None], given: tuple[Any, ...]
) -> tuple[int, bytes] | None:
    """What the worker does: one kind of sound, or another."""
    return make(*given)


class _Kept:
    """An opened sound with what it is turned into."""

    def __init__(self, path: Path, how: Sounding, sample_rate_hz: int) -> None:
        files = how.bundle if len(how.bundle) > 1 else (path,)
        opened = FileSource(path)
        # A loop that comes round is another sound than the loop itself.
        rounds = 1 if how.fit is None else rounds_of(how.fit[0], opened.frames / opened.sample_rate_hz)
        self.source: Source = sounding(
            opened, how, sample_rate_hz, lambda whole: _remembered((rounds, files), whole)
        )


def _remembered(files: tuple[int, tuple[Path, ...]], opened: Callable[[], Source]) -> Source:
    """What the worker has measured and made of these files: a mark that moves costs what lies about it."""
    if files not in _REMEMBERED:
        _REMEMBERED[files] = Remembered(opened())
        while len(_REMEMBERED) > MOST_REMEMBERED:
            _REMEMBERED.popitem(last=False)
    _REMEMBERED.move_to_end(files)
    return _REMEMBERED[files]


_KEPT: OrderedDict[tuple[object, ...], _Kept | Laid] = OrderedDict()
_REMEMBERED: OrderedDict[tuple[int, tuple[Path, ...]], Remembered] = OrderedDict()


def _stretched(
    path: Path,
    offset_s: float,
    fit: tuple[np.ndarray, np.ndarray, str] | None,
    speed: float,
    attacks: tuple[float, ...],
    bundle: tuple[tuple[Path, ...], int],
    levels: Levels,
    rate: int,
    number: int,
) -> tuple[int, bytes]:
    key = (
        path,
        offset_s,
        speed,
        attacks,
        bundle,
        levels,
        rate,
        None if fit is None else (fit[0].tobytes(), fit[1].tobytes(), fit[2]),
    )
    if key not in _KEPT:
        how = Sounding(
            offset_s,
            None if fit is None else (TimeMap(fit[0], fit[1]), fit[2]),
            speed,
            attacks,
            *bundle,
            levels,
        )
        _keep(key, _Kept(path, how, rate))
    _KEPT.move_to_end(key)
    return _made(_KEPT[key].source, rate, number)


def _laid(
    name: str, sound: LaidSound | None, speed: float, rate: int, number: int
) -> tuple[int, bytes] | None:
    """A segment of a take in pieces; None where nothing says yet what it is made of."""
    key = ("laid", name, speed)
    if key not in _KEPT:
        if sound is None:
            return None
        _keep(key, Laid(sound, speed))
    _KEPT.move_to_end(key)
    return _made(at_rate(_KEPT[key].source, rate), rate, number)


def _keep(key: tuple[object, ...], made: _Kept | Laid) -> None:
    _KEPT[key] = made
    while len(_KEPT) > MOST_KEPT:
        _KEPT.popitem(last=False)


def _made(source: Source, rate: int, number: int) -> tuple[int, bytes]:
    start = number * SEGMENT_S * rate
    block = stereo(source.read(start, start + SEGMENT_S * rate))
    return len(block), np.ascontiguousarray(block, dtype="<f4").tobytes()
