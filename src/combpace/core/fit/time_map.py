"""Where each moment of a take goes: the piecewise linear map that drives every stretch."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray, as_floats
from combpace.core.errors import ParameterError


@dataclass(frozen=True, slots=True)
class TimeMap:
    """Take time -> target time, strictly increasing, piecewise linear, extended with slope 1 beyond both
    ends.

    source_s  shape (n,), n >= 2, seconds of the take
    target_s  shape (n,), seconds of what comes out
    """

    source_s: FloatArray
    target_s: FloatArray

    def __post_init__(self) -> None:
        source, target = as_floats(self.source_s), as_floats(self.target_s)
        if source.shape != target.shape or source.ndim != 1 or len(source) < 2:
            raise ParameterError("A time map needs at least two pairs of a source and a target time.")
        if not (np.isfinite(source).all() and np.isfinite(target).all()):
            raise ParameterError("A time map needs finite numbers.")
        if not (np.all(np.diff(source) > 0) and np.all(np.diff(target) > 0)):
            raise ParameterError(
                "The points of a time map must follow each other, in the source and in the target."
            )
        object.__setattr__(self, "source_s", source)
        object.__setattr__(self, "target_s", target)

    @property
    def factors(self) -> FloatArray:
        """Output length / input length of every segment: below 1 squeezed, above 1 spread."""
        result: FloatArray = np.diff(self.target_s) / np.diff(self.source_s)
        return result

    def to_target(self, times: Any) -> FloatArray:
        """Where moments of the source go, seconds, shape (n,); beyond both ends they move along."""
        return _follow(as_floats(times), self.source_s, self.target_s)

    def to_source(self, times: Any) -> FloatArray:
        """The inverse of `to_target`."""
        return _follow(as_floats(times), self.target_s, self.source_s)

    def shifted(self, offset_s: float) -> TimeMap:
        """The same map with all targets `offset_s` later."""
        return TimeMap(self.source_s, self.target_s + offset_s)

    def through(self, times: FloatArray) -> TimeMap:
        """The same map with more points on it: the source times given, where they lie inside and 1 ms from
        any other.
        """
        times = np.sort(as_floats(times))
        times = times[(times > self.source_s[0]) & (times < self.source_s[-1])]
        near = np.searchsorted(self.source_s, times)
        free = np.minimum(times - self.source_s[near - 1], self.source_s[near] - times) > 0.001
        times = times[free]
        times = times[np.concatenate([[True], np.diff(times) > 0.001])] if len(times) else times
        source = np.sort(np.concatenate([self.source_s, times]))
        return TimeMap(source, self.to_target(source))

    def then_scaled(self, factor: float) -> TimeMap:
        """The same map with all targets multiplied by a factor: slow listening."""
        return TimeMap(self.source_s, self.target_s * factor)


def identity(duration_s: float) -> TimeMap:
    """Nothing moves."""
    return TimeMap(np.array([0.0, duration_s]), np.array([0.0, duration_s]))


def _follow(x: FloatArray, xs: FloatArray, ys: FloatArray) -> FloatArray:
    inside = np.interp(x, xs, ys)
    result: FloatArray = np.where(
        x < xs[0], ys[0] + (x - xs[0]), np.where(x > xs[-1], ys[-1] + (x - xs[-1]), inside)
    )
    return result
