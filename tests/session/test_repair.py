"""What is half done or damaged in a data folder: found at a start, mended, said; and no session is closed by
it.
"""

import json
import os
from pathlib import Path
from unittest import mock

import soundfile as sf

from combpace.core.errors import MediaError
from combpace.jobs import queue
from combpace.session import fits, shelf
from combpace.session.data_folder import DataFolder
from combpace.session.repair import repair
from combpace.session.state import session_state
from combpace.stations.takes import importing
from combpace.store import rows
from rig.places import PlaceTest, breathing
from rig.waiting import HANG_S


class RepairTest(PlaceTest):
    def unread(self, name: str = "later.wav") -> str:
        path = self.place.blobs.new_path(".wav")
        # Another sound than the lead's, so that no blob is both's.
        sf.write(path, breathing(bars=4)[1].samples.T, 44100, subtype="PCM_24")
        return importing.add_upload(self.place, self.session, path, name)

    def imports(self, take: str) -> list[str]:
        with self.place.database.reading():
            found = rows.take_row(self.place.database, take)
        return [
            view.state
            for view in queue.jobs_of(self.place, found.session_id)
            if view.kind == "import" and view.subject == take
        ]

    def test_nothing_to_mend_is_nothing_said(self) -> None:
        self.assertEqual(repair(self.place), [])

    def test_a_session_without_its_first_step_opens(self) -> None:
        with self.place.database.writing() as db:
            orphan = rows.add_session(db, "cut off")
        (said,) = repair(self.place)
        self.assertIn("had no first step", said)
        self.assertEqual(session_state(self.place, orphan).document.takes, ())
        self.assertEqual(repair(self.place), [])

    def test_a_copy_made_while_a_take_is_unread_reads_its_own(self) -> None:
        self.unread()
        copy = shelf.duplicate(self.place, self.session)
        waiting = [row.id for row in self.place.take_rows(copy).values() if row.state == "waiting"]
        self.assertEqual(len(waiting), 1)
        self.assertEqual(self.imports(waiting[0]), ["queued"])
        importing.import_take(self.place, {"take": waiting[0]}, lambda phase, share: None)
        self.assertEqual(self.place.take_row(waiting[0]).state, "ready")

    def test_a_take_that_nobody_reads_is_read_after_a_start(self) -> None:
        take = self.unread()
        # Its job was cancelled while it ran, and the server was killed before that was written to the take.
        (job,) = (view.id for view in queue.jobs_of(self.place, self.session) if view.subject == take)
        rows.change_take(self.place.database, take, state="listening")
        with self.place.database.writing() as db:
            row = rows.JobRow
            db.query(row).filter(row.id == job).update({"state": "cancelled"})
        self.assertEqual(self.imports(take), ["cancelled"])
        (said,) = repair(self.place)
        self.assertIn("1 take waited to be read", said)
        self.assertIn("queued", self.imports(take))

    def test_create_is_all_or_nothing(self) -> None:
        before = len(shelf.shelf(self.place))
        with (
            mock.patch("combpace.session.shelf.begin", side_effect=OSError("killed here")),
            self.assertRaises(OSError),
        ):
            shelf.create(self.place, "never")
        with (
            mock.patch.object(type(self.place.history), "copy", side_effect=OSError("killed here")),
            self.assertRaises(OSError),
        ):
            shelf.duplicate(self.place, self.session)
        self.assertEqual(len(shelf.shelf(self.place)), before)
        self.assertEqual(rows.without_history(self.place.database), [])

    def damage(self, sha: str | None, how: str) -> None:
        path = self.place.blob(sha)
        if how == "gone":
            path.unlink()
        else:
            data = bytearray(path.read_bytes())
            data[len(data) // 2 : len(data) // 2 + 200] = os.urandom(200)
            path.write_bytes(bytes(data[: len(data) - 50]))

    def test_a_damaged_analysis_or_sound_closes_no_session_and_is_mended(self) -> None:
        other = self.unread("also.wav")
        importing.import_take(self.place, {"take": other}, lambda phase, share: None)
        marks = len(self.seen().onsets(self.lead))
        for column, how in (
            ("analysis_sha", "gone"),
            ("analysis_sha", "other bytes"),
            ("decoded_sha", "gone"),
        ):
            with self.subTest(column=column, how=how):
                self.damage(getattr(self.place.take_row(self.lead), column), how)
                fresh = DataFolder(self.place.settings)
                self.addCleanup(fresh.close)
                # The page of the session is drawn, and names only that take.
                seen = session_state(fresh, self.session)
                seen.onsets(self.lead)
                states = {row.id: row.state for row in fresh.take_rows(self.session).values()}
                self.assertEqual(states, {self.lead: "failed", other: "ready"})
                self.assertIn("Listen again makes it anew", fresh.take_row(self.lead).error or "")
                importing.listen_again(fresh, self.session, self.lead)
                importing.import_take(fresh, {"take": self.lead}, lambda phase, share: None)
                self.assertEqual(fresh.take_row(self.lead).state, "ready")
                self.assertEqual(len(session_state(fresh, self.session).onsets(self.lead)), marks)

    def test_a_source_of_other_bytes_is_not_read(self) -> None:
        take = self.unread()
        self.damage(self.place.take_row(take).source_sha, "other bytes")
        with self.assertRaisesRegex(MediaError, "its hash is another"):
            importing.import_take(self.place, {"take": take}, lambda phase, share: None)

    def test_what_killed_jobs_left_is_gone_after_a_start(self) -> None:
        left = self.place.blobs.root / "incoming" / "0123456789abcdef" / "half.wav"
        left.parent.mkdir()
        left.write_bytes(b"half")
        Path(self.place.blobs.root / "incoming" / "part").write_bytes(b"half")
        DataFolder(self.place.settings).prepare()
        self.assertEqual(list((self.place.blobs.root / "incoming").iterdir()), [])

    def test_the_shelf_lists_what_it_can(self) -> None:
        self.damage(self.place.take_row(self.lead).analysis_sha, "gone")
        fresh = DataFolder(self.place.settings)
        self.addCleanup(fresh.close)
        rows.change_session(fresh.database, self.session, summary=json.dumps({}))
        self.assertEqual([entry.name for entry in shelf.shelf(fresh)], ["Copper night"])

    def test_a_long_shelf_is_shown_at_once_and_looked_at_bit_by_bit(self) -> None:
        for number in range(5):
            shelf.create(self.place, f"night {number}")
        with mock.patch.object(shelf, "MOST_LOOKING_S", -1.0):
            entries = shelf.shelf(self.place)
        self.assertEqual(len(entries), 6)
        self.assertTrue(all("reload to see its map" in entry.sentence for entry in entries))
        # However slow the machine is: all are looked at.
        with mock.patch.object(shelf, "MOST_LOOKING_S", HANG_S):
            seen = {entry.name: entry.sentence for entry in shelf.shelf(self.place)}
        self.assertIn("breathing", seen["Copper night"])
        # What was known stays shown while nobody looks.
        with mock.patch.object(shelf, "MOST_LOOKING_S", -1.0):
            self.assertEqual({entry.name: entry.sentence for entry in shelf.shelf(self.place)}, seen)

    def test_pauses_that_were_kept_are_those_that_are_found(self) -> None:
        row = self.place.take_row(self.lead)
        heard = self.place.analysis(row)
        assert heard is not None
        self.assertGreater(len(heard.facts["rests"]), 5)
        kept = fits._rests_in(self.seen(), row)
        heard.facts.pop("rests")
        self.assertEqual(fits._rests_in(self.seen(), row), kept)
