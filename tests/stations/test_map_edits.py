"""Bars put right as a whole, the curve edited, maps from files: in maps that breathe, are steady, or are
their own.
"""

import numpy as np

from combpace.core.errors import CombPaceError, MapConflictError, ParameterError
from combpace.core.tempo.recount import is_line
from combpace.session import shelf, words
from combpace.session.decisions import considered
from combpace.session.document.stated import DownbeatStatement, name_of
from combpace.session.foresight import foreseen
from combpace.session.led import led_by
from combpace.session.state import session_state
from combpace.stations.bars.map_in import read_file
from rig.places import PlaceTest, bring_in
from rig.sounds import struck
from rig.tiers import soak

STEADY = 1.0 + 0.5 * np.arange(80)


class EditTest(PlaceTest):
    def be_steady(self) -> None:
        self.session = shelf.create(self.place, "Steady")
        self.lead = bring_in(self.place, self.session, struck(STEADY, 42.0, low_every=4), "beat.wav")

    def lines(self, count: int = 8) -> np.ndarray:
        line = self.seen().need_map()
        return np.array([line.second(line.bar_line(k)) for k in range(count)])

    def meters(self) -> list[tuple[int, str]]:
        return [(meter.bar, str(meter)) for meter in self.seen().need_map().meters]


class CountingTest(EditTest):
    def test_one_beat_later_for_all_and_back(self) -> None:
        for steady in (False, True):
            if steady:
                self.be_steady()
            before = self.seen().need_map()
            note = self.act("one-beat", direction="later").note
            self.assertIn("one beat later", note)
            self.assertAlmostEqual(self.line(0), before.second(1.0), places=6)
            self.act("one-beat", direction="earlier")
            self.assertAlmostEqual(self.line(0), before.second(0.0), places=6)

    def test_a_stated_bar_goes_along_and_a_confirmed_downbeat_refuses(self) -> None:
        at = self.line(0)
        self.act("bar-1", time_s=at)
        self.act("one-beat", direction="later")
        self.assertAlmostEqual(self.line(0), float(self.beats[1]), delta=0.004)
        # What was stated is stated of the new line: it holds whatever comes.
        moved = self.line(0)
        self.act("steady")
        self.assertAlmostEqual(self.line(0), moved, places=6)
        self.act("undo")
        self.act("downbeat", time_s=self.line(3))
        with self.assertRaisesRegex(CombPaceError, "take it back first|cannot both hold"):
            self.act("one-beat", direction="later")

    def test_from_a_bar_on_the_bar_before_is_longer(self) -> None:
        for steady in (False, True):
            if steady:
                self.be_steady()
            before = self.lines()
            self.act("one-beat", direction="later", bar=4)
            self.assertEqual(self.meters(), [(1, "4/4"), (3, "5/4"), (4, "4/4")])
            np.testing.assert_allclose(self.lines()[:3], before[:3], atol=1e-6)
            self.act("one-beat", direction="earlier", bar=4)
            self.assertEqual(self.meters(), [(1, "4/4")])
            np.testing.assert_allclose(self.lines(), before, atol=1e-6)

    def test_an_odd_bar_is_made_and_taken_out_and_survives_a_change_of_kind(self) -> None:
        before = self.lines()
        note = self.act("odd-bar", bar=3, beats=3).note
        self.assertIn("Bar 3 has 3 beats", note)
        self.assertNotIn("confirmed", note)
        self.assertEqual(self.meters(), [(1, "4/4"), (3, "3/4"), (4, "4/4")])
        self.act("steady")
        self.assertEqual(self.meters(), [(1, "4/4"), (3, "3/4"), (4, "4/4")])
        self.act("breathing")
        self.act("odd-bar", bar=3, beats=4)
        self.assertEqual(self.meters(), [(1, "4/4")])
        np.testing.assert_allclose(self.lines(), before, atol=1e-6)

    def test_bars_in_another_meter(self) -> None:
        for steady in (False, True):
            if steady:
                self.be_steady()
            self.act("meter-range", meter="3/4", from_bar=3, to_bar=4)
            self.assertEqual(self.meters(), [(1, "4/4"), (3, "3/4"), (5, "4/4")])
        with self.assertRaises(ParameterError):
            self.act("meter-range", meter="3/4", from_bar=4, to_bar=3)

    def test_a_pickup_becomes_lead_in(self) -> None:
        was = self.line(1)
        self.act("pickup", time_s=self.line(0) + 0.7)
        self.assertAlmostEqual(self.line(0), was, delta=0.004)
        self.assertLess(self.line(-1), was - 1.0)

    def test_thirds_and_dotted_values(self) -> None:
        for factor, share in ((3, 3.0), (-3, 1 / 3), ("3/2", 1.5), ("2/3", 2 / 3)):
            before = self.seen().need_map()
            self.act("scale", factor=factor)
            after = self.seen().need_map()
            self.assertAlmostEqual(after.place(before.second(12.0)), 12.0 * share, places=6)
            self.act("undo")
        for bad in (4, 1, "4/3", 0):
            with self.assertRaises(ParameterError):
                self.act("scale", factor=bad)


