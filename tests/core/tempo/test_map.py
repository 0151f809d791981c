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
        self.map: TempoMap[TakeTimes] = TempoMap((Knot(0.5, 0.0), Knot(1.0, 1.0), Knot(1.6, 2.0), Knot(2.0, 3.0)))

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
        for knots in ((Knot(1, 0), Knot(0, 1)), (Knot(0, 1), Knot(1, 0)), (Knot(0, 0), Knot(0, 1)), (Knot(0, 0),)):
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
        for place, address in ((0.0, (1, 1.0)), (9.0, (3, 2.0)), (14.5, (5, 2.0)), (-1.0, (-1, 4.0)), (17.5, (6, 1.0))):
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
        self.assertEqual([line.beat_near(place) for place in (0.4, 4.3, 7.4, 8.3, -0.6)], [0.0, 4.5, 7.5, 9.0, -1.0])
        self.assertEqual(len(line.beats_between(2.0, 2.0)), 0)

    def test_counting_from_another_bar_keeps_the_changes_where_they_were(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(60, 0.0, (Meter(1, 4, 4), Meter(3, 3, 4), Meter(5, 7, 8)))
        later = line.counted_from(4.0)
        self.assertEqual([(meter.bar, str(meter)) for meter in later.meters], [(1, "4/4"), (2, "3/4"), (4, "7/8")])
        self.assertEqual(later.second(later.bar_line(3)), line.second(line.bar_line(4)))
        inside = line.counted_from(11.0)
        self.assertEqual([(meter.bar, str(meter)) for meter in inside.meters], [(1, "3/4"), (2, "7/8")])
        earlier = line.counted_from(-8.0)
        self.assertEqual([meter.bar for meter in earlier.meters], [1, 5, 7])
        self.assertEqual(earlier.second(earlier.bar_line(6)), line.second(line.bar_line(4)))

    # What is counted in a meter (common practice): dotted quarters in 6/8 and 12/8, quarters in 3/4, eighths in 7/8.
    BEATS = (("4/4", 4, 1.0), ("3/4", 3, 1.0), ("6/8", 2, 1.5), ("12/8", 4, 1.5), ("7/8", 7, 0.5), ("3/8", 3, 0.5))

    def test_counted_beats(self) -> None:
        for text, beats, length in self.BEATS:
            with self.subTest(meter=text):
                meter = parse_meter(text)
                self.assertEqual((meter.beats, meter.beat_quarters), (beats, length))
        for text in ("4", "0/4", "4/3", "x/4", "65/4", ""):
            with self.subTest(meter=text), self.assertRaises(ParameterError):
                parse_meter(text)
