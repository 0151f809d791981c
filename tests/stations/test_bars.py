import numpy as np

from combpace.core.errors import MapConflictError, ParameterError, StaleError
from combpace.drawing import picture
from combpace.session import fits, shelf, words
from combpace.session.analysis_store import write_analysis
from combpace.session.decisions import decide
from combpace.session.state import session_state
from combpace.stations.pace.station import pace_facts
from combpace.stations.takes import importing
from combpace.store import rows
from rig.places import PlaceTest, breathing, bring_in
from rig.sounds import struck


class BarsTest(PlaceTest):
    def test_bar_1_goes_to_the_attack_that_is_meant(self) -> None:
        revision = self.act("bar-1", time_s=float(self.beats[4]) + 0.02)
        self.assertAlmostEqual(self.line(0), float(self.beats[4]), delta=0.002)
        self.assertIn("Bar 1 is at", revision.note)
        self.assertEqual(self.seen().map_choice().kind, "own")

    def test_pull_makes_an_anchor_and_undo_takes_it_back(self) -> None:
        before = self.line(3)
        note = self.act(
            "pull", time_s=before + 0.011, quarters=self.seen().need_map().bar_line(3), free=True
        ).note
        self.assertAlmostEqual(self.line(3), before + 0.011, places=6)
        self.assertIn("11.0 ms", note)
        undone = self.act("undo")
        self.assertTrue(undone.note.startswith("Undone"))
        self.assertAlmostEqual(self.line(3), before, places=9)
        self.act("redo")
        self.assertAlmostEqual(self.line(3), before + 0.011, places=6)

    def test_anchors_hold_through_later_corrections(self) -> None:
        for bar in (2, 4, 3):
            self.act(
                "pull",
                time_s=self.line(bar) + 0.004 * bar,
                quarters=self.seen().need_map().bar_line(bar),
                free=True,
            )
        kept = [self.line(bar) for bar in (2, 3, 4)]
        self.act("downbeat", time_s=self.line(6))
        np.testing.assert_allclose([self.line(bar) for bar in (2, 3, 4)], kept, atol=1e-9)

    def test_release_and_lock(self) -> None:
        place = self.seen().need_map().bar_line(3)
        before = self.line(3)
        self.act("pull", time_s=before + 0.02, quarters=place, free=True)
        self.act("lock", quarters=place, locked=True)
        with self.assertRaises(MapConflictError):
            self.act("pull", time_s=before, quarters=place)
        with self.assertRaises(ParameterError):
            self.act("release", quarters=place)
        self.act("lock", quarters=place, locked=False)
        self.act("release", quarters=place)
        self.assertAlmostEqual(self.line(3), before, delta=0.002)

    def test_steady_and_back(self) -> None:
        self.act("steady", bpm=95.5, bar_1_s=1.25)
        line = self.seen().need_map()
        self.assertAlmostEqual(line.bpm_at(0.0), 95.5)
        self.assertAlmostEqual(line.second(0.0), 1.25)
        self.act("pull", time_s=float(self.beats[0]), quarters=0.0)
        self.assertAlmostEqual(self.line(0), float(self.beats[0]), delta=0.002)
        self.act("meter", meter="3/4")
        self.assertEqual(str(self.seen().need_map().meters[0]), "3/4")
        self.act("breathing")
        self.assertEqual(self.seen().map_choice().kind, "own")

    def test_nudges_merge_into_one_step(self) -> None:
        self.act("steady", bpm=95.0, bar_1_s=1.0)
        for bpm in (95.1, 95.2, 95.3):
            self.act("steady", bpm=bpm, nudged=True)
        self.act("undo")
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.0), 95.0)

    def test_a_stale_page_is_told_what_happened(self) -> None:
        old = self.version
        decide(self.place, self.session, "meter", old, {"meter": "3/4"})
        with self.assertRaises(StaleError) as caught:
            decide(self.place, self.session, "meter", old, {"meter": "4/4"})
        self.assertIn("another page", str(caught.exception))
        self.assertEqual(str(self.seen().need_map().meters[0]), "3/4")

    def test_bad_input_changes_nothing(self) -> None:
        version = self.version
        for call in (
            lambda: decide(self.place, self.session, "bar-1", version, {"time_s": 1e5}),
            lambda: decide(self.place, self.session, "bar-1", version, {"time_s": float("nan")}),
            lambda: decide(self.place, self.session, "meter", version, {"meter": "17"}),
            lambda: decide(self.place, self.session, "steady", version, {"bpm": 4000.0, "bar_1_s": 0.0}),
            lambda: decide(self.place, self.session, "scale", version, {"factor": 4}),
            lambda: decide(self.place, self.session, "release", version, {"quarters": 4.0}),
        ):
            with self.assertRaises(ParameterError) as caught:
                call()
            self.assertRegex(str(caught.exception), r"(Nothing was changed|unchanged)")
        self.assertEqual(self.version, version)


