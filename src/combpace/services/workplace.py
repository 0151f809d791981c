"""One data folder and all that is kept in it: what every use case is given."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.beats.activations import Activations, activations_kept, kept_activations
from combpace.core.clocks import FloatArray, SessionTimes, TakeTimes, take_times
from combpace.core.errors import NotFoundError, ParameterError, StaleError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import Meter, bar_index
from combpace.media.decode import FileSource
from combpace.media.mapfiles import steady_document
from combpace.services import document as forms
from combpace.services.document import Document, MapChoice, OnsetEdits, TakeEntry
from combpace.settings import Settings
from combpace.store.blobs import Blobs
from combpace.store.database import Database
from combpace.store.errors import MissingError, OutdatedError
from combpace.store.history import History, Revision
from combpace.store.models import FileRow, SessionRow, TakeRow

EDIT_REACH_S = 0.005
PULSE = "pulse_"


@dataclass(frozen=True, slots=True)
class TakeAnalysis:
    """What an import heard in a take, as it was kept: immutable, belonging to one sound and one analysis version.

    activation  0-255 per hundredth of a second
    facts       JSON: steady tempo, verdict, confidences
    """

    onsets: Onsets
    pace: TempoMap[TakeTimes] | None
    activation: FloatArray
    facts: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Opened:
    """A session as a page or an action sees it."""

    row: SessionRow
    revision: Revision
    document: Document


class _Once:
    """A value on its way."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.made = False
        self.value: Any = None


class Workplace:
    """Database, blobs and histories of one data folder."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        settings.data_dir.mkdir(parents=True, exist_ok=True)
        self.database = Database(settings.data_dir / "combpace.db")
        self.blobs = Blobs(settings.data_dir / "blobs")
        self.history = History(self.database)
        self._analyses: OrderedDict[str, TakeAnalysis] = OrderedDict()
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[object, ...], _Once] = OrderedDict()

    def once(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """A value that a key names completely; the last few are kept. Two that ask at once wait for one making."""
        with self._lock:
            if key not in self._known:
                self._known[key] = _Once()
            self._known.move_to_end(key)
            while len(self._known) > 64:
                self._known.popitem(last=False)
            one = self._known[key]
        with one.lock:
            if not one.made:
                one.value, one.made = make(), True
            return one.value

    def prepare(self) -> None:
        """Migrate, and remove files that no row names."""
        self.database.migrate()
        self.blobs.sweep(self._referenced())

    def close(self) -> None:
        self.database.close()

    def _referenced(self) -> set[str]:
        with self.database.reading() as db:
            takes = db.execute(select(TakeRow.source_sha, TakeRow.decoded_sha, TakeRow.peaks_sha, TakeRow.analysis_sha)).all()
            files = db.scalars(select(FileRow.sha)).all()
        return {sha for row in takes for sha in row if sha} | set(files)

    # -- sessions

    def open(self, session_id: str) -> Opened:
        """The session's newest state. Raises NotFoundError, or NewerFormatError."""
        try:
            with self.database.reading() as db:
                row = db.get(SessionRow, session_id)
            if row is None:
                raise MissingError(session_id)
            revision = self.history.current(session_id)
        except MissingError as error:
            raise NotFoundError("This session does not exist, or no longer. The shelf shows those that do.") from error
        return Opened(row, revision, forms.read(revision.parts, revision.format))

    def decide(self, opened: Opened, base_version: int, changes: Mapping[str, Any], note: str, gesture: str | None = None) -> Revision:
        """Record a decision. Raises StaleError where another page was quicker."""
        try:
            # A document of an older form is written whole in the new one.
            if opened.revision.format < forms.FORMAT:
                changes = {**forms.upgraded(opened.revision.parts, opened.revision.format), **changes}
            return self.history.record(opened.row.id, base_version, forms.FORMAT, changes, note, gesture)
        except OutdatedError as error:
            raise stale(error) from error

    def mute(self, session_id: str, take_ids: list[str]) -> None:
        """Mute takes in the levels that the session keeps."""
        with self.database.writing() as db:
            row = db.get(SessionRow, session_id)
            if row is None:
                return
            kept = json.loads(row.view)
            for take_id in take_ids:
                strip = kept.setdefault("mix", {}).setdefault(take_id, {"level": 0, "pan": 0, "mute": False, "solo": False})
                strip["mute"] = True
            row.view = json.dumps(kept)

    # -- takes

    def take_row(self, take_id: str) -> TakeRow:
        with self.database.reading() as db:
            row = db.get(TakeRow, take_id)
        if row is None:
            raise NotFoundError("This take does not exist, or no longer.")
        return row

    def take_rows(self, session_id: str) -> dict[str, TakeRow]:
        with self.database.reading() as db:
            return {row.id: row for row in db.scalars(select(TakeRow).where(TakeRow.session_id == session_id).order_by(TakeRow.created))}

    def source(self, row: TakeRow) -> FileSource:
        return FileSource(self.blob(row.decoded_sha))

    def blob(self, sha: str | None) -> Path:
        try:
            return self.blobs.path(sha)
        except MissingError as error:
            raise NotFoundError("This file is not there: it is still being made, or its data folder is incomplete.") from error

    def analysis(self, row: TakeRow) -> TakeAnalysis | None:
        """What was heard in a take, or None while it is being listened to."""
        sha = row.analysis_sha
        if sha is None:
            return None
        with self._lock:
            if sha in self._analyses:
                self._analyses.move_to_end(sha)
                return self._analyses[sha]
        loaded = read_analysis(self.blob(sha))
        with self._lock:
            self._analyses[sha] = loaded
            while len(self._analyses) > 64:
                self._analyses.popitem(last=False)
        return loaded

    def pulse(self, row: TakeRow) -> Activations | None:
        """What was heard of a take's pulse, for reading it again; None where it is not kept."""
        return read_pulse(self.blob(row.analysis_sha)) if row.analysis_sha else None


