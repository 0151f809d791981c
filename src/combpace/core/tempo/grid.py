"""Grids: places in musical time that attacks are pulled to. A grid starts anew at every bar line."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from combpace.core.clocks import ClockT, FloatArray, Quarters, as_floats
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import SAME_PLACE, TempoMap


class GridLike(Protocol):
    """What places of a bar are asked for: even ones, or those of a groove; `value`, `shape` and `swing` as in
    `Grid`.
    """

    @property
    def value(self) -> int: ...

    @property
    def shape(self) -> str: ...

    @property
    def swing(self) -> float: ...

    @property
    def step_quarters(self) -> float: ...

    def in_bar(self, bar_quarters: float) -> FloatArray: ...

    def nearest(self, places: Quarters, tempo_map: TempoMap[ClockT]) -> Quarters: ...


VALUES = (1, 2, 4, 8, 16, 32, 64)
_PATTERN = re.compile(r"\s*1\s*/\s*(\d+)\s*(t|d|triplet|dotted)?\s*", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Grid:
    """Evenly spaced places from each bar line on.

    value    denominator of the note value: 1/8 is 8
    shape    "straight", "triplet" (two thirds of the value) or "dotted" (one and a half)
    swing    where the off place of each pair lies, as a share of the pair: 0.5 even, 2/3 triplet feel
    """

    value: int
    shape: str = "straight"
    swing: float = 0.5

    def __post_init__(self) -> None:
        if self.value not in VALUES:
            raise ParameterError(f"A grid value is one of 1/1 to 1/64, not 1/{self.value}.")
        if self.shape not in ("straight", "triplet", "dotted"):
            raise ParameterError(f"A grid is straight, triplet or dotted, not “{self.shape}”.")
        if not 0.5 <= self.swing <= 0.8:
            raise ParameterError(f"Swing lies between 50 % and 80 %, not at {self.swing * 100:g} %.")

    @property
    def step_quarters(self) -> float:
        return 4.0 / self.value * {"straight": 1.0, "triplet": 2.0 / 3.0, "dotted": 1.5}[self.shape]

    def in_bar(self, bar_quarters: float) -> FloatArray:
        """Places of one bar from its line to the next line, both included."""
        step = self.step_quarters
        count = int(np.ceil(bar_quarters / step - 1e-9))
        index = np.arange(count)
        places = index * step + (index % 2) * (2 * self.swing - 1) * step
        return np.concatenate([places[places < bar_quarters - 1e-9], [bar_quarters]])

    def nearest(self, places: Quarters, tempo_map: TempoMap[ClockT]) -> Quarters:
        """The grid place nearest to each musical place; on a tie the earlier one."""
        at = as_floats(places)
        if not len(at):
            return Quarters(np.zeros(0))
        first, last = tempo_map.bar_of(float(at.min())), tempo_map.bar_of(float(at.max()))
        lines = np.asarray(tempo_map.bar_lines(first, last - first))
        # As `bar_of` has it: what lies on a line opens its bar.
        bar = np.clip(np.searchsorted(lines, at + SAME_PLACE, "right") - 1, 0, len(lines) - 1)
        inside = at - lines[bar]
        lengths = np.array([tempo_map.meter_of(first + k).bar_quarters for k in range(len(lines))])
        result = np.empty(len(at))
        for length in np.unique(lengths[bar]):
            pattern, here = self.in_bar(float(length)), lengths[bar] == length
            after = np.clip(np.searchsorted(pattern, inside[here]), 1, len(pattern) - 1)
            low, high = pattern[after - 1], pattern[after]
            result[here] = lines[bar[here]] + np.where(inside[here] - low <= high - inside[here], low, high)
        return Quarters(result)

    def __str__(self) -> str:
        return f"1/{self.value}" + {"straight": "", "triplet": "t", "dotted": "d"}[self.shape]


def parse_grid(text: str, swing: float = 0.5) -> Grid:
    """Read "1/8", "1/8t" (triplet) or "1/8d" (dotted)."""
    match = _PATTERN.fullmatch(text)
    if not match:
        raise ParameterError(
            f"“{text}” is not a grid; write it like 1/8, 1/8t for a triplet or 1/8d for a dotted one."
        )
    shape = {"t": "triplet", "d": "dotted", "": "straight"}[(match[2] or "").lower()[:1]]
    return Grid(int(match[1]), shape, swing)
