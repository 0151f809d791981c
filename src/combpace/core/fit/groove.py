"""Grooves: how late, how loud and how often each place of a bar is played; taken from bars, and a grid to
pull others onto.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from combpace.core.clocks import ClockT, FloatArray, Quarters, as_floats
from combpace.core.errors import ParameterError
from combpace.core.tempo.grid import Grid, parse_grid
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_number

VERSION = 1
# What lies so much of the step from a place is not that place's: an even half would be anybody's.
REACH = 0.5
# Lengths of bars are the same to this, quarters.
SAME_Q = 1e-6
LONGEST_NAME, MOST_BARS, MOST_PLACES = 80, 64, 4096


@dataclass(frozen=True, slots=True)
class Place:
    """One place of a bar.

    quarters    from the bar's line, on the grid
    late        mean lateness as a share of the grid's step; early is negative; 0 where it was never struck
    late_ms     the same in milliseconds, at the tempo it was played at
    accent_db   level against the mean of all strokes; 0 where it was never struck
    struck      in how many bars
    scatter_ms  standard deviation of the lateness
    """

    quarters: float
    late: float
    late_ms: float
    accent_db: float
    struck: int
    scatter_ms: float


@dataclass(frozen=True, slots=True)
class Groove:
    """A pattern of one bar or several, all of one length.

    bars  places of each bar, in order
    bpm   quarters a minute it was played at
    """

    name: str
    grid: Grid
    bar_quarters: float
    bpm: float
    bars: tuple[tuple[Place, ...], ...]


def take_groove(
    times: FloatArray,
    levels_db: FloatArray,
    line: TempoMap[ClockT],
    bars: tuple[int, int],
    grid: Grid,
    name: str = "groove",
    pattern_bars: int = 1,
) -> Groove:
    """Take a groove from strokes.

    times         of strokes, on the map's clock; levels_db: of each; shapes (n,)
    line          bar lines and what lies evenly between them
    bars          indices of the first and last bar
    pattern_bars  how many bars the groove has; the bars are averaged onto them in turn
    Raises        ParameterError where bars differ in length, nothing is struck in them, or they do not come
                  out as whole patterns
    """
    first, last = bars
    count = last - first + 1
    if count < 1 or pattern_bars < 1 or count % pattern_bars:
        raise ParameterError(
            f"{count} bars are no whole number of patterns of {pattern_bars}. Nothing was taken."
        )
    lengths = {line.meter_of(index).bar_quarters for index in range(first, last + 1)}
    if len(lengths) > 1:
        raise ParameterError(
            f"Bars {bar_number(first)} to {bar_number(last)} differ in length, so they are no one "
            "pattern. Nothing was taken."
        )
    bar_quarters = lengths.pop()
    places = grid.in_bar(bar_quarters)[:-1]
    at, levels = as_floats(times), as_floats(levels_db)
    late = _lateness(at, levels, line, bars, grid, pattern_bars)
    if not late:
        raise ParameterError(
            f"Nothing is struck in bars {bar_number(first)} to {bar_number(last)}. Nothing was taken."
        )
    usual = float(np.mean([level for found in late.values() for _, _, level in found]))
    made = [
        tuple(_played(float(place), late.get((bar, k), []), usual) for k, place in enumerate(places))
        for bar in range(pattern_bars)
    ]
    span = line.second(line.bar_line(last + 1)) - line.second(line.bar_line(first))
    return Groove(name, grid, bar_quarters, 60.0 * count * bar_quarters / span, tuple(made))


# (seconds late, seconds of a step there, level in dB) of each stroke, by bar of the pattern and place.
Lateness = dict[tuple[int, int], list[tuple[float, float, float]]]


def _lateness(
    at: FloatArray,
    levels_db: FloatArray,
    line: TempoMap[ClockT],
    bars: tuple[int, int],
    grid: Grid,
    pattern_bars: int,
) -> Lateness:
    """Of every place in bars the stroke nearest to it, where one lies within REACH of a step."""
    first, last = bars
    own = np.asarray(line.to_quarters(at))  # type: ignore[arg-type]
    places = grid.in_bar(line.meter_of(first).bar_quarters)[:-1]
    reach, half = REACH * grid.step_quarters, 0.5 * grid.step_quarters
    late: Lateness = {}
    for index in range(first, last + 1):
        for k, place in enumerate(places):
            goal = line.bar_line(index) + float(place)
            near = np.flatnonzero((own > goal - reach) & (own <= goal + reach))
            if not len(near):
                continue
            moment, step_s = line.second(goal), line.second(goal + half) - line.second(goal - half)
            best = int(near[np.argmin(np.abs(at[near] - moment))])
            stroke = (float(at[best] - moment), step_s, float(levels_db[best]))
            late.setdefault(((index - first) % pattern_bars, k), []).append(stroke)
    return late


def _played(place: float, found: list[tuple[float, float, float]], usual_db: float) -> Place:
    """A place of a groove from its strokes; without any it lies on the grid."""
    if not found:
        return Place(place, 0.0, 0.0, 0.0, 0, 0.0)
    off = np.array([seconds for seconds, _, _ in found])
    return Place(
        place,
        float(np.mean([seconds / step for seconds, step, _ in found])),
        1000.0 * float(off.mean()),
        float(np.mean([level for _, _, level in found])) - usual_db,
        len(found),
        1000.0 * float(off.std()),
    )


@dataclass(frozen=True, slots=True)
class GrooveGrid:
    """A groove as a grid: places lie as late as it has them.

    start  index of the bar on which its first bar lies
    """

    groove: Groove
    start: int = 0

    @property
    def value(self) -> int:
        return self.groove.grid.value

    @property
    def shape(self) -> str:
        return self.groove.grid.shape

    @property
    def swing(self) -> float:
        return self.groove.grid.swing

    @property
    def step_quarters(self) -> float:
        return self.groove.grid.step_quarters

    def places_of(self, index: int, bar_quarters: float) -> FloatArray:
        """Places of a bar by its index, quarters from its line; of a bar of another length those of the plain
        grid.
        """
        if abs(bar_quarters - self.groove.bar_quarters) > SAME_Q:
            return self.groove.grid.in_bar(bar_quarters)[:-1]
        row = self.groove.bars[(index - self.start) % len(self.groove.bars)]
        return np.array([place.quarters + place.late * self.step_quarters for place in row])

    def in_bar(self, bar_quarters: float) -> FloatArray:
        """Places of its first bar, and the next line."""
        return np.concatenate([self.places_of(self.start, bar_quarters), [bar_quarters]])

    def nearest(self, places: Quarters, tempo_map: TempoMap[ClockT]) -> Quarters:
        """The place nearest to each musical place; on a tie the earlier one."""
        at = as_floats(places)
        if not len(at):
            return Quarters(np.zeros(0))
        first, last = tempo_map.bar_of(float(at.min())) - 1, tempo_map.bar_of(float(at.max())) + 1
        rows = [
            tempo_map.bar_line(index) + self.places_of(index, tempo_map.meter_of(index).bar_quarters)
            for index in range(first, last + 1)
        ]
        every = np.sort(np.concatenate(rows))
        after = np.clip(np.searchsorted(every, at), 1, len(every) - 1)
        low, high = every[after - 1], every[after]
        return Quarters(np.where(at - low <= high - at, low, high))

    def accent_db(self, places: Quarters, tempo_map: TempoMap[ClockT]) -> FloatArray:
        """The accent of the plain grid's place nearest to each musical place, dB; 0 in bars of another length
        and where it was never struck.
        """
        plain = np.asarray(self.groove.grid.nearest(places, tempo_map))
        found = np.zeros(len(plain))
        for k, place in enumerate(plain):
            index = tempo_map.bar_of(float(place))
            if abs(tempo_map.meter_of(index).bar_quarters - self.groove.bar_quarters) > SAME_Q:
                continue
            row = self.groove.bars[(index - self.start) % len(self.groove.bars)]
            inside = float(place) - tempo_map.bar_line(index)
            found[k] = min(row, key=lambda one: abs(one.quarters - inside)).accent_db
        return found

    def __str__(self) -> str:
        return f"groove {self.groove.name}"


def fits_bars(groove: Groove, tempo_map: TempoMap[Any], first: int, last: int) -> str:
    """A sentence where bars first to last (indices) are not all as long as the groove's, or ""."""
    for index in range(first, last + 1):
        length = tempo_map.meter_of(index).bar_quarters
        if abs(length - groove.bar_quarters) > SAME_Q:
            has = (
                f"Bar {bar_number(index)} has {length:g} quarters and a bar of the groove {groove.name} "
                f"has {groove.bar_quarters:g}"
            )
            return f"{has}; choose bars of that length."
    return ""


