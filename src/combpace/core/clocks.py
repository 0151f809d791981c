"""The three clocks.

Take time     seconds from the first decoded frame of a take
Session time  seconds from the session's zero, fixed for ever, may be negative
Musical time  quarter notes, 0 = the line of bar 1, in every meter

The types exist for the type checker only; at run time each is a float64 array. Only a `Placement` joins take
time and session time; only a `TempoMap` joins seconds and musical time.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import isfinite
from typing import Any, NewType, TypeVar

import numpy as np
from numpy.typing import NDArray

from combpace.core.errors import ParameterError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
BoolArray = NDArray[np.bool_]

TakeTimes = NewType("TakeTimes", FloatArray)
SessionTimes = NewType("SessionTimes", FloatArray)
Quarters = NewType("Quarters", FloatArray)

ClockT = TypeVar("ClockT", TakeTimes, SessionTimes)


def as_floats(values: Any) -> FloatArray:
    """A float64 array of at least one dimension, without copying where that is possible.

    values   a number, a sequence or an array of any shape
    """
    return np.atleast_1d(np.asarray(values, dtype=np.float64))


def take_times(values: Any) -> TakeTimes:
    """Mark seconds as take time."""
    return TakeTimes(as_floats(values))


def session_times(values: Any) -> SessionTimes:
    """Mark seconds as session time."""
    return SessionTimes(as_floats(values))


def quarters(values: Any) -> Quarters:
    """Mark quarter notes as musical time."""
    return Quarters(as_floats(values))


@dataclass(frozen=True, slots=True)
class Placement:
    """Where a take lies in the session: session time = take time + `offset_s`."""

    take: str
    offset_s: float = 0.0

    def __post_init__(self) -> None:
        if not isfinite(self.offset_s):
            raise ParameterError(f"A take's place must be a finite number of seconds, not {self.offset_s!r}.")

    def to_session(self, times: TakeTimes) -> SessionTimes:
        """Session time of moments of the take, shape (n,)."""
        return SessionTimes(times + self.offset_s)

    def to_take(self, times: SessionTimes) -> TakeTimes:
        """Take time of moments of the session, shape (n,); outside the take too."""
        return TakeTimes(times - self.offset_s)