def stale(error: OutdatedError) -> StaleError:
    return StaleError(
        f"This session was changed in another page meanwhile: “{error.note}”. Your change was not made and nothing is lost; "
        "reload, or apply yours again.",
        newest=error.newest,
        parts=error.changed,
    )


def write_analysis(
    path: Path, onsets: Onsets, pace: TempoMap[TakeTimes] | None, activation: FloatArray, facts: Mapping[str, Any], pulse: Activations | None = None
) -> None:
    """Keep an analysis; `read_analysis` and `read_pulse` read it. No pickles: arrays and JSON only."""
    arrays: dict[str, Any] = {
        "times": np.asarray(onsets.times),
        "strength": onsets.strength,
        "confidence": onsets.confidence,
        "activation": np.round(np.clip(activation / 1.5, 0, 1) * 255).astype(np.uint8),
        "pace": np.frombuffer(json.dumps(forms.pace_part(pace) if pace else None).encode(), np.uint8),
        "facts": np.frombuffer(json.dumps(dict(facts)).encode(), np.uint8),
    }
    if pulse is not None:
        arrays |= {f"{PULSE}{name}": rows for name, rows in kept_activations(pulse).items()}
    with path.open("wb") as out:
        np.savez_compressed(out, **arrays)


def read_analysis(path: Path) -> TakeAnalysis:
    with np.load(path, allow_pickle=False) as data:
        pace = json.loads(data["pace"].tobytes())
        return TakeAnalysis(
            Onsets(take_times(data["times"]), data["strength"], data["confidence"]),
            forms.pace_from(pace) if pace else None,
            data["activation"].astype(np.float64) / 255.0,
            json.loads(data["facts"].tobytes()),
        )


def read_pulse(path: Path) -> Activations | None:
    """What was heard of the pulse; None where an earlier version listened, which kept none."""
    with np.load(path, allow_pickle=False) as data:
        kept = {name.removeprefix(PULSE): data[name] for name in data.files if name.startswith(PULSE)}
    return activations_kept(kept) if kept else None