class CurveTest(EditTest):
    def test_bars_at_a_tempo_leave_the_lead_as_it_was_heard(self) -> None:
        pace, before = self.seen().own_pace(self.lead), self.lines()
        note = self.act("tempo", from_bar=3, to_bar=4, bpm="110").note
        self.assertIn("Bars 3 to 4 run at 110.00 BPM", note)
        self.assertIn("the lead keeps its pace", note)
        np.testing.assert_allclose(np.diff(self.lines()[2:5]), 240 / 110, atol=1e-6)
        np.testing.assert_allclose(self.lines()[:3], before[:3], atol=1e-6)
        self.assertEqual(self.seen().own_pace(self.lead), pace)
        self.assertEqual(self.seen().map_choice().kind, "given")
        # Nudged twice it is one step of undo.
        self.act("tempo", from_bar=3, to_bar=4, by=1.0, nudged=True)
        self.act("tempo", from_bar=3, to_bar=4, by=1.0, nudged=True)
        np.testing.assert_allclose(np.diff(self.lines()[2:5]), 240 / 112, atol=1e-6)
        self.act("undo")
        np.testing.assert_allclose(np.diff(self.lines()[2:5]), 240 / 110, atol=1e-6)
        # And back to the lead's own.
        self.act("breathing")
        np.testing.assert_allclose(self.lines(), before, atol=1e-6)

    def test_a_steady_map_becomes_a_curve(self) -> None:
        self.be_steady()
        self.act("tempo", from_bar=5, to_bar=8, bpm=120, to_bpm=140)
        line = self.seen().need_map()
        self.assertTrue(line.has_ramps)
        self.assertAlmostEqual(line.bpm_at(16.0), 120.0, places=6)
        self.assertAlmostEqual(line.bpm_at(32.0), 120.0, places=3)
        np.testing.assert_allclose(self.lines()[:5], 1.0 + 2.0 * np.arange(5), atol=0.002)

    def test_anchors_shape_it_and_hold(self) -> None:
        self.act("tidy", within_ms=30)
        for bar in (2, 5):
            self.act("lock", quarters=4.0 * bar, locked=False)
        held = [self.line(2), self.line(5)]
        for shape in ("ramps", "steps", "smooth"):
            self.act("curve", shape=shape)
            self.assertEqual([self.line(2), self.line(5)], held)
        self.assertEqual(len(self.seen().need_map().knots) > 4, True)

    def test_ramps_without_anchors_keep_every_line_and_are_no_map_from_a_file(self) -> None:
        before = self.lines()
        for shape, within in (("ramps", "12"), ("steps", "12"), ("smooth", "4")):
            with self.subTest(shape=shape):
                args = {"shape": shape, "within_ms": within}
                said = foreseen(*considered(self.place, self.session, "curve", self.version, args))
                note = self.act("curve", **args).note
                moved = float(np.abs(self.lines() - before).max())
                self.assertLessEqual(moved, float(within) / 1000 + 1e-9)
                # What was said before is what was done.
                assert said.lines is not None
                self.assertLessEqual(said.lines[2], float(within) + 1e-6)
                self.assertIn(f"{said.lines[2]:.1f} ms", note)
                self.assertIn("4/4, edited, 9", shelf.shelf(self.place)[0].sentence)
                self.act("undo")

    def test_tidy_says_what_it_saved_and_keeps_lines(self) -> None:
        before = self.lines()
        note = self.act("tidy", within_ms="15", ramps=False).note
        self.assertRegex(note, r"\d+ tempo changes became \d+, every bar line within \d+\.\d ms")
        self.assertLessEqual(float(np.abs(self.lines() - before).max()), 0.015 + 1e-9)
        for bad in ("0", "x", -1):
            with self.assertRaises(ParameterError):
                self.act("tidy", within_ms=bad)

    def test_corrections_go_on_in_a_map_of_its_own(self) -> None:
        self.act("tidy", within_ms=20)
        at = float(self.beats[12]) + 0.0
        self.act("pull", time_s=at, quarters=12.0)
        self.assertEqual(self.seen().map_choice().kind, "given")
        self.assertAlmostEqual(self.seen().need_map().second(12.0), at, delta=0.004)
        self.assertIsNone(self.seen().document.paces.get(self.lead))
        self.act("meter", meter="3/4", bar=5)
        self.assertEqual(self.meters()[-1], (5, "3/4"))


