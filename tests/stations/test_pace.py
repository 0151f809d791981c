"""Pace: readings, taps, ranges, the start, padding; each as the page takes it."""

from dataclasses import replace

import numpy as np

from combpace.core.analysis.readings import alike
from combpace.core.errors import ParameterError
from combpace.core.tempo.meters import bar_index
from combpace.session import fits, shelf
from combpace.stations.lead_readings import in_force, sentence, ways
from combpace.stations.pace.station import pace_facts
from rig.places import PlaceTest, bring_in, look
from rig.sounds import struck


class ReadingTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        # Halves as loud as beats, a deep stroke on every third: how it is counted is open.
        halves = (self.beats[:-1] + self.beats[1:]) / 2
        self.session = shelf.create(self.place, "Open")
        sound = struck(
            np.sort(np.concatenate([self.beats, halves])), float(self.beats[-1]) + 1.0, low_every=3
        )
        self.lead = bring_in(self.place, self.session, sound, "open kit.wav")
        self.offered = self.seen().readings(self.lead)

    def test_the_one_in_force_is_first_and_taking_another_is_one_step(self) -> None:
        self.assertGreater(len(self.offered), 1)
        self.assertEqual(ways(self.seen())[0].do, None)
        before = self.seen().need_map()
        note = self.act("reading", rank=2).note
        self.assertIn("reading 2", note)
        pace = self.seen().own_pace(self.lead)
        assert pace is not None
        self.assertTrue(alike(pace, self.offered[1].pace))
        self.assertEqual(in_force(self.seen(), self.seen().need_lead(), self.offered), 2)
        self.assertEqual(ways(self.seen())[0].rank, 2)
        # Breathing stays breathing, ranks stay, and one undo takes it back.
        self.assertEqual(self.seen().map_choice().kind, "own")
        self.assertEqual(
            [one.rank for one in self.seen().readings(self.lead)], [one.rank for one in self.offered]
        )
        self.act("undo")
        self.assertEqual(self.seen().need_map(), before)

    def test_what_is_counted_alike_is_told_apart_by_where_its_bars_begin(self) -> None:
        one = self.offered[0]
        meter = one.pace.meters[0]
        later = replace(
            one,
            rank=9,
            probability=0.2,
            pace=one.pace.shifted(one.pace.second(meter.beat_quarters) - one.pace.second(0.0)),
        )
        self.assertEqual(sentence(later, one), f"{one.meter} at {one.bpm:.1f} from beat 2, 20 %")
        self.assertNotIn("from beat", sentence(one, one))
        said = [way.sentence.rpartition(",")[0] for way in ways(self.seen())]
        self.assertEqual(len(set(said)), len(said))

    def test_the_one_in_force_is_accepted_and_nothing_moves(self) -> None:
        before = self.seen().need_map().times_s
        self.act("reading", rank=1)
        np.testing.assert_allclose(self.seen().need_map().times_s, before, atol=1e-9)

    def test_what_was_stated_holds_or_is_named(self) -> None:
        at = float(self.seen().need_map().second(self.seen().need_map().bar_line(3)))
        self.act("bar", time_s=at, bar=4)
        self.act("meter", meter="4/4")
        other = next((one for one in self.offered if one.meter != "4/4"), self.offered[1])
        note = self.act("reading", rank=other.rank).note
        line = self.seen().need_map()
        self.assertAlmostEqual(line.second(line.bar_line(bar_index(4))), at, places=6)
        if other.meter != "4/4":
            self.assertIn("4/4 that you stated stays", note)
        self.act("steady", bpm=90)
        far = next(one.rank for one in self.offered if abs(one.bpm / 90 - 1) > 0.02)
        self.assertIn("90.00 BPM that you stated", self.act("reading", rank=far).note)

    def test_a_rank_that_is_none_is_refused(self) -> None:
        for rank in (0, len(self.offered) + 1, -1):
            with self.assertRaisesRegex(ParameterError, "Nothing was changed"):
                self.act("reading", rank=rank)


