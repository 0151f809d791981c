import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.fit.accents import MOST_DB, RAMP_S, Accented, accent_levels
from combpace.core.fit.groove import GrooveGrid, take_groove
from combpace.core.fit.pegs import Peg
from combpace.core.fit.rule import Rule
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map

RATE = 1000
LINE = steady_map(120.0, 0.0)


def grid(db: float) -> GrooveGrid:
    """Four quarters, the first louder than the others by so much."""
    times = np.arange(4) * 0.5
    return GrooveGrid(take_groove(times, np.array([db, 0.0, 0.0, 0.0]), LINE, (0, 0), Grid(4)))


PEGS = [Peg(0.5 * k, 0.5 * k, 0.5 * k, float(k), "pulled") for k in range(8)]


class AccentTest(unittest.TestCase):
    def test_levels_are_the_grooves_share_of_them_and_never_beyond_six_decibels(self) -> None:
        half = accent_levels(PEGS, (Rule.onto(grid(8.0), accent=50),), LINE)
        np.testing.assert_allclose([level for _, level in half], [3.0, -1.0, -1.0, -1.0] * 2, atol=1e-3)
        self.assertEqual([moment for moment, _ in half], [0.5 * k for k in range(8)])
        loud = accent_levels(PEGS, (Rule.onto(grid(40.0), accent=100),), LINE)
        self.assertEqual(max(level for _, level in loud), MOST_DB)
        self.assertEqual(accent_levels(PEGS, (Rule.onto(grid(8.0)),), LINE), ())
        self.assertEqual(accent_levels(PEGS, (Rule(grid="1/4", accent=100),), LINE), ())
        self.assertEqual(accent_levels([], (Rule.onto(grid(8.0), accent=100),), LINE), ())

    def test_where_no_sentence_takes_accents_the_level_is_as_it_was_played(self) -> None:
        # Eight quarters of two bars; the accents are taken in the first of them.
        rules = (Rule(grid="1/4"), Rule.onto(grid(8.0), accent=50, bars=(1, 1)))
        levels = [level for _, level in accent_levels(PEGS, rules, LINE)]
        np.testing.assert_allclose(levels, [3.0, -1.0, -1.0, -1.0, 0.0, 0.0, 0.0, 0.0], atol=1e-3)

    def test_the_level_is_there_at_the_attack_and_ramps_just_before_it(self) -> None:
        source = ArraySource(Audio(np.ones((1, 2000), np.float32), RATE))
        loud = Accented(source, ((0.5, 6.0), (1.0, -6.0)))
        heard = loud.read(0, 2000)[0]
        ramp = round(RAMP_S * RATE)
        np.testing.assert_array_equal(heard[: 500 - ramp], 1.0)
        np.testing.assert_allclose(heard[500 : 1000 - ramp], 10 ** (6 / 20), rtol=1e-6)
        np.testing.assert_allclose(heard[1000:], 10 ** (-6 / 20), rtol=1e-6)
        self.assertTrue(np.all(np.diff(heard[500 - ramp : 501]) > 0))
        np.testing.assert_array_equal(loud.read(990, 1010)[0], heard[990:1010])

    def test_levels_nearer_than_a_ramp_follow_each_other(self) -> None:
        source = ArraySource(Audio(np.ones((1, 100), np.float32), RATE))
        heard = Accented(source, ((0.010, 6.0), (0.012, 0.0), (0.012, 3.0))).read(0, 100)[0]
        self.assertAlmostEqual(float(heard[10]), 10 ** (6 / 20), places=5)
        self.assertAlmostEqual(float(heard[12]), 1.0, places=5)
