"""One data folder and all that is kept in it: what every use case is given."""

from __future__ import annotations

import json
import logging
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from zipfile import BadZipFile

from combpace.core.beats.activations import Activations
from combpace.core.errors import CombPaceError, DamagedError, MediaError, NotFoundError, StaleError
from combpace.media.decode import FileSource
from combpace.session.analysis_store import (
    TakeAnalysis,
    has_activations,
    read_activations,
    read_analysis,
)
from combpace.session.document import bounds
from combpace.session.document import parts as forms
from combpace.session.document.model import Document, NewerFormatError
from combpace.settings import Settings
from combpace.store import rows
from combpace.store.blobs import Blobs
from combpace.store.database import Database
from combpace.store.errors import MissingError, OutdatedError
from combpace.store.history import History, Revision
from combpace.store.models import SessionRow, TakeRow

NO_SESSION = "This session does not exist, or no longer. The shelf shows those that do."
DAMAGED = (
    "A file in the data folder was changed or damaged: its hash is another. Nothing was written; listen to "
    "its take again."
)
# Held by whoever works on a data folder.
LOCK = "lock"
# Where the server that works on a data folder answers.
ADDRESS = "address"
# Values by content and analyses that are kept in memory, and states of sessions with what follows from them.
MOST_KEPT, MOST_STATES, MOST_SOLVED = 64, 6, 12


@dataclass(frozen=True, slots=True)
class Opened:
    """A session as a page or a decision sees it."""

    row: SessionRow
    revision: Revision
    document: Document


LOG = logging.getLogger("combpace")


