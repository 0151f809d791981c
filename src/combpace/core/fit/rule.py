"""The sentence that makes pegs, and pegs by hand."""

from __future__ import annotations

from dataclasses import dataclass

from combpace.core.errors import ParameterError
from combpace.core.tempo.grid import GridLike
from combpace.core.tempo.meters import bar_index

# More than any bar lasts; what is farther off is a slip of the hand.
MOST_IGNORED_MS = 10_000.0


@dataclass(frozen=True, slots=True)
class Rule:
    """The sentence: grid, strength, what is left alone, what is ignored.

    strength          0-1: target = own + strength * (grid - own)
    leave_alone_ms    closer than this keeps its own place
    ignore_beyond_ms  farther than this gets no peg; None ignores nothing
    ignore_beyond     the same as a note value in quarters; the nearer limit counts
    bars              (first, last) bar numbers, or None for the whole take
    keep_lag          the take's own lead or lag stays: it is pulled to the grid moved by the median distance
                      of what is pulled
    coarse            only each bar's first attack goes to its line, all of it; the playing inside stays in
                      proportion
    """

    grid: GridLike
    strength: float = 1.0
    leave_alone_ms: float = 0.0
    ignore_beyond_ms: float | None = None
    ignore_beyond: float | None = None
    bars: tuple[int, int] | None = None
    keep_lag: bool = False
    coarse: bool = False

    def __post_init__(self) -> None:
        if not 0.0 <= self.strength <= 1.0:
            raise ParameterError(f"Strength lies between 0 and 100 %, not at {self.strength * 100:g} %.")
        if not 0.0 <= self.leave_alone_ms <= 1000.0:
            raise ParameterError(f"“Leave alone” takes 0 to 1000 ms, not {self.leave_alone_ms:g}.")
        if self.ignore_beyond_ms is not None and not 0.0 < self.ignore_beyond_ms <= MOST_IGNORED_MS:
            raise ParameterError(
                f"“Ignore” takes more than 0 ms, up to 10 s, not {self.ignore_beyond_ms:g} ms."
            )
        if self.bars is not None and bar_index(self.bars[0]) > bar_index(self.bars[1]):
            raise ParameterError(f"Bars {self.bars[0]} to {self.bars[1]} run backwards.")


@dataclass(frozen=True, slots=True)
class HandPeg:
    """An onset held by hand: take time, and a musical place it caught, or a session time if it was freed;
    with neither it is as played, where it lies if no rule acts.
    """

    take_s: float
    quarters: float | None = None
    session_s: float | None = None

    def __post_init__(self) -> None:
        if self.quarters is not None and self.session_s is not None:
            raise ParameterError("A peg by hand has either a musical place or a session time.")

    @property
    def as_played(self) -> bool:
        return self.quarters is None and self.session_s is None
