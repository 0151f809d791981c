"""SQLite: one engine, writers that begin at once, migrations at start."""

from __future__ import annotations

import sqlite3
import threading
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, event
from sqlalchemy.engine import Engine
from sqlalchemy.exc import DatabaseError
from sqlalchemy.orm import Session, sessionmaker

from combpace.store.trouble import storage_error

# So long a writer waits for another to end: longer would hold up whoever asked.
BUSY_MS = 8000
_MIGRATIONS = Path(__file__).with_name("migrations")
_MIGRATING = threading.Lock()


class Database:
    """The database of one data folder.

    `reading()` gives a snapshot, `writing()` a transaction that holds the write lock from its start, so that
    nothing read in it can change before it is written. Keep both short: no computation inside.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.engine: Engine = create_engine(
            f"sqlite:///{path}", connect_args={"timeout": BUSY_MS / 1000, "check_same_thread": False}
        )
        event.listen(self.engine, "connect", _on_connect)
        event.listen(self.engine, "begin", _on_begin)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)
        self._turns = _Turns()

    def migrate(self) -> None:
        """Bring the tables to the newest form; safe to call by several starts at once."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        config = Config()
        config.set_main_option("script_location", str(_MIGRATIONS))
        with _MIGRATING, self._said(), self.engine.connect() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    @contextmanager
    def reading(self) -> Iterator[Session]:
        with self._said(), self._sessions() as session:
            yield session

    @contextmanager
    def writing(self, patience_ms: int = BUSY_MS) -> Iterator[Session]:
        """patience_ms: so long it waits for another writer to end. Raises StorageError."""
        if not self._turns.acquire(patience_ms / 1000):
            locked = sqlite3.OperationalError("database is locked")
            raise storage_error(locked, self.path.parent) or locked
        try:
            with self._said(), self._sessions() as session:
                session.connection(
                    execution_options={"combpace_writer": True, "combpace_patience": patience_ms}
                )
                yield session
                session.commit()
        finally:
            self._turns.release()

    @contextmanager
    def _said(self) -> Iterator[None]:
        """A disk that is full, a database that is locked: StorageError, and nothing of the transaction is
        kept.
        """
        try:
            yield
        except DatabaseError as error:
            raise (storage_error(error, self.path.parent) or error) from error

    def close(self) -> None:
        self.engine.dispose()


class _Turns:
    """Who writes in this process, one after the other in the order in which they came.

    SQLite lets a writer that comes again at once in before one that waits: whoever writes in many steps would
    hold up all others until the last of them.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held = False
        self._waiting: deque[threading.Event] = deque()

    def acquire(self, timeout_s: float) -> bool:
        """Whether it is one's turn, within a time."""
        with self._lock:
            if not self._held:
                self._held = True
                return True
            mine = threading.Event()
            self._waiting.append(mine)
        if mine.wait(timeout_s):
            return True
        with self._lock:
            if mine.is_set():
                # It was handed over in that very moment.
                return True
            self._waiting.remove(mine)
            return False

    def release(self) -> None:
        """The next one's turn."""
        with self._lock:
            if self._waiting:
                self._waiting.popleft().set()
            else:
                self._held = False


class Changes:
    """Whether anything in a database moved, by whatever connection or process: one number, asked for almost
    nothing (PRAGMA data_version, documentation of SQLite).
    """

    def __init__(self, database: Database) -> None:
        self._folder = database.path.parent
        self._connection = sqlite3.connect(
            database.path, timeout=BUSY_MS / 1000, check_same_thread=False, isolation_level=None
        )

    def mark(self) -> int:
        """Another number than before where something was written in between. Raises StorageError."""
        try:
            return int(self._connection.execute("PRAGMA data_version").fetchone()[0])
        except sqlite3.DatabaseError as error:
            raise (storage_error(error, self._folder) or error) from error

    def close(self) -> None:
        self._connection.close()


def _on_connect(connection: Any, _: Any) -> None:
    # The driver's own transactions begin too late for a writer: it is told to leave them to us.
    connection.isolation_level = None
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=NORMAL")
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute(f"PRAGMA busy_timeout={BUSY_MS}")
    cursor.close()


def _on_begin(connection: Any) -> None:
    options = connection.get_execution_options()
    connection.exec_driver_sql(f"PRAGMA busy_timeout={options.get('combpace_patience', BUSY_MS)}")
    connection.exec_driver_sql("BEGIN IMMEDIATE" if options.get("combpace_writer") else "BEGIN")
