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
from combpace.core.fit.ranges import Rules, with_said
from combpace.core.fit.rule import Rule, read_bars
from combpace.session.arrivals import bars_of
from combpace.session.state import SessionState


class FitFields(Rule):
    """As the sentence of Fit has them: every field of `Rule`, rules of some bars, which have what they do
    not say as the first has it, and the map.

    own: each file's own pace is its map; else bpm, with first_downbeat_s or each file's own bar 1, or the map
    that is given.
    """

    rules: list[dict[str, Any]] = Field(default_factory=list, max_length=500)
    own: bool = True
    bpm: float | None = Field(default=None, ge=5, le=1000)
    first_downbeat_s: float | None = None

    def all_rules(self) -> Rules:
        """The sentence and those of some bars. Raises ParameterError."""
        made: Rules = (Rule(**{name: getattr(self, name) for name in Rule.model_fields}),)
        for one in self.rules:
            said = dict(one)
            bars = read_bars(said.pop("bars", None))
            if bars is None:
                raise ParameterError("Each of “rules” names its bars, like [9, 12] or “9-12”.")
            made = with_said(made, bars, said)
        return made


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
        kept = stated.rule.model_dump(exclude={"bars", "groove_start"}, exclude_none=True)
        fields = FitFields(**kept)
        if seen.one_tempo is not None:
            fields = fields.but(own=False, bpm=round(seen.one_tempo, 6))
        made = Recipe(method=stated.method, fit=fields)  # type: ignore[arg-type]
    elif seen.one_tempo is not None:
        made = Recipe(fit=FitFields(own=False, bpm=round(seen.one_tempo, 6)))
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


def read_recipe(path: Path | None) -> Recipe:
    """The recipe of a file; without one what is usual. Raises ParameterError, naming the field."""
    if path is None:
        return Recipe()
    if not path.is_file():
        raise ParameterError(f"There is no recipe “{path}”. Nothing was written.")
    try:
        value: Any = json.loads(path.read_text(encoding="utf-8"))
        made = Recipe.model_validate(value)
        made.fit.all_rules()
        return made
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "it"
        raise ParameterError(
            f"The recipe “{path.name}” cannot be used: {where}: {first['msg']}. Nothing was written."
        ) from error
    except ParameterError as error:
        raise ParameterError(
            f"The recipe “{path.name}” cannot be used: {error} Nothing was written."
        ) from error
    except (ValueError, RecursionError) as error:
        raise ParameterError(f"The recipe “{path.name}” is no JSON. Nothing was written.") from error
