"""One look at the database wakes every event stream, and nobody looks while there is none."""

import asyncio
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from combpace.store.database import Changes, Database
from combpace.web.api.watching import Watcher


class WatcherTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.database = Database(Path(folder.name, "combpace.db"))
        self.database.migrate()
        self.addCleanup(self.database.close)

    def write(self) -> None:
        from combpace.store.models import SessionRow

        with self.database.writing() as db:
            db.add(SessionRow(id="0" * 16, name="Copper night"))

    def test_all_are_woken_by_one_look_and_it_ends_with_the_last(self) -> None:
        looks = 0
        mark = Changes.mark

        def counted(changes: Changes) -> int:
            nonlocal looks
            looks += 1
            return mark(changes)

        async def streams() -> None:
            watcher = Watcher(self.database, lambda: None, lambda: False)
            bells = [watcher.join() for _ in range(50)]
            await asyncio.gather(*(bell.wait() for bell in bells))
            for bell in bells:
                bell.clear()
            before = looks
            await asyncio.to_thread(self.write)
            await asyncio.wait_for(asyncio.gather(*(bell.wait() for bell in bells)), 10)
            self.assertLess(looks - before, 50, "one look for all of them")
            for bell in bells:
                watcher.leave(bell)
            assert watcher._looking is not None
            await asyncio.wait_for(watcher._looking, 10)

        with mock.patch.object(Changes, "mark", counted):
            asyncio.run(streams())

    def test_the_mark_moves_with_a_write_and_else_not(self) -> None:
        changes = Changes(self.database)
        self.addCleanup(changes.close)
        first = changes.mark()
        self.assertEqual(changes.mark(), first)
        self.write()
        self.assertNotEqual(changes.mark(), first)


if __name__ == "__main__":
    unittest.main()
