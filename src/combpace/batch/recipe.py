"""What a batch does to each file: the fields of the sentences, as a documented JSON file
(docs/formats.md).
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from combpace.batch.following import Following
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import GrooveGrid, groove_document, groove_from
from combpace.core.fit.rule import Rule
from combpace.core.tempo.grid import VALUES, Grid, GridLike, parse_grid
from combpace.session.arrivals import bars_of
from combpace.session.state import SessionState


class FitFields(BaseModel):
    """As the sentence of Fit has them. groove: a groove's JSON, instead of the grid.

    own: each file's own pace is its map; else bpm, with first_downbeat_s or each file's own bar 1, or the map
    that is given.
    """

    model_config = ConfigDict(extra="forbid")

    grid: str = Field(default="1/16", max_length=10)
    swing: float = Field(default=50.0, ge=50, le=80)
    strength: float = Field(default=100.0, ge=0, le=100)
    leave_alone_ms: float = Field(default=0.0, ge=0, le=1000)
    ignore_beyond_ms: float | None = Field(default=None, gt=0, le=10_000)
    ignore_beyond: str | None = Field(default=None, max_length=10)
    bars: tuple[int, int] | None = None
    keep_lag: bool = False
    coarse: bool = False
    own: bool = True
    bpm: float | None = Field(default=None, ge=5, le=1000)
    first_downbeat_s: float | None = None
    groove: dict[str, Any] | None = None

    def rule(self) -> Rule:
        """Raises ParameterError."""
        beyond = None if self.ignore_beyond is None else parse_grid(self.ignore_beyond).step_quarters
        grid: GridLike = (
            parse_grid(self.grid, self.swing / 100.0)
            if self.groove is None
            else GrooveGrid(groove_from(self.groove))
        )
        return Rule(
            grid,
            self.strength / 100.0,
            self.leave_alone_ms,
            self.ignore_beyond_ms,
            beyond,
            self.bars,
            self.keep_lag,
            self.coarse,
        )


class FollowFields(BaseModel):
    """As the ledger's sentence of a loop has them."""

    model_config = ConfigDict(extra="forbid")

    bars: int | None = Field(default=None, ge=1, le=1000)
    from_bpm: float | None = Field(default=None, ge=5, le=1000)
    from_bar: int = 1
    times: int | None = Field(default=None, ge=1)
    until_bar: int | None = None

    def said(self) -> Following:
        return Following(self.bars, self.from_bpm, self.from_bar, self.times, self.until_bar)


class Recipe(BaseModel):
    """A recipe; a field that is not known is refused."""

    model_config = ConfigDict(extra="forbid")

    version: Literal[1] = 1
    method: Literal["auto", "cut", "strike", "chord", "line"] = "auto"
    fit: FitFields = Field(default_factory=FitFields)
    follow: FollowFields = Field(default_factory=FollowFields)


def recipe_of(seen: SessionState) -> Recipe:
    """What was done in a session, for other files: the rule of its first take that has one, its tempo, and
    how its first loop follows.

    Which bars a rule is about is the session's own and stays there.
    """
    made = Recipe()
    stated = next(
        (seen.document.rules[take.id] for take in seen.document.takes if take.id in seen.document.rules), None
    )
    if stated is not None:
        rule = stated.rule
        fields: dict[str, Any] = {
            "strength": 100.0 * rule.strength,
            "leave_alone_ms": rule.leave_alone_ms,
            "ignore_beyond_ms": rule.ignore_beyond_ms,
            "ignore_beyond": None if rule.ignore_beyond is None else _value_of(rule.ignore_beyond),
            "keep_lag": rule.keep_lag,
            "coarse": rule.coarse,
        }
        if isinstance(rule.grid, GrooveGrid):
            fields["groove"] = groove_document(rule.grid.groove)
        else:
            fields |= {"grid": str(rule.grid), "swing": 100.0 * rule.grid.swing}
        made = Recipe(method=stated.method, fit=FitFields(**fields))  # type: ignore[arg-type]
    if seen.one_tempo is not None:
        made.fit.own, made.fit.bpm = False, round(seen.one_tempo, 6)
    loop = next(
        (
            take
            for take in seen.document.takes
            if take.role != "lead" and take.pace == "own" and seen.own_pace(take.id) is not None
        ),
        None,
    )
    if loop is not None:
        row, pace = seen.rows[loop.id], seen.counted_pace(loop.id)
        bars = bars_of(pace, row) if pace is not None else None
        made.follow = FollowFields(
            bars=bars,
            from_bar=loop.first_bar,
            times=None if loop.until_bar else loop.times,
            until_bar=loop.until_bar,
        )
    return made


def _value_of(quarters: float) -> str:
    """The note value of a length."""
    grids = [Grid(value, shape) for value in VALUES for shape in ("straight", "triplet", "dotted")]
    return str(min(grids, key=lambda grid: abs(grid.step_quarters - quarters)))


def read_recipe(path: Path | None) -> Recipe:
    """The recipe of a file; without one what is usual. Raises ParameterError, naming the field."""
    if path is None:
        return Recipe()
    if not path.is_file():
        raise ParameterError(f"There is no recipe “{path}”. Nothing was written.")
    try:
        value: Any = json.loads(path.read_text(encoding="utf-8"))
        return Recipe.model_validate(value)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "it"
        raise ParameterError(
            f"The recipe “{path.name}” cannot be used: {where}: {first['msg']}. Nothing was written."
        ) from error
    except (ValueError, RecursionError) as error:
        raise ParameterError(f"The recipe “{path.name}” is no JSON. Nothing was written.") from error