class MeterFromTest(PlaceTest):
    def test_from_a_bar_on_and_said_so(self) -> None:
        before = self.line(4)
        note = self.act("meter", meter="3/4", bar=5).note
        self.assertIn("The meter is 3/4 from bar 5 on", note)
        line = self.seen().need_map()
        self.assertEqual([(meter.bar, str(meter)) for meter in line.meters], [(1, "4/4"), (5, "3/4")])
        self.assertEqual(self.line(4), before)
        self.assertEqual(words.map_sentence(line, "own", 20.0)[:22], "4/4, 3/4 from bar 5, b")
        self.act("undo")
        self.assertEqual(len(self.seen().need_map().meters), 1)

    def test_a_steady_map_changes_its_meter_too_and_keeps_its_tempo(self) -> None:
        self.act("steady", bpm=120.0, bar_1_s=1.0)
        note = self.act("meter", meter="3/4", bar=5).note
        self.assertIn("The meter is 3/4 from bar 5 on", note)
        line = self.seen().need_map()
        self.assertEqual([(meter.bar, str(meter)) for meter in line.meters], [(1, "4/4"), (5, "3/4")])
        self.assertEqual([round(self.line(index), 9) for index in (3, 4, 5)], [7.0, 9.0, 10.5])
        with self.assertRaises(ParameterError):
            self.act("meter", meter="3/4", bar=0)


class ScaleFromTest(PlaceTest):
    def test_from_a_bar_on_and_said_so(self) -> None:
        lines = [self.line(index) for index in range(7)]
        note = self.act("scale", factor=-2, bar=3).note
        self.assertIn("The tempo is read half as fast from bar 3 on", note)
        self.assertEqual(
            [round(self.line(index), 6) for index in range(5)], [round(lines[k], 6) for k in (0, 1, 2, 4, 6)]
        )
        self.assertIn("3 bar lines fewer, the others stay", note)
        self.assertIn("3 bar lines more, the others stay", self.act("scale", factor=2, bar=3).note)
        self.assertEqual(
            [round(self.line(index), 3) for index in range(5)], [round(time, 3) for time in lines[:5]]
        )

    def test_from_a_bar_of_the_lead_in_on_it_is_all_of_the_map(self) -> None:
        line = self.line(2)
        for bar in (-1, 1):
            note = self.act("scale", factor=2, bar=bar).note
            self.assertNotIn("from bar", note)
            self.assertAlmostEqual(self.line(4), line, places=6)
            self.act("undo")

    def test_some_bars_are_read_twice_as_fast_and_what_follows_is_not(self) -> None:
        before = [self.line(bar) for bar in range(8)]
        note = self.act("scale", factor=2, bar=3, to_bar=4).note
        self.assertIn("twice as fast in bars 3 to 4", note)
        # Each of the two is two bars now; all lines of before are lines.
        for bar, line in ((0, 0), (2, 2), (3, 4), (4, 6), (5, 7), (7, 9)):
            self.assertAlmostEqual(self.line(line), before[bar], places=6)
        self.act("scale", factor=-2, bar=3, to_bar=6)
        for bar, time in enumerate(before):
            self.assertAlmostEqual(self.line(bar), time, places=6)
        self.assertEqual([one.what for one in self.seen().map_choice().statements], [])
        with self.assertRaisesRegex(ParameterError, "no whole number of bars"):
            self.act("scale", factor=-2, bar=3, to_bar=5)
        with self.assertRaisesRegex(ParameterError, "backwards"):
            self.act("scale", factor=2, bar=3, to_bar=2)

    def test_a_steady_map_has_one_tempo(self) -> None:
        self.act("steady", bpm=120.0)
        with self.assertRaisesRegex(MapConflictError, "one tempo"):
            self.act("scale", factor=2, bar=3)
        with self.assertRaises(ParameterError):
            self.act("scale", factor=2, bar=0)