# -- as JSON


def groove_document(groove: Groove) -> dict[str, Any]:
    """A groove as it is kept and exported (docs/formats.md)."""
    return {
        "version": VERSION,
        "kind": "groove",
        "name": groove.name,
        "grid": str(groove.grid),
        "swing": groove.grid.swing,
        "bar_quarters": groove.bar_quarters,
        "bpm": round(groove.bpm, 6),
        "bars": [
            [
                {
                    "quarters": round(one.quarters, 9),
                    "late": round(one.late, 9),
                    "late_ms": round(one.late_ms, 4),
                    "accent_db": round(one.accent_db, 3),
                    "struck": one.struck,
                    "scatter_ms": round(one.scatter_ms, 4),
                }
                for one in row
            ]
            for row in groove.bars
        ],
    }


def groove_from(value: Any) -> Groove:
    """Read a groove. Raises ParameterError, in a sentence, for whatever is none."""
    if not isinstance(value, Mapping) or value.get("kind") != "groove":
        raise ParameterError(
            "This is no groove: a JSON file whose “kind” is “groove” is one. Nothing was changed."
        )
    if value.get("version") != VERSION:
        raise ParameterError(
            f"This groove is of version {value.get('version')!r}; version {VERSION} is read. "
            "Nothing was changed."
        )
    try:
        grid = parse_grid(str(value["grid"]), float(value.get("swing", 0.5)))
        rows = value["bars"]
        if not 1 <= len(rows) <= MOST_BARS or sum(len(row) for row in rows) > MOST_PLACES:
            raise ParameterError(f"A groove has 1 to {MOST_BARS} bars, not {len(rows)}. Nothing was changed.")
        bars = tuple(tuple(_place(one) for one in row) for row in rows)
        length, bpm = float(value["bar_quarters"]), float(value["bpm"])
        name = " ".join(str(value["name"]).split())[:LONGEST_NAME] or "groove"
    except (KeyError, TypeError, ValueError) as error:
        raise ParameterError(f"This groove is not whole ({error}). Nothing was changed.") from error
    expected = grid.in_bar(length)[:-1] if math.isfinite(length) and 0 < length <= 64 else np.zeros(0)
    for row in bars:
        if len(row) != len(expected) or any(
            abs(one.quarters - place) > 1e-6 for one, place in zip(row, expected, strict=True)
        ):
            raise ParameterError(
                f"The places of this groove are not those of {grid} in a bar of {length:g} "
                "quarters. Nothing was changed."
            )
    if not (math.isfinite(bpm) and bpm > 0):
        raise ParameterError("The tempo of this groove is no number above 0. Nothing was changed.")
    return Groove(name, grid, length, bpm, bars)


