"""Files of the data folder that were damaged: what leaves is what it was, made again, or nothing leaves and
the sentence names what is damaged.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np

from combpace.core.errors import MediaError
from combpace.session import fits, renders
from combpace.stations.fit import rendering
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, order_args
from combpace.stations.pieces import keeping, saving
from combpace.store import rows
from combpace.store.models import FileRow
from rig.places import PlaceTest, bring_in
from rig.sounds import struck
from rig.tiers import soak

Way = Callable[[bytes], bytes | None]


def quiet(phase: str, share: float) -> None:
    """No progress."""


def zeros(data: bytes) -> bytes | None:
    """A header as it was, and silence."""
    return data[:80] + bytes(len(data) - 80)


def noise(data: bytes) -> bytes | None:
    return data[:80] + np.random.default_rng(0).bytes(len(data) - 80)


def half(data: bytes) -> bytes | None:
    return data[: len(data) // 2]


def gone(data: bytes) -> bytes | None:
    return None


class DamagedTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        loose = self.beats + np.random.default_rng(6).uniform(-0.02, 0.02, len(self.beats))
        self.take = bring_in(self.place, self.session, struck(loose, float(loose[-1]) + 1.0), "pipes.wav")
        self.act("rule", take=self.take, field="grid", value="1/4")
        self.act("rule", take=self.take, field="method", value="chord")
        self.render()

    def render(self) -> None:
        self.run_job(rendering.order_render(self.place, self.session, self.version, self.take).job)

    def run_job(self, job: str) -> None:
        row = rows.job_row(self.place.database, job)
        assert row is not None
        rendering.render_take(self.place, json.loads(row.args), quiet)

    def kept(self) -> FileRow | None:
        made = fits.take_fit(self.seen(), self.take)
        return renders.render_of(self.place, self.session, made.key, whole=True)

    def damage(self, sha: str, how: Way) -> Path:
        path = self.place.blob(sha)
        data = how(path.read_bytes())
        if data is None:
            path.unlink()
        else:
            path.write_bytes(data)
        return path

    def leaves(self, **wish: object) -> dict[str, bytes]:
        asked = Wish(takes=[self.take], kind="wav32f", start="lead-in", **wish)  # type: ignore[arg-type]
        with write.written(self.place, order_args(self.seen(), asked), quiet) as files:
            return {file.name: file.path.read_bytes() for file in files}

    def test_a_damaged_render_never_leaves_and_is_made_again(self) -> None:
        self.damaged((noise, gone))

    @soak
    def test_whatever_the_damage(self) -> None:
        self.damaged((zeros, noise, half, gone))
        self.cut_and_damaged((zeros, half, gone))

    def damaged(self, ways: tuple[Way, ...]) -> None:
        right, first = self.leaves(), self.kept()
        assert first is not None
        for how in ways:
            with self.subTest(how=how.__name__):
                path = self.damage(first.sha, how)
                self.assertEqual(self.leaves(), right)
                # The hand-off made it again, and it is kept once more.
                self.assertTrue(fits.is_rendered(self.seen(), fits.take_fit(self.seen(), self.take)))
                again = self.kept()
                assert again is not None
                self.assertEqual(again.sha, first.sha)
                self.assertTrue(path.is_file())
                self.assertEqual(self.leaves(), right)

    def test_pieces_that_were_cut_from_it_leave_as_they_were(self) -> None:
        self.cut_and_damaged((half,))

    def cut_and_damaged(self, ways: tuple[Way, ...]) -> None:
        self.act("cut-and-lay", take=self.take, at="1/4", lay="1/4")
        self.act("piece-own", take=self.take, number=2)
        right, sha = self.leaves(extras=["pieces"]), self.seen().document.pieces[self.take].sha
        own = self.seen().document.pieces[self.take].pieces[2].own
        assert own is not None
        for how in ways:
            for damaged in (sha, own):
                with self.subTest(how=how.__name__, what="render" if damaged == sha else "own sound"):
                    self.damage(damaged, how)
                    if how is not gone:
                        with self.assertRaisesRegex(MediaError, "pieces of pipes are made of is damaged"):
                            saving.write_piece(self.place, self.session, self.take, 2, "wav24")
                    self.assertEqual(self.leaves(extras=["pieces"]), right)

    def test_what_cannot_be_made_again_is_named_and_nothing_leaves(self) -> None:
        self.act("cut-and-lay", take=self.take, at="1/4", lay="1/4")
        file = self.kept()
        assert file is not None
        with self.place.database.writing() as db:
            # As an earlier version kept it: without what it was made of.
            row = db.get(FileRow, file.id)
            assert row is not None
            row.details = json.dumps({k: v for k, v in json.loads(row.details).items() if k != "made_of"})
        self.damage(file.sha, noise)
        with self.assertRaisesRegex(MediaError, "render that the pieces of pipes are cut from is damaged"):
            self.leaves()
        job = keeping.order_keep(self.place, self.session, self.version, self.take)
        args = json.loads(rows.job_row(self.place.database, job).args)  # type: ignore[union-attr]
        with self.assertRaisesRegex(MediaError, "Nothing was written"):
            keeping.keep_pieces(self.place, args, quiet)

    def test_the_damaged_sound_of_a_take_is_named(self) -> None:
        self.act("drop", take=self.take)
        self.damage(self.seen().rows[self.take].decoded_sha or "", noise)
        with self.assertRaisesRegex(MediaError, "sound of pipes, or of a mic beside it, is damaged"):
            self.leaves()

    def test_a_render_that_was_ordered_is_of_the_bundle_as_it_was_then(self) -> None:
        job = rendering.order_render(self.place, self.session, self.version, self.take).job
        first = self.kept()
        assert first is not None
        self.damage(first.sha, gone)
        other = bring_in(
            self.place, self.session, struck(self.beats, float(self.beats[-1]) + 1.0), "room.wav"
        )
        self.act("bundle", takes=[self.take, other], name="pipes and room")
        self.act("take-remove", take=self.take)
        self.run_job(job)
        self.assertTrue(self.place.is_whole(first.sha), "the same bytes as before the bundle")
