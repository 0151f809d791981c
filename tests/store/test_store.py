import multiprocessing
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from combpace.core.errors import StorageError
from combpace.store import history
from combpace.store.blobs import Blobs
from combpace.store.database import Database
from combpace.store.errors import MissingError, OutdatedError
from combpace.store.history import History
from combpace.store.models import SessionRow, now
from rig.waiting import until


def count_up(path: str, session_id: str, times: int) -> None:
    database = Database(Path(path))
    for _ in range(times):
        with database.writing() as db:
            row = db.get(SessionRow, session_id)
            assert row is not None
            row.version += 1
    database.close()


class StoreTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.database = Database(self.folder / "a.db")
        self.database.migrate()
        self.addCleanup(self.database.close)
        with self.database.writing() as db:
            row = SessionRow(name="Copper night")
            db.add(row)
            db.flush()
            self.id = row.id
        self.history = History(self.database)


class DatabaseTest(StoreTest):
    def test_migrating_twice_changes_nothing(self) -> None:
        self.database.migrate()
        with self.database.reading() as db:
            self.assertIsNotNone(db.get(SessionRow, self.id))

    def test_two_processes_lose_no_update(self) -> None:
        context = multiprocessing.get_context("spawn")
        workers = [
            context.Process(target=count_up, args=(str(self.database.path), self.id, 60)) for _ in range(2)
        ]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join()
        with self.database.reading() as db:
            self.assertEqual(db.get(SessionRow, self.id).version, 120)  # type: ignore[union-attr]

    def test_foreign_keys_hold(self) -> None:
        from sqlalchemy.exc import IntegrityError

        from combpace.store.models import TakeRow

        with self.assertRaises(IntegrityError), self.database.writing() as db:
            db.add(TakeRow(session_id="nobody", name="x", source_sha="0" * 64, source_bytes=1))


class HistoryTest(StoreTest):
    def setUp(self) -> None:
        super().setUp()
        self.history.begin(self.id, 1, {"takes": []}, "start")

    def record(self, **changes: object):  # type: ignore[no-untyped-def]
        return self.history.record(
            self.id, self.history.current(self.id).version, 1, changes, f"set {', '.join(changes)}"
        )

    def test_undo_and_redo_also_after_a_restart(self) -> None:
        self.record(map={"bpm": 97})
        self.record(map={"bpm": 98}, rule=[1])
        again = History(Database(self.database.path))
        now = again.undo(self.id, again.current(self.id).version)
        self.assertEqual(now.parts["map"], {"bpm": 97})  # type: ignore[union-attr]
        self.assertNotIn("rule", now.parts)  # type: ignore[union-attr]
        now = again.redo(self.id, now.version)  # type: ignore[union-attr]
        self.assertEqual((now.parts["map"], now.parts["rule"]), ({"bpm": 98}, [1]))  # type: ignore[union-attr]
        self.assertIsNone(again.redo(self.id, now.version))  # type: ignore[union-attr]

    def test_a_new_decision_after_undo_wins_over_the_old_branch(self) -> None:
        self.record(map=1)
        self.record(map=2)
        self.history.undo(self.id, self.history.current(self.id).version)
        now = self.record(map=3)
        self.assertFalse(now.can_redo)
        now = self.history.undo(self.id, now.version)
        self.assertEqual(self.history.redo(self.id, now.version).parts["map"], 3)  # type: ignore[union-attr]

    def test_a_stale_write_is_refused_and_says_what_was_touched(self) -> None:
        base = self.history.current(self.id).version
        self.record(map=1)
        with self.assertRaises(OutdatedError) as caught:
            self.history.record(self.id, base, 1, {"map": 2}, "late")
        self.assertEqual((caught.exception.changed, caught.exception.note), (("map",), "set map"))
        self.assertEqual(self.history.current(self.id).parts["map"], 1)

    def test_one_gesture_is_one_step(self) -> None:
        before = self.record(map=0)
        for value in (1, 2, 3):
            self.history.record(
                self.id, self.history.current(self.id).version, 1, {"map": value}, "nudge", "tempo"
            )
        now = self.history.undo(self.id, self.history.current(self.id).version)
        self.assertEqual(now.parts["map"], before.parts["map"])  # type: ignore[union-attr]

    def test_a_gesture_merges_for_one_second(self) -> None:
        for passed_s, steps in ((0.5, 1), (1.5, 2)):
            begun = self.record(rule=[passed_s])
            first = self.history.record(self.id, begun.version, 1, {"map": [passed_s, 1]}, "typed", "typing")
            with mock.patch.object(history, "now", lambda passed_s=passed_s: now() + passed_s):
                second = self.history.record(self.id, first.version, 1, {"map": 2}, "typed", "typing")
            back = self.history.undo(self.id, second.version)
            assert back is not None
            self.assertEqual(back.id == begun.id, steps == 1)
            self.assertEqual(back.id == first.id, steps == 2)

    def test_undo_and_redo_from_a_stale_page_move_nothing(self) -> None:
        stale = self.history.current(self.id).version
        self.record(map=1)
        for move in (self.history.undo, self.history.redo):
            with self.assertRaises(OutdatedError):
                move(self.id, stale)
        self.assertEqual(self.history.current(self.id).parts["map"], 1)

    def test_what_others_changed_since_is_named_in_full(self) -> None:
        stale = self.history.current(self.id).version
        self.record(map=1)
        self.record(rule=2)
        self.record(grooves=3, takes=[4])
        with self.assertRaises(OutdatedError) as caught:
            self.history.record(self.id, stale, 1, {"map": 5}, "late")
        self.assertEqual(caught.exception.changed, ("grooves", "map", "rule", "takes"))
        # A page that saw the first of them is told of the two it did not see.
        with self.assertRaises(OutdatedError) as caught:
            self.history.check(self.id, stale + 1)
        self.assertEqual(caught.exception.changed, ("grooves", "rule", "takes"))

    def test_a_state_of_another_session_is_not_this_ones(self) -> None:
        with self.database.writing() as db:
            other = SessionRow(name="Tin morning")
            db.add(other)
            db.flush()
            other_id = other.id
        self.history.begin(other_id, 1, {"takes": []}, "start")
        theirs = self.history.current(other_id).id
        self.assertEqual(self.history.revision(other_id, theirs).id, theirs)
        with self.assertRaises(MissingError):
            self.history.revision(self.id, theirs)

    def test_parts_are_kept_once(self) -> None:
        from sqlalchemy import func, select

        from combpace.store.models import PartRow

        for value in (1, 2, 1, 2, 1):
            self.record(map=value)
        with self.database.reading() as db:
            self.assertEqual(db.scalar(select(func.count()).select_from(PartRow)), 3)

    def test_what_is_not_there_says_so(self) -> None:
        with self.assertRaises(MissingError):
            self.history.current("nobody")


