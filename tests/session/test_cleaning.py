"""What was removed is freed, and nothing that a session, its history or a job needs."""

from __future__ import annotations

import io
import json
import os
import random

import numpy as np

from combpace.core.errors import CombPaceError
from combpace.session import archive, cleaning, fits, renders, shelf
from combpace.session.state import session_state
from combpace.stations.fit import rendering
from combpace.stations.handoff.ordering import Wish, order
from combpace.stations.handoff.station import orders_of
from combpace.stations.handoff.write import write_handoff
from combpace.store import cleaning as rows_cleaning
from combpace.store import rows
from combpace.store.models import FileRow, JobRow, SessionRow
from rig.places import PlaceTest, bring_in
from rig.sounds import struck
from rig.tiers import soak

DAY_S = 86_400.0
WAYS = ("strength", "strength", "undo", "undo", "redo", "render", "name", "mark", "hand")


def quiet(phase: str, share: float) -> None:
    """No progress."""


class CleaningTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        loose = self.beats + np.random.default_rng(6).uniform(-0.02, 0.02, len(self.beats))
        self.take = bring_in(self.place, self.session, struck(loose, float(loose[-1]) + 1.0), "pipes.wav")

    def later(self, days: float) -> None:
        """So many days go by: what is kept is older then."""
        by = days * DAY_S
        with self.place.database.writing() as db:
            for session in db.query(SessionRow):
                session.removed = None if session.removed is None else session.removed - by
            for file in db.query(FileRow):
                file.created -= by
            for job in db.query(JobRow):
                job.state = "done" if job.state in rows.OPEN else job.state
        self.ages()

    def ages(self) -> None:
        for path in self.place.blobs.root.glob("??/*"):
            os.utime(path, (path.stat().st_atime, path.stat().st_mtime - 10 * DAY_S))

    def clean(self) -> cleaning.Freed:
        """Freed; what was said before is what was done, and what the disk has less."""
        said, before = cleaning.found(self.place), self.on_disk()
        freed = cleaning.clean(self.place, quiet)
        self.assertEqual(said, freed)
        self.assertEqual(before - self.on_disk(), freed.bytes)
        self.assertEqual(cleaning.found(self.place), cleaning.Freed(0, 0, 0, 0))
        return freed

    def on_disk(self) -> int:
        return sum(path.stat().st_size for path in self.place.blobs.root.glob("??/*"))

    def render(self) -> None:
        job = rendering.order_render(self.place, self.session, self.version, self.take).job
        row = rows.job_row(self.place.database, job)
        assert row is not None
        rendering.render_take(self.place, json.loads(row.args), quiet)
        with self.place.database.writing() as db:
            db.get(JobRow, job).state = "done"  # type: ignore[union-attr]

    def hand_off(self, kind: str = "wav16") -> None:
        job = order(self.place, self.session, Wish(takes=[self.lead], kind=kind))
        row = rows.job_row(self.place.database, job)
        assert row is not None
        write_handoff(self.place, json.loads(row.args), quiet)
        with self.place.database.writing() as db:
            db.get(JobRow, job).state = "done"  # type: ignore[union-attr]

    def test_a_session_that_was_removed_thirty_days_ago(self) -> None:
        other = shelf.create(self.place, "The next night")
        beats = np.arange(0.5, 12.0, 0.47)
        bring_in(self.place, other, struck(beats, 12.0), "own sound.wav")
        shelf.remove(self.place, other)
        self.later(29)
        self.assertEqual(self.clean().sessions, 0)
        shelf.restore(self.place, other)
        shelf.remove(self.place, other)
        self.later(31)
        freed = self.clean()
        self.assertEqual((freed.sessions, freed.hand_offs), (1, 0))
        self.assertGreater(freed.bytes, 1_000_000)
        with self.place.database.reading() as db:
            self.assertIsNone(db.get(SessionRow, other))
        # What the other session has is whole.
        out = io.BytesIO()
        archive.write_archive(self.place, self.session, out)
        self.assertEqual(len(session_state(self.place, self.session).document.takes), 2)

    def test_hand_offs_but_the_newest_three_and_what_is_younger_than_a_week(self) -> None:
        for _ in range(5):
            self.hand_off()
        self.assertEqual(self.clean().hand_offs, 0)
        self.later(8)
        freed = self.clean()
        self.assertEqual(freed.hand_offs, 2)
        self.assertEqual(len(orders_of(self.seen())), 3)

    def test_one_hand_off_is_removed_by_hand(self) -> None:
        self.hand_off("wav16")
        self.hand_off("wav24")
        self.ages()
        newest, older = orders_of(self.seen())
        before = self.on_disk()
        self.assertEqual(cleaning.remove_hand_off(self.place, self.session, older["id"]), len(older["files"]))
        self.assertEqual([one["id"] for one in orders_of(self.seen())], [newest["id"]])
        self.assertLess(self.on_disk(), before)
        for file in newest["files"]:
            row = rows.file_row(self.place.database, file["id"])
            self.assertTrue(self.place.is_whole(row.sha))

    def test_a_render_that_no_step_reaches_any_longer(self) -> None:
        self.act("rule", take=self.take, field="strength", value="90")
        self.render()
        key = fits.take_fit(self.seen(), self.take).key
        # Undone it can be done again: it stays.
        self.act("undo")
        self.later(9)
        self.assertEqual(self.clean().renders, 0)
        # Another way is taken: nothing leads back there.
        self.act("rule", take=self.take, field="strength", value="40")
        freed = self.clean()
        self.assertEqual(freed.renders, 1)
        self.assertIsNone(renders.render_of(self.place, self.session, key))
        self.assertGreater(freed.bytes, 100_000)

    def test_what_a_job_needs_and_what_pieces_are_cut_from_stays(self) -> None:
        self.act("rule", take=self.take, field="strength", value="90")
        self.render()
        self.act("cut-and-lay", take=self.take, at="1/4", lay="1/4")
        sha = self.seen().document.pieces[self.take].sha
        self.act("undo")
        self.act("undo")
        self.act("rule", take=self.take, field="strength", value="40")
        self.later(9)
        self.assertEqual(self.clean().renders, 0, "a step that is kept had pieces of it")
        self.assertTrue(self.place.is_whole(sha))
        shelf.remove(self.place, self.session)
        self.later(40)
        job = order(self.place, self.session, Wish(takes=[self.lead]))
        self.assertEqual(cleaning.found(self.place).sessions, 0, f"job {job} waits")

    def test_random_histories_lose_nothing(self) -> None:
        self.histories(10)

    @soak
    def test_fifty_random_histories_lose_nothing(self) -> None:
        self.histories(50)

    def histories(self, many: int) -> None:
        rng = random.Random(5)
        for number in range(many):
            self.wander(rng)
            self.later(8)
            there = self.rights()
            out = io.BytesIO()
            archive.write_archive(self.place, self.session, out)
            cleaning.clean(self.place, quiet)
            self.assertEqual(self.rights(), there, f"history {number}")
            again = io.BytesIO()
            archive.write_archive(self.place, self.session, again)
            self.assertEqual(again.getvalue(), out.getvalue())

    def wander(self, rng: random.Random) -> None:
        for _ in range(rng.randint(2, 5)):
            way = rng.choice(
                ["strength", "strength", "undo", "undo", "redo", "render", "name", "mark", "hand"]
            )
            try:
                if way == "render":
                    self.render()
                elif way == "hand":
                    self.hand_off(rng.choice(["wav16", "wav24", "flac"]))
                elif way in ("undo", "redo"):
                    self.act(way)
                elif way == "name":
                    self.act("take", take=self.take, field="name", value=f"pipes {rng.randint(1, 99)}")
                elif way == "mark":
                    self.act("onset-add", take=self.take, time_s=round(rng.uniform(1.0, 9.0), 2))
                else:
                    value = rng.choice(["30", "60", "90"])
                    self.act("rule", take=self.take, field="strength", value=value)
            except CombPaceError:
                continue

    def rights(self) -> dict[int, bool]:
        """Of every step that undo and redo reach, whether its render is there."""
        with self.place.database.reading() as db:
            steps = rows_cleaning.steps_of(db, self.session)
        found = {}
        for step, _ in steps:
            seen = session_state(self.place, self.session, step)
            try:
                made = fits.take_fit(seen, self.take)
            except CombPaceError:
                continue
            found[step] = renders.render_of(self.place, self.session, made.key) is not None
        return found