class MapInTest(EditTest):
    def test_a_file_becomes_the_map_or_the_pace(self) -> None:
        path = self.folder / "lines.csv"
        path.write_text("".join(f"{0.5 + 2.0 * k:.3f},{k + 1}\n" for k in range(9)))
        read = read_file(self.place, self.session, path, "lines.csv")
        self.assertIn("taken to be 4/4", read.pop("sentence"))
        note = self.act("map-in", **read).note
        self.assertIn("lines.csv is the session's map", note)
        np.testing.assert_allclose(self.lines(), 0.5 + 2.0 * np.arange(8), atol=1e-9)
        # What is stated and holds in the file stays; what does not leaves, named.
        self.act("undo")
        for time, number in ((float(self.beats[0]), 1), (float(self.beats[16]), 5)):
            self.act("bar", time_s=time, bar=number)
        self.act("meter", meter="4/4")
        said = list(self.seen().stated.bars)
        note = self.act("map-in", **read).note
        self.assertIn(f"What you stated of bar 1 at {words.clock(said[0][0])} and bar 5 at", note)
        self.assertIn("does not hold in it and leaves", note)
        self.assertEqual([one.what for one in self.seen().map_choice().statements], ["meter"])
        np.testing.assert_allclose(self.lines(), 0.5 + 2.0 * np.arange(8), atol=1e-9)
        # The lead keeps the pace that was heard: it can be fitted to the map.
        pace = self.seen().own_pace(self.lead)
        assert pace is not None
        self.assertAlmostEqual(pace.second(0.0), float(self.beats[0]), delta=0.01)
        self.act("map-in", **{**read, "use": "lead"})
        pace = self.seen().own_pace(self.lead)
        assert pace is not None
        self.assertAlmostEqual(pace.second(0.0), 0.5)
        self.assertEqual(self.seen().map_choice().kind, "own")

    def test_nonsense_is_refused(self) -> None:
        for knots in (
            [[0, 0, 0, 0, 1]],
            [[0, 0, 0, 0, 1], [0, 4, 0, 0, 1]],
            [[1, 0, 0, 0, 1], [0, 4, 0, 0, 1]],
        ):
            with self.assertRaises(CombPaceError):
                self.act("map-in", knots=knots, meters=[[1, 4, 4]])