def _place(value: Mapping[str, Any]) -> Place:
    numbers = [float(value[name]) for name in ("quarters", "late", "late_ms", "accent_db", "scatter_ms")]
    if not all(math.isfinite(one) for one in numbers) or not -REACH <= numbers[1] <= REACH:
        raise ValueError("a place is no number, or lies more than half a step from the grid")
    return Place(numbers[0], numbers[1], numbers[2], numbers[3], int(value["struck"]), numbers[4])


def in_words(groove: Groove) -> str:
    """ "1/16, 1 bar of 4/4-length, latest +21 ms at place 6": what a list says of it."""
    struck = [one for row in groove.bars for one in row if one.struck]
    most = max(struck, key=lambda one: abs(one.late_ms), default=None)
    bars = "1 bar" if len(groove.bars) == 1 else f"{len(groove.bars)} bars"
    told = "" if most is None else f", by up to {'+' if most.late_ms > 0 else '−'}{abs(most.late_ms):.0f} ms"
    return f"{groove.grid}, {bars} of {groove.bar_quarters:g} quarters{told}"


def names_apart(name: str, taken: Sequence[str]) -> str:
    """A name that none of those taken has: "shuffle", "shuffle 2"."""
    base, made, k = " ".join(name.split())[:LONGEST_NAME] or "groove", "", 2
    made = base
    while made.casefold() in {one.casefold() for one in taken}:
        made, k = f"{base} {k}", k + 1
    return made
