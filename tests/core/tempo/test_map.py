import itertools
import unittest

import numpy as np

from combpace.core.clocks import TakeTimes, quarters, take_times
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter, bar_index, bar_number, parse_meter


class SteadyMapTest(unittest.TestCase):
    # Quarter notes in ms = 60000 / BPM (common practice; BPM is beats per minute by definition).
    LENGTHS = ((60.0, 1000.0), (120.0, 500.0), (100.0, 600.0), (93.75, 640.0), (140.5, 427.0462633451957))

    def test_quarter_lengths(self) -> None:
        for bpm, ms in self.LENGTHS:
            with self.subTest(bpm=bpm):
                line: TempoMap[TakeTimes] = steady_map(bpm, 1.0)
                self.assertAlmostEqual(1000 * (line.second(1.0) - line.second(0.0)), ms, places=6)
                self.assertTrue(line.is_steady)

    def test_refuses_tempi_that_nobody_plays(self) -> None:
        for bpm in (0.0, -3.0, float("nan"), float("inf"), 5000.0):
            with self.subTest(bpm=bpm), self.assertRaises(ParameterError):
                steady_map(bpm, 0.0)


class ConversionTest(unittest.TestCase):
    def setUp(self) -> None:
        self.map: TempoMap[TakeTimes] = TempoMap(
            (Knot(0.5, 0.0), Knot(1.0, 1.0), Knot(1.6, 2.0), Knot(2.0, 3.0))
        )

    def test_exact_at_knots_to_the_last_bit(self) -> None:
        self.assertEqual(list(self.map.to_quarters(take_times([0.5, 1.0, 1.6, 2.0]))), [0.0, 1.0, 2.0, 3.0])
        self.assertEqual(list(self.map.to_seconds(quarters([0, 1, 2, 3]))), [0.5, 1.0, 1.6, 2.0])

    def test_there_and_back(self) -> None:
        times = take_times(np.linspace(-3, 8, 500))
        np.testing.assert_allclose(self.map.to_seconds(self.map.to_quarters(times)), times, atol=1e-12)

    def test_runs_on_beyond_both_ends_at_the_last_tempo(self) -> None:
        self.assertAlmostEqual(self.map.second(-1.0), 0.0)
        self.assertAlmostEqual(self.map.second(4.0), 2.4)

    def test_strictly_increasing(self) -> None:
        self.assertTrue(np.all(np.diff(self.map.to_quarters(take_times(np.linspace(-2, 5, 999)))) > 0))

    def test_refuses_knots_that_run_backwards(self) -> None:
        for knots in (
            (Knot(1, 0), Knot(0, 1)),
            (Knot(0, 1), Knot(1, 0)),
            (Knot(0, 0), Knot(0, 1)),
            (Knot(0, 0),),
        ):
            with self.subTest(knots=knots), self.assertRaises(ParameterError):
                TempoMap(knots)