class ForesightTest(EditTest):
    def setUp(self) -> None:
        super().setUp()
        self.other = bring_in(
            self.place, self.session, struck(self.beats, float(self.beats[-1]) + 1), "reed organ.wav"
        )

    def foresee(self, name: str, /, **args: object) -> str:
        return foreseen(*considered(self.place, self.session, name, self.version, args)).sentence

    def test_what_moves_is_said_before_and_nothing_is_kept(self) -> None:
        version, before = self.version, self.lines()
        said = self.foresee("steady", bpm=90)
        self.assertRegex(
            said, r"Bars -?\d+ to \d+ move by up to \d+\.\d ms\. No take moves\. reed organ keeps its time\."
        )
        self.assertEqual(self.version, version)
        np.testing.assert_array_equal(self.lines(), before)
        self.assertIn("No bar line moves", self.foresee("limit", ms=20))

    def test_what_moves_in_a_steady_session_ends_where_the_music_ends(self) -> None:
        self.be_steady()
        version = self.seen().opened.revision.version
        state, change = considered(self.place, self.session, "bar-1", version, {"time_s": 1.02 + 0.5})
        said = foreseen(state, change)
        assert said.lines is not None
        self.assertLessEqual(said.lines[1], 21)
        self.assertGreater(said.lines[1], 18)

    def test_a_take_that_keeps_its_bar_goes_along(self) -> None:
        self.act("take", take=self.other, field="keeps", value="bar")
        self.act("take", take=self.other, field="start", value=f"{self.line(2):.6f}")
        self.act("breathing")
        said = self.foresee("tempo", from_bar=1, to_bar=2, bpm=60)
        self.assertIn("reed organ moves by up to", said)
        note = self.act("tempo", from_bar=1, to_bar=2, bpm=60).note
        self.assertRegex(note, r"moved by up to \d")
        self.assertAlmostEqual(self.seen().document.take(self.other).offset_s, self.line(2), places=5)
        # One step of undo for map and take.
        self.act("undo")
        self.assertAlmostEqual(self.seen().document.take(self.other).offset_s, self.line(2), places=5)

    def test_a_take_moves_from_a_tenth_of_a_millisecond_on(self) -> None:
        for by_s, said in (
            (0.02, "reed organ moves by up to 20.0 ms"),
            (0.0001, "reed organ moves by up to 0.1 ms"),
        ):
            self.assertIn(said, self.foresee("take", take=self.other, field="start", value=f"{by_s:.6f}"))
        self.assertNotIn(
            "reed organ moves", self.foresee("take", take=self.other, field="start", value="0.000020")
        )

    def test_what_it_keeps_is_checked(self) -> None:
        with self.assertRaises(ParameterError):
            self.act("take", take=self.lead, field="keeps", value="bar")
        with self.assertRaises(ParameterError):
            self.act("take", take=self.other, field="keeps", value="both")


