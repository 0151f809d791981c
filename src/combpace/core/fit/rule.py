"""The sentence that makes pegs, and pegs by hand.

`Rule` is at once what a document keeps, what a decision takes, what a recipe says, and what the options of
the command line are made from: a field's name, limits and words stand here and nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Self

from pydantic import BaseModel, ConfigDict, Field, ModelWrapValidatorHandler, ValidationError, model_validator

from combpace.core.errors import ParameterError
from combpace.core.fit.groove import GrooveGrid, groove_document, groove_from
from combpace.core.numbers import number_of
from combpace.core.tempo.grid import VALUES, Grid, GridLike, parse_grid
from combpace.core.tempo.meters import bar_index

# What is said by hand of a moment means the mark so near to it, seconds.
HAND_REACH_S = 0.005
# More than any bar lasts; what is farther off is a slip of the hand.
MOST_IGNORED_MS = 10_000.0
# Shorter names of fields, as the page's sentence has them.
SHORT = {"leave_alone": "leave_alone_ms", "ignore": "ignore_beyond"}
_BARS = re.compile(r"\s*(?:bars?\s+)?(-?[0-9]{1,6})\s*(?:[-–]\s*(-?[0-9]{1,6}))?\s*", re.IGNORECASE)


def _option(
    default: Any,
    title: str,
    metavar: str,
    help: str,
    says: str | tuple[str, str] = "",
    **limits: Any,
) -> Any:
    """A field that is also an option of the command line.

    says  what a sentence says by it, with {} for its value; of yes or no both: (no, yes)
    """
    extra: dict[str, Any] = {"metavar": metavar, "says": list(says) if isinstance(says, tuple) else says}
    return Field(default=default, title=title, description=help, json_schema_extra=extra, **limits)


class Rule(BaseModel):
    """A sentence: which grid, how strongly, what is left alone, what is ignored, in which bars.

    grid              note value, "1/8", "1/8t" or "1/8d"
    swing             where the off place of each pair lies, 50-80 %
    strength          0-100 %: target = own + strength * (grid - own)
    leave_alone_ms    closer than this keeps its own place
    ignore_beyond_ms  farther than this gets no peg; None ignores nothing
    ignore_beyond     the same as a note value; the nearer limit counts
    bars              (first, last) bar numbers, or None for the whole take
    keep_lag          the take's own lead or lag stays: it is pulled to the grid moved by the median distance
                      of what is pulled
    coarse            only each bar's first attack goes to its line, all of it; the playing inside stays in
                      proportion
    accent            0-100 %: how much of a groove's accents the level takes
    groove            the JSON of a groove, in the grid's stead; groove_start: index of the bar on which its
                      first bar lies

    Raises ParameterError for a value that it cannot take, naming the field.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    grid: str = _option("1/16", "The grid", "1/N", "1/16 without it", max_length=10)
    swing: float = _option(
        50.0, "Swing", "PERCENT", "where the off place of each pair lies, 50 to 80", ge=50, le=80
    )
    strength: float = _option(
        100.0,
        "Strength",
        "PERCENT",
        "how much of its way each onset goes, 0 to 100",
        "{:g} % strength",
        ge=0,
        le=100,
    )
    leave_alone_ms: float = _option(
        0.0,
        "“Leave alone”",
        "MS",
        "what is closer keeps its place",
        "leave alone up to {:g} ms",
        ge=0,
        le=1000,
    )
    ignore_beyond_ms: float | None = Field(default=None, title="“Ignore”", gt=0, le=MOST_IGNORED_MS)
    ignore_beyond: str | None = _option(
        None, "“Ignore”", "MS|1/N", "what is farther away is not pulled", max_length=10
    )
    bars: tuple[int, int] | None = _option(None, "Bars", "FIRST-LAST", "outside of these bars nothing moves")
    keep_lag: bool = _option(
        False,
        "“Keep the lag”",
        "",
        "the take's own lead or lag stays; only the scatter shrinks",
        ("its lead or lag goes too", "its lead or lag stays"),
    )
    coarse: bool = _option(
        False,
        "“Only each bar’s first onset”",
        "",
        "only each bar's first attack goes to its line",
        ("every onset", "only each bar’s first onset"),
    )
    accent: float = _option(
        0.0,
        "Accent",
        "PERCENT",
        "with --groove: its accents as level, within 6 dB",
        "accents {:g} %",
        ge=0,
        le=100,
    )
    groove: dict[str, Any] | None = None
    groove_start: int = Field(default=0, ge=-1_000_000, le=1_000_000)

    @model_validator(mode="wrap")
    @classmethod
    def _plainly(cls, value: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        try:
            made = handler(value)
        except ValidationError as error:
            raise ParameterError(_plain(cls, error)) from error
        # What cannot be read is refused here, not where it is used.
        _ = made.places, made.ignore_quarters
        if made.bars is not None:
            checked_bars(*made.bars)
        return made

    @classmethod
    def onto(cls, places: GridLike, **said: Any) -> Self:
        """A rule that pulls onto a grid or a groove."""
        return cls(**{**said, **_stated(places)})

    @cached_property
    def places(self) -> GridLike:
        """What it pulls onto."""
        plain = parse_grid(self.grid, self.swing / 100.0)
        return plain if self.groove is None else GrooveGrid(groove_from(self.groove), self.groove_start)

    @property
    def share(self) -> float:
        """Its strength, 0-1."""
        return self.strength / 100.0

    @cached_property
    def ignore_quarters(self) -> float | None:
        """`ignore_beyond`, quarters."""
        return None if self.ignore_beyond is None else parse_grid(self.ignore_beyond).step_quarters

    @property
    def ignored(self) -> str:
        """ "nothing", "what is farther than 60 ms"."""
        if self.ignore_beyond is not None:
            return f"what is farther than {self.ignore_beyond}"
        if self.ignore_beyond_ms is None:
            return "nothing"
        return f"what is farther than {self.ignore_beyond_ms:g} ms"

    def says(self) -> list[str]:
        """Each thing that it says, but for its bars, in the order of its fields."""
        said = [str(self.places), f"ignore {self.ignored}"]
        for name, field in Rule.model_fields.items():
            extra = field.json_schema_extra
            says = extra.get("says") if isinstance(extra, dict) else None
            value = getattr(self, name)
            if isinstance(says, list):
                said.append(str(says[bool(value)]))
            elif says:
                said.append(str(says).format(value))
        return said

    def but(self, **changes: Any) -> Self:
        """The same with other values. Raises ParameterError."""
        return type(self).model_validate(
            {**{name: getattr(self, name) for name in type(self).model_fields}, **changes}
        )

    def on(self, places: GridLike) -> Self:
        """The same onto another grid or groove."""
        return self.but(**_stated(places))

    def said(self, values: Mapping[str, object]) -> Self:
        """The same with fields as they are written: "85", "85 %", 85; "yes" or true; "9-12", "9" or "all";
        "1/32" or
        "60 ms". Raises ParameterError, naming the field.
        """
        made = self
        for name, value in values.items():
            made = made._with(SHORT.get(name, name), value)
        return made

    def _with(self, name: str, value: object) -> Self:
        field = Rule.model_fields.get(name)
        if field is None or name == "groove_start":
            raise ParameterError(f"The sentence has no “{name}”.")
        title = str(field.title)
        if name in ("ignore_beyond", "ignore_beyond_ms"):
            return self.but(**_ignored(value))
        if name == "swing" and self.groove is not None:
            raise ParameterError("A groove has its own swing; choose a grid first.")
        if name == "grid":
            return self.but(grid=str(parse_grid(str(value))), groove=None, groove_start=0)
        if name == "groove":
            return self.but(groove=value)
        if name == "bars":
            return self.but(bars=read_bars(value))
        if field.annotation is bool:
            if str(value).lower() not in ("yes", "no", "true", "false"):
                raise ParameterError(f"{title} takes yes or no, not “{value}”.")
            return self.but(**{name: str(value).lower() in ("yes", "true")})
        number = number_of(value)
        if number is None:
            raise ParameterError(f"{title} must be a number, not “{value}”.")
        return self.but(**{name: number})


def _stated(places: GridLike) -> dict[str, Any]:
    """The fields that mean a grid or a groove."""
    if isinstance(places, GrooveGrid):
        return {"groove": groove_document(places.groove), "groove_start": places.start}
    plain = Grid(places.value, places.shape)
    return {"grid": str(plain), "swing": round(100.0 * places.swing, 9), "groove": None, "groove_start": 0}


def _ignored(value: object) -> dict[str, Any]:
    """The two fields of what is ignored: ms or a note value; nothing for "nothing", "" and 0."""
    text = "" if value is None else str(value).strip().lower()
    if "/" in text:
        return {"ignore_beyond": text, "ignore_beyond_ms": None}
    if text in ("", "nothing", "0"):
        return {"ignore_beyond": None, "ignore_beyond_ms": None}
    number = number_of(text)
    if number is None:
        raise ParameterError(f"“Ignore” takes milliseconds or a note value like 1/16, not “{value}”.")
    return {"ignore_beyond": None, "ignore_beyond_ms": number}


def value_of(quarters: float) -> str:
    """The note value of a length in quarters."""
    grids = [Grid(value, shape) for value in VALUES for shape in ("straight", "triplet", "dotted")]
    return str(min(grids, key=lambda grid: abs(grid.step_quarters - quarters)))


def read_bars(value: object) -> tuple[int, int] | None:
    """ "5-8", "5" or [5, 8], by number; None for "all", "" and None. Raises ParameterError."""
    if value is None or (isinstance(value, str) and value.strip().lower() in ("", "all", "all bars")):
        return None
    if isinstance(value, Sequence) and not isinstance(value, str) and len(value) == 2:
        value = f"{value[0]}-{value[1]}"
    found = _BARS.fullmatch(str(value))
    if found is None:
        raise ParameterError(f"“{value}” names no bars; write 5, 5-8 or all.")
    return checked_bars(int(found[1]), int(found[2] or found[1]))


def checked_bars(first: int, last: int) -> tuple[int, int]:
    """Bars that can be a range. Raises ParameterError."""
    if 0 in (first, last):
        raise ParameterError("There is no bar 0.")
    if bar_index(first) > bar_index(last):
        raise ParameterError(f"Bars {first} to {last} run backwards.")
    return first, last


def bars_words(bars: tuple[int, int] | None) -> str:
    """ "all bars", "bar 9", "bars 9–12"."""
    if bars is None:
        return "all bars"
    return f"bar {bars[0]}" if bars[0] == bars[1] else f"bars {bars[0]}–{bars[1]}"


def _plain(model: type[BaseModel], error: ValidationError) -> str:
    """The first thing that is wrong, as a sentence."""
    first = error.errors()[0]
    name = str(first["loc"][0]) if first["loc"] else ""
    field = model.model_fields.get(name)
    if field is None:
        return f"The sentence has no “{name}”." if name else "That is no sentence."
    unit = (
        (field.json_schema_extra or {}).get("metavar", "")
        if isinstance(field.json_schema_extra, dict)
        else ""
    )
    unit = {"PERCENT": " %", "MS": " ms"}.get(str(unit), "")
    limits: dict[str, Any] = {}
    for one in field.metadata:
        limits |= {key: getattr(one, key) for key in ("ge", "gt", "le") if hasattr(one, key)}
    title, value = field.title or name, first.get("input")
    if "le" in limits and isinstance(value, int | float):
        low = limits.get("ge", limits.get("gt"))
        return f"{title} lies between {low:g} and {limits['le']:g}{unit}, not at {value:g}{unit}."
    return f"{title} cannot be “{value}”: {first['msg'].lower()}."


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