class ReadAgainTest(PlaceTest):
    def tempo(self) -> float:
        line = self.seen().need_map()
        return 60.0 * 4 / float(np.median(np.diff(line.to_seconds(line.bar_lines(0, 4)))))

    def test_near_half_the_tempo_with_what_was_fixed_and_undone(self) -> None:
        before, first = self.tempo(), self.line(0)
        self.act("bar-1", time_s=first)
        note = self.act("read-again", about_bpm=before / 2).note
        self.assertRegex(note, "is read again near .* BPM; 1 anchor stayed in place; ")
        line = self.seen().need_map()
        self.assertAlmostEqual(line.bpm_at(8.0) / before, 0.5, delta=0.06)
        self.assertEqual(self.line(0), first)
        self.assertEqual([knot.quarters for knot in line.knots if knot.fixed], [0.0])
        self.act("undo")
        self.assertAlmostEqual(self.tempo(), before, places=9)

    def test_what_is_said_of_the_pace_is_said_of_the_one_in_force(self) -> None:
        before = pace_facts(self.seen())
        assert before is not None
        self.act("read-again", about_bpm=before["lines"][0].bpm / 2)
        after = pace_facts(self.seen())
        assert after is not None
        self.assertAlmostEqual(after["lines"][0].bpm / before["lines"][0].bpm, 0.5, delta=0.02)
        # How sure the ear was of its own count says nothing of the user's.
        self.assertIsNone(after["counted"])
        self.assertIsNotNone(before["counted"])

    def test_a_steady_session_stays_steady_at_what_is_read(self) -> None:
        session = shelf.create(self.place, "Even steps")
        times = 0.5 + np.arange(48) * 0.5
        bring_in(self.place, session, struck(times, 25.0, low_every=4), "even.wav")
        self.assertEqual(session_state(self.place, session).map_choice().kind, "steady")
        decide(
            self.place, session, "read-again", self.place.open(session).revision.version, {"about_bpm": 60.0}
        )
        seen = session_state(self.place, session)
        self.assertEqual(seen.map_choice().kind, "steady")
        self.assertAlmostEqual(
            seen.need_map().bpm_at(0.0) / seen.need_map().meters[0].beat_quarters, 60.0, delta=0.05
        )
        self.assertLess(float(np.min(np.abs(times - seen.need_map().second(0.0)))), 0.003)

    def test_what_was_put_beside_every_attack_stays_there_to_the_sample(self) -> None:
        at = self.line(3) + 0.023
        self.act("pull", time_s=at, quarters=self.seen().need_map().bar_line(3), free=True)
        self.act("read-again", about_bpm=self.tempo())
        self.assertIn(at, [knot.time_s for knot in self.seen().need_map().knots if knot.fixed])

    def test_all_mics_of_a_bundle_are_heard(self) -> None:
        session = shelf.create(self.place, "Two mics")
        ids = [
            bring_in(
                self.place,
                session,
                struck(self.beats[first::4], float(self.beats[-1]) + 1.0, low_every=1 if first == 0 else 0),
                f"mic {first}.wav",
            )
            for first in range(4)
        ]
        decide(
            self.place,
            session,
            "bundle",
            self.place.open(session).revision.version,
            {"takes": ids, "name": "Tubs"},
        )
        importing.hear_together(self.place, ids, lambda phase, share: None)
        decide(
            self.place,
            session,
            "read-again",
            self.place.open(session).revision.version,
            {"about_bpm": self.tempo()},
        )
        beats = np.array([knot.time_s for knot in session_state(self.place, session).need_map().knots])
        # Three in four are struck in front of other mics than the lead's.
        away = np.abs(beats[:, None] - self.beats[None, :]).min(axis=0)
        self.assertGreater(float(np.mean(away < 0.004)), 0.9)

    def test_a_meter_that_was_stated_stays(self) -> None:
        self.act("meter", meter="3/4")
        self.act("read-again", about_bpm=self.seen().need_map().bpm_at(0.0))
        self.assertEqual([str(meter) for meter in self.seen().need_map().meters], ["3/4"])

    def test_what_is_fixed_inside_a_bar_is_named_and_nothing_changes(self) -> None:
        self.act("pull", time_s=float(self.beats[5]), quarters=5.0)
        version = self.version
        with self.assertRaisesRegex(ParameterError, "inside a bar.*Nothing was changed"):
            decide(self.place, self.session, "read-again", version, {"about_bpm": 60.0})
        self.assertEqual(self.version, version)

    def test_what_an_earlier_version_heard_has_to_be_heard_again(self) -> None:
        seen = self.seen()
        heard = seen.analysis(self.lead)
        assert heard is not None
        path = self.place.blobs.new_path(".npz")
        write_analysis(path, heard.onsets, heard.pace, heard.activation, {**heard.facts, "version": 1})
        rows.change_take(self.place.database, self.lead, analysis_sha=self.place.blobs.adopt(path))
        with self.assertRaisesRegex(ParameterError, "earlier version.*Nothing was changed"):
            self.act("read-again", about_bpm=60.0)


