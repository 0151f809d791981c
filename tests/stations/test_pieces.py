import json

import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.session import fits, pieces
from combpace.stations.fit.station import values as fit_values
from combpace.stations.handoff.write import files_of, order, write_handoff
from combpace.stations.pieces import keeping
from combpace.stations.takes import importing
from combpace.store.models import JobRow
from tests.support.places import PlaceTest, bring_in
from tests.support.sounds import attack_starts, struck


class PiecesTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(6)
        self.played = self.beats + rng.uniform(-0.02, 0.02, len(self.beats))
        self.take = bring_in(self.place, self.session, struck(self.played, float(self.played[-1]) + 1), "pipes.wav")

    def sound(self) -> np.ndarray:
        seen = self.seen()
        with self.place.source(seen.rows[self.take]) as opened:
            made = pieces.source_of(seen, self.take, opened)
            return made.read(0, made.frames)[0]

    def cut(self, **more: object) -> str:
        return self.act("cut-and-lay", take=self.take, **{"at": "onsets", "lay": "1/4", **more}).note

    def test_cut_at_its_onsets_each_lies_on_its_place(self) -> None:
        self.assertRegex(self.cut(), r"^pipes is in \d+ pieces, laid on the nearest 1/4; the farthest moves by \d+ ms\. Nothing is stretched\.$")
        starts = attack_starts(self.sound(), 44100)
        line = self.seen().need_map()
        lines = np.asarray(line.to_seconds(np.arange(-4, 60).astype(float)))  # type: ignore[arg-type]
        off = np.min(np.abs(starts[:, None] - lines[None, :]), axis=1)
        self.assertGreater(len(starts), 28)
        self.assertLess(float(np.quantile(off, 0.9)), 0.001)
        rows = picture.piece_rows(self.seen(), self.take)
        self.assertTrue(all(row["off"] == 0.0 for row in rows))

    def test_laid_where_they_were_it_is_the_take(self) -> None:
        self.cut(lay="where")
        with self.place.source(self.seen().rows[self.take]) as opened:
            whole = opened.read(0, opened.frames)[0]
        np.testing.assert_array_equal(self.sound()[: len(whole) - 300], whole[: len(whole) - 300])

    def test_what_lies_before_the_first_line_of_a_grid_keeps_its_distance(self) -> None:
        self.cut(at="beats", lay="1/4")
        first, second = pieces.laid(self.seen(), self.take)[:2]
        self.assertGreater(second.start, 220)
        self.assertEqual(first.start, 0)
        self.assertAlmostEqual((second.at - first.at) / 44100, (second.start - first.start) / 44100, delta=1e-4)

    def test_stored_not_derived_and_keeping_their_bar(self) -> None:
        self.cut()
        before = self.seen().document.pieces[self.take]
        mark = float(self.seen().onsets(self.take).times[5])
        self.act("onset-move", take=self.take, from_s=mark, to_s=mark + 0.02)
        self.assertEqual(self.seen().document.pieces[self.take], before)
        # A line moved in the map moves the piece on it.
        line = self.seen().need_map()
        number = next(k for k, one in enumerate(before.pieces) if one.quarters is not None and abs(one.quarters - 8.0) < 1e-6)
        self.act("pull", time_s=line.second(8.0) + 0.03, quarters=8.0, free=True)
        self.assertAlmostEqual(pieces.laid(self.seen(), self.take)[number].at / 44100, line.second(8.0) + 0.03, delta=2e-5)

    def test_by_hand_moved_cut_joined_taken_away_and_undone(self) -> None:
        self.cut()
        first = self.seen().document.pieces[self.take]
        self.act("piece-move", take=self.take, number=6, quarters=7.5)
        self.assertAlmostEqual(picture.piece_rows(self.seen(), self.take)[6]["q"], 7.5)
        self.assertNotEqual(picture.piece_rows(self.seen(), self.take)[6]["off"], 0.0)
        at = pieces.laid(self.seen(), self.take)[8]
        self.act("cut-here", take=self.take, session_s=(at.at + at.frames // 2) / 44100)
        self.assertEqual(len(self.seen().document.pieces[self.take].pieces), len(first.pieces) + 1)
        self.act("piece-join", take=self.take, number=8)
        self.assertEqual(len(self.seen().document.pieces[self.take].pieces), len(first.pieces))
        self.act("piece-silence", take=self.take, number=2)
        self.act("piece-level", take=self.take, number=3, level_db=-6.0)
        for _ in range(5):
            self.act("undo")
        self.assertEqual(self.seen().document.pieces[self.take], first)
        self.act("pieces-drop", take=self.take)
        self.assertFalse(pieces.in_pieces(self.seen(), self.take))

    def test_fades_of_its_own_are_kept_and_given_to_the_right_half(self) -> None:
        self.cut()
        whole = np.abs(self.sound())
        at = pieces.laid(self.seen(), self.take)[6]
        note = self.act("piece-fades", take=self.take, number=6, fade_in_ms=80.0, fade_out_ms=40.0).note
        self.assertEqual(note, "A piece comes in over 80 ms and goes out over 40 ms.")
        soft = np.abs(self.sound())
        stroke = slice(at.at, at.at + 1000)
        self.assertLess(float(soft[stroke].max()), 0.4 * float(whole[stroke].max()))
        self.act("cut-here", take=self.take, session_s=(at.at + at.frames // 2) / 44100)
        halves = self.seen().document.pieces[self.take].pieces[6:8]
        self.assertEqual([(one.fade_in_ms, one.fade_out_ms) for one in halves], [(80.0, None), (None, 40.0)])
        self.act("piece-join", take=self.take, number=6)
        one = self.seen().document.pieces[self.take].pieces[6]
        self.assertEqual((one.fade_in_ms, one.fade_out_ms), (80.0, 40.0))
        with self.assertRaisesRegex(ParameterError, "so a fade of it is no longer"):
            self.act("piece-fades", take=self.take, number=6, fade_in_ms=9000.0)
        self.assertRegex(self.act("piece-fades", take=self.take, number=6, fade_in_ms="all").note, r"^A piece goes out over 40 ms\.$")
        self.act("piece-fades", take=self.take, number=6, fade_out_ms="all")
        np.testing.assert_array_equal(np.abs(self.sound()), whole)

    def test_fit_says_so_and_the_hand_off_has_them(self) -> None:
        self.act("rule", take=self.take, field="grid", value="1/4")
        self.cut()
        self.assertFalse(fits.is_fitted(self.seen(), self.take))
        self.assertIn("sounds in pieces", fit_values(self.seen(), self.take)["fit_missing"])
        job = order(self.place, self.session, [self.take], "wav32f", "lead-in", [])
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        write_handoff(self.place, args, lambda phase, share: None)
        self.assertTrue(any("in pieces" in file.name for file in files_of(self.place, self.session)))

    def test_the_mics_of_a_bundle_are_cut_and_moved_together(self) -> None:
        seen = self.seen()
        with self.place.source(seen.rows[self.take]) as opened:
            audio = Audio(0.5 * opened.read(0, opened.frames), opened.sample_rate_hz)
        far = bring_in(self.place, self.session, audio, "pipes far.wav")
        self.act("bundle", takes=[self.take, far], name="pipes")
        self.cut()
        both = [self.seen().document.pieces[take] for take in (self.take, far)]
        self.assertEqual(both[0].pieces, both[1].pieces)
        self.act("piece-move", take=far, number=4, quarters=6.5)
        self.assertEqual(*(self.seen().document.pieces[take].pieces[4].quarters for take in (self.take, far)))
        self.act("pieces-drop", take=self.take)
        self.assertEqual(self.seen().document.pieces, {})

    def test_kept_as_a_take_of_its_own(self) -> None:
        self.cut()
        sounded = self.sound()
        job = keeping.order_keep(self.place, self.session, self.take)
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        new = keeping.keep_pieces(self.place, args, lambda phase, share: None)["take"]
        importing.import_take(self.place, {"take": new}, lambda phase, share: None)
        self.assertFalse(pieces.in_pieces(self.seen(), self.take))
        self.assertEqual(self.seen().document.take(new).name, "pipes in pieces")
        # What lies before session time 0 comes along, and the take begins there.
        before = round(-self.seen().document.take(new).offset_s * 44100)
        with self.place.source(self.seen().rows[new]) as opened:
            np.testing.assert_array_equal(opened.read(before, opened.frames)[0], sounded)
        # Now it can be fitted; undo takes it back.
        self.assertFalse(fit_values(self.seen(), new)["fit_missing"])
        self.act("undo")
        self.assertTrue(pieces.in_pieces(self.seen(), self.take))

    def test_what_cannot_be_is_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "is not in pieces"):
            self.act("piece-silence", take=self.take, number=0)
        self.cut()
        for name, args in (
            ("cut-and-lay", {"at": "1/7"}),
            ("cut-and-lay", {"lay": "1/7"}),
            ("piece-move", {"number": 4999, "quarters": 1.0}),
            ("piece-move", {"number": 1}),
            ("cut-here", {"session_s": 900.0}),
        ):
            with self.subTest(name=name, args=args), self.assertRaises(ParameterError):
                self.act(name, take=self.take, **args)