class StretchTest(PlaceTest):
    def steady_lead(self) -> None:
        self.session = shelf.create(self.place, "Steady")
        self.lead = bring_in(
            self.place,
            self.session,
            struck(1.0 + 60 / 119.752 * np.arange(96), 50.0, low_every=4),
            "beat.wav",
        )

    def test_one_factor_stretches_all_of_it_to_the_tempo(self) -> None:
        self.steady_lead()
        note = self.act("stretch-to", bpm=120).note
        self.assertRegex(note, r"0\.2[01] % shorter, from 119\.75\d to 120 BPM")
        made = fits.take_fit(self.seen(), self.lead)
        np.testing.assert_allclose(made.fit.time_map.factors, 119.752 / 120, atol=2e-5)
        # Bar 1 stays where it was heard, and the last beat lies on its place.
        self.assertAlmostEqual(self.line(0), 1.0, delta=0.002)
        last = made.fit.time_map.to_target(np.array([1.0 + 60 / 119.752 * 95]))[0]
        self.assertAlmostEqual(float(last), self.line(0) + 95 * 0.5, delta=0.002)
        # What sounds lies on the grid: nothing is said of drift any more; one undo takes all of it back.
        self.assertEqual(look(self.seen(), "pace"), [])
        self.act("undo")
        self.assertFalse(fits.is_fitted(self.seen(), self.lead))

    def test_a_take_that_breathes_has_no_one_factor(self) -> None:
        with self.assertRaisesRegex(ParameterError, "No single tempo fits tub kit"):
            self.act("stretch-to", bpm=120)


class TapTest(PlaceTest):
    def test_taps_give_tempo_and_bar_1_in_one_step(self) -> None:
        rng = np.random.default_rng(1)
        session = shelf.create(self.place, "Steady")
        beats = 1.0 + 0.5 * np.arange(64)
        lead = bring_in(self.place, session, struck(beats, 34.0, low_every=4), "beat.wav")
        self.session, self.lead = session, lead
        note = self.act("tap", times_s=list(beats[8:24] + rng.uniform(-0.04, 0.04, 16))).note
        self.assertIn("16 taps", note)
        self.assertIn("twice what the hats suggest", note)
        facts = pace_facts(self.seen())
        assert facts is not None
        self.assertIn("once to the beat", facts["hats"])
        self.assertEqual(
            [line.bpm for line in facts["lines"] if "hats as eighths" in line.source],
            [facts["facts"]["bpm"] / 2],
        )
        line = self.seen().need_map()
        self.assertAlmostEqual(line.bpm_at(0.0), 120.0, delta=0.05)
        off = (line.second(0.0) - 1.0) / 0.5
        self.assertLess(abs(off - round(off)) * 500, 8)
        self.act("undo")
        with self.assertRaisesRegex(ParameterError, "4 taps"):
            self.act("tap", times_s=[1.0, 2.0])

    def test_without_any_pulse_the_taps_stand_alone(self) -> None:
        session = shelf.create(self.place, "Drone")
        bring_in(self.place, session, struck([0.5], 12.0), "drone.wav")
        self.session = session
        self.act("tap", times_s=[2.0 + 0.6 * k for k in range(8)])
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.0), 100.0, delta=0.01)


class StartTest(PlaceTest):
    def downbeat(self, number: int) -> float:
        return self.line(bar_index(number))

    def test_audio_goes_to_a_bar_of_a_steady_grid_that_stays(self) -> None:
        self.act("steady", bpm=100)
        grid = self.seen().need_map()
        attack = float(self.seen().onsets(self.lead).times[0])
        self.act("audio-to-bar", take=self.lead, time_s=attack, bar=5)
        now = self.seen()
        self.assertEqual(now.need_map().second(0.0), grid.second(0.0))
        self.assertAlmostEqual(now.need_lead().offset_s + attack, self.downbeat(5), delta=1e-9)
        self.act("undo")
        self.assertEqual(self.seen().need_lead().offset_s, 0.0)

    def test_audio_of_a_breathing_lead_takes_its_lines_along_and_bar_1_stays(self) -> None:
        first = self.downbeat(1)
        lines = [self.downbeat(number) - first for number in (2, 3, 4)]
        self.act("audio-to-bar", take=self.lead, time_s=first, bar=17)
        self.assertAlmostEqual(self.downbeat(1), first, delta=1e-6)
        self.assertAlmostEqual(self.downbeat(17), first + self.seen().need_lead().offset_s, delta=1e-6)
        self.assertGreater(self.seen().need_lead().offset_s, 10.0)
        np.testing.assert_allclose(
            [self.downbeat(number) - self.downbeat(17) for number in (18, 19, 20)], lines, atol=1e-6
        )

    def test_what_was_stated_of_bars_goes_along(self) -> None:
        at = self.downbeat(3)
        self.act("bar", time_s=at, bar=3)
        self.act("audio-to-bar", take=self.lead, time_s=self.downbeat(1), bar=5)
        moved = at + self.seen().need_lead().offset_s
        self.assertAlmostEqual(self.downbeat(7), moved, delta=1e-6)
        self.assertEqual(self.seen().stated.bars[0][1], 7)
        self.act("meter", meter="4/4")
        self.assertAlmostEqual(self.downbeat(7), moved, delta=1e-6)

    def test_an_attack_that_opens_no_bar_is_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "opens no bar"):
            self.act("audio-to-bar", take=self.lead, time_s=float(self.beats[1]), bar=5)


