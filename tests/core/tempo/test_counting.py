"""Where bars begin, put right as a whole; what is confirmed stays, or both are named."""

import unittest

import numpy as np

from combpace.core.clocks import TakeTimes
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.anchors import lock
from combpace.core.tempo.counting import meter_at, meter_in, one_beat, pickup
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, parse_meter


def beats(count: int = 64) -> TempoMap[TakeTimes]:
    times = 1.0 + np.concatenate([[0], np.cumsum(60 / np.random.default_rng(2).uniform(95, 105, count))])
    return TempoMap(tuple(Knot(float(t), float(k)) for k, t in enumerate(times)))


def named(line: TempoMap[TakeTimes]) -> list[tuple[int, str]]:
    return [(meter.bar, str(meter)) for meter in line.meters]


class CountingTest(unittest.TestCase):
    def test_one_beat_later_and_earlier_moves_no_beat(self) -> None:
        line = beats()
        for step in (1, -1, 2):
            made = one_beat(line, step)
            self.assertAlmostEqual(made.second(0.0), line.second(float(step)), places=9)
            np.testing.assert_array_equal(made.times_s, line.times_s)
        self.assertEqual(one_beat(one_beat(line, 1), -1), line)

    def test_a_confirmed_downbeat_is_named(self) -> None:
        with self.assertRaisesRegex(MapConflictError, "downbeat of bar 3 is confirmed"):
            one_beat(lock(beats(), 8.0, False), 1)

    def test_what_lies_before_the_next_downbeat_is_a_pickup(self) -> None:
        line = beats()
        made = pickup(line, line.second(2.0))
        self.assertAlmostEqual(made.second(0.0), line.second(4.0), places=9)
        self.assertEqual(made.address(made.place(line.second(2.0)) + 1e-6)[0], -1)

    def test_bars_with_a_meter_of_their_own(self) -> None:
        line = beats()
        made = meter_in(line, 2, 3, parse_meter("3/4"))
        self.assertEqual(named(made), [(1, "4/4"), (3, "3/4"), (5, "4/4")])
        self.assertAlmostEqual(made.second(made.bar_line(4)), line.second(14.0), places=9)
        # Another unit: beats keep their times.
        eighths = meter_in(line, 2, 2, parse_meter("7/8"))
        self.assertEqual(named(eighths), [(1, "4/4"), (3, "7/8"), (4, "4/4")])
        self.assertAlmostEqual(eighths.second(eighths.bar_line(3)), line.second(15.0), places=9)

    def test_a_meter_from_a_bar_on_ends_where_another_begins(self) -> None:
        line = meter_at(beats(), 9, Meter(1, 3, 4))
        made = meter_at(line, 5, Meter(1, 2, 4))
        self.assertEqual(named(made), [(1, "4/4"), (5, "2/4"), (13, "3/4")])
        self.assertAlmostEqual(made.second(made.bar_line(12)), line.second(32.0), places=9)

    def test_what_cannot_be_is_refused(self) -> None:
        with self.assertRaises(ParameterError):
            meter_in(beats(), 4, 2, parse_meter("3/4"))
