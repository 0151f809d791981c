import json

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.session import fits
from combpace.session.document.model import OnsetEdits
from combpace.session.stack import stacked
from combpace.session.state import edited
from combpace.stations.fit.rendering import order_render, render_take
from combpace.stations.fit.station import fit_sentence
from combpace.stations.takes import importing
from combpace.store import rows
from combpace.store.models import JobRow
from rig.places import PlaceTest, bring_in, look
from rig.sounds import attack_starts, marks, struck, two_close_mics
from tests.core.analysis.test_opening import eighths


class OnsetsTest(PlaceTest):
    def times(self) -> np.ndarray:
        return np.asarray(self.seen().onsets(self.lead).times)

    def test_add_move_remove(self) -> None:
        count = len(self.times())
        self.act("onset-add", take=self.lead, time_s=1.3)
        self.assertIn(1.3, self.times())
        self.act("onset-move", take=self.lead, from_s=1.3, to_s=1.31)
        self.assertIn(1.31, self.times())
        first = float(self.times()[0])
        self.act("onset-move", take=self.lead, from_s=first, to_s=first + 0.004)
        self.act("onset-move", take=self.lead, from_s=first + 0.004, to_s=first + 0.007)
        self.assertAlmostEqual(float(self.times()[0]), first + 0.007, places=9)
        self.act("onset-remove", take=self.lead, times_s=[first + 0.007, 1.31])
        self.assertEqual(len(self.times()), count - 1)
        for _ in range(5):
            self.act("undo")
        self.assertEqual((len(self.times()), float(self.times()[0])), (count, first))

    def test_detecting_again_keeps_hand_edits(self) -> None:
        self.act("onset-add", take=self.lead, time_s=1.3)
        self.act("threshold", take=self.lead, threshold=0.99)
        self.assertIn(1.3, self.times())
        heard = self.seen().analysis(self.lead)
        assert heard is not None
        again = edited(heard.onsets, self.seen().document.edits[self.lead])
        np.testing.assert_array_equal(again.times, self.times())

    def test_bad_places_are_refused(self) -> None:
        first = float(self.times()[0])
        for call in (
            lambda: self.act("onset-add", take=self.lead, time_s=first + 0.001),
            lambda: self.act("onset-add", take=self.lead, time_s=1e4),
            lambda: self.act("onset-remove", take=self.lead, times_s=[first + 0.1]),
            lambda: self.act("threshold", take=self.lead, threshold=2.0),
        ):
            with self.assertRaises(ParameterError):
                call()