class BlobTest(StoreTest):
    def test_kept_by_content_and_swept_when_nobody_names_them(self) -> None:
        blobs = Blobs(self.folder / "blobs")
        shas = []
        for text in (b"one", b"two", b"one"):
            path = blobs.new_path()
            path.write_bytes(text)
            shas.append(blobs.adopt(path))
            self.assertFalse(path.exists())
        self.assertEqual(shas[0], shas[2])
        unfinished = blobs.new_path()
        unfinished.write_bytes(b"half")
        self.assertEqual(blobs.sweep([shas[0]]), 0)
        time.sleep(0.01)
        self.assertEqual(blobs.sweep([shas[0]], older_than_s=0), 1)
        blobs.clear_unfinished()
        self.assertFalse(unfinished.exists())
        self.assertEqual(blobs.path(shas[0]).read_bytes(), b"one")
        for bad in (shas[1], "../../etc/passwd", None, "x" * 64):
            with self.subTest(sha=bad), self.assertRaises(MissingError):
                blobs.path(bad)


class TurnsTest(unittest.TestCase):
    def test_whoever_waits_comes_before_whoever_comes_again(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            database = Database(Path(folder) / "combpace.db")
            database.migrate()
            order: list[str] = []
            waiting = threading.Event()

            def other() -> None:
                waiting.set()
                with database.writing():
                    order.append("other")

            with database.writing():
                thread = threading.Thread(target=other)
                thread.start()
                waiting.wait(5)
                until(lambda: database._turns._waiting, "the other one waits")
                order.append("first")
            # At once again: the other one was there before.
            with database.writing():
                order.append("again")
            thread.join()
            self.assertEqual(order, ["first", "other", "again"])
            # Who does not want to wait is told so, and the next one's turn is not lost.
            refused = self.assertRaises(StorageError)
            with database.writing(), refused, database.writing(patience_ms=0):
                self.fail("two write at a time")
            with database.writing(patience_ms=0):
                pass
            database.close()
