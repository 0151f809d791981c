"""Decisions: how one is written, found by its name, checked, recorded and answered.

A decision is one function with its arguments beside it, in the package of its station:

    class FactorArgs(Args):
        factor: int

    @decision("scale", FactorArgs) def scale(state: SessionState, args: FactorArgs) -> Change: ...

It reads the session's state and says what changes; it writes nothing itself.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import reduce
from operator import or_
from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, create_model
from sqlalchemy.orm import Session

from combpace.core.errors import CombPaceError, MapConflictError, NotFoundError, ParameterError
from combpace.session import words
from combpace.session.data_folder import DataFolder, stale, view_in
from combpace.session.document import parts as forms
from combpace.session.document.model import FORMAT
from combpace.session.document.stated import later, statement_from
from combpace.session.document.upgrades import upgraded
from combpace.session.led import led_by
from combpace.session.reach import within_reach
from combpace.session.state import SessionState, session_state
from combpace.session.take_names import clean_text
from combpace.session.ways_out import ways_out
from combpace.store import rows
from combpace.store.errors import OutdatedError
from combpace.store.history import Revision
from combpace.store.history import begin as begin_history
from combpace.store.models import SessionRow

Seconds = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
Quarters = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
TakeId = Annotated[str, Field(pattern=r"^[0-9a-f]{16}$")]


class Args(BaseModel):
    """Arguments of a decision: what is not named is refused."""

    model_config = ConfigDict(extra="forbid")


class NoArgs(Args):
    """Of a decision that needs none."""


class TakeArgs(Args):
    """Of a decision about one take."""

    take: TakeId


class BarsArgs(Args):
    """Of a decision about bars. take: whose: the lead's, or those of a take with a pace of its own."""

    take: TakeId | None = None


@dataclass(frozen=True, slots=True)
class Job:
    """Long work that begins when the decision is kept."""

    kind: str
    subject: str
    args: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class NewTake:
    """A take that comes into the session with the decision, from bytes that are kept already.

    known  columns that are known already, where the same bytes were heard before
    """

    id: str
    name: str
    source_sha: str
    source_bytes: int
    known: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class NewFile:
    """A file that comes into the session with the decision, from bytes that are kept already; as in
    `store.models.FileRow`.
    """

    kind: str
    key: str
    name: str
    sha: str
    bytes: int


@dataclass(frozen=True, slots=True)
class Change:
    """What a decision changes, all of it in one transaction.

    parts    part of the document -> its new JSON value, None to drop it
    note     what was done and what it moved, a sentence
    gesture  changes of one gesture within a second are one step of undo
    jobs     work that begins with it; takes, files: rows that come with it; muted: takes that fall silent
             with it
    dropped  arrivals that go with it: all others stay, whatever is decided about takes
    """

    parts: Mapping[str, Any]
    note: str
    gesture: str | None = None
    jobs: tuple[Job, ...] = ()
    takes: tuple[NewTake, ...] = ()
    muted: tuple[str, ...] = field(default=())
    dropped: tuple[str, ...] = field(default=())
    files: tuple[NewFile, ...] = field(default=())


AnyArgs = TypeVar("AnyArgs", bound=Args)
Run = Callable[[SessionState, Any], Change]


@dataclass(frozen=True, slots=True)
class Decision:
    """One decision by its name."""

    name: str
    args: type[Args]
    run: Run


DECISIONS: dict[str, Decision] = {}
# What goes along with any change: registered by the room that knows of it.
ALONG: list[Callable[[SessionState, Change], Change]] = []
# What says which renders a change leaves right, as keys: registered by the room that knows of it.
NEEDS: list[Callable[[SessionState, Mapping[str, Any]], list[str]]] = []
# Moves in the history are no changes of the document.
MOVES = ("undo", "redo")


def decision(
    name: str, args: type[AnyArgs]
) -> Callable[[Callable[[SessionState, AnyArgs], Change]], Callable[[SessionState, AnyArgs], Change]]:
    """Register a decision under the name that pages and scripts call it by."""

    def register(run: Callable[[SessionState, AnyArgs], Change]) -> Callable[[SessionState, AnyArgs], Change]:
        if name in DECISIONS or name in MOVES:
            raise ValueError(f"two decisions are called {name}")
        DECISIONS[name] = Decision(name, args, run)
        _ADAPTERS.clear()
        return run

    return register


_ADAPTERS: list[TypeAdapter[Any]] = []


