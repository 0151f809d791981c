"""Meters, and the numbers and indices of bars."""

from __future__ import annotations

from dataclasses import dataclass

from combpace.core.errors import ParameterError


def bar_number(index: int) -> int:
    """Bar number of a gapless index: 0 -> 1, -1 -> -1."""
    return index + 1 if index >= 0 else index


def bar_index(number: int) -> int:
    """Gapless index of a bar number: 1 -> 0, -1 -> -1. There is no bar 0."""
    if number == 0:
        raise ParameterError("There is no bar 0: the bar before bar 1 is bar -1.")
    return number - 1 if number > 0 else number


@dataclass(frozen=True, slots=True)
class Meter:
    """A time signature that holds from a bar on; the first one also holds for the lead-in."""

    bar: int
    numerator: int
    denominator: int

    def __post_init__(self) -> None:
        if not 1 <= self.numerator <= 64 or self.denominator not in (1, 2, 4, 8, 16, 32, 64):
            raise ParameterError(
                f"{self.numerator}/{self.denominator} is not a meter; write it like 4/4 or 7/8. "
                "Nothing was changed."
            )
        bar_index(self.bar)

    @property
    def bar_quarters(self) -> float:
        """Quarters of a bar."""
        return self.numerator * 4.0 / self.denominator

    @property
    def beat_quarters(self) -> float:
        """Length of a counted beat: a dotted value in compound meters (6/8, 9/8, 12/8), else the
        denominator's value.
        """
        compound = self.denominator >= 8 and self.numerator > 3 and self.numerator % 3 == 0
        return (12.0 if compound else 4.0) / self.denominator

    @property
    def beats(self) -> int:
        """Beats of a bar: three eighths are one where a meter is compound."""
        return round(self.bar_quarters / self.beat_quarters)

    @property
    def beat_unit(self) -> str:
        return f"{round(self.beat_quarters * self.denominator / 4)}/{self.denominator}"

    def __str__(self) -> str:
        return f"{self.numerator}/{self.denominator}"


def parse_meter(text: str, bar: int = 1) -> Meter:
    """Read "6/8" as the meter from `bar` on. Raises ParameterError for anything else."""
    top, slash, bottom = text.strip().partition("/")
    if not slash or not top.strip().isdecimal() or not bottom.strip().isdecimal():
        raise ParameterError(f"“{text}” is not a meter; write it like 4/4 or 7/8. Nothing was changed.")
    return Meter(bar, int(top), int(bottom))


def of_beats(meter: Meter, beats: int) -> Meter:
    """The meter of a bar of so many beats of another one's kind."""
    if beats == meter.beats:
        return meter
    return Meter(1, round(beats * meter.beat_quarters * meter.denominator / 4), meter.denominator)