# -- what the decisions and the analysis say together


@dataclass(frozen=True, slots=True)
class SessionState:
    """A session's takes with everything that is known and decided about them."""

    opened: Opened
    rows: Mapping[str, TakeRow]
    workplace: Workplace

    @property
    def document(self) -> Document:
        return self.opened.document

    @property
    def state(self) -> tuple[object, ...]:
        """Names everything this reading holds: the revision, and which takes have been heard."""
        heard = tuple((row.id, row.analysis_sha, row.decoded_sha) for row in self.rows.values())
        return (self.opened.row.id, self.opened.revision.version, heard)

    def analysis(self, take_id: str) -> TakeAnalysis | None:
        row = self.rows.get(take_id)
        return self.workplace.analysis(row) if row is not None else None

    def onsets(self, take_id: str) -> Onsets:
        """The marks of a take: detected, then edited by hand."""
        heard = self.analysis(take_id)
        none = Onsets(take_times([]), np.zeros(0), np.zeros(0))
        return edited(heard.onsets if heard else none, self.document.edits.get(take_id, OnsetEdits()))

    def struck(self, take_id: str) -> Onsets:
        """The marks of all mics that were played with a take, on its own clock: a pace is that of the bundle, not of one mic."""
        take = self.document.take(take_id)
        mics = self.document.bundle_of(take_id)
        each = [self.onsets(mic.id) for mic in mics]
        times = np.concatenate([np.asarray(found.times) + mic.offset_s - take.offset_s for mic, found in zip(mics, each, strict=True)])
        order = np.argsort(times, kind="stable")
        strength, confidence = (np.concatenate([getattr(found, name) for found in each])[order] for name in ("strength", "confidence"))
        return Onsets(take_times(times[order]), strength, confidence)

    def own_pace(self, take_id: str) -> TempoMap[TakeTimes] | None:
        """A take's own pace, after corrections; a take that shares the lead's reads it through both placements."""
        take = self.document.take(take_id)
        lead = self.document.lead
        if take.role != "lead" and take.pace == "lead" and lead is not None:
            pace = self.own_pace(lead.id)
            return pace.shifted(lead.offset_s - take.offset_s) if pace else None
        heard = self.analysis(take_id)
        pace = self.document.paces.get(take_id) or (heard.pace if heard else None)
        choice = self.document.map
        if pace is None and heard is not None and take.role == "lead" and choice.kind == "steady" and choice.bpm and choice.bar_1_s is not None:
            # Nothing was heard, but a tempo was stated: the lead is taken to follow it.
            return steady_map(choice.bpm, choice.bar_1_s - take.offset_s, (Meter(1, *choice.meter),), confidence=0.2)
        if pace is None or take.role == "lead" or take.first_bar == 1:
            return pace
        # Its own bar 1 lies on another bar of the session.
        session_map = self.session_map()
        line = session_map.bar_line(bar_index(take.first_bar)) if session_map else 0.0
        return replace(pace, knots=tuple(replace(knot, quarters=knot.quarters + line) for knot in pace.knots))

    def session_map(self) -> TempoMap[SessionTimes] | None:
        """The session's one map, or None while there is nothing to read it from."""
        choice, lead = self.map_choice(), self.document.lead
        if choice.kind == "steady" and choice.bpm is not None and choice.bar_1_s is not None:
            return steady_map(choice.bpm, choice.bar_1_s, (Meter(1, *choice.meter),))
        pace = self.own_pace(lead.id) if lead else None
        if pace is None or lead is None:
            return None
        return TempoMap(pace.shifted(lead.offset_s).knots, pace.meters)

    def map_choice(self) -> MapChoice:
        """The map in force: "auto" is settled by how the lead was heard to be played, unless its pace was corrected."""
        choice, lead = self.document.map, self.document.lead
        if choice.kind != "auto" or lead is None:
            return choice
        heard = self.analysis(lead.id)
        steady = heard.facts.get("steady") if heard and heard.pace and lead.id not in self.document.paces else None
        if heard is None or heard.pace is None or not steady or steady["verdict"] != "steady":
            return MapChoice("own")
        meter = heard.pace.meters[0]
        bpm = steady["bpm"] * meter.beat_quarters
        return MapChoice("steady", bpm, steady["first_downbeat_s"] + lead.offset_s, (meter.numerator, meter.denominator))

    def need_map(self) -> TempoMap[SessionTimes]:
        found = self.session_map()
        if found is None:
            raise ParameterError("There is no tempo map yet: drop a take with a pulse, or wait until it has been listened to. Nothing was changed.")
        return found

    def need_lead(self) -> TakeEntry:
        lead = self.document.lead
        if lead is None:
            raise ParameterError("There is no lead yet: drop a take first. Nothing was changed.")
        return lead

    def steady(self, take_id: str) -> Mapping[str, Any] | None:
        """How one tempo fits a take, as it was heard or, where its pace was corrected, as it is read now; None without a pulse."""
        heard, corrected = self.analysis(take_id), self.document.paces.get(take_id)
        if heard is None or corrected is None:
            found: Mapping[str, Any] | None = heard.facts.get("steady") if heard else None
            return found
        return steady_document(steady_tempo(corrected, self.struck(take_id), self.duration_s(take_id)))

    def duration_s(self, take_id: str) -> float:
        row = self.rows.get(take_id)
        return (row.frames or 0) / row.sample_rate_hz if row is not None and row.sample_rate_hz else 0.0

    def end_s(self) -> float:
        """Session time at which the last take ends."""
        return max((take.offset_s + self.duration_s(take.id) for take in self.document.takes), default=0.0)


