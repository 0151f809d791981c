import json

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio, Samples
from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.media.decode import FileSource
from combpace.playback import laid
from combpace.playback.sound import sounding
from combpace.session import fits, pieces, shelf
from combpace.session.sounding import how_it_sounds
from combpace.session.state import SessionState, session_state
from combpace.stations.fit import rendering
from combpace.stations.fit.station import values as fit_values
from combpace.stations.handoff.ordering import Wish, order
from combpace.stations.handoff.write import files_of, write_handoff
from combpace.stations.pieces import keeping, saving
from combpace.stations.pieces.station import values as station_values
from combpace.stations.takes import importing
from combpace.store import rows as rows_
from combpace.store.models import JobRow
from rig.places import PlaceTest, bring_in, look
from rig.sounds import attack_starts, struck


def segment(state: SessionState, take_id: str, number: int, speed: float = 1.0) -> Samples:
    """Two seconds of a take in pieces."""
    made = laid.Laid(pieces.laid_sound(state, take_id), speed)
    frames = 2 * made.source.sample_rate_hz
    return made.source.read(number * frames, (number + 1) * frames)


class PiecesTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(6)
        self.played = self.beats + rng.uniform(-0.02, 0.02, len(self.beats))
        self.take = bring_in(
            self.place, self.session, struck(self.played, float(self.played[-1]) + 1), "pipes.wav"
        )

    def sound(self) -> np.ndarray:
        seen = self.seen()
        with pieces.opened(seen, self.take) as made:
            return made.read(0, made.frames)[0]

    def cut(self, **more: object) -> str:
        return self.act("cut-and-lay", take=self.take, **{"at": "onsets", "lay": "1/4", **more}).note

    def test_cut_at_its_onsets_each_lies_on_its_place(self) -> None:
        self.assertRegex(
            self.cut(),
            r"^pipes is in \d+ pieces, laid on the nearest 1/4; the farthest moves by \d+ ms\. "
            r"Nothing is stretched\.$",
        )
        starts = attack_starts(self.sound(), 44100)
        line = self.seen().need_map()
        lines = np.asarray(line.to_seconds(np.arange(-4, 60).astype(float)))  # type: ignore[arg-type]
        off = np.min(np.abs(starts[:, None] - lines[None, :]), axis=1)
        self.assertGreater(len(starts), 28)
        self.assertLess(float(np.quantile(off, 0.9)), 0.001)
        rows = picture.piece_rows(self.seen(), self.take)
        self.assertTrue(all(row["off"] == 0.0 for row in rows))

    def said(self) -> tuple[str, str, str]:
        """What the cutting sentence shows: at, stronger, lay."""
        shown = station_values(self.seen(), self.take)
        return shown["at"], shown["stronger"], shown["lay"]

    def test_the_sentence_says_what_cut_the_pieces(self) -> None:
        self.assertEqual(self.said(), ("onsets", "0.00", "1/4"), "quarters are played")
        self.cut(lay="1/16", stronger=0.1, fade_ms=7.0)
        self.assertEqual(self.said(), ("onsets", "0.10", "1/16"))
        # A piece moved by hand changes no word of it, and another value changes that alone.
        self.act("piece-level", take=self.take, number=1, level_db=-3.0)
        self.assertEqual(self.said(), ("onsets", "0.10", "1/16"))
        before = [(one.start, one.quarters) for one in self.seen().document.pieces[self.take].pieces]
        at, stronger, lay = self.said()
        self.act("cut-and-lay", take=self.take, at=at, stronger=float(stronger), lay=lay, fade_ms=9.0)
        after = [(one.start, one.quarters) for one in self.seen().document.pieces[self.take].pieces]
        self.assertEqual(after, before)
        self.act("pieces-drop", take=self.take)
        self.assertEqual(self.said(), ("onsets", "0.00", "1/4"))

    def test_how_far_a_piece_was_moved_is_said_of_freed_ones_too(self) -> None:
        self.cut(lay="1/4")
        line = self.seen().need_map()
        piece = self.seen().document.pieces[self.take].pieces[6]
        at = line.second(float(piece.quarters or 0.0))
        self.act("piece-move", take=self.take, number=6, session_s=at + 0.130)
        self.assertAlmostEqual(picture.piece_rows(self.seen(), self.take)[6]["off"] or 0.0, 130.0, delta=0.05)
        self.act("piece-move", take=self.take, number=6, quarters=float(piece.quarters or 0.0))
        self.assertAlmostEqual(picture.piece_rows(self.seen(), self.take)[6]["off"] or 0.0, 0.0, delta=0.05)

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
        self.assertAlmostEqual(
            (second.at - first.at) / 44100, (second.start - first.start) / 44100, delta=1e-4
        )

    def test_stored_not_derived_and_keeping_their_bar(self) -> None:
        self.cut()
        before = self.seen().document.pieces[self.take]
        mark = float(self.seen().onsets(self.take).times[5])
        self.act("onset-move", take=self.take, from_s=mark, to_s=mark + 0.02)
        self.assertEqual(self.seen().document.pieces[self.take], before)
        # A line moved in the map moves the piece on it.
        line = self.seen().need_map()
        number = next(
            k
            for k, one in enumerate(before.pieces)
            if one.quarters is not None and abs(one.quarters - 8.0) < 1e-6
        )
        self.act("pull", time_s=line.second(8.0) + 0.03, quarters=8.0, free=True)
        self.assertAlmostEqual(
            pieces.laid(self.seen(), self.take)[number].at / 44100, line.second(8.0) + 0.03, delta=2e-5
        )

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
        with self.assertRaisesRegex(ParameterError, "so its fade cannot be longer"):
            self.act("piece-fades", take=self.take, number=6, fade_in_ms=9000.0)
        self.assertRegex(
            self.act("piece-fades", take=self.take, number=6, fade_in_ms="all").note,
            r"^A piece goes out over 40 ms\.$",
        )
        self.act("piece-fades", take=self.take, number=6, fade_out_ms="all")
        np.testing.assert_array_equal(np.abs(self.sound()), whole)

    def render(self) -> None:
        job = rendering.order_render(self.place, self.session, self.version, self.take).job
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        rendering.render_take(self.place, args, lambda phase, share: None)

    def test_a_fitted_take_is_cut_as_it_sounds_and_pinned(self) -> None:
        self.act("rule", take=self.take, field="grid", value="1/4")
        with self.assertRaisesRegex(ParameterError, "not rendered as it stands"):
            self.cut()
        self.render()
        made = fits.take_fit(self.seen(), self.take)
        row = self.seen().rows[self.take]
        with self.place.source(row) as source:
            fitted = sounding(source, how_it_sounds(self.seen(), self.take, fitted=True, speed=1.0), 44100)
            whole = fitted.read(0, fitted.frames)[0]
        self.assertIn("What is cut is its render", self.cut(lay="where"))
        self.assertFalse(fits.is_fitted(self.seen(), self.take))
        heard = self.sound()
        length = min(len(heard), len(whole)) - 300
        np.testing.assert_array_equal(heard[:length], whole[:length])
        # A change of the fit no longer changes it, and its cuts lie on the strokes where they sound.
        self.act("rule", take=self.take, field="strength", value="20")
        np.testing.assert_array_equal(self.sound(), heard)
        cuts = [piece.at / 44100 for piece in pieces.laid(self.seen(), self.take)][1:]
        targets = np.asarray([peg.target_s for peg in made.fit.pegs if peg.kind != "held"])
        self.assertLess(float(np.median([np.min(np.abs(targets - at)) for at in cuts])), 0.002)
        # Cut anew it is still what was pinned; Drop gives back the fitted take.
        self.cut(at="bars", lay="bar-place")
        self.assertIsNotNone(self.seen().document.pieces[self.take].first_frame)
        with self.assertRaisesRegex(ParameterError, "was changed since it was cut"):
            self.cut()
        self.act("pieces-drop", take=self.take)
        self.assertTrue(fits.is_fitted(self.seen(), self.take))

    def test_cuts_follow_marks_that_were_moved_only_where_that_is_taken(self) -> None:
        self.cut()
        before = self.seen().document.pieces[self.take].pieces
        mark = float(self.seen().onsets(self.take).times[5])
        self.act("onset-move", take=self.take, from_s=mark, to_s=mark + 0.03, catch=False)
        self.assertEqual(self.seen().document.pieces[self.take].pieces, before)
        (place,) = look(self.seen(), "pieces", self.take)
        self.assertIn("1 cut lies on a moved mark", place.title)
        assert place.do is not None
        self.assertIn("1 cut moved", self.act(place.do.name, **place.do.args).note)
        after = self.seen().document.pieces[self.take].pieces
        number = next(k for k, one in enumerate(before) if abs(one.start / 44100 - mark) < 0.002)
        self.assertAlmostEqual(after[number].start / 44100, mark + 0.03, delta=0.0011)
        self.assertEqual(after[number - 1].stop, after[number].start)
        self.assertEqual([one.quarters for one in after], [one.quarters for one in before])
        self.assertEqual(look(self.seen(), "pieces", self.take), [])

    def test_what_is_done_to_a_piece_touches_all_of_its_sound_or_it_alone(self) -> None:
        self.cut()
        self.act("cells", takes=[self.take], from_q=4.0, to_q=8.0, what="repeat", times=3)
        rows = picture.piece_rows(self.seen(), self.take)
        number = next(row["number"] for row in rows if abs(row["q"] - 4.0) < 1e-6)
        self.assertEqual(rows[number]["alike"], 4)
        note = self.act("piece-level", take=self.take, number=number, level_db=-6.0).note
        self.assertEqual(note, "This touches 4 pieces: each is -6 dB.")
        self.assertEqual(
            [one.level_db for one in self.seen().document.pieces[self.take].pieces].count(-6.0), 4
        )
        self.assertEqual(
            self.act("piece-level", take=self.take, number=number, level_db=3.0, only=True).note,
            "A piece is +3 dB.",
        )
        # Made its own it sounds the same, and no longer goes with the others.
        sounded = self.sound()
        self.assertIn(
            "3 other pieces of the same sound no longer go with it",
            self.act("piece-own", take=self.take, number=number).note,
        )
        one = self.seen().document.pieces[self.take].pieces[number]
        laid = pieces.laid(self.seen(), self.take)[number]
        fade = 221
        inside = slice(laid.at + fade, laid.at + laid.frames - fade)
        np.testing.assert_array_equal(self.sound()[inside], sounded[inside])
        with FileSource(self.place.blob(one.own)) as own:
            self.assertEqual(own.frames, one.stop - one.start)
        other = next(
            row["number"] for row in picture.piece_rows(self.seen(), self.take) if abs(row["q"] - 8.0) < 1e-6
        )
        self.assertIn(
            "touches 3 pieces", self.act("piece-level", take=self.take, number=other, level_db=0.0).note
        )
        self.assertEqual(self.seen().document.pieces[self.take].pieces[number].level_db, 3.0)
        # Its bytes stay when the folder is swept, also for a copy of the session when this one is gone.
        copy = shelf.duplicate(self.place, self.session)
        self.place.blobs.sweep(rows_.blobs_of_takes_and_files(self.place.database), older_than_s=-1.0)
        self.sound()
        theirs = session_state(self.place, copy)
        with pieces.opened(
            theirs, next(take.id for take in theirs.document.takes if take.name == "pipes")
        ) as again:
            np.testing.assert_array_equal(again.read(0, 200_000)[0], self.sound()[:200_000])
        with self.assertRaisesRegex(ParameterError, "has its own sound already"):
            self.act("piece-own", take=self.take, number=number)

    def test_its_length_is_typed_within_what_its_sound_has(self) -> None:
        self.cut()
        before = self.seen().document.pieces[self.take].pieces[6]
        self.assertEqual(
            self.act("piece-length", take=self.take, number=6, ms=120.0).note, "A piece is 120.0 ms long."
        )
        after = self.seen().document.pieces[self.take].pieces[6]
        self.assertEqual((after.start, after.stop - after.start), (before.start, round(0.120 * 44100)))
        with self.assertRaisesRegex(ParameterError, "so the piece cannot be longer"):
            self.act("piece-length", take=self.take, number=6, ms=900_000.0)

    def test_a_cut_that_is_only_tried_is_heard_and_nothing_is_kept(self) -> None:
        state = laid.tried(self.seen(), self.version, {"take": self.take, "at": "onsets", "lay": "1/4"})
        heard = segment(state, self.take, 2)
        self.assertFalse(self.seen().document.pieces)
        self.cut()
        np.testing.assert_array_equal(heard, segment(self.seen(), self.take, 2))

    def test_slowed_its_strokes_lie_where_they_should_and_its_pitch_stays(self) -> None:
        self.cut()
        fast = np.concatenate([segment(self.seen(), self.take, k)[0] for k in range(4)])
        slow = np.concatenate([segment(self.seen(), self.take, k, 0.5)[0] for k in range(8)])
        strokes, slowed = attack_starts(fast, 44100), attack_starts(slow, 44100)
        off = [float(np.min(np.abs(slowed - 2 * time))) for time in strokes if 2 * time < 15.5]
        self.assertGreater(len(off), 8)
        self.assertLess(float(np.median(off)), 0.004)

    def test_a_piece_is_saved_as_it_sounds_of_exactly_its_length(self) -> None:
        self.cut()
        self.act("piece-level", take=self.take, number=6, level_db=-6.0)
        piece = self.seen().document.pieces[self.take].pieces[6]
        path, name = saving.write_piece(self.place, self.session, self.take, 6, "wav32f")
        samples, rate = sf.read(path)
        self.assertEqual((len(samples), rate), (piece.stop - piece.start, 44100))
        self.assertRegex(name, r"^pipes piece \d+\.\d.*\.wav$")
        with self.place.source(self.seen().rows[self.take]) as source:
            own = source.read(piece.start, piece.stop)[0]
        inside = slice(221, len(own) - 221)
        np.testing.assert_allclose(samples[inside], own[inside] * 10 ** (-6 / 20), atol=1e-6)
        for number, kind in ((9000, "wav24"), (6, "ogg")):
            with self.assertRaises(ParameterError):
                saving.write_piece(self.place, self.session, self.take, number, kind)

    def test_a_level_goes_from_point_to_point(self) -> None:
        self.cut()
        plain = self.sound()
        at = pieces.laid(self.seen(), self.take)[6]
        note = self.act("piece-curve", take=self.take, number=6, points=[[200.0, -12.0], [100.0, 0.0]]).note
        self.assertEqual(note, "A piece has a level of 2 points.")
        heard, frames = self.sound(), np.arange(8820)
        inside = slice(at.at, at.at + 8820)
        db = np.interp(frames, [4410, 8820], [0.0, -12.0])
        np.testing.assert_allclose(heard[inside], plain[inside] * 10 ** (db / 20), atol=1e-6)
        # Its last point holds.
        rest = slice(at.at + 8820, at.at + at.frames - 300)
        np.testing.assert_allclose(heard[rest], plain[rest] * 10 ** (-12 / 20), atol=1e-6)
        for points in ([[9e5, 0.0]], [[10.0, 0.0], [10.0, 3.0]]):
            with self.assertRaises(ParameterError):
                self.act("piece-curve", take=self.take, number=6, points=points)
        self.act("piece-curve", take=self.take, number=6, points=[])
        np.testing.assert_array_equal(self.sound(), plain)

    def test_fit_says_so_and_the_hand_off_has_them(self) -> None:
        self.act("rule", take=self.take, field="grid", value="1/4")
        self.render()
        self.cut()
        self.assertFalse(fits.is_fitted(self.seen(), self.take))
        self.assertIn("sounds in pieces", fit_values(self.seen(), self.take)["fit_missing"])
        job = order(self.place, self.session, Wish(takes=[self.take], kind="wav32f", start="lead-in"))
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
        job = keeping.order_keep(self.place, self.session, self.version, self.take)
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