class PlacedTest(PlaceTest):
    def test_a_lead_that_starts_later_takes_its_map_along(self) -> None:
        before = self.line(2)
        self.act("take", take=self.lead, field="start", value="0:02.500")
        self.assertAlmostEqual(self.line(2), before + 2.5, places=6)
        # What is said of the map is said in session time.
        self.act("bar-1", time_s=float(self.beats[4]) + 2.5 + 0.01)
        self.assertAlmostEqual(self.line(0), float(self.beats[4]) + 2.5, delta=0.002)

    def test_takes_of_another_rate_share_the_lead_pace(self) -> None:
        _, audio = breathing(rate=48000)
        follower = bring_in(self.place, self.session, audio, "room.wav")
        self.act("take", take=follower, field="start", value="-0.25")
        pace = self.seen().own_pace(follower)
        assert pace is not None
        self.assertAlmostEqual(pace.second(4.0) - 0.25, self.line(1), places=9)


class NoPulseTest(PlaceTest):
    def test_a_stated_tempo_carries_the_whole_path(self) -> None:
        from combpace.core.audio import Audio

        session = shelf.create(self.place, "Held breath")
        tone = np.asarray(0.3 * np.sin(np.arange(44100 * 6) * 0.04), np.float32)
        lead = bring_in(self.place, session, Audio(tone, 44100), "pad.wav")
        with self.assertRaises(ParameterError):
            decide(self.place, session, "breathing", self.place.open(session).revision.version, {})
        decide(self.place, session, "steady", self.place.open(session).revision.version, {"bpm": 100.0})

        seen = session_state(self.place, session)
        self.assertEqual(seen.need_map().second(4.0), 2.4)
        self.assertLess(len(fits.take_fit(seen, lead).fit.pegs), 3)
        self.assertGreater(len(picture.picture(seen, lead)["bars"]), 1)