class HoldsTest(EditTest):
    """After any sequence of actions what was stated holds exactly."""

    # So many are run each time, so many before an issue is closed.
    SEEDS, MANY, ACTIONS = 4, 40, 30

    def test_random_sequences(self) -> None:
        self.hold(range(self.SEEDS))

    @soak
    def test_many_random_sequences(self) -> None:
        self.hold(range(self.SEEDS, self.MANY))

    def hold(self, seeds: range) -> None:
        first = self.session
        for seed in seeds:
            rng = np.random.default_rng(seed)
            self.session = shelf.duplicate(self.place, first)
            for _ in range(self.ACTIONS):
                self.random_action(rng)
                self.check(seed)
            # Back to the beginning, bit for bit.
            while self.seen().opened.revision.can_undo:
                self.act("undo")
            self.assertEqual(self.seen().need_map(), session_state(self.place, first).need_map())

    def random_action(self, rng: np.random.Generator) -> None:
        beat = float(rng.choice(self.beats)) + 0.0
        bar = int(rng.integers(2, 7))
        name, args = [
            ("bar-1", {"time_s": float(self.beats[int(rng.integers(0, 8))])}),
            ("downbeat", {"time_s": beat}),
            ("bar", {"time_s": beat, "bar": bar}),
            ("meter", {"meter": str(rng.choice(["3/4", "4/4", "6/8"]))}),
            ("meter", {"meter": str(rng.choice(["3/4", "4/4"])), "bar": bar}),
            ("one-beat", {"direction": str(rng.choice(["later", "earlier"]))}),
            ("one-beat", {"direction": "later", "bar": bar}),
            ("odd-bar", {"bar": bar, "beats": int(rng.integers(2, 6))}),
            ("scale", {"factor": int(rng.choice([2, -2, 3, -3]))}),
            ("steady", {}),
            ("breathing", {}),
            ("tidy", {"within_ms": 20}),
            ("pull", {"time_s": beat, "quarters": round(self.seen().need_map().place(beat))}),
            ("undo", {}),
        ][int(rng.integers(0, 14))]
        try:
            self.act(str(name), **dict(args))  # type: ignore[call-overload]
        except (ParameterError, MapConflictError) as error:
            # What no map can satisfy is refused in a sentence.
            self.assertTrue(str(error))

    def check(self, seed: int) -> None:
        seen = self.seen()
        line, stated = seen.need_map(), seen.stated
        for time, bar in stated.bars:
            index = bar - 1 if bar > 0 else bar
            self.assertAlmostEqual(
                line.second(line.bar_line(index)), time, delta=0.0006, msg=f"bar {bar}, seed {seed}"
            )
        for time in stated.downbeats:
            place = line.place(time)
            if seen.map_choice().kind == "steady":
                continue
            self.assertTrue(
                is_line(line, place) or abs(line.second(round(place)) - time) < 0.0006,
                f"downbeat at {time}, seed {seed}",
            )


