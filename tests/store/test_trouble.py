"""What SQLite and the operating system say on a full disk, a locked or damaged database, and a clock that
goes back.
"""

import errno
import sqlite3
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import event

from combpace.core.errors import StorageError
from combpace.store import database as module
from combpace.store import history, rows
from combpace.store.database import Database
from combpace.store.history import History
from combpace.store.models import SessionRow, now
from combpace.store.trouble import storage_error


class TroubleTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.database = Database(self.folder / "a.db")
        self.addCleanup(self.database.close)
        self.database.migrate()

    def session(self, name: str = "x") -> str:
        with self.database.writing() as db:
            made = rows.add_session(db, name)
            history.begin(db, made, 5, {"takes": []}, "A new session.")
        return made

    def test_a_full_database_keeps_all_of_a_change_or_nothing(self) -> None:
        kept = self.session()

        def bounded(connection: Any, _: Any) -> None:
            # SQLite's own limit gives the error of a full disk
            # (sqlite.org/pragma.html#pragma_max_page_count).
            connection.execute("PRAGMA max_page_count=1")

        self.database.engine.dispose()
        event.listen(self.database.engine, "connect", bounded)
        with self.assertRaises(StorageError) as caught:
            History(self.database).record(kept, 1, 5, {"takes": ["y" * 500_000]}, "Much.")
        self.assertTrue(caught.exception.full)
        self.assertIn(str(self.folder), str(caught.exception))
        self.assertIn("Nothing was changed", str(caught.exception))
        event.remove(self.database.engine, "connect", bounded)
        self.database.engine.dispose()
        found = History(self.database).current(kept)
        self.assertEqual((found.version, dict(found.parts)), (1, {"takes": []}))

    def test_a_locked_database_is_a_sentence_and_reading_goes_on(self) -> None:
        self.session()
        with mock.patch.object(module, "BUSY_MS", 100):
            short = Database(self.folder / "a.db")
        self.addCleanup(short.close)
        other = sqlite3.connect(self.folder / "a.db", isolation_level=None)
        self.addCleanup(other.close)
        with mock.patch.object(module, "BUSY_MS", 100):
            other.execute("BEGIN IMMEDIATE")
            with self.assertRaises(StorageError) as caught, short.writing() as db:
                rows.add_session(db, "y")
            self.assertFalse(caught.exception.full)
            self.assertIn("locked", str(caught.exception))
            self.assertEqual(len(rows.shelf_rows(short)), 1)
            other.execute("ROLLBACK")
            with short.writing() as db:
                rows.add_session(db, "y")

    def test_no_database_at_all(self) -> None:
        (self.folder / "b.db").write_bytes(b"this is no database " * 200)
        other = Database(self.folder / "b.db")
        self.addCleanup(other.close)
        with self.assertRaisesRegex(StorageError, "damaged.*put back a copy"):
            other.migrate()

    def test_errors_of_the_system(self) -> None:
        for number, part in (
            (errno.ENOSPC, "full"),
            (errno.EDQUOT, "full"),
            (errno.EROFS, "cannot be written"),
            (errno.EIO, "does not answer"),
        ):
            said = storage_error(OSError(number, "x"), self.folder)
            with self.subTest(number=number):
                assert said is not None
                self.assertIn(part, str(said))
                self.assertIn(str(self.folder), str(said))
                self.assertEqual(said.full, part == "full")
        self.assertIsNone(storage_error(OSError(errno.ENOENT, "no such file"), self.folder))
        self.assertIsNone(storage_error(ValueError("x"), self.folder))

    def test_a_clock_set_back_merges_no_edits_and_hides_no_job(self) -> None:
        made, steps = self.session(), History(self.database)
        real = now()
        with mock.patch.object(history, "now", lambda: real):
            first = steps.record(made, 1, 5, {"a": 1}, "one", "gesture")
        with (
            mock.patch.object(history, "now", lambda: real - 3600),
            mock.patch("combpace.store.models.now", lambda: real - 3600),
        ):
            second = steps.record(made, first.version, 5, {"a": 2}, "two", "gesture")
        back = steps.undo(made, second.version)
        assert back is not None
        self.assertEqual(back.parts["a"], 1)
        with self.database.writing() as db:
            job = rows.queue_job(db, made, "render", "x", "{}")
        since = rows.jobs_changed(self.database, made, 0.0)[-1].changed
        with mock.patch.object(rows, "now", lambda: real - 3600):
            rows.finish_job(self.database, job, "done", None, "{}")
        self.assertEqual([row.state for row in rows.jobs_changed(self.database, made, since)], ["done"])

    def test_sessions_without_a_first_step_are_found(self) -> None:
        with self.database.writing() as db:
            orphan = rows.add_session(db, "cut off")
        self.session()
        self.assertEqual(rows.without_history(self.database), [orphan])
        with self.database.reading() as db:
            self.assertEqual(db.get(SessionRow, orphan).name, "cut off")  # type: ignore[union-attr]
