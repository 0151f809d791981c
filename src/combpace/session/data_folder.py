"""One data folder and all that is kept in it: what every use case is given."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from combpace.core.beats.activations import Activations
from combpace.core.errors import NotFoundError, StaleError
from combpace.media.decode import FileSource
from combpace.session.analysis_store import TakeAnalysis, read_activations, read_analysis
from combpace.session.document import parts as forms
from combpace.session.document.model import Document
from combpace.settings import Settings
from combpace.store import rows
from combpace.store.blobs import Blobs
from combpace.store.database import Database
from combpace.store.errors import MissingError, OutdatedError
from combpace.store.history import History, Revision
from combpace.store.models import SessionRow, TakeRow

NO_SESSION = "This session does not exist, or no longer. The shelf shows those that do."
# Derived values and analyses that are kept in memory.
MOST_KEPT = 64


@dataclass(frozen=True, slots=True)
class Opened:
    """A session as a page or a decision sees it."""

    row: SessionRow
    revision: Revision
    document: Document


class _Once:
    """A value on its way."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.made = False
        self.value: Any = None


class DataFolder:
    """Database, blobs and histories of one data folder."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        settings.data_dir.mkdir(parents=True, exist_ok=True)
        self.database = Database(settings.data_dir / "combpace.db")
        self.blobs = Blobs(settings.data_dir / "blobs")
        self.history = History(self.database)
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[object, ...], _Once] = OrderedDict()
        self._analyses: OrderedDict[str, TakeAnalysis] = OrderedDict()

    def once(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """A value that a key names completely; the last few are kept. Two that ask at once wait for one making."""
        with self._lock:
            if key not in self._known:
                self._known[key] = _Once()
            self._known.move_to_end(key)
            while len(self._known) > MOST_KEPT:
                self._known.popitem(last=False)
            one = self._known[key]
        with one.lock:
            if not one.made:
                one.value, one.made = make(), True
            return one.value

    def prepare(self) -> None:
        """Migrate, and remove files that no row names."""
        self.database.migrate()
        self.blobs.sweep(rows.blobs_of_takes_and_files(self.database))

    def close(self) -> None:
        self.database.close()

    def open(self, session_id: str, revision_id: int | None = None) -> Opened:
        """A session's newest state, or one that it had. Raises NotFoundError, or NewerFormatError."""
        try:
            row = rows.session_row(self.database, session_id)
            revision = self.history.current(session_id) if revision_id is None else self.history.revision(session_id, revision_id)
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error
        return Opened(row, revision, forms.read(revision.parts, revision.format))

    def change_session(self, session_id: str, **values: Any) -> None:
        """Set what is kept of a session beside its history. Raises NotFoundError."""
        try:
            rows.change_session(self.database, session_id, **values)
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error

    # -- takes

    def take_row(self, take_id: str) -> TakeRow:
        try:
            return rows.take_row(self.database, take_id)
        except MissingError as error:
            raise NotFoundError("This take does not exist, or no longer.") from error

    def take_rows(self, session_id: str) -> dict[str, TakeRow]:
        return rows.take_rows(self.database, session_id)

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
            while len(self._analyses) > MOST_KEPT:
                self._analyses.popitem(last=False)
        return loaded

    def activations(self, row: TakeRow) -> Activations | None:
        """What the networks heard of a take's pulse, for reading it again; None where it is not kept."""
        return read_activations(self.blob(row.analysis_sha)) if row.analysis_sha else None


def stale(error: OutdatedError) -> StaleError:
    """Another page was quicker."""
    return StaleError(
        f"This session was changed in another page meanwhile: “{error.note}”. Your change was not made and nothing is lost; "
        "reload, or apply yours again.",
        newest=error.newest,
        parts=error.changed,
    )