class _Value:
    """A value on its way."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.made = False
        self.value: Any = None


class Once:
    """Values that are made once, by keys that name them completely.

    most  so many are kept, those asked for last; None: all
    """

    def __init__(self, most: int | None = None) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._values: OrderedDict[tuple[object, ...], _Value] = OrderedDict()

    def once(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """The value of a key. Two that ask at once wait for one making."""
        with self._lock:
            if key not in self._values:
                self._values[key] = _Value()
            if self._most is not None:
                self._values.move_to_end(key)
                while len(self._values) > self._most:
                    self._values.popitem(last=False)
            one = self._values[key]
        with one.lock:
            if not one.made:
                one.value, one.made = make(), True
            return one.value


def view_in(text: str) -> dict[str, Any]:
    """The view that a session keeps: levels, loop and choices of the page. What is none is empty."""
    try:
        kept = json.loads(text)
    except ValueError:
        return {}
    return kept if isinstance(kept, dict) else {}


def muted_in(text: str) -> list[str]:
    """Ids of the takes and parts that are muted in a view as it is kept."""
    mix = view_in(text).get("mix")
    strips = mix.items() if isinstance(mix, dict) else ()
    return sorted(str(name) for name, one in strips if isinstance(one, dict) and one.get("mute") is True)


class DataFolder:
    """Database, blobs and histories of one data folder."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        settings.data_dir.mkdir(parents=True, exist_ok=True)
        self.database = Database(settings.data_dir / "combpace.db")
        self.blobs = Blobs(settings.data_dir / "blobs")
        self.history = History(self.database)
        # The job that works here, where this is a worker's.
        self.job: str | None = None
        self._lock = threading.Lock()
        self._known, self._trials, self._solved = Once(MOST_KEPT), Once(MOST_STATES), Once(MOST_SOLVED)
        # What follows from a state of a session is kept with it: with many takes that is much, and what of it
        # is shown is shown together.
        self._states: OrderedDict[tuple[object, ...], Once] = OrderedDict()
        self._tried: OrderedDict[tuple[object, ...], Once] = OrderedDict()
        self._analyses: OrderedDict[str, TakeAnalysis] = OrderedDict()
        # Blobs that are there but cannot be read, with size and date: made anew they are others.
        self._damaged: dict[str, tuple[str, int, int]] = {}
        # Sessions whose numbers were looked at.
        self._believed: set[str] = set()
        # How often that changed: what was derived while a blob could not be read is not what it is when it
        # can.
        self.worn = 0

    def once(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """A value that a key names completely; the last few are kept. Two that ask at once wait for one
        making.
        """
        return self._known.once(key, make)

    def tried(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """As `once`, for what is only tried: a few are kept, apart from what lasts."""
        return self._trials.once(key, make)

    def solution(self, key: tuple[object, ...], make: Callable[[], Any]) -> Any:
        """As `once`, for maps that were solved for: of two hours each is megabytes."""
        return self._solved.once(key, make)

    def of_state(self, key: tuple[object, ...], *, tried: bool = False) -> Once:
        """All that was derived from a state of a session; a few states are kept, and as many that are only
        tried, so that those never take the place of what is shown.
        """
        states = self._tried if tried else self._states
        with self._lock:
            if key not in states:
                states[key] = Once()
            states.move_to_end(key)
            while len(states) > MOST_STATES:
                states.popitem(last=False)
            return states[key]

    def prepare(self) -> None:
        """Migrate, and remove files that no row names. Only while nobody else works on the folder."""
        self.database.migrate()
        self.blobs.clear_unfinished()
        named = rows.blobs_of_takes_and_files(self.database)
        self.blobs.sweep(named | rows.forget_heard(self.database, named))

    def close(self) -> None:
        self.database.close()

    def open(self, session_id: str, revision_id: int | None = None) -> Opened:
        """A session's newest state, or one that it had. Raises NotFoundError, or NewerFormatError."""
        try:
            row = rows.session_row(self.database, session_id)
            revision = (
                self.history.current(session_id)
                if revision_id is None
                else self.history.revision(session_id, revision_id)
            )
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error
        # A revision never changes.
        document: Document = self.once(
            ("document", session_id, revision.id), lambda: self._document(row, revision)
        )
        return Opened(row, revision, document)

    def _document(self, row: SessionRow, revision: Revision) -> Document:
        """What a revision holds. Raises DamagedError, NewerFormatError."""
        try:
            document = forms.read(revision.parts, revision.format)
            if row.id not in self._believed:
                # What came in before numbers were looked at may have some that no decision makes.
                bounds.check_numbers(document, {})
                self._believed.add(row.id)
            return document
        except NewerFormatError:
            raise
        except (CombPaceError, KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
            LOG.warning("session %s cannot be read: %s", row.id, error)
            raise DamagedError(
                f"“{row.name}” cannot be read: what was kept of it is damaged. It is unchanged, and no other "
                "session is touched. It can be exported or removed on the shelf."
            ) from error

    def session_row(self, session_id: str) -> SessionRow:
        """What is kept of a session beside its history, also where that cannot be read. Raises
        NotFoundError.
        """
        try:
            return rows.session_row(self.database, session_id)
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error

    def change_session(self, session_id: str, **values: Any) -> None:
        """Set what is kept of a session beside its history. Raises NotFoundError."""
        try:
            rows.change_session(self.database, session_id, **values)
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error

    def change_view(self, session_id: str, change: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        """Read and write the view of a session in one transaction, so that of two changes none is lost.
        Raises NotFoundError.
        """
        try:
            rows.change_view(self.database, session_id, lambda text: json.dumps(change(view_in(text))))
        except MissingError as error:
            raise NotFoundError(NO_SESSION) from error

    # -- takes

    def take_row(self, take_id: str) -> TakeRow:
        try:
            return self._checked(rows.take_row(self.database, take_id))
        except MissingError as error:
            raise NotFoundError("This take does not exist, or no longer.") from error

    def take_rows(self, session_id: str) -> dict[str, TakeRow]:
        return {
            take_id: self._checked(row) for take_id, row in rows.take_rows(self.database, session_id).items()
        }

    def _checked(self, row: TakeRow) -> TakeRow:
        """A take whose sound or analysis is gone or damaged is one that could not be read, as far as anybody
        is told.
        """
        if row.state not in ("ready", "listening"):
            return row
        gone = [
            what
            for what, sha in (("sound", row.decoded_sha), ("analysis", row.analysis_sha))
            if sha and not self.seems_whole(sha)
        ]
        if gone:
            row.state, row.analysis_sha = "failed", None
            row.error = (
                f"Its {' and '.join(gone)} in the data folder {'are' if len(gone) > 1 else 'is'} "
                "missing or damaged. Listen again makes it anew."
            )
        return row

    def seems_whole(self, sha: str) -> bool:
        """Whether a blob is there, and was not found damaged so far."""
        if not self.blobs.has(sha):
            return False
        if sha in self._damaged and self._damaged[sha] != self.blobs.mark(sha):
            with self._lock:
                # Made anew.
                self._damaged.pop(sha, None)
                self.worn += 1
        return sha not in self._damaged

    def is_whole(self, sha: str) -> bool:
        """Whether a blob is there with the bytes that it is named by, looked at once for each date of it."""
        if not self.seems_whole(sha):
            return False
        if self.blobs.is_whole(sha):
            return True
        self._set_damaged(sha)
        return False

    def checked_blob(self, sha: str | None, damaged: str = DAMAGED) -> Path:
        """A blob whose bytes are what they were. Raises NotFoundError, MediaError with the sentence
        `damaged`.
        """
        path = self.blob(sha)
        if not self.is_whole(sha or ""):
            raise MediaError(damaged)
        return path

    def _set_damaged(self, sha: str) -> None:
        if self.blobs.has(sha):
            with self._lock:
                self._damaged[sha] = self.blobs.mark(sha)
                self.worn += 1

    def source(self, row: TakeRow) -> FileSource:
        return FileSource(self.blob(row.decoded_sha))

    def blob(self, sha: str | None) -> Path:
        try:
            return self.blobs.path(sha)
        except MissingError as error:
            raise NotFoundError(
                "This file is not there: it is still being made, or its data folder is incomplete."
            ) from error

    def analysis(self, row: TakeRow) -> TakeAnalysis | None:
        """What was heard in a take, or None while it is being listened to."""
        sha = row.analysis_sha
        if sha is None:
            return None
        with self._lock:
            if sha in self._analyses:
                self._analyses.move_to_end(sha)
                return self._analyses[sha]
        try:
            loaded = read_analysis(self.blob(sha))
        except (ValueError, KeyError, OSError, TypeError, EOFError, BadZipFile, CombPaceError) as error:
            # One damaged file closes no session: its take is named, and can be listened to again.
            LOG.warning("what was heard in %s cannot be read: %s", row.name, error)
            self._set_damaged(sha)
            return None
        with self._lock:
            self._analyses[sha] = loaded
            while len(self._analyses) > MOST_KEPT:
                self._analyses.popitem(last=False)
        return loaded

    def keeps_pulse(self, row: TakeRow) -> bool:
        """Whether what the networks heard of a take's pulse is kept."""
        if not row.analysis_sha:
            return False
        return bool(
            self.once(("pulse", row.analysis_sha), lambda: has_activations(self.blob(row.analysis_sha)))
        )

    def activations(self, row: TakeRow) -> Activations | None:
        """What the networks heard of a take's pulse, for reading it again; None where it is not kept."""
        return read_activations(self.blob(row.analysis_sha)) if row.analysis_sha else None


def stale(error: OutdatedError) -> StaleError:
    """Another page was quicker."""
    return StaleError(
        f"This session was changed in another page meanwhile: “{error.note}”. Your change was not "
        "made and nothing is lost; "
        "reload, or apply yours again.",
        newest=error.newest,
        parts=error.changed,
    )