class BarsTest(unittest.TestCase):
    def test_there_is_no_bar_0(self) -> None:
        self.assertEqual([bar_number(i) for i in (-2, -1, 0, 1)], [-2, -1, 1, 2])
        self.assertEqual([bar_index(n) for n in (-2, -1, 1, 2)], [-2, -1, 0, 1])
        with self.assertRaises(ParameterError):
            bar_index(0)

    def test_lines_and_addresses_through_meter_changes(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(60, 0.0, (Meter(1, 4, 4), Meter(3, 3, 4), Meter(5, 7, 8)))
        self.assertEqual([line.bar_line(i) for i in range(-1, 6)], [-4, 0, 4, 8, 11, 14, 17.5])
        for place, address in (
            (0.0, (1, 1.0)),
            (9.0, (3, 2.0)),
            (14.5, (5, 2.0)),
            (-1.0, (-1, 4.0)),
            (17.5, (6, 1.0)),
        ):
            with self.subTest(place=place):
                self.assertEqual(line.address(place), address)
        for place in np.linspace(-9, 40, 197):
            index = line.bar_of(float(place))
            self.assertLessEqual(line.bar_line(index), place + 1e-6)
            self.assertGreater(line.bar_line(index + 1), place)

    def test_beats_through_meter_changes(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(60, 0.0, (Meter(1, 4, 4), Meter(2, 7, 8), Meter(3, 6, 8)))
        # Four quarters, seven eighths, then dotted quarters (common practice).
        places = [0, 1, 2, 3, 4, 4.5, 5, 5.5, 6, 6.5, 7, 7.5, 9, 10.5]
        np.testing.assert_allclose(line.beats_between(0.0, 11.0), places)
        self.assertEqual([line.beats_from_bar_1(place) for place in places], list(range(14)))
        self.assertEqual(line.beats_from_bar_1(-3.0), -3.0)
        self.assertEqual(
            [line.beat_near(place) for place in (0.4, 4.3, 7.4, 8.3, -0.6)], [0.0, 4.5, 7.5, 9.0, -1.0]
        )
        self.assertEqual(len(line.beats_between(2.0, 2.0)), 0)

    def test_counting_from_another_bar_keeps_the_changes_where_they_were(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(60, 0.0, (Meter(1, 4, 4), Meter(3, 3, 4), Meter(5, 7, 8)))
        later = line.counted_from(4.0)
        self.assertEqual(
            [(meter.bar, str(meter)) for meter in later.meters], [(1, "4/4"), (2, "3/4"), (4, "7/8")]
        )
        self.assertEqual(later.second(later.bar_line(3)), line.second(line.bar_line(4)))
        inside = line.counted_from(11.0)
        self.assertEqual([(meter.bar, str(meter)) for meter in inside.meters], [(1, "3/4"), (2, "7/8")])
        earlier = line.counted_from(-8.0)
        self.assertEqual([meter.bar for meter in earlier.meters], [1, 5, 7])
        self.assertEqual(earlier.second(earlier.bar_line(6)), line.second(line.bar_line(4)))

    # What is counted in a meter (common practice): dotted quarters in 6/8 and 12/8, quarters in 3/4, eighths
    # in 7/8.
    BEATS = (
        ("4/4", 4, 1.0),
        ("3/4", 3, 1.0),
        ("6/8", 2, 1.5),
        ("12/8", 4, 1.5),
        ("7/8", 7, 0.5),
        ("3/8", 3, 0.5),
    )

    def test_counted_beats(self) -> None:
        for text, beats, length in self.BEATS:
            with self.subTest(meter=text):
                meter = parse_meter(text)
                self.assertEqual((meter.beats, meter.beat_quarters), (beats, length))
        for text in ("4", "0/4", "4/3", "x/4", "65/4", ""):
            with self.subTest(meter=text), self.assertRaises(ParameterError):
                parse_meter(text)


class RampTest(unittest.TestCase):
    def test_worked_by_hand(self) -> None:
        # From 60 to 120 BPM over four quarters: t(u) = 60 * 4 / (120 - 60) * ln(1 + u), so that all of it
        # takes 4 ln 2 s and the first half of its quarters 4 ln 1.5 s (the integral of 60 / b over quarters).
        line: TempoMap[TakeTimes] = TempoMap(
            (Knot(1.0, 0.0, ramp=2.0), Knot(1.0 + 4 * np.log(2), 4.0), Knot(1.0 + 4 * np.log(2) + 2.0, 8.0))
        )
        self.assertAlmostEqual(line.second(2.0), 1.0 + 4 * np.log(1.5), places=12)
        self.assertAlmostEqual(line.bpm_at(0.0), 60.0, places=9)
        self.assertAlmostEqual(line.bpm_at(2.0), 90.0, places=9)
        self.assertAlmostEqual(line.bpm_at(4.0), 120.0, places=9)
        # Before it on at 60, in it to the last bit at its ends.
        self.assertAlmostEqual(line.second(-1.0), 0.0, places=12)
        self.assertEqual(line.second(4.0), 1.0 + 4 * np.log(2))
        self.assertTrue(line.has_ramps)

    def test_both_ways_for_any_ramp(self) -> None:
        rng = np.random.default_rng(2)
        for _ in range(50):
            times, places = np.cumsum(rng.uniform(0.5, 4.0, 6)), np.cumsum(rng.uniform(1.0, 6.0, 6)) - 5
            ramps = np.exp(rng.uniform(-1.0, 1.0, 6))
            line: TempoMap[TakeTimes] = TempoMap(
                tuple(Knot(t, q, ramp=r) for t, q, r in zip(times, places, ramps, strict=True))
            )
            where = np.linspace(places[0] - 5, places[-1] + 5, 301)
            seconds = line.to_seconds(quarters(where))
            self.assertTrue(np.all(np.diff(seconds) > 0))
            np.testing.assert_allclose(line.to_quarters(take_times(seconds)), where, atol=1e-9)
            # The tempo is a straight line in each span: its slope in time is what bpm_at says.
            middle = 0.5 * (where[1:] + where[:-1])
            inside = np.array([not np.any((places > a) & (places < b)) for a, b in itertools.pairwise(where)])
            slope = 60 * np.diff(where) / np.diff(seconds)
            np.testing.assert_allclose(slope[inside], [line.bpm_at(q) for q in middle[inside]], rtol=2e-3)

    def test_a_knot_put_into_a_ramp_moves_nothing(self) -> None:
        line: TempoMap[TakeTimes] = TempoMap(
            (Knot(0.0, 0.0, ramp=1.7), Knot(3.0, 5.0, ramp=0.6), Knot(7.0, 11.0))
        )
        split = line.with_knot(2.0).with_knot(7.3)
        where = quarters(np.linspace(-3, 14, 200))
        np.testing.assert_allclose(split.to_seconds(where), line.to_seconds(where), atol=1e-9)
        self.assertEqual(len(split.knots), 5)
        self.assertIs(line.with_knot(5.0), line)

    def test_a_ramp_that_nobody_plays_is_refused(self) -> None:
        for ramp in (0.0, -1.0, 11.0, float("nan")):
            with self.subTest(ramp=ramp), self.assertRaises(ParameterError):
                Knot(0.0, 0.0, ramp=ramp)
