"""Arguments of actions: one model an action."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

Seconds = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
Quarters = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
TakeId = Annotated[str, Field(pattern=r"^[0-9a-f]{16}$")]


class Args(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Nothing(Args):
    pass


class Moment(Args):
    time_s: Seconds


class BarAt(Args):
    time_s: Seconds
    bar: int = Field(ge=-10000, le=100000)


class Pull(Args):
    time_s: Seconds
    quarters: Quarters
    free: bool = False


class Place(Args):
    quarters: Quarters


class Lock(Args):
    quarters: Quarters
    locked: bool = True


class MeterText(Args):
    meter: str = Field(max_length=12)
    bar: int | None = None


class Factor(Args):
    factor: int
    bar: int | None = None


class About(Args):
    about_bpm: str | float


class Steady(Args):
    bpm: str | float | None = None
    bar_1_s: str | float | None = None
    nudged: bool = False


class TakeField(Args):
    take: TakeId
    field: str = Field(max_length=20)
    value: str = Field(max_length=200)


class Take(Args):
    take: TakeId


class Bundle(Args):
    takes: list[TakeId] = Field(max_length=64)
    name: str = Field(default="", max_length=60)


class MarkAt(Args):
    take: TakeId
    time_s: Seconds


class MarkMove(Args):
    take: TakeId
    from_s: Seconds
    to_s: Seconds


class Marks(Args):
    take: TakeId
    times_s: list[Seconds] = Field(max_length=5000, min_length=1)


class Threshold(Args):
    take: TakeId
    threshold: str | float


class PegAt(Args):
    take: TakeId
    take_s: Seconds
    quarters: Quarters | None = None
    session_s: Seconds | None = None


class Act(BaseModel):
    """An action on a session: the version it is based on, and its arguments."""

    version: int
    args: dict[str, object] = Field(default_factory=dict)


class NewSession(BaseModel):
    name: str = Field(default="New session", max_length=300)


class Rename(BaseModel):
    name: str = Field(max_length=300)


class Render(BaseModel):
    take: TakeId
    version: int


class HandOff(BaseModel):
    takes: list[TakeId] = Field(max_length=256)
    kind: str = "wav24"
    start: Literal["bar 1", "lead-in"] = "bar 1"
    extras: list[str] = Field(default_factory=list, max_length=8)