def session_state(workplace: Workplace, session_id: str) -> SessionState:
    """Everything about a session in its newest state."""
    opened = workplace.open(session_id)
    rows = workplace.take_rows(session_id)
    return SessionState(replace(opened, document=_led(opened.document, rows)), rows, workplace)


def _led(document: Document, rows: Mapping[str, TakeRow]) -> Document:
    """A lead that could not be read gives its role to the first take that can."""
    lead = document.lead
    row = rows.get(lead.id) if lead else None
    if lead is None or row is None or row.state != "failed":
        return document
    following = next((take.id for take in document.takes if take.id in rows and rows[take.id].state != "failed"), None)
    if following is None:
        return document
    takes = tuple(replace(take, role="lead" if take.id == following else "follower") for take in document.takes)
    return replace(document, takes=takes)


def edited(onsets: Onsets, edits: OnsetEdits) -> Onsets:
    """Detected onsets with hand edits on top; a hand-made mark is as strong as a typical one, and certain."""
    times, strength, sure = np.asarray(onsets.times).copy(), onsets.strength.copy(), onsets.confidence.copy()
    keep = strength >= edits.threshold
    for time in edits.removed:
        keep &= np.abs(times - time) > EDIT_REACH_S
    for old, new in edits.moved:
        near = np.abs(times - old) <= EDIT_REACH_S
        times[near], sure[near] = new, 1.0
        keep |= near
    for time in edits.locked:
        near = np.abs(times - time) <= EDIT_REACH_S
        sure[near] = 1.0
        keep |= near
    times, strength, sure = times[keep], strength[keep], sure[keep]
    added = np.array([time for time in edits.added if not len(times) or np.min(np.abs(times - time)) > EDIT_REACH_S])
    if len(added):
        typical = float(np.median(strength)) if len(strength) else 0.5
        times = np.concatenate([times, added])
        strength = np.concatenate([strength, np.full(len(added), typical)])
        sure = np.concatenate([sure, np.ones(len(added))])
    order = np.argsort(times, kind="stable")
    return Onsets(take_times(times[order]), strength[order], sure[order])
