"""A take that is kept as it sounds: its marks, its pauses, its name, and what is handed off of it."""

import io
import json
import threading
import zipfile

import numpy as np

from combpace.drawing import picture
from combpace.playback.mixing import strips_of
from combpace.session import fits, shelf
from combpace.session.document.model import OnsetEdits
from combpace.stations.fit import rendering
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, last_wish, order, ticked
from combpace.stations.handoff.station import next_step, proposed
from combpace.stations.pieces import keeping
from combpace.stations.takes import importing
from combpace.store import rows
from combpace.store.models import JobRow
from rig.places import PlaceTest, bring_in
from rig.sounds import attack_starts, struck


def quiet(phase: str, share: float) -> None:
    """No progress."""


class KeptTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(8)
        self.played = self.beats + rng.uniform(-0.02, 0.02, len(self.beats))
        sound = struck(
            self.played, float(self.played[-1]) + 1, levels=[0.7, 0.4] * (len(self.beats) // 2) + [0.7]
        )
        self.take = bring_in(self.place, self.session, sound, "pipes.wav")

    def run_import(self, take: str) -> None:
        jobs = rows.jobs_changed(self.place.database, self.session, 0.0)
        args = next(
            json.loads(job.args) for job in reversed(jobs) if job.subject == take and job.kind == "import"
        )
        importing.import_take(self.place, args, quiet)

    def kept(self) -> str:
        """Render the take, keep it, and read what became of it; the id of that."""
        ordered = rendering.order_render(self.place, self.session, self.version, self.take)
        row = rows.job_row(self.place.database, ordered.job)
        assert row is not None
        rendering.render_take(self.place, json.loads(row.args), quiet)
        self.act("keep", take=self.take)
        new = self.seen().document.takes[-1].id
        self.run_import(new)
        return new

    def edit_marks(self) -> None:
        times = self.seen().onsets(self.take).times
        self.act("onset-remove", take=self.take, times_s=[float(times[3])])
        self.act(
            "onset-move", take=self.take, from_s=float(times[6]), to_s=float(times[6]) + 0.012, catch=False
        )
        self.act("onset-lock", take=self.take, times_s=[float(times[9])])
        self.act("onset-add", take=self.take, time_s=float(times[12]) + 0.2, catch=False)
        self.act("onset-rule", take=self.take, field="threshold", value="0.2")

    def test_its_marks_are_those_of_its_source_where_they_are_now(self) -> None:
        self.edit_marks()
        self.act("rule", take=self.take, field="grid", value="1/4")
        before, made = self.seen().onsets(self.take), fits.take_fit(self.seen(), self.take)
        where = made.fit.time_map.to_target(np.asarray(before.times))
        edits = self.seen().document.edits[self.take]
        new = self.kept()
        seen = self.seen()
        entry, marks = seen.document.take(new), seen.onsets(new)
        np.testing.assert_allclose(np.asarray(marks.times) + entry.offset_s, where, atol=1e-6)
        np.testing.assert_allclose(marks.strength, before.strength, atol=1e-6)
        np.testing.assert_allclose(marks.confidence, before.confidence, atol=1e-6)
        carried = seen.document.edits[new]
        self.assertEqual(
            (carried.threshold, len(carried.locked), len(carried.removed)), (0.2, len(edits.locked), 1)
        )
        # They lie on what sounds: measured in the kept sound itself.
        with self.place.source(seen.rows[new]) as opened:
            starts = attack_starts(opened.read(0, opened.frames), opened.sample_rate_hz)
        heard = [time for time in np.asarray(marks.times) if np.min(np.abs(starts - time)) < 0.003]
        # All but the one that was moved away from its attack and the one that was set where nothing sounds.
        self.assertEqual(len(heard), len(marks) - 2)

    def test_undone_the_source_has_everything_again(self) -> None:
        self.edit_marks()
        self.act("rule", take=self.take, field="grid", value="1/4")
        before = self.seen().onsets(self.take)
        new = self.kept()
        self.act("undo")
        seen = self.seen()
        self.assertNotIn(new, {take.id for take in seen.document.takes})
        self.assertIn(self.take, seen.document.rules)
        np.testing.assert_array_equal(seen.onsets(self.take).times, before.times)

    def test_kept_once_more_it_gets_a_number_and_the_way_goes_on(self) -> None:
        self.act("rule", take=self.take, field="grid", value="1/4")
        self.assertIn(
            "pipes is kept as pipes fitted", self.place.open(self.session).revision.note + self.noted()
        )
        second = self.seen().document.takes[-1].id
        self.assertEqual(self.seen().document.take(second).source, self.take)
        # Neither the source nor what it became is proposed to be pulled.
        self.assertEqual(fits.as_played(self.seen()), [])
        self.act("rule", take=self.take, field="strength", value="50")
        self.kept()
        self.assertEqual(
            [take.name for take in self.seen().document.takes],
            ["tub kit", "pipes", "pipes fitted", "pipes fitted 2"],
        )

    def noted(self) -> str:
        self.kept()
        return self.place.open(self.session).revision.note

    def written(self, **wish: object) -> dict[str, bytes]:
        """The files of the zip of an order."""
        job = order(self.place, self.session, Wish(**wish))  # type: ignore[arg-type]
        row = rows.job_row(self.place.database, job)
        assert row is not None
        made = write.write_handoff(self.place, json.loads(row.args), quiet)
        with self.place.database.writing() as db:
            db.get(JobRow, job).state = "done"  # type: ignore[union-attr]
        (archive,) = (
            file
            for file in write.files_of(self.place, self.session)
            if file.id in made["files"] and file.kind == "handoff archive"
        )
        with zipfile.ZipFile(io.BytesIO(self.place.blobs.path(archive.sha).read_bytes())) as pack:
            return {name.partition(" - ")[2]: pack.read(name) for name in pack.namelist()}

    def test_what_came_later_is_ticked_and_a_choice_stands(self) -> None:
        self.assertEqual(set(self.written(takes=[self.lead, self.take])), {"tub kit.wav", "pipes.wav"})
        self.act("rule", take=self.take, field="grid", value="1/4")
        kept = self.kept()
        later = bring_in(self.place, self.session, struck(self.beats + 0.01, 20.0), "spoons.wav")
        # New takes are there, the source gives way to what was kept of it.
        self.assertEqual(proposed(self.seen()).takes, [self.lead, kept, later])
        self.assertEqual(
            set(self.written(takes=proposed(self.seen()).takes)),
            {"tub kit.wav", "pipes fitted.wav", "spoons.wav"},
        )
        # Left out by hand, and taken in by hand: both stand, also after something else came in.
        self.assertEqual(set(self.written(takes=[self.take, kept])), {"pipes.wav", "pipes fitted.wav"})
        wish = last_wish(self.seen())
        assert wish is not None
        self.assertEqual((wish.left_out, wish.put_in), ([self.lead, later], [self.take]))
        last = bring_in(self.place, self.session, struck(self.beats + 0.02, 20.0), "pans.wav")
        self.assertEqual(proposed(self.seen()).takes, [self.take, kept, last])
        # An order that names what is left out, and no takes, writes all else.
        self.assertEqual(set(self.written(left_out=[later, last])), {"tub kit.wav", "pipes fitted.wav"})
        # Without what was kept of it the source is ticked again.
        self.act("take-remove", take=kept)
        self.assertIn(self.take, ticked(self.seen()))

    def test_while_the_next_one_is_written_the_old_zip_is_not_offered(self) -> None:
        self.written(takes=[self.lead])
        step = next_step(self.seen(), None, [])
        assert step is not None
        self.assertIn("One zip holds everything but pipes", step.sentence)
        order(self.place, self.session, Wish(takes=[self.lead, self.take]))
        step = next_step(self.seen(), None, [])
        assert step is not None
        self.assertIn("are being written", step.sentence)
        self.assertEqual(step.step.href, "")

    def test_undone_its_source_sounds_again_unless_it_was_muted_before(self) -> None:
        def muted() -> list[str]:
            return picture.head(self.seen(), None)["muted"]

        self.act("rule", take=self.take, field="grid", value="1/4")
        self.kept()
        self.assertEqual(muted(), [self.take])
        self.act("undo")
        self.assertEqual(muted(), [])
        self.act("redo")
        self.assertEqual(muted(), [self.take])
        self.act("undo")
        # What the user muted stays muted.
        shelf.save_view(self.place, self.session, {"mix": {self.take: {"level": -3, "mute": True}}})
        self.kept()
        self.act("undo")
        self.assertEqual(muted(), [self.take])
        self.assertEqual(strips_of(self.seen())[self.take].level_db, -3.0)

    def test_levels_kept_while_a_hand_off_is_ordered_are_both_kept(self) -> None:
        for number in range(20):
            level = {"mix": {self.take: {"level": -number, "mute": False}}}
            wish = Wish(takes=[self.take], kind="flac" if number % 2 else "wav16")
            both = [
                threading.Thread(target=shelf.save_view, args=(self.place, self.session, level)),
                threading.Thread(target=order, args=(self.place, self.session, wish)),
            ]
            for one in both:
                one.start()
            for one in both:
                one.join()
            self.assertEqual(strips_of(self.seen())[self.take].level_db, -number)
            self.assertEqual(last_wish(self.seen()).kind, wish.kind)  # type: ignore[union-attr]

    def test_its_pauses_are_silenced_at_hand_off(self) -> None:
        self.act("rule", take=self.take, field="grid", value="1/4")
        kept = self.kept()
        plain = self.written(takes=[kept], kind="wav32f")["pipes fitted.wav"]
        silenced = self.written(takes=[kept], kind="wav32f", silence="45,80")["pipes fitted.wav"]
        self.assertEqual(len(plain), len(silenced))
        self.assertNotEqual(plain, silenced)

    def test_pieces_kept_carry_their_marks_too(self) -> None:
        times = self.seen().onsets(self.take).times
        self.act("onset-remove", take=self.take, times_s=[float(times[3])])
        self.act("cut-and-lay", take=self.take, at="beats", lay="1/4")
        marks = len(self.seen().onsets(self.take))
        job = keeping.order_keep(self.place, self.session, self.version, self.take)
        row = rows.job_row(self.place.database, job)
        assert row is not None
        new = keeping.keep_pieces(self.place, json.loads(row.args), quiet)["take"]
        self.run_import(new)
        seen = self.seen()
        self.assertEqual(seen.document.take(new).source, self.take)
        self.assertAlmostEqual(len(seen.onsets(new)), marks, delta=1)
        with self.place.source(seen.rows[new]) as opened:
            starts = attack_starts(opened.read(0, opened.frames), opened.sample_rate_hz)
        off = [float(np.min(np.abs(starts - time))) for time in seen.onsets(new).times]
        self.assertLess(float(np.quantile(off, 0.9)), 0.002)
        self.assertNotEqual(seen.document.edits[new], OnsetEdits())