def wire() -> TypeAdapter[Any]:
    """All decisions as one schema: a union told apart by "decision", each with its own arguments."""
    if not _ADAPTERS:
        names: dict[str, Any] = {one.name: (Literal[one.name], one.name) for one in DECISIONS.values()}
        models: list[Any] = [
            create_model(f"{one.args.__name__}_{one.name}", __base__=one.args, decision=names[one.name])
            for one in DECISIONS.values()
        ]
        union: Any = reduce(or_, models)
        _ADAPTERS.append(TypeAdapter(Annotated[union, Field(discriminator="decision")]))
    return _ADAPTERS[0]


def decide(folder: DataFolder, session_id: str, name: str, version: int, args: Mapping[str, Any]) -> Revision:
    """Take a decision on the state that a page has seen.

    version  the one the page shows; StaleError where another was quicker, whatever the decision
    Raises   NotFoundError for an unknown session or decision, ParameterError for arguments that cannot be
             used
    """
    if name in MOVES:
        if args:
            raise ParameterError("This cannot be used: undo and redo take no arguments. Nothing was changed.")
        return move(folder, session_id, version, forwards=name == "redo")
    state, change = considered(folder, session_id, name, version, args)
    return record(state, version, change)


def _clean(value: Any) -> Any:
    """Texts without control characters, at any depth."""
    if isinstance(value, str):
        return clean_text(value)
    if isinstance(value, list):
        return [_clean(one) for one in value]
    if isinstance(value, dict):
        return {key: _clean(one) for key, one in value.items()}
    return value


def _checked(name: str, args: Mapping[str, Any]) -> Any:
    try:
        return wire().validate_python({**_clean(dict(args)), "decision": name})
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"][1:])
        raise ParameterError(
            f"This cannot be used: {where or 'a value'}: {first['msg']}. Nothing was changed."
        ) from error


def state_at(folder: DataFolder, session_id: str, version: int) -> SessionState:
    """The session in the version that a page has seen. Raises StaleError where it has moved since,
    NotFoundError.
    """
    state = session_state(folder, session_id)
    if state.opened.revision.version != version:
        try:
            folder.history.check(session_id, version)
            # It moved to just that version after it was read here.
            state = session_state(folder, session_id)
            folder.history.check(session_id, version)
        except OutdatedError as error:
            raise stale(error) from error
    return state


def considered(
    folder: DataFolder, session_id: str, name: str, version: int, args: Mapping[str, Any]
) -> tuple[SessionState, Change]:
    """What a decision would change, with everything that goes along; nothing is kept. Raises as `decide`."""
    if name not in DECISIONS:
        raise NotFoundError(f"There is no action “{name}”.")
    given = _checked(name, args)
    state = state_at(folder, session_id, version)
    within_reach(state, given)
    try:
        change = _decided(state, name, given)
        for goes_along in ALONG:
            change = goes_along(state, change)
    except MapConflictError as error:
        error.offers = ways_out(state, error) if error.offers is None else error.offers
        raise error.told(words.clock) from error
    return state, change


def _decided(state: SessionState, name: str, given: Any) -> Change:
    """What a decision changes: of the session's map, or of the own bars of the take that it names."""
    lead, of = state.document.lead, given.take if isinstance(given, BarsArgs) else None
    if of is None or (lead is not None and of == lead.id):
        return DECISIONS[name].run(state, given)
    args = given.model_dump(exclude={"take", "decision"}, exclude_unset=True)
    return in_take(state, InTakeArgs(take=of, name=name, args=args))


class InTakeArgs(Args):
    """name, args: a decision on the lead's bars, taken on those of a take with a pace of its own."""

    take: TakeId
    name: str = Field(max_length=40)
    args: dict[str, Any] = Field(default_factory=dict)


@decision("in-take", InTakeArgs)
def in_take(state: SessionState, args: InTakeArgs) -> Change:
    """Correct the own bars of a take as those of the lead are corrected; the session's map stays, and what
    follows by them moves at once.
    """
    if args.name not in IN_TAKE:
        raise ParameterError(
            f"“{args.name}” is about the session's map, not about a take's own bars. Nothing was changed."
        )
    entry = state.document.take(args.take)
    if entry.role == "lead":
        raise ParameterError(f"The map is read from {entry.name}: correct it as it is. Nothing was changed.")
    own, given = led_by(state, entry.id), _checked(args.name, args.args)
    within_reach(own, given)
    try:
        made = DECISIONS[args.name].run(own, given)
    except MapConflictError as error:
        back = [one for one in ways_out(own, error) if one["do"] == "take-back"]
        error.offers = [{**one, "args": {**one["args"], "take": entry.id}} for one in back]
        raise
    parts = {name: value for name, value in made.parts.items() if name == f"pace:{entry.id}"}
    if "map" in made.parts:
        said = [later(statement_from(one), -entry.offset_s) for one in made.parts["map"]["statements"]]
        parts[f"said:{entry.id}"] = forms.said_part(said) or None
    return Change(parts, f"{entry.name}: {made.note}", made.gesture)


