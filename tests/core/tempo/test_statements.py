import unittest

import numpy as np

from combpace.core.errors import MapConflictError
from combpace.core.tempo import recount
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.one_tempo import steady_as_stated
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
from rig.sounds import marks
from tests.core.tempo.test_anchors import pace

FOUR = (Meter(1, 4, 4),)


class SteadyTest(unittest.TestCase):
    def test_bar_1_is_exactly_where_it_was_stated_whatever_comes_after(self) -> None:
        line = steady_as_stated(
            120.0, 3.0, FOUR, Stated(bars=((0.73, 1),), downbeats=(4.75, 9.24)), free_tempo=True
        )
        self.assertEqual(line.second(0.0), 0.73)
        self.assertEqual(line.bpm_at(0.0), 120.0)
        # Eight beats, then nine: the odd beat is a bar of its own length, and the downbeat may lie beside its
        # line a little.
        self.assertEqual(
            [(meter.bar, str(meter)) for meter in line.meters], [(1, "4/4"), (4, "5/4"), (5, "4/4")]
        )
        self.assertAlmostEqual(line.second(line.bar_line(4)), 9.23)

    def test_the_first_downbeat_says_the_phase_where_no_bar_was_stated(self) -> None:
        line = steady_as_stated(120.0, 0.5, FOUR, Stated(downbeats=(4.61,)), free_tempo=True)
        self.assertAlmostEqual(line.second(0.0), 0.61)

    def test_two_stated_bars_set_a_tempo_that_was_only_found(self) -> None:
        stated = Stated(bars=((1.0, 1), (16.8, 9)))
        line = steady_as_stated(120.0, 0.0, FOUR, stated, free_tempo=True)
        self.assertAlmostEqual(line.bpm_at(0.0), 60 * 32 / 15.8)
        self.assertAlmostEqual(line.second(0.0), 1.0)
        with self.assertRaises(MapConflictError) as caught:
            steady_as_stated(120.0, 0.0, FOUR, stated, free_tempo=False)
        for named in ("Bar 1 at 1.000 s", "bar 9 at 16.800 s"):
            self.assertIn(named, str(caught.exception))

    def test_what_no_steady_map_can_satisfy_is_refused_naming_both(self) -> None:
        with self.assertRaises(MapConflictError) as caught:
            steady_as_stated(120.0, 0.0, FOUR, Stated(bars=((1.0, 1),), downbeats=(5.25,)), free_tempo=False)
        for named in ("5.250 s", "bar 1 at 1.000 s", "120.00 BPM", "250 ms"):
            self.assertIn(named, str(caught.exception))

    def test_meters_from_a_moment_on(self) -> None:
        line = steady_as_stated(
            120.0, 0.0, FOUR, Stated(meters=((None, Meter(1, 3, 4)), (6.02, Meter(1, 5, 4)))), free_tempo=True
        )
        self.assertEqual([(meter.bar, str(meter)) for meter in line.meters], [(1, "3/4"), (5, "5/4")])


class BreathingTest(unittest.TestCase):
    def test_the_pace_goes_through_every_stated_moment(self) -> None:
        old = pace()
        attacks = marks(old.times_s + 0.004)
        stated = Stated(bars=((2.504, 1),), downbeats=(5.504, 9.504), meters=((None, Meter(1, 4, 4)),))
        line = solved(Heard(old, attacks), stated)
        self.assertEqual(line.second(0.0), 2.504)
        for time in stated.downbeats:
            self.assertTrue(recount.is_line(line, line.place(time)))
            self.assertAlmostEqual(line.second(round(line.place(time))), time)
        # Said twice, nothing more happens.
        again = solved(Heard(line, attacks), stated)
        np.testing.assert_array_equal(again.times_s, line.times_s)
        self.assertEqual(again.meters, line.meters)

    def test_bars_are_numbered_as_stated(self) -> None:
        old = pace()
        line = solved(Heard(old, marks(old.times_s)), Stated(bars=((3.0, 5),)))
        self.assertAlmostEqual(line.second(line.bar_line(4)), 3.0)
