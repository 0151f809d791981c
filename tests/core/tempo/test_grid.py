import unittest

import numpy as np

from combpace.core.clocks import TakeTimes, quarters
from combpace.core.errors import ParameterError
from combpace.core.tempo.grid import Grid, parse_grid
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import Meter


class GridTest(unittest.TestCase):
    # Note values in quarters (common practice): an eighth is half a quarter, a triplet two thirds of its
    # value, a dot half more.
    STEPS = (
        ("1/1", 4.0),
        ("1/4", 1.0),
        ("1/8", 0.5),
        ("1/8t", 1 / 3),
        ("1/8d", 0.75),
        ("1/16", 0.25),
        ("1/64", 0.0625),
    )

    def test_steps(self) -> None:
        for text, step in self.STEPS:
            with self.subTest(grid=text):
                self.assertAlmostEqual(parse_grid(text).step_quarters, step)
                self.assertEqual(str(parse_grid(text)), text)

    def test_swing_of_two_thirds_is_a_triplet(self) -> None:
        # Swing percentage p puts the off-eighth at p % of the beat; 66.7 % is a triplet (common practice).
        np.testing.assert_allclose(Grid(8, swing=2 / 3).in_bar(4.0)[:4], [0, 2 / 3, 1, 5 / 3])

    def test_starts_anew_at_every_bar_line(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(120, 0.0, (Meter(1, 7, 8),))
        nearest = Grid(4).nearest(quarters([3.4, 3.6, 4.4, -0.2]), line)
        # A bar of 7/8 is 3.5 quarters: its line is a place although no quarter from bar 1 falls there.
        np.testing.assert_allclose(nearest, [3.5, 3.5, 4.5, 0.0])

    def test_refusals(self) -> None:
        for text in ("1/5", "2/8", "eighth", "1/8x", ""):
            with self.subTest(text=text), self.assertRaises(ParameterError):
                parse_grid(text)
        with self.assertRaises(ParameterError):
            Grid(8, swing=0.9)