# What corrects a take's own bars by the means that correct the lead's.
IN_TAKE = (
    "bar-1",
    "bar",
    "downbeat",
    "pull",
    "release",
    "lock",
    "meter",
    "scale",
    "one-beat",
    "odd-bar",
    "meter-range",
    "anchors",
    "pickup",
    "not-downbeat",
    "take-back",
)


def _where_they_were(
    takes: list[dict[str, Any]], staying: list[dict[str, Any]], order: list[str]
) -> list[dict[str, Any]]:
    """Takes with the arrivals that stay among them, each behind what it came in behind: the order in which
    files were dropped holds, whichever is heard first.
    """
    every = list(takes)
    for one in sorted(staying, key=lambda entry: order.index(entry["id"])):
        before = set(order[: order.index(one["id"])])
        at = max((k + 1 for k, entry in enumerate(every) if entry["id"] in before), default=0)
        every.insert(at, one)
    return every


def record(state: SessionState, version: int, change: Change) -> Revision:
    """Keep a change. Raises StaleError where another page was quicker: then nothing of it is kept."""
    folder, session_id, opened = state.folder, state.opened.row.id, state.opened
    changes = dict(change.parts)
    if "takes" in changes:
        there = {*change.dropped, *(entry["id"] for entry in changes["takes"])}
        staying = forms.takes_part(tuple(one for one in state.document.arrivals if one.id not in there))
        changes["takes"] = _where_they_were(
            changes["takes"], staying, [entry["id"] for entry in opened.revision.parts.get("takes", ())]
        )
    if opened.revision.format < FORMAT:
        # A document of an older form is written whole in the new one.
        changes = {**upgraded(opened.revision.parts, opened.revision.format), **changes}

    def beside(db: Session) -> list[str]:
        for take in change.takes:
            rows.add_take(db, session_id, take.name, take.source_sha, take.source_bytes, take.id, take.known)
        for job in change.jobs:
            rows.queue_job(db, session_id, job.kind, job.subject, json.dumps(dict(job.args), sort_keys=True))
        for file in change.files:
            rows.put_file(db, session_id, file.kind, file.key, file.name, file.sha, file.bytes)
        return [f"{MUTED}{take_id}" for take_id in _muted(db, session_id, change.muted, mute=True)]

    try:
        return folder.history.record(
            session_id, version, FORMAT, changes, change.note, change.gesture, beside, _needs(state, changes)
        )
    except OutdatedError as error:
        raise stale(error) from error


def _needs(state: SessionState, changes: Mapping[str, Any]) -> list[str] | None:
    """Keys of the renders that are right after a change; None where that cannot be said."""
    try:
        return [key for say in NEEDS for key in say(state, changes)]
    except CombPaceError:
        return None


# In a step's list of what it changed: a take that fell silent with it, and sounds again where it is undone.
MUTED = "mute:"


def _muted(db: Session, session_id: str, take_ids: Sequence[str], *, mute: bool) -> list[str]:
    """Mute takes in the levels that the session keeps, or let them sound. Returns those that were
    otherwise.
    """
    row = db.get(SessionRow, session_id)
    if row is None or not take_ids:
        return []
    kept = view_in(row.view)
    known = kept.get("mix")
    mix: dict[str, Any] = dict(known) if isinstance(known, dict) else {}
    changed = []
    for take_id in take_ids:
        strip = {"level": 0, "pan": 0, "mute": False, "solo": False} | dict(mix.get(take_id) or {})
        if strip["mute"] is not mute:
            mix[take_id] = {**strip, "mute": mute}
            changed.append(take_id)
    row.view = json.dumps({**kept, "mix": mix})
    return changed


def move(folder: DataFolder, session_id: str, version: int, *, forwards: bool) -> Revision:
    """One step back or forward in the history."""
    before = folder.open(session_id).revision

    def beside(db: Session, changed: list[str]) -> None:
        takes = [name.removeprefix(MUTED) for name in changed if name.startswith(MUTED)]
        _muted(db, session_id, takes, mute=forwards)

    try:
        revision = (folder.history.redo if forwards else folder.history.undo)(session_id, version, beside)
    except OutdatedError as error:
        raise stale(error) from error
    if revision is None:
        raise ParameterError("There is nothing to do again." if forwards else "There is nothing to undo.")
    return revision if forwards else replace(revision, note=f"Undone: {before.note}")


def begin(db: Session, session_id: str) -> None:
    """The first revision of a new session, in the transaction that makes its row."""
    begin_history(db, session_id, FORMAT, {"takes": forms.takes_part(())}, "A new session.")