class DelayTest(PlaceTest):
    def test_padding_is_offered_and_taken_off_by_placement(self) -> None:
        def offered() -> list[object]:
            return [one for one in look(self.seen(), "pace") if one.do and one.do.name == "take-off-delay"]

        # Music that starts late in a file that no encoder touched is no padding, nor is what encoders never
        # leave.
        for late, name in ((0.02506, "copy 120bpm.wav"), (0.0325, "copy 120bpm.mp3")):
            self.session = shelf.create(self.place, "Late")
            sound = struck(late + 0.5 * np.arange(64), 33.0, low_every=4)
            bring_in(self.place, self.session, sound, name)
            self.assertEqual(offered(), [])
        self.session = shelf.create(self.place, "Copied")
        # As MP3 comes without the header that states its padding: 1,105 frames.
        sound = struck(1105 / 44100 + 0.5 * np.arange(64), 33.0, low_every=4)
        lead = bring_in(self.place, self.session, sound, "copy 120bpm.mp3")
        place = next(one for one in look(self.seen(), "pace") if one.do and one.do.name == "take-off-delay")
        self.assertIn("a guess", place.reason)
        assert place.do is not None
        self.assertAlmostEqual(place.do.args["delay_s"], 1105 / 44100, delta=0.001)
        self.act("take-off-delay", **place.do.args)
        self.assertAlmostEqual(self.seen().need_map().second(0.0) % 0.5, 0.0, delta=0.002)
        self.assertEqual(self.seen().need_lead().offset_s, -place.do.args["delay_s"])
        self.assertFalse(
            [one for one in look(self.seen(), "pace") if one.do and one.do.name == "take-off-delay"]
        )
        facts = pace_facts(self.seen())
        assert facts is not None
        self.assertTrue([line for line in facts["lines"] if "stated by its file name" in line.source])
        self.assertEqual(lead, self.seen().need_lead().id)


class LimitTest(PlaceTest):
    def test_what_may_pile_up_decides_what_is_proposed(self) -> None:
        self.session = shelf.create(self.place, "Odd")
        bring_in(
            self.place, self.session, struck(1.0 + 60 / 119.75 * np.arange(120), 62.0, low_every=4), "odd.wav"
        )

        def offered() -> str:
            facts = pace_facts(self.seen())
            assert facts is not None and facts["offer"] is not None
            return str(facts["offer"].bpm)

        self.assertTrue(offered().startswith("119.7"), offered())
        facts = pace_facts(self.seen())
        assert facts is not None
        self.assertIn("120 BPM is not close enough", facts["offer"].instead_why)
        self.assertIn("Nothing moved", self.act("limit", ms="400").note)
        with self.assertRaisesRegex(ParameterError, "limit"):
            self.act("limit", ms="none")


class PartTest(PlaceTest):
    def test_one_tempo_from_chosen_takes_and_bars(self) -> None:
        self.session = shelf.create(self.place, "Part")
        # Eight bars at 100, then sixteen at 120.
        slow, fast = 1.0 + 0.6 * np.arange(32), 1.0 + 0.6 * 32 + 0.5 * np.arange(64)
        lead = bring_in(
            self.place, self.session, struck(np.concatenate([slow, fast]), 53.0, low_every=4), "two tempi.wav"
        )
        line = self.seen().need_map()
        bar = line.bar_of(line.place(22.0)) + 1
        note = self.act("read-from", takes=[lead], from_bar=bar + 2).note
        self.assertIn(f"in bars {bar + 2} to the last", note)
        now = self.seen().need_map()
        self.assertAlmostEqual(now.bpm_at(0.0), 120.0, delta=0.05)
        off = (now.second(0.0) - fast[0]) / 0.5
        self.assertAlmostEqual(off, round(off), delta=0.01)
        with self.assertRaisesRegex(ParameterError, "choose more bars"):
            self.act("read-from", takes=[lead], from_bar=2, to_bar=2)
        with self.assertRaisesRegex(ParameterError, "no bar 0"):
            self.act("read-from", takes=[lead], from_bar=0)
