"""What the user states of a map, as it is kept: on the session's clock of the lead, on its own of another
take.
"""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterable
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from combpace.core.tempo.meters import parse_meter
from combpace.core.tempo.statements import Stated, Tie


class Part(BaseModel):
    """A part of a document."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class _Said(Part):
    """knotted: the knots that were given, or the steady map, hold it already."""

    knotted: bool = False


class _Moment(_Said):
    """About a beat of the map, that lies on a moment of the session.

    heard_s  where that beat lies before anything is tied by hand; None: the beat nearest to the moment
    locked   guarded against drag and delete
    alone    no other bar line moves with it
    """

    time_s: float
    heard_s: float | None = None
    locked: bool = False
    alone: bool = False


# How far a bar moves the others that were heard; None: as the ear has it.
Reach = Literal["everywhere", "from here on", "only this bar"]


class BarStatement(_Moment):
    """This moment of the session is the line of that bar."""

    what: Literal["bar"] = "bar"
    bar: int
    reach: Reach | None = None


class DownbeatStatement(_Moment):
    """This moment of the session opens a bar."""

    what: Literal["downbeat"] = "downbeat"
    reach: Reach | None = None


class AnchorStatement(_Moment):
    """A beat or a place within a bar lies at this moment of the session."""

    what: Literal["anchor"] = "anchor"


class OtherStatement(_Said):
    """No bar begins at this moment of the session."""

    what: Literal["not-downbeat"] = "not-downbeat"
    time_s: float


class MeterStatement(_Said):
    """This meter holds from the bar line at a moment of the session on, or everywhere; until_s: up to the
    line there, and what follows is counted on.
    """

    what: Literal["meter"] = "meter"
    meter: str
    time_s: float | None = None
    until_s: float | None = None


class TempoStatement(_Said):
    """The session's tempo where it is steady, quarters a minute."""

    what: Literal["tempo"] = "tempo"
    bpm: float


class ReadingStatement(_Said):
    """Which of the ways to count the take holds: a rank of those that were heard, or the one that was read
    near a tempo (counted beats a minute), which is kept here.
    """

    what: Literal["reading"] = "reading"
    rank: int | None = None
    about_bpm: float | None = None
    pace: dict[str, Any] | None = None


class LevelStatement(_Said):
    """So many times as many beats as were heard ("2", "1/2"), from the bar line at a moment on, or
    everywhere.
    """

    what: Literal["level"] = "level"
    factor: str = Field(pattern=r"^[1-9][0-9]{0,2}(/[1-9][0-9]{0,2})?$")
    time_s: float | None = None


Statement = Annotated[
    BarStatement
    | DownbeatStatement
    | AnchorStatement
    | OtherStatement
    | MeterStatement
    | TempoStatement
    | ReadingStatement
    | LevelStatement,
    Field(discriminator="what"),
]
MomentStatement = BarStatement | DownbeatStatement | AnchorStatement


def stated_of(statements: Iterable[Statement]) -> Stated:
    """Statements as the core takes them, on their own clock."""
    every = tuple(statements)
    moments = [one for one in every if isinstance(one, MomentStatement)]
    opening = [one for one in every if isinstance(one, BarStatement | DownbeatStatement)]
    meters = [one for one in every if isinstance(one, MeterStatement)]
    return Stated(
        bars=tuple(sorted((one.time_s, one.bar) for one in every if isinstance(one, BarStatement))),
        downbeats=tuple(sorted(one.time_s for one in opening if isinstance(one, DownbeatStatement))),
        meters=tuple(
            sorted(
                ((one.time_s, parse_meter(one.meter)) for one in meters if one.until_s is None),
                key=lambda change: -math.inf if change[0] is None else change[0],
            )
        ),
        others=tuple(sorted(one.time_s for one in every if isinstance(one, OtherStatement))),
        ranges=tuple(
            sorted(
                (
                    (one.time_s, one.until_s, parse_meter(one.meter))
                    for one in meters
                    if one.until_s is not None and one.time_s is not None
                ),
                key=lambda span: span[0],
            )
        ),
        ties=tuple(
            sorted(
                (Tie(one.time_s, one.heard_s, one.alone) for one in moments if one.heard_s is not None),
                key=lambda tie: tie.time_s,
            )
        ),
        reach=tuple(sorted((one.time_s, one.reach) for one in opening if one.reach is not None)),
        locked=tuple(sorted(one.time_s for one in moments if one.locked)),
        levels=tuple(
            sorted(
                ((one.time_s, Fraction(one.factor)) for one in every if isinstance(one, LevelStatement)),
                key=lambda level: -math.inf if level[0] is None else level[0],
            )
        ),
        tempo=next((one.bpm for one in every if isinstance(one, TempoStatement)), None),
    )


_ONE: TypeAdapter[Statement] = TypeAdapter(Statement)


def statement_part(one: Statement) -> dict[str, Any]:
    """A statement as JSON, without what is as usual."""
    kept = one.model_dump(mode="json")
    return {name: value for name, value in kept.items() if value is not None and value is not False}


def statement_from(value: Any) -> Statement:
    return _ONE.validate_python(value)


def name_of(one: Statement) -> str:
    """What a statement is called where it is taken back: its kind and what it says."""
    said = json.dumps({**statement_part(one), "knotted": 0}, sort_keys=True).encode()
    return f"{one.what}-{hashlib.sha256(said).hexdigest()[:8]}"


def later(one: Statement, by_s: float) -> Statement:
    """The same statement about moments that come so much later."""
    update = {
        name: value + by_s
        for name in ("time_s", "heard_s", "until_s")
        if (value := getattr(one, name, None)) is not None
    }
    return one.model_copy(update=update) if update else one
