"""How each part of a document is kept, as models: what is read is checked before it becomes a value.

A field that may be left out has the value that it means then. Forms of older versions are brought up first
(`upgrades.py`); `docs/formats.md` describes them for others.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from combpace.core.fit.ranges import MOST_RULES
from combpace.core.fit.rule import Rule

# [time_s, quarters, fixed, locked, confidence], and the ramp where it is none of 1.
KnotRow = Annotated[list[float], Field(min_length=5, max_length=6)]
# [start, stop, quarters, session_s, home, level_db, fade_in_ms, fade_out_ms], and [own, curve] where there
# are any.
PlainPieceRow = tuple[int, int, float | None, float | None, float | None, float, float | None, float | None]
OwnPieceRow = tuple[
    int,
    int,
    float | None,
    float | None,
    float | None,
    float,
    float | None,
    float | None,
    str | None,
    list[tuple[float, float]],
]


class Form(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class TakeForm(Form):
    """`TakeEntry`."""

    id: str
    name: str
    kind: str = "unknown"
    role: str = "follower"
    pace: str = "lead"
    bundle: str | None = None
    offset_s: float = 0.0
    first_bar: int = 1
    keeps: str = ""
    times: int = 1
    until_bar: int | None = None
    arrival: bool = False
    from_bpm: float | None = None
    to_bpm: float | None = None
    source: str | None = None


class PaceForm(Form):
    """A take's own pace: take seconds and quarters."""

    knots: list[KnotRow]
    meters: list[tuple[int, int, int]]


class EditsForm(Form):
    """`OnsetEdits`, take seconds."""

    added: list[float] = []
    removed: list[float] = []
    moved: list[tuple[float, float]] = []
    locked: list[float] = []
    threshold: float = 0.0
    listen: str = "everything"
    apart_ms: float = 0.0
    on: str = "anywhere"


class RuleForm(Form):
    """`RuleChoice`: each sentence is kept as it is."""

    rules: list[Rule] = Field(min_length=1, max_length=MOST_RULES)
    method: str = "auto"
    first: list[str] = []
    out: list[str] = []
    before: bool = False


class PegsForm(Form):
    """`TakePegs`: [take_s, quarters or null, session_s or null] each; as played with neither."""

    pegs: list[tuple[float, float | None, float | None]] = []
    rides: list[float] = []


class PiecesForm(Form):
    """`TakePieces`: frames of the sound `sha`."""

    sha: str
    pieces: list[OwnPieceRow | PlainPieceRow]
    fade_ms: float
    fill: str
    meeting: str
    first_frame: int | None = None
    at: str | None = None
    stronger: float = 0.0
    lay: str | None = None


class CellForm(Form):
    """`CellEdit`, quarters of the session."""

    from_q: float
    to_q: float
    starts: list[float] = []
    push: bool = False


class NotesForm(Form):
    """`PartEntry`."""

    id: str
    name: str
    sha: str
    number: int
    first_bar: int = 1
    times: int = 1
    until_bar: int | None = None
    keeps: str = "bar"
    offset_s: float = 0.0
    accent: float = 0.0
    lengths: str = "kept"
    edits: list[CellForm] = []