class SentenceTest(PlaceTest):
    def count(self) -> int:
        return len(self.seen().onsets(self.lead))

    def test_band_distance_and_grid_keep_hand_marks(self) -> None:
        whole = self.count()
        self.act("onset-add", take=self.lead, time_s=1.3)
        note = self.act("onset-rule", take=self.lead, field="on", value="bars").note
        self.assertIn("on bars", note)
        line = self.seen().need_map()
        # A mark a bar, and the one that was made by hand.
        self.assertAlmostEqual(self.count(), line.bar_of(line.place(float(self.beats[-1]))) + 2, delta=1)
        self.assertIn(1.3, np.asarray(self.seen().onsets(self.lead).times))
        self.act("onset-rule", take=self.lead, field="on", value="anywhere")
        self.assertEqual(self.count(), whole + 1)
        self.act("onset-rule", take=self.lead, field="apart_ms", value="900")
        self.assertLess(self.count(), 0.7 * whole)
        self.act("onset-rule", take=self.lead, field="apart_ms", value=0)
        self.act("onset-rule", take=self.lead, field="listen", value="lows")
        self.act("onset-rule", take=self.lead, field="threshold", value=0.5)
        self.assertAlmostEqual(self.count(), whole / 4 + 1, delta=2)
        for field, value in (("listen", "mids"), ("on", "1/7"), ("apart_ms", "-1"), ("color", "1")):
            with self.assertRaises(ParameterError):
                self.act("onset-rule", take=self.lead, field=field, value=value)

    def test_a_mark_by_hand_goes_to_the_attacks_start(self) -> None:
        at = float(self.beats[3])
        mark = float(min(np.asarray(self.seen().onsets(self.lead).times), key=lambda time: abs(time - at)))
        self.act("onset-remove", take=self.lead, times_s=[mark])
        self.assertIn(
            "at the attack's start", self.act("onset-add", take=self.lead, time_s=at + 0.012, catch=True).note
        )
        self.assertLess(float(np.min(np.abs(np.asarray(self.seen().onsets(self.lead).times) - at))), 0.002)

    def test_several_move_as_one(self) -> None:
        times = np.asarray(self.seen().onsets(self.lead).times)
        self.act("onset-shift", take=self.lead, times_s=[float(time) for time in times[2:6]], ms=8.0)
        np.testing.assert_allclose(
            np.asarray(self.seen().onsets(self.lead).times)[2:6], times[2:6] + 0.008, atol=1e-9
        )
        with self.assertRaises(ParameterError):
            self.act("onset-shift", take=self.lead, times_s=[float(times[0])], ms=0.0)

    def test_a_locked_mark_is_certain_and_stays_however_weak(self) -> None:
        heard = marks([1.0, 2.0, 3.0], strength=0.2)
        heard.confidence[:] = 0.5
        made = edited(heard, OnsetEdits(threshold=0.9, locked=(2.0,)))
        self.assertEqual((made.times.tolist(), made.confidence.tolist()), ([2.0], [1.0]))
        made = edited(heard, OnsetEdits(locked=(2.0,)))
        self.assertEqual((made.times.tolist(), made.confidence.tolist()), ([1.0, 2.0, 3.0], [0.5, 1.0, 0.5]))

    def test_all_bleed_of_a_mic_goes_at_once_but_what_was_locked(self) -> None:
        mics, deep_at, bright_at = two_close_mics()
        tub, board = (
            bring_in(self.place, self.session, mic, f"{name}.wav")
            for mic, name in zip(mics, ("tub mic", "board mic"), strict=True)
        )
        with self.assertRaisesRegex(ParameterError, "in no bundle"):
            self.act("onset-bleed", take=tub)
        self.act("bundle", takes=[tub, board], name="yard")
        before = np.asarray(self.seen().onsets(tub).times)
        locked = float(next(time for time in before if np.min(np.abs(bright_at - time)) < 0.01))
        self.act("onset-lock", take=tub, times_s=[locked])
        note = self.act("onset-bleed", take=tub).note
        after = np.asarray(self.seen().onsets(tub).times)
        self.assertIn(f"{len(before) - len(after)} of {len(before)} marks", note)
        own = [float(np.min(np.abs(deep_at - time))) < 0.01 for time in after if time != locked]
        self.assertTrue(all(own))
        self.assertIn(locked, after)
        self.assertEqual(len(own), 24)
        with self.assertRaisesRegex(ParameterError, "No mark of tub mic is bleed"):
            self.act("onset-bleed", take=tub)

    def test_a_mic_can_be_left_out_of_whose_marks_count(self) -> None:
        mics, deep_at, bright_at = two_close_mics()
        tub, board = (
            bring_in(self.place, self.session, mic, f"{name}.wav")
            for mic, name in zip(mics, ("tub mic", "board mic"), strict=True)
        )
        self.act("bundle", takes=[tub, board], name="yard")
        self.act("onset-bleed", take=tub)
        self.act("onset-bleed", take=board)
        timing = self.seen().document.timing_take(tub)
        both = np.asarray(fits.marks_of(self.seen(), timing).times)
        self.act("rule", take=tub, field="leave_out", value=board)
        left = np.asarray(fits.marks_of(self.seen(), timing).times)
        self.assertEqual((len(both), len(left)), (len(deep_at) + len(bright_at), len(deep_at)))
        self.assertTrue(all(np.min(np.abs(deep_at - time)) < 0.01 for time in left))
        self.assertFalse(any(fits.joined(self.seen(), board)))
        # Its sound is stretched with the other's.
        made = fits.take_fit(self.seen(), board)
        self.assertEqual(len(fits.bundle_shas(self.seen().document.bundle_of(board), self.seen().rows)), 2)
        self.assertEqual(made.take.id, timing)
        order = fit_sentence(self.seen(), timing)["order"]
        self.assertEqual([counts for _, _, counts in order], [True, False])
        with self.assertRaisesRegex(ParameterError, "no mic would count. Nothing was changed"):
            self.act("rule", take=tub, field="leave_out", value=tub)
        with self.assertRaisesRegex(ParameterError, "not one of the bundle"):
            self.act("rule", take=tub, field="leave_out", value=self.lead)
        # It is said of the take, not of the bars of a sentence.
        self.act("rule", take=tub, field="bars", value="1-2")
        self.act("rule", take=tub, bars="4-5", set={"strength": 50})
        self.act("rule", take=tub, field="count", value=board)
        np.testing.assert_array_equal(np.asarray(fits.marks_of(self.seen(), timing).times), both)
        self.assertEqual(len(self.seen().document.rules[timing].rules), 2)

    def test_which_marks_of_a_bundle_are_one_is_said_once_and_drawn_and_cut_by(self) -> None:
        mics, _, _ = two_close_mics()
        tub, board = (
            bring_in(self.place, self.session, mic, f"{name}.wav")
            for mic, name in zip(mics, ("tub mic", "board mic"), strict=True)
        )
        # The board begins a tenth of a second later: its clock is another one.
        self.act("take", take=board, field="start", value="0.1")
        self.act("bundle", takes=[tub, board], name="yard")
        self.act("onset-bleed", take=tub)
        seen = self.seen()
        timing = seen.document.timing_take(tub)
        by_fit = np.asarray(fits.marks_of(seen, timing).times) + seen.document.take(timing).offset_s
        drawn = picture.picture(seen, board)["onsets"]
        stand = []
        for mic in (tub, board):
            marked, late = drawn[mic], seen.document.take(mic).offset_s
            rows = zip(marked["t"], marked["j"], strict=True)
            stand.append([time + late for time, joins in rows if joins])
        np.testing.assert_allclose(sorted([*stand[0], *stand[1]]), by_fit, atol=2e-6)
        self.assertTrue(all(stand))
        # Whichever mic is chosen, they are cut at the same strokes.
        for mic in (tub, board):
            own = np.asarray(fits.joint_marks(seen, mic).times) + seen.document.take(mic).offset_s
            np.testing.assert_allclose(own, by_fit, atol=1e-9)
        counts = []
        for mic in (tub, board):
            self.act("cut-and-lay", take=mic, at="onsets", lay="where")
            counts.append(len(self.seen().document.pieces[mic].pieces))
            self.act("undo")
        self.assertEqual(counts[0], counts[1])
        # Of a take alone each mark is its own stroke.
        self.assertTrue(all(fits.joined(seen, self.lead)))


class StackTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(3)
        self.late = np.round(rng.uniform(-0.01, 0.01, len(self.beats)), 4)
        self.late[5] = 0.048
        played = self.beats + self.late
        self.double = bring_in(
            self.place, self.session, struck(played, float(played[-1]) + 1), "second voice.wav"
        )

    def apart(self) -> np.ndarray:
        above = stacked(self.seen(), "1/4")
        a, b = above.at(self.lead), above.at(self.double)
        assert a is not None and b is not None
        self.assertGreater(above.share(a, b), 0.9)
        return np.array([note.off_s[b] - note.off_s[a] for note in above.notes])

    def test_spread_as_it_was_played_and_the_widest_is_listed_first(self) -> None:
        apart = self.apart()
        self.assertAlmostEqual(float(np.median(np.abs(apart - self.late[: len(apart)]))), 0.0, delta=0.002)
        first = look(self.seen(), "onsets", self.lead)[0]
        self.assertRegex(first.title, r"^second voice 4[678] ms later$")
        assert first.do is not None
        self.assertEqual(
            (first.do.name, first.do.args["take"], first.do.args["to"]), ("bring", self.double, self.lead)
        )
        # Brought to it, it is no longer listed; nothing else of the take moved.
        before = self.apart()
        self.act(first.do.name, **first.do.args)
        after = self.apart()
        self.assertLess(abs(float(after[5])), 0.0005)
        np.testing.assert_allclose(np.delete(after, 5), np.delete(before, 5), atol=0.0005)
        self.assertFalse(
            [place for place in look(self.seen(), "onsets", self.lead) if "second voice" in place.title]
        )

    def test_all_of_a_double_goes_to_the_other(self) -> None:
        note = self.act("bring", take=self.double, to=self.lead, on="1/4").note
        self.assertRegex(
            note, r"^\d+ attacks of second voice go to where tub kit plays, by up to 4[678] ms\.$"
        )
        self.assertLess(float(np.max(np.abs(self.apart()))), 0.0005)
        for args in (
            {"take": self.lead, "to": self.lead},
            {"take": self.double, "to": self.lead, "times_s": [0.2]},
        ):
            with self.assertRaises(ParameterError):
                self.act("bring", **args)


class DoublesTest(PlaceTest):
    def test_doubles_pulled_alike_are_offered_a_little_less_once(self) -> None:
        rng = np.random.default_rng(8)
        one, two = (
            bring_in(
                self.place,
                self.session,
                struck(self.beats + rng.uniform(-0.02, 0.02, len(self.beats)), float(self.beats[-1]) + 1),
                f"{name}.wav",
            )
            for name in ("first voice", "second voice")
        )
        for take in (one, two):
            self.act("rule", take=take, field="grid", value="1/4")

        def offers() -> list[dict[str, str]]:
            return [said for said in fit_sentence(self.seen(), two)["advice"] if "doubles" in said["text"]]

        self.assertEqual([said["do"] for said in offers()], ["Pull this one with 98 %"])
        self.assertEqual(self.seen().document.rules[two].rule.strength, 100.0)
        self.act("rule", take=two, field=offers()[0]["field"], value=offers()[0]["value"])
        self.assertEqual((offers(), self.seen().document.rules[two].rule.strength), ([], 98.0))


class FitTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(11)
        played = self.beats + rng.uniform(-0.03, 0.03, len(self.beats))
        self.loose = bring_in(
            self.place, self.session, struck(played, float(played[-1]) + 1), "reed organ.wav"
        )

    def render(self, take_id: str) -> tuple[np.ndarray, int]:
        made = fits.take_fit(self.seen(), take_id)
        args = {
            "session": self.session,
            "takes": [take_id],
            "source_s": list(made.fit.time_map.source_s),
            "target_s": list(made.fit.time_map.target_s),
            "method": made.method,
            "timing": made.take.id,
            "pegs": [[peg.take_s, peg.target_s] for peg in made.fit.pegs if peg.kind != "held"],
        }
        render_take(self.place, args, lambda phase, share: None)
        row = rows.render_of(self.place.database, self.session, made.key)
        assert row is not None
        samples, rate = sf.read(self.place.blobs.path(row.sha), dtype="float32")
        return samples, rate

    def test_the_render_lies_on_the_grid(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/4")
        self.act("rule", take=self.loose, field="leave_alone", value="0")
        samples, rate = self.render(self.loose)
        line = self.seen().need_map()
        lines = line.to_seconds(np.arange(-8, 60).astype(float))  # type: ignore[arg-type]
        starts = attack_starts(samples, rate)
        self.assertGreater(len(starts), 28)
        off = np.min(np.abs(starts[:, None] - lines[None, :]), axis=1)
        self.assertLess(float(np.quantile(off, 0.9)), 0.002)

    def test_the_render_is_measured_again_and_what_is_off_is_listed(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/4")
        self.act("rule", take=self.loose, field="leave_alone", value="0")
        # One mark sits 14 ms late: its attack comes to lie 14 ms early.
        late = float(self.seen().onsets(self.loose).times[8])
        self.act("onset-move", take=self.loose, from_s=late, to_s=late + 0.014)
        self.render(self.loose)
        proved = fits.proof_of(self.seen(), fits.take_fit(self.seen(), self.loose))
        assert proved is not None
        off = [ms for _, _, ms in proved if ms is not None]
        self.assertEqual(len(off), len(proved))
        self.assertEqual(sum(abs(ms) > 3 for ms in off), 1)
        self.assertAlmostEqual(min(off), -14.0, delta=1.5)
        places = [place for place in look(self.seen(), "fit", self.loose) if "in the render" in place.title]
        self.assertEqual(len(places), 1)
        self.assertRegex(
            fit_sentence(self.seen(), self.loose)["proved"], r"\d+ of \d+ within 3 ms of their place; 1 off"
        )
        # Changed, it is no longer what was measured.
        self.act("rule", take=self.loose, field="strength", value="50")
        self.assertIsNone(fits.proof_of(self.seen(), fits.take_fit(self.seen(), self.loose)))

    def test_the_first_pull_keeps_what_the_sentence_proposed(self) -> None:
        marks = np.asarray(self.seen().onsets(self.loose).times)
        proposed = fits.take_fit(self.seen(), self.loose).fit.time_map.to_target(marks)
        self.act("peg", take=self.loose, take_s=float(marks[5]), quarters=5.25, session_s=None)
        made = fits.take_fit(self.seen(), self.loose).fit
        others = np.arange(len(marks)) != 5
        np.testing.assert_allclose(made.time_map.to_target(marks[others]), proposed[others], atol=1e-9)
        self.assertAlmostEqual(
            float(made.time_map.to_target(marks[5])[0]), self.seen().need_map().second(5.25), places=9
        )

    def test_what_is_given_back_as_played_lies_where_no_rule_acts_and_switches_none_on(self) -> None:
        marks = np.asarray(self.seen().onsets(self.loose).times)
        lies = self.seen().follow(self.loose)(marks)
        self.act("as-played", take=self.loose, times_s=[float(marks[3])])
        made = fits.take_fit(self.seen(), self.loose).fit
        np.testing.assert_allclose(made.time_map.to_target(marks), lies, atol=1e-9)
        kinds = {round(peg.take_s, 6): peg.kind for peg in made.pegs}
        self.assertEqual(kinds[round(float(marks[3]), 6)], "as played")
        self.act("rule", take=self.loose, field="strength", value="100")
        made = fits.take_fit(self.seen(), self.loose).fit
        self.assertAlmostEqual(float(made.time_map.to_target(marks[3])[0]), float(lies[3]), places=9)

    def test_its_own_lag_and_coarse_are_fields(self) -> None:
        self.assertIn(
            "lead or lag stays", self.act("rule", take=self.loose, field="keep_lag", value="yes").note
        )
        self.assertIn("first onset", self.act("rule", take=self.loose, field="coarse", value="yes").note)
        self.assertIn(
            "1/32",
            self.act("rule", take=self.loose, field="coarse", value="no").note
            + self.act("rule", take=self.loose, field="ignore", value="1/32").note,
        )
        for field, value in (("keep_lag", "perhaps"), ("coarse", ""), ("ignore", "1/7")):
            with self.assertRaises(ParameterError):
                self.act("rule", take=self.loose, field=field, value=value)

    def test_every_field_of_the_sentence(self) -> None:
        for field, value in (
            ("strength", "80 %"),
            ("swing", "60"),
            ("ignore", "25,5"),
            ("bars", "2-5"),
            ("method", "Chord"),
            ("grid", "1/8t"),
            ("ignore", "nothing"),
        ):
            note = self.act("rule", take=self.loose, field=field, value=value).note
            self.assertIn("reed organ", note)
        choice = self.seen().document.rules[self.loose]
        self.assertEqual(
            (choice.rule.strength, choice.rule.bars, choice.method, str(choice.rule.places)),
            (80.0, (2, 5), "chord", "1/8t"),
        )
        self.assertIsNone(choice.rule.ignore_beyond_ms)
        for field, value in (
            ("strength", "120"),
            ("strength", "much"),
            ("grid", "1/7"),
            ("bars", "9-2"),
            ("method", "magic"),
            ("tempo", "1"),
        ):
            with self.subTest(field=field, value=value), self.assertRaises(ParameterError):
                self.act("rule", take=self.loose, field=field, value=value)

    def test_pegs_by_hand_and_riding(self) -> None:
        mark = float(self.seen().onsets(self.loose).times[5])
        self.act("peg", take=self.loose, take_s=mark, quarters=5.5, session_s=None)
        made = fits.take_fit(self.seen(), self.loose)
        self.assertTrue(made.stated)
        target = self.seen().need_map().second(5.5)
        self.assertAlmostEqual(float(made.fit.time_map.to_target(mark)[0]), target, places=6)
        self.act("ride", take=self.loose, times_s=[mark])
        self.assertFalse(
            [peg for peg in fits.take_fit(self.seen(), self.loose).fit.pegs if abs(peg.take_s - mark) < 1e-6]
        )
        self.act("drop", take=self.loose)
        self.assertFalse(fits.take_fit(self.seen(), self.loose).stated)

    def test_who_gives_way_is_named_and_a_peg_by_hand_never_does(self) -> None:
        marks = [float(time) for time in self.seen().onsets(self.loose).times]
        self.act("peg", take=self.loose, take_s=marks[5], quarters=5.0, session_s=None)
        said = self.act("peg", take=self.loose, take_s=marks[6], quarters=7.5, session_s=None).note
        self.assertIn("2·4 gives way.", said)
        self.act("peg", take=self.loose, take_s=marks[8], quarters=8.0, session_s=None)
        before = self.seen().document.pegs[self.loose]
        with self.assertRaisesRegex(ParameterError, "held by hand.*Nothing was changed"):
            self.act("peg", take=self.loose, take_s=marks[6], quarters=8.5, session_s=None)
        self.assertEqual(self.seen().document.pegs[self.loose], before)

    def test_a_phrase_moves_as_one_and_nothing_else_does(self) -> None:
        marks = np.asarray(self.seen().onsets(self.loose).times)
        self.act("rule", take=self.loose, field="grid", value="1/4")
        before = fits.take_fit(self.seen(), self.loose).fit.time_map.to_target(marks)
        said = self.act("phrase", take=self.loose, times_s=[float(time) for time in marks[8:11]], ms=40.0)
        self.assertIn("3 onsets moved as one, 40.0 ms later", said.note)
        after = fits.take_fit(self.seen(), self.loose).fit.time_map.to_target(marks)
        np.testing.assert_allclose(after[8:11] - before[8:11], 0.040, atol=1e-6)
        np.testing.assert_allclose(np.delete(after, [8, 9, 10]), np.delete(before, [8, 9, 10]), atol=1e-6)
        # By bars, and back to how it was played.
        line, own = self.seen().need_map(), self.seen().own_pace(self.loose)
        self.act("as-played", take=self.loose, from_bar=2, to_bar=3)
        fitted = fits.take_fit(self.seen(), self.loose).fit.time_map.to_target(marks)
        places = own.to_quarters(self.seen().onsets(self.loose).times)
        inside = [k for k, place in enumerate(places) if 1 <= line.bar_of(float(place) + 0.125) <= 2]
        self.assertGreater(len(inside), 4)
        np.testing.assert_allclose(fitted[inside], line.to_seconds(places)[inside], atol=1e-6)
        for bad in (
            {"times_s": [0.0001], "ms": 5.0},
            {"from_bar": 900, "to_bar": 901, "ms": 5.0},
            {"times_s": [float(marks[3])], "ms": 0.0},
        ):
            with self.subTest(bad), self.assertRaisesRegex(ParameterError, "Nothing was changed"):
                self.act("phrase", take=self.loose, **bad)

    def test_the_rule_goes_to_the_takes_that_are_ticked(self) -> None:
        other = bring_in(self.place, self.session, struck(self.beats + 0.015, 25), "bass box.wav")
        loop = bring_in(
            self.place, self.session, struck(0.5 * np.arange(8), 4.0, low_every=4), "pipe loop.wav"
        )
        self.act("rule", take=self.loose, field="grid", value="1/4")
        self.act("rule", take=self.loose, field="strength", value="85")
        # Lead and loops are there, and not ticked.
        offered = {one["id"]: one["ticked"] for one in fit_sentence(self.seen(), self.loose)["others"]}
        self.assertEqual(offered, {self.lead: False, other: True, loop: False})
        self.act("rule-to-others", take=self.loose)
        rules = self.seen().document.rules
        self.assertEqual(rules[other], rules[self.loose])
        self.assertEqual(rules[other].rule.strength, 85.0)
        self.assertEqual(set(rules), {self.loose, other})
        self.act("undo")
        # Whoever is named gets it, and nobody else.
        self.act("rule-to-others", take=self.loose, takes=[loop])
        self.assertEqual(set(self.seen().document.rules), {self.loose, loop})
        with self.assertRaisesRegex(ParameterError, "no other take"):
            self.act("rule-to-others", take=self.loose, takes=[])

    def test_advice_and_what_rides_in_words(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/16")
        said = [one["text"] for one in fit_sentence(self.seen(), self.loose)["advice"]]
        self.assertIn("The smallest value played here is 1/4: a 1/16 grid is finer than the playing.", said)
        self.act("rule", take=self.loose, field="grid", value="1/4")
        self.act("rule", take=self.loose, field="ignore", value="10")
        shown = fit_sentence(self.seen(), self.loose)
        self.assertEqual([one for one in shown["advice"] if "finer" in one["text"]], [])
        self.assertEqual(len(shown["rides"]), shown["numbers"]["riding"])
        self.assertGreater(len(shown["rides"]), 0)
        self.assertEqual({one["why"] for one in shown["rides"]}, {"too far from a place"})

    def test_a_bundle_moves_as_one(self) -> None:
        mate = bring_in(
            self.place,
            self.session,
            struck(self.beats + 0.003, float(self.beats[-1]) + 1),
            "reed organ far.wav",
        )
        self.act("bundle", takes=[self.loose, mate], name="Organ")
        seen = self.seen()
        self.assertEqual(fits.take_fit(seen, mate).take.id, self.loose)
        np.testing.assert_array_equal(
            fits.take_fit(seen, mate).fit.time_map.target_s,
            fits.take_fit(seen, self.loose).fit.time_map.target_s,
        )
        together = seen.document.bundle_of(mate)
        files, own = fits.bundle_files(self.place, together, seen.rows, mate)
        self.assertEqual((len(files), own), (2, [take.id for take in together].index(mate)))
        alone = fits.take_fit(seen, mate).key
        self.act("take", take=mate, field="bundle", value="")
        self.assertEqual(
            fits.bundle_files(self.place, self.seen().document.bundle_of(mate), self.seen().rows, mate),
            ((), 0),
        )
        self.assertNotEqual(fits.take_fit(self.seen(), mate).key, alone)

    def test_a_bundles_attacks_are_measured_in_the_mic_whose_mark_counts(self) -> None:
        rng = np.random.default_rng(8)
        end = float(self.beats[-1]) + 1
        played = self.beats + rng.uniform(-0.02, 0.02, len(self.beats))
        low = bring_in(self.place, self.session, struck(played[::2], end, low_every=1), "tub low.wav")
        high = bring_in(self.place, self.session, struck(played[1::2], end), "tub high.wav")
        self.act("bundle", takes=[low, high], name="Tub")
        self.act("rule", take=low, field="grid", value="1/4")
        seen = self.seen()
        made = fits.take_fit(seen, high)
        job = order_render(self.place, self.session, self.version, high).job
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        self.assertEqual(set(args["mics"]), {low, high})
        render_take(self.place, args, lambda phase, share: None)
        kept = rows.render_of(self.place.database, self.session, made.key)
        assert kept is not None
        off = [one[2] for one in json.loads(kept.details)["proof"]]
        self.assertGreater(len(off), 20)
        self.assertGreater(np.mean([one is not None and abs(one) < 3.0 for one in off]), 0.9)

    def test_a_bar_that_was_said_moves_the_lines_and_not_the_take(self) -> None:
        self.act("steady")
        self.act("rule", take=self.loose, field="grid", value="1/4")
        before = fits.take_fit(self.seen(), self.loose).fit.time_map
        line = self.seen().need_map()
        for name, place in (("bar-1", 2.0), ("downbeat", 3.0), ("bar-1", -1.0)):
            # Bar 1 is heard at one beat and lies, as the user says, at another.
            self.act(name, time_s=line.second(place))
            after = fits.take_fit(self.seen(), self.loose).fit.time_map
            moved = np.abs(after.to_target(before.source_s) - before.target_s)
            self.assertLess(float(moved.max()), 0.010, (name, place))
            self.act("undo")

    def test_an_alarm_leads_to_the_mark_in_onsets_and_lets_nothing_go_by_itself(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/4")
        times = np.asarray(self.seen().onsets(self.loose).times)
        # A mark that lies 9 ms late brings its stroke 9 ms early.
        self.act("onset-move", take=self.loose, from_s=float(times[7]), to_s=float(times[7]) + 0.009)
        self.act("rule", take=self.loose, field="leave_alone", value="0")
        job = order_render(self.place, self.session, self.version, self.loose).job
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        render_take(self.place, args, lambda phase, share: None)
        (found,) = (place for place in look(self.seen(), "fit", self.loose) if place.about == "proof")
        assert found.do is not None
        self.assertEqual((found.do.label, found.do.name, found.keep), ("See it in Onsets", "see", None))
        self.assertEqual((found.do.args["station"], found.do.args["take"]), ("onsets", self.loose))
        self.assertAlmostEqual(found.do.args["time_s"], float(times[7]) + 0.009, delta=1e-5)
        self.assertEqual([one.name for one in found.choices], ["ride"])

    def test_whose_marks_count_first_is_said_and_changed(self) -> None:
        mate = bring_in(
            self.place,
            self.session,
            struck(self.beats + 0.012, float(self.beats[-1]) + 1),
            "reed organ far.wav",
        )
        self.act("bundle", takes=[self.loose, mate], name="Organ")
        timing = self.seen().document.timing_take(mate)
        order = fits.mics_in_order(self.seen(), timing)
        self.assertEqual(set(order), {self.loose, mate})
        self.act("rule", take=mate, field="first", value=order[1])
        self.assertEqual(fits.mics_in_order(self.seen(), timing), order[::-1])
        marks, mics = fits.marks_and_mics(self.seen(), timing)
        self.assertEqual(len(mics), len(marks))
        self.assertEqual(
            [name for _, name, _ in fit_sentence(self.seen(), mate)["order"]],
            [self.seen().document.take(one).name for one in order[::-1]],
        )
        # The order goes with the sentence through every other change of it.
        self.act("rule", take=mate, field="strength", value="80")
        self.assertEqual(fits.mics_in_order(self.seen(), timing), order[::-1])
        with self.assertRaisesRegex(ParameterError, "not one of the bundle"):
            self.act("rule", take=mate, field="first", value=self.lead)

    def test_what_rings_in_one_mic_is_cut_in_none(self) -> None:
        end = float(self.beats[-1]) + 1
        dry = struck(self.beats, end)
        hum = 0.05 * np.random.default_rng(2).standard_normal(dry.frames)
        close = bring_in(self.place, self.session, dry, "drum close.wav")
        room = bring_in(
            self.place,
            self.session,
            Audio((dry.samples + hum).astype(np.float32), dry.sample_rate_hz),
            "drum room.wav",
        )
        self.assertEqual(fits.take_fit(self.seen(), close).method, "cut")
        self.act("bundle", takes=[close, room], name="Drum")
        self.assertEqual(fits.take_fit(self.seen(), close).method, "strike")
        self.assertEqual(fits.take_fit(self.seen(), room).method, "strike")

    def test_a_changed_map_moves_the_fitted_take_and_not_the_lead(self) -> None:

        self.act("rule", take=self.loose, field="grid", value="1/4")
        before = fits.take_fit(self.seen(), self.loose)
        self.act("pull", time_s=self.line(3) + 0.02, quarters=self.seen().need_map().bar_line(3), free=True)
        after = fits.take_fit(self.seen(), self.loose)
        self.assertNotEqual(before.key, after.key)
        self.assertTrue(np.any(np.abs(after.fit.time_map.target_s - self.line(3)) < 1e-6))

    def test_keep_makes_a_take_of_the_render_and_undo_takes_it_back(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/4")
        with self.assertRaises(ParameterError):
            self.act("keep", take=self.loose)
        self.render(self.loose)
        self.act("keep", take=self.loose)
        kept = self.seen().document.takes[-1]
        importing.import_take(self.place, {"take": kept.id}, lambda phase, share: None)
        self.assertEqual((kept.name, kept.role), ("reed organ fitted", "follower"))
        line = self.seen().need_map()
        lines = line.to_seconds(np.arange(-8, 60).astype(float))  # type: ignore[arg-type]
        marks = np.asarray(self.seen().onsets(kept.id).times) + kept.offset_s
        self.assertLess(float(np.median(np.min(np.abs(marks[:, None] - lines[None, :]), axis=1))), 0.001)
        self.assertNotIn(self.loose, self.seen().document.rules)
        self.assertFalse(
            [
                place
                for place in look(self.seen(), "takes", None)
                if place.do and kept.id in place.do.args.get("takes", [])
            ]
        )
        self.assertIn('"mute": true', self.seen().opened.row.view)
        self.act("undo")
        self.assertIn(self.loose, self.seen().document.rules)
        self.assertEqual(len(self.seen().document.takes), 2)


class FollowerTest(PlaceTest):
    def test_a_loop_has_the_frames_of_its_bars_and_is_drawn_where_it_sounds(self) -> None:
        loop = bring_in(self.place, self.session, eighths(), "pipe loop.wav")
        self.act("take", take=loop, field="first_bar", value="3")
        made = fits.take_fit(self.seen(), loop)
        start, end = self.line(2), self.line(4)
        self.assertAlmostEqual(float(made.fit.time_map.target_s[0]), start, places=9)
        self.assertAlmostEqual(float(made.fit.time_map.target_s[-1]), end, places=9)
        # The page draws it by the same map that makes its sound.
        drawn = picture.picture(self.seen(), loop)["fit"]
        self.assertEqual((drawn["source"][0], drawn["target"][0]), (0.0, round(start, 6)))
        np.testing.assert_allclose(drawn["target"], made.fit.time_map.target_s, atol=1e-6)

    def test_teeth_and_distances_are_those_of_the_rule(self) -> None:
        cases = (
            ("1/8", "66", [0, 0.66, 1, 1.66]),
            ("1/4t", "50", [0, 2 / 3, 4 / 3, 2]),
            ("1/8d", "50", [0, 0.75, 1.5, 2.25]),
            ("1/2", "50", [0, 2, 4]),
        )
        loose = bring_in(self.place, self.session, struck(self.beats + 0.02, 25), "organ.wav")
        for grid, swing, places in cases:
            self.act("rule", take=loose, field="grid", value=grid)
            self.act("rule", take=loose, field="swing", value=swing)
            drawn = picture.picture(self.seen(), loose)["fit"]
            with self.subTest(grid=grid, swing=swing):
                np.testing.assert_allclose(drawn["places"]["4"][: len(places)], places, atol=1e-6)
                self.assertEqual(len(drawn["off_ms"]), len(self.seen().onsets(loose)))
        self.act("rule", take=loose, field="grid", value="1/64")
        self.assertEqual(len(picture.picture(self.seen(), loose)["fit"]["places"]["4"]), 65)

    def test_what_moves_nothing_says_so(self) -> None:
        loop = bring_in(self.place, self.session, eighths(), "pipe loop.wav")
        with self.assertRaisesRegex(ParameterError, "line of its first bar.*Nothing was changed"):
            self.act("take", take=loop, field="start", value="0.31")
        with self.assertRaisesRegex(ParameterError, "whole bar.*Nothing was changed"):
            self.act("take", take=loop, field="first_bar", value="1.5")
