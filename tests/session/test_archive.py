"""A session as one file: opened in another data folder, undone to its first step; and archives that mean
harm.
"""

import contextlib
import hashlib
import io
import json
import random
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from sqlalchemy import select

from combpace.core.errors import CancelledError, CombPaceError, ParameterError
from combpace.core.fit.groove import take_groove
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map
from combpace.drawing import picture
from combpace.session import archive, fits, pieces, shelf
from combpace.session.archive import read_archive, write_archive
from combpace.session.archive_judge import judge
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.session.document.model import FORMAT
from combpace.session.grooves import GrooveLibrary
from combpace.session.repair import repair
from combpace.session.state import session_state
from combpace.settings import Settings
from combpace.stations import registry
from combpace.stations.handoff.ordering import Wish, announced
from combpace.stations.takes import importing, opening
from combpace.store import archives, rows
from combpace.store.database import Database
from combpace.store.models import SessionRow
from rig.places import PlaceTest, bring_in, look
from rig.sounds import struck
from rig.tiers import soak

Edit = Callable[[dict[str, Any]], None]


class ArchiveTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.loop = bring_in(
            self.place, self.session, struck(0.5 * np.arange(8), 4.0, low_every=4), "pipe loop.wav"
        )
        self.act("meter", meter="3/4")
        self.act("rule", take=self.lead, field="strength", value="70")
        self.act("cut-and-lay", take=self.loop, at="beats", lay="1/4")
        self.act("piece-own", take=self.loop, number=1)
        self.other = DataFolder(replace(Settings(), data_dir=self.folder / "other"))
        self.other.prepare()
        self.addCleanup(self.other.close)

    def written(self, **more: bool) -> bytes:
        out = io.BytesIO()
        write_archive(self.place, self.session, out, **more)
        return out.getvalue()

    def read(self, data: bytes, folder: DataFolder | None = None) -> str:
        path = self.folder / "read.combpace"
        path.write_bytes(data)
        return read_archive(folder or self.other, path)

    def test_it_is_written_in_steps_and_others_write_in_between(self) -> None:
        parts = {f"{k:064x}": json.dumps({"step": k, "text": "x" * 2000}) for k in range(3000)}
        revisions = [
            {
                "id": k + 1, "parent_id": k or None, "format": FORMAT, "changed": "[]", "note": f"step {k}",
                "parts": json.dumps({"refused": f"{k:064x}"}),
            }
            for k in range(3000)
        ]  # fmt: skip
        # Somebody else on the same folder, who waits for nobody.
        beside = Database(self.place.database.path)
        self.addCleanup(beside.close)
        writing, listed = self.place.database.writing, []

        def in_between(*args: Any) -> Any:
            with beside.writing(patience_ms=0) as db:
                db.get(SessionRow, self.session).name = f"Copper night {len(listed)}"  # type: ignore[union-attr]
            listed.append([one.name for one in rows.shelf_rows(beside)])
            return writing(*args)

        with mock.patch.object(self.place.database, "writing", in_between):
            made, _ = archives.put(self.place.database, "Long one", "{}", 2999, [], revisions, parts, [])
        # Fifteen lots of parts, as many of steps; it is on the shelf when it is whole, and not before.
        self.assertGreaterEqual(len(listed), 30)
        self.assertFalse(any("Long one" in names for names in listed))
        self.assertIn("Long one", [one.name for one in rows.shelf_rows(beside)])
        found = self.place.history.current(made)
        self.assertEqual(
            (found.version, found.note, found.can_undo, found.can_redo), (3000, "step 2998", True, True)
        )

    def test_an_archive_of_every_older_form_opens(self) -> None:
        support = Path(__file__).parents[1] / "support"
        other = bring_in(self.place, self.session, struck([0.5 * k for k in range(8)], 4.0), "spoons.wav")
        for form in range(1, FORMAT):
            with self.subTest(form=form):
                raw = (support / f"document_form_{form}.json").read_text().replace("TAKE", self.lead)
                raw = raw.replace("OTHER", other)
                raw = raw.replace("SOUND", str(self.seen().rows[self.lead].decoded_sha))
                old = json.loads(raw)
                self.place.history.begin(self.session, form, old.get("own", old), f"written by form {form}")
                before = picture.picture(self.seen(), None)
                made = session_state(self.other, self.read(self.written(newest=True)))
                found = picture.picture(made, None)
                self.assertEqual(
                    (found["sentence"], found["bars"], found["kind"]),
                    (before["sentence"], before["bars"], before["kind"]),
                )

    @soak
    def test_archives_of_fifty_random_sessions_open(self) -> None:
        rng = random.Random(11)
        grids = ("1/4", "1/8", "1/16t")

        def near(least: float, most: float) -> float:
            return round(rng.uniform(least, most), 3)

        ways: list[tuple[str, Callable[[], dict[str, Any]]]] = [
            ("rule", lambda: {"take": self.lead, "field": "strength", "value": str(rng.randint(0, 100))}),
            ("rule", lambda: {"take": self.lead, "field": "grid", "value": rng.choice(grids)}),
            ("onset-add", lambda: {"take": self.lead, "time_s": near(0, 20)}),
            ("meter", lambda: {"meter": rng.choice(["3/4", "4/4", "7/8", "6/8"])}),
            ("downbeat", lambda: {"time_s": float(rng.choice(list(self.beats)))}),
            ("bar-1", lambda: {"time_s": float(rng.choice(list(self.beats)))}),
            ("steady", lambda: {"bpm": near(60, 180)}),
            ("breathing", lambda: {}),
            ("take", lambda: {"take": self.lead, "field": "start", "value": str(near(-2, 9))}),
            ("peg", lambda: {"take": self.lead, "take_s": 3.0, "session_s": near(2.8, 3.2)}),
            ("piece-level", lambda: {"take": self.loop, "number": 2, "level_db": rng.randint(-60, 24)}),
            ("piece-move", lambda: {"take": self.loop, "number": 1, "quarters": rng.uniform(-4, 40)}),
            ("take", lambda: {"take": self.loop, "field": "times", "value": str(rng.randint(1, 9))}),
            ("undo", dict), ("redo", dict),
        ]  # fmt: skip
        for number in range(50):
            for _ in range(12):
                name, args = rng.choice(ways)
                with contextlib.suppress(CombPaceError):
                    self.act(name, **args())
            with self.subTest(session=number):
                made = session_state(self.other, self.read(self.written()))
                before, found = (picture.picture(one, None) for one in (self.seen(), made))
                self.assertEqual((found["sentence"], found["bars"]), (before["sentence"], before["bars"]))

    def begun(self, data: bytes) -> tuple[str, dict[str, Any]]:
        """An archive whose sound is read by a job: (the session, the job's arguments)."""
        path = self.folder / "long.combpace"
        path.write_bytes(data)
        with mock.patch.object(archive, "AT_ONCE_BYTES", 0):
            made, job = archive.begin_archive(self.other, path, judge)
        row = rows.job_row(self.other.database, job or "")
        assert row is not None
        return made, json.loads(row.args)

    def test_long_sound_is_read_by_a_job_while_the_session_is_there(self) -> None:
        data = self.written()
        at_once = self.read(data)
        made, args = self.begun(data)
        seen = session_state(self.other, made)
        self.assertEqual({row.state for row in seen.rows.values()}, {"waiting"})
        self.assertEqual([take.name for take in seen.document.takes], ["tub kit", "pipe loop"])
        self.assertEqual(repair(self.other), [], "its job reads them, no other")
        for station in registry.STATIONS.values():
            registry.places(seen, station, None)
        told: list[str] = []
        opening.read_in(self.other, args, lambda phase, share: told.append(phase))
        self.assertIn("reading the archive", told)
        pictures = []
        for session in (at_once, made):
            found = picture.picture(session_state(self.other, session), None)
            names = {take["id"]: take["name"] for take in found["takes"]}
            text = json.dumps({**found, "session": "", "version": 0})
            for take_id, name in names.items():
                text = text.replace(take_id, name)
            pictures.append(json.loads(text))
        for one in pictures:
            for take in one["takes"]:
                take.pop("sounds")
            one["fit"].pop("names")
        self.assertEqual(*pictures)
        # The archive itself is gone when it is read.
        self.assertEqual(rows.files_like(self.other.database, made, "archive"), [])
        self.assertFalse(self.other.blobs.has(args["archive"]))

    def test_a_sound_that_was_changed_and_one_that_was_not_read_are_asked_for(self) -> None:
        data = self.written()
        loop = next(row for row in self.seen().rows.values() if row.name == "pipe loop.wav")
        source = self.place.blob(loop.source_sha).read_bytes()
        changed = data.replace(source, source[:-8] + b"changed!")
        self.assertNotEqual(changed, data)
        made, args = self.begun(changed)
        opening.read_in(self.other, args, lambda phase, share: None)
        states = {row.name: row.state for row in self.other.take_rows(made).values()}
        self.assertEqual(states, {"tub kit.wav": "ready", "pipe loop.wav": "wanted"})
        # Cancelled: what was not read is asked for, and a dropped file completes it.
        made, args = self.begun(data)

        def cancel(phase: str, share: float) -> None:
            if phase == "reading sounds":
                raise CancelledError("cancelled")

        with self.assertRaises(CancelledError):
            opening.read_in(self.other, args, cancel)
        self.assertEqual({row.state for row in self.other.take_rows(made).values()}, {"wanted"})
        path = self.other.blobs.new_path(".wav")
        path.write_bytes(source)
        take = importing.add_upload(self.other, made, path, "pipe loop.wav")
        importing.import_take(self.other, {"take": take}, lambda phase, share: None)
        self.assertEqual(self.other.take_row(take).state, "ready")

    def test_one_that_was_cut_off_is_gone_at_the_next_start(self) -> None:
        before = [one.id for one in shelf.shelf(self.place)]
        with (
            mock.patch.object(archives, "_chunks", side_effect=OSError("killed")),
            self.assertRaises(OSError),
        ):
            archives.put(self.place.database, "Half", "{}", 1, [], [], {}, [])
        self.assertEqual([one.id for one in shelf.shelf(self.place)], before)
        self.assertTrue(any("being opened" in said for said in repair(self.place)))
        self.assertEqual(repair(self.place), [])
        with self.place.database.reading() as db:
            self.assertEqual(len(db.scalars(select(SessionRow.id)).all()), len(before))

    def test_it_opens_elsewhere_and_is_undone_to_its_first_step(self) -> None:
        made = self.read(self.written())
        here, there = self.seen(), session_state(self.other, made)
        self.assertEqual(there.opened.row.name, here.opened.row.name)
        self.assertEqual(
            [take.name for take in there.document.takes], [take.name for take in here.document.takes]
        )
        self.assertFalse(
            {take.id for take in there.document.takes} & {take.id for take in here.document.takes}
        )
        lead, loop = (take.id for take in there.document.takes)
        np.testing.assert_array_equal(there.onsets(lead).times, here.onsets(self.lead).times)
        self.assertEqual(there.need_map(), here.need_map())
        with pieces.opened(there, loop) as theirs, pieces.opened(here, self.loop) as ours:
            np.testing.assert_array_equal(theirs.read(0, 100_000), ours.read(0, 100_000))
        self.assertEqual(fits.take_fit(there, lead).key, fits.take_fit(here, self.lead).key)

        # Undone step by step, each step has the note that it had.
        def notes(folder: DataFolder, session: str) -> list[str]:
            found = []
            while (revision := folder.open(session).revision).can_undo:
                found.append(revision.note)
                decide(folder, session, "undo", revision.version, {})
            return found

        self.assertEqual(notes(self.other, made), notes(self.place, self.session))
        self.assertEqual(session_state(self.other, made).document.takes, ())

    def test_written_twice_it_is_the_same_file_and_has_no_clock(self) -> None:
        first = self.written()
        self.assertEqual(first, self.written())
        with zipfile.ZipFile(io.BytesIO(first)) as pack:
            self.assertEqual({entry.date_time for entry in pack.infolist()}, {(1980, 1, 1, 0, 0, 0)})
            self.assertIsNone(pack.testzip())

    def test_its_present_state_alone_cannot_be_undone(self) -> None:
        made = self.read(self.written(newest=True))
        self.assertFalse(self.other.open(made).revision.can_undo)
        self.assertEqual(session_state(self.other, made).need_map().meters, self.seen().need_map().meters)

    def test_in_the_same_folder_it_is_another_session(self) -> None:
        made = self.read(self.written(), self.place)
        self.assertNotEqual(made, self.session)
        self.assertEqual(len(shelf.shelf(self.place)), 2)
        self.place.blobs.sweep(
            [sha for row in self.place.take_rows(made).values() for sha in (row.source_sha,)],
            older_than_s=1e9,
        )
        session_state(self.place, made).need_map()

    # -- without sound

    def test_without_sound_it_is_small_and_asks_for_each_file_and_a_dropped_one_completes_it(self) -> None:
        self.act("rule", take=self.lead, field="grid", value="1/8")
        out = io.BytesIO()
        write_archive(self.place, self.session, out, sound=False)
        with_sound = len(self.written())
        self.assertLess(len(out.getvalue()), with_sound / 5)
        made = self.read(out.getvalue())
        there, here = session_state(self.other, made), self.seen()
        lead = there.need_lead().id
        self.assertEqual({row.state for row in there.rows.values()}, {"wanted"})
        source = self.place.take_row(self.lead)
        asked = (
            f"Drop “tub kit.wav” here ({source.source_bytes / 1e6:,.1f} MB, sha256 {source.source_sha[:12]}…)"
        )
        self.assertIn(asked, there.rows[lead].error or "")
        # What was decided and heard is all there.
        np.testing.assert_array_equal(there.onsets(lead).times, here.onsets(self.lead).times)
        self.assertEqual(there.need_map(), here.need_map())
        picture.picture(there, lead)
        for station in registry.STATIONS.values():
            look(there, station.id)
        with self.assertRaisesRegex(ParameterError, "The sound of tub kit is not here"):
            announced(there, Wish(takes=[lead]))
        # Another file is a take like any other; the right one completes, whatever its name.
        path = self.other.blobs.new_path(".wav")
        path.write_bytes(self.place.blobs.path(source.source_sha).read_bytes())
        self.assertEqual(importing.add_upload(self.other, made, path, "renamed.wav"), lead)
        importing.import_take(self.other, {"take": lead}, lambda phase, share: None)
        row = self.other.take_row(lead)
        self.assertEqual((row.state, row.error, row.decoded_sha), ("ready", None, source.decoded_sha))
        self.assertIsNotNone(self.other.activations(row), "a new reading has what it needs")
        now = session_state(self.other, made)
        np.testing.assert_array_equal(now.onsets(lead).times, here.onsets(self.lead).times)
        self.assertEqual(
            announced(now, Wish(takes=[lead]))["frames"], announced(here, Wish(takes=[self.lead]))["frames"]
        )
        # Written again from there, half of it still missing: what is missing is asked for once more.
        again = io.BytesIO()
        write_archive(self.other, made, again)
        third = self.read(again.getvalue(), self.place)
        self.assertEqual(
            sorted(row.state for row in self.place.take_rows(third).values()), ["ready", "wanted"]
        )

    def test_without_sound_what_was_stated_is_solved_for_as_it_was(self) -> None:
        self.act("downbeat", time_s=float(self.beats[5]))
        self.act("not-downbeat", time_s=self.line(4))
        out = io.BytesIO()
        write_archive(self.place, self.session, out, sound=False)
        made = self.read(out.getvalue())
        there = session_state(self.other, made)
        self.assertEqual({row.state for row in there.rows.values()}, {"wanted"})
        self.assertEqual(there.need_map(), self.seen().need_map())
        self.assertEqual(len(there.document.map.statements), 3)

    def test_a_take_of_two_minutes_is_at_most_60_kilobytes(self) -> None:
        place = DataFolder(replace(Settings(), data_dir=self.folder / "long"))
        place.prepare()
        self.addCleanup(place.close)
        session = shelf.create(place, "Two minutes")
        beats = np.arange(0.5, 119.5, 0.25)
        bring_in(place, session, struck(beats, 120.0, low_every=8), "even kit.wav")
        out = io.BytesIO()
        write_archive(place, session, out, sound=False)
        self.assertLess(len(out.getvalue()), 60_000)

    def test_a_groove_goes_with_the_rule_that_uses_it(self) -> None:
        groove = take_groove(
            np.array([0.0, 0.52, 1.0, 1.5]), np.zeros(4), steady_map(120.0, 0.0), (0, 0), Grid(4), "yard"
        )
        kept = GrooveLibrary(self.place).add(groove)
        self.act("meter", meter="4/4")
        self.act("rule", take=self.lead, field="grid", value=f"groove:{kept.id}")
        made = self.read(self.written())
        there = session_state(self.other, made)
        self.assertEqual(GrooveLibrary(self.other).all(), [])
        made_there, made_here = (
            fits.take_fit(there, there.need_lead().id),
            fits.take_fit(self.seen(), self.lead),
        )
        np.testing.assert_array_equal(made_there.fit.time_map.target_s, made_here.fit.time_map.target_s)

    # -- archives that mean harm

    def changed(self, edit: Edit) -> bytes:
        """The archive with its manifest edited."""
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(self.written())) as pack, zipfile.ZipFile(out, "w") as made:
            for entry in pack.infolist():
                data = pack.read(entry)
                if entry.filename == "manifest.json":
                    manifest = json.loads(data)
                    edit(manifest)
                    data = json.dumps(manifest).encode()
                made.writestr(entry, data)
        return out.getvalue()

    def packed(self, entries: dict[str, bytes], **more: Any) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", **more) as made:
            for name, data in entries.items():
                made.writestr(name, data)
        return out.getvalue()

    def with_blob(self, data: bytes) -> bytes:
        """The archive with other bytes in its first blob."""
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(self.written())) as pack, zipfile.ZipFile(out, "w") as made:
            for number, entry in enumerate(pack.infolist()):
                made.writestr(entry.filename, data if number == 1 else pack.read(entry))
        return out.getvalue()

    def refused(self, data: bytes) -> str:
        before = (len(shelf.shelf(self.other)), sum(1 for _ in Path(self.other.blobs.temporary).iterdir()))
        with self.assertRaises(ParameterError) as caught:
            self.read(data)
        self.assertEqual(
            (len(shelf.shelf(self.other)), sum(1 for _ in Path(self.other.blobs.temporary).iterdir())), before
        )
        said = str(caught.exception)
        self.assertIn("Nothing was imported", said)
        return said

    def test_what_is_no_archive(self) -> None:
        good = self.written()
        for data in (
            b"",
            b"no zip " * 100,
            good[: len(good) // 2],
            self.packed({}),
            self.packed({"readme.txt": b"x"}),
            self.packed({"manifest.json": b"{"}),
        ):
            self.refused(data)
        self.refused(self.packed({"manifest.json": b"[1]"}))
        self.refused(self.packed({"manifest.json": b'{"kind": "combpace session"}'}))
        self.refused(self.packed({"manifest.json": b'{"a":' * 5000 + b"1" + b"}" * 5000}))
        self.refused(self.packed({"manifest.json": b"{}", "../../etc/passwd": b"x"}))
        self.refused(self.packed({"manifest.json": b"{}", "blobs/" + "g" * 64: b"x"}))
        self.assertIn("newer version", self.refused(self.changed(lambda one: one.update(version=99))))
        self.refused(self.changed(lambda one: one.update(form=99)))

    def test_links_doubles_and_bombs(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as made:
            link = zipfile.ZipInfo("blobs/" + "a" * 64)
            link.create_system, link.external_attr = 3, 0o120777 << 16
            made.writestr(link, b"/etc/passwd")
            made.writestr("manifest.json", b"{}")
        self.assertIn("no plain file", self.refused(out.getvalue()))
        small = DataFolder(replace(Settings(), data_dir=self.folder / "small", upload_cap=1_000_000))
        small.prepare()
        self.addCleanup(small.close)
        bomb = self.packed(
            {"manifest.json": b"{}", "blobs/" + "a" * 64: b"\0" * 30_000_000},
            compression=zipfile.ZIP_DEFLATED,
        )
        self.assertLess(len(bomb), 100_000)
        with self.assertRaisesRegex(ParameterError, "come to more than it can hold|comes to more"):
            self.read(bomb, small)

    def test_a_manifest_that_lies(self) -> None:
        def history(one: dict[str, Any]) -> None:
            one["revisions"][0]["parent_id"] = one["revisions"][-1]["id"]

        def body(one: dict[str, Any]) -> None:
            sha = next(iter(one["parts"]))
            one["parts"][sha] += " "

        def nonsense(one: dict[str, Any]) -> None:
            text = json.dumps([{"id": 5}])
            sha = hashlib.sha256(text.encode()).hexdigest()
            one["parts"][sha] = text
            one["revisions"][-1]["parts"] = json.dumps({"takes": sha})

        edits: list[Edit] = [
            history, body, nonsense,
            lambda one: one.update(cursor=-7),
            lambda one: one.update(takes=[{**one["takes"][0], "id": "../../x"}]),
            lambda one: one.update(takes=[{**one["takes"][0], "source_sha": "b" * 64}]),
            # Steps that name a take which is not in it.
            lambda one: one.update(takes=[{**one["takes"][0], "id": "0123456789abcdef"}]),
            lambda one: one.update(takes=[]),
            lambda one: one["takes"][0].update(frames=7),
            lambda one: one["takes"][0].update(frames="many"),
            lambda one: one["takes"][0].update(decoded_sha="c" * 64),
            lambda one: one["takes"][0].update(analysis_sha=one["takes"][0]["source_sha"]),
            lambda one: one.update(revisions=[]),
            lambda one: one.update(parts={}),
            lambda one: one.update(name="  "),
            lambda one: one["files"].append({"kind": "handoff wav", "key": "k", "name": "n",
            "sha": "a" * 64, "bytes": 1, "details": "{}"}),
            # No file is so large; the database holds no such number.
            lambda one: one["files"].append({"kind": "part", "key": "k", "name": "n",
            "sha": one["takes"][0]["source_sha"], "bytes": 10**30, "details": "{}"}),
            lambda one: one.pop("takes"),
            lambda one: one["revisions"][0].update(parts="not json"),
            lambda one: (one.update(sound=False), one["takes"][0].update(frames=-5)),
            lambda one: (one.update(sound=False), one["takes"][0].update(frames=2**60)),
            lambda one: (one.update(sound=False), one["takes"][0].update(sample_rate_hz=1)),
        ]  # fmt: skip
        for number, edit in enumerate(edits):
            with self.subTest(edit=number):
                self.refused(self.changed(edit))

    def test_an_analysis_that_would_run_code(self) -> None:
        class Harm:
            def __reduce__(self) -> tuple[Any, ...]:
                return (Path.touch, (Path("/tmp/combpace-was-harmed"),))

        out = io.BytesIO()
        np.savez(out, times=np.array([Harm()], dtype=object))
        sha = hashlib.sha256(out.getvalue()).hexdigest()
        made = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(self.written())) as pack, zipfile.ZipFile(made, "w") as bad:
            for entry in pack.infolist():
                data = pack.read(entry)
                if entry.filename == "manifest.json":
                    manifest = json.loads(data)
                    manifest["takes"][0]["analysis_sha"] = sha
                    data = json.dumps(manifest).encode()
                bad.writestr(entry, data)
            bad.writestr(f"blobs/{sha}", out.getvalue())
        self.assertIn("what was heard in", self.refused(made.getvalue()))
        self.assertFalse(Path("/tmp/combpace-was-harmed").exists())

    def test_a_sound_that_was_changed(self) -> None:
        self.assertIn("its hash is another", self.refused(self.with_blob(b"other bytes")))