class OwnBarsTest(EditTest):
    def setUp(self) -> None:
        super().setUp()
        # A loop of two bars at 110 BPM: eight beats, a deep one on the first of four.
        self.loop = bring_in(
            self.place,
            self.session,
            struck(np.arange(8) * 60 / 110, 8 * 60 / 110, low_every=4),
            "pipe loop.wav",
        )
        self.act("take", take=self.loop, field="pace", value="own")
        self.act("take", take=self.loop, field="first_bar", value="2")

    def heard_at(self, take_s: float) -> float:
        pace = self.seen().own_pace(self.loop)
        assert pace is not None
        return self.seen().need_map().second(pace.place(take_s))

    def own(self, what: str, value: str = "", **more: object) -> str:
        return self.act("own-bars", take=self.loop, what=what, value=value, **more).note

    def test_what_follows_by_it_moves_at_once(self) -> None:
        length = 8 * 60 / 110
        self.assertAlmostEqual(self.heard_at(length), self.line(3), delta=0.02)
        self.assertIn("4.00 bars", self.own("scale", "2"))
        self.assertAlmostEqual(self.heard_at(length), self.line(5), delta=0.02)
        self.act("undo")
        self.own("bars", "1")
        self.assertAlmostEqual(self.heard_at(length), self.line(2), delta=1e-4)
        self.own("tempo", "110")
        self.assertAlmostEqual(self.heard_at(length), self.line(3), delta=0.02)
        before = self.heard_at(1.0)
        self.own("beat", "later")
        self.assertLess(self.heard_at(1.0), before - 0.4)
        self.own("meter", "2/4")
        self.own("heard")
        self.assertNotIn(self.loop, self.seen().document.paces)

    def test_its_bar_1_is_where_it_is_said(self) -> None:
        self.own("tempo", "110")
        self.own("bar-1", take_s=2 * 60 / 110)
        self.assertAlmostEqual(self.heard_at(2 * 60 / 110), self.line(1), delta=0.01)

    def test_nonsense_is_refused(self) -> None:
        for what, value in (
            ("bars", "0"),
            ("bars", "x"),
            ("tempo", "4000"),
            ("scale", "7"),
            ("scale", "x"),
            ("beat", "sideways"),
            ("meter", "4"),
        ):
            with self.assertRaises(ParameterError):
                self.own(what, value)
        with self.assertRaisesRegex(ParameterError, "map is read from"):
            self.act("own-bars", take=self.lead, what="bars", value="4")
        with self.assertRaises(ParameterError):
            self.own("bar-1", take_s=99.0)

    def test_what_corrects_the_leads_bars_corrects_its_own(self) -> None:
        before, length = self.lines(), 8 * 60 / 110
        note = self.act("in-take", take=self.loop, name="downbeat", args={"time_s": 60 / 110}).note
        self.assertTrue(note.startswith("pipe loop: "))
        # Its second stroke opens a bar now; the session's map stays, and what sounds follows at once.
        np.testing.assert_array_equal(self.lines(), before)
        led = led_by(self.seen(), self.loop)
        line = led.need_map()
        self.assertAlmostEqual(
            line.second(line.bar_line(line.bar_of(line.place(60 / 110) + 0.1))), 60 / 110, delta=0.004
        )
        self.assertFalse(self.seen().document.map.statements)
        self.act("in-take", take=self.loop, name="scale", args={"factor": 2})
        self.assertAlmostEqual(
            self.heard_at(length) - self.heard_at(0.0), self.line(5) - self.line(1), delta=0.6
        )
        for name, args in (("tidy", {"within_ms": 10}), ("undo", {}), ("meter", {"meter": "17"})):
            with self.assertRaises(ParameterError):
                self.act("in-take", take=self.loop, name=name, args=args)
        with self.assertRaises(ParameterError):
            self.act("in-take", take=self.lead, name="scale", args={"factor": 2})

    def test_decisions_about_bars_take_a_take_and_what_is_stated_of_it_stays_with_it(self) -> None:
        lead_map = self.seen().need_map()
        beat = 60 / 110
        note = self.act("downbeat", take=self.loop, time_s=1 * beat, reach="everywhere").note
        self.assertTrue(note.startswith("pipe loop: "), note)
        self.assertEqual(self.seen().need_map(), lead_map)
        (one,) = self.seen().document.said[self.loop]
        assert isinstance(one, DownbeatStatement)
        self.assertAlmostEqual(one.time_s, beat, delta=0.002)
        self.assertNotIn(self.loop, self.seen().document.paces)
        pace = self.seen().counted_pace(self.loop)
        assert pace is not None
        self.assertAlmostEqual((pace.place(one.time_s) - pace.place(0.0)) % 4, 1.0, places=3)
        # A second statement stands beside the first, and each is taken back by its name.
        self.act("in-take", take=self.loop, name="meter", args={"meter": "2/4"})
        self.assertEqual([said.what for said in self.seen().document.said[self.loop]], ["downbeat", "meter"])
        self.act("take-back", take=self.loop, id=name_of(one))
        self.assertEqual([said.what for said in self.seen().document.said[self.loop]], ["meter"])
        with self.assertRaisesRegex(ParameterError, "no longer stated"):
            self.act("take-back", id=name_of(one))
        # The lead is meant where it is named.
        self.act("downbeat", take=self.lead, time_s=float(self.beats[5]))
        self.assertEqual(len(self.seen().document.map.statements), 1)

    def test_another_lead_takes_its_own_statements_along(
        self,
    ) -> None:
        other = bring_in(
            self.place, self.session, struck(0.3 + np.arange(40) * 0.6, 26.0, low_every=4), "other kit.wav"
        )
        self.act("take", take=other, field="pace", value="own")
        self.act("scale", factor=2)
        self.act("meter", take=other, meter="2/4")
        twice = self.seen().own_pace(self.lead)
        self.act("take", take=other, field="role", value="lead")
        self.assertEqual([one.what for one in self.seen().document.map.statements], ["meter"])
        self.assertEqual(str(self.seen().need_map().meters[0]), "2/4")
        self.assertEqual([one.what for one in self.seen().document.said[self.lead]], ["level"])
        self.act("take", take=self.lead, field="pace", value="own")
        back = self.seen().counted_pace(self.lead)
        assert twice is not None and back is not None
        np.testing.assert_allclose(back.times_s, twice.times_s, rtol=0, atol=1e-9)
