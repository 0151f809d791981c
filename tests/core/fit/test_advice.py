"""Advice about a fit, by examples."""

import unittest

import numpy as np

from combpace.core.clocks import Quarters, take_times
from combpace.core.fit.advice import USUAL, Advice, advice, finest_played
from combpace.core.fit.follow import following
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map

BPM = 120.0


def asked(places: np.ndarray, grid: Grid, strength: float = 1.0) -> Advice:
    """Onsets at places in quarters, fitted to a grid of the same tempo."""
    line = steady_map(BPM, 0.0)
    times = np.asarray(places) * 60 / BPM
    onsets = Onsets(take_times(times), np.full(len(times), 0.8), np.ones(len(times)))
    rule = Rule.onto(grid, strength=100 * strength)
    return advice(
        Quarters(np.asarray(places, dtype=float)),
        fit(onsets, line, following(line, line, 0.0, times[-1] + 1.0), line, times[-1] + 1.0, rule),
        rule,
        line,
    )


class AdviceTest(unittest.TestCase):
    def test_smallest_value_played(self) -> None:
        rng = np.random.default_rng(1)
        eighths = np.arange(64) * 0.5 + rng.uniform(-0.05, 0.05, 64) + 4.0
        self.assertEqual(asked(eighths, Grid(16)).smallest, 8)
        self.assertEqual(asked(eighths[::2], Grid(16)).smallest, 4)
        self.assertIsNone(asked(eighths, Grid(8)).smallest)
        # A few sixteenths between are played on purpose.
        self.assertIsNone(asked(np.sort(np.append(eighths, [6.25, 9.75, 12.25, 15.75])), Grid(16)).smallest)
        self.assertIsNone(asked(eighths, Grid(16, "triplet")).smallest)

    def test_the_finest_value_that_is_really_played(self) -> None:
        rng, line = np.random.default_rng(5), steady_map(BPM, 0.0)
        for step, said in ((1.0, "1/4"), (0.5, "1/8"), (1 / 3, "1/8t"), (0.25, "1/16")):
            with self.subTest(said=said):
                places = np.arange(0, 16, step)
                loose = Quarters(places + rng.uniform(-0.03, 0.03, len(places)))
                self.assertEqual(str(finest_played(loose, line)), said)
        # A bar of eighths in which one beat is played in sixteenths.
        mixed = np.sort(np.append(np.arange(0, 8, 0.5), [1.25, 1.75, 5.25, 5.75]))
        self.assertEqual(str(finest_played(Quarters(mixed), line)), "1/16")
        swung = np.sort(np.append(np.arange(8.0), np.arange(8.0) + 2 / 3))
        self.assertEqual(str(finest_played(Quarters(swung), line)), "1/8t")
        self.assertEqual(finest_played(Quarters(np.arange(4.0)), line), USUAL)

    def test_notes_between_the_places_of_a_grid(self) -> None:
        rng = np.random.default_rng(3)
        loose = rng.uniform(-0.02, 0.02, 96)
        sixteenths, triplets = 4.0 + np.arange(96) * 0.25 + loose, 4.0 + np.arange(96) / 3 + loose
        self.assertEqual(
            (asked(sixteenths, Grid(8)).between, asked(sixteenths, Grid(8)).finer), (48, Grid(16))
        )
        self.assertEqual(
            (asked(triplets, Grid(8)).between, asked(triplets, Grid(8)).finer), (64, Grid(8, "triplet"))
        )
        # On the grid, a few ornaments, or on no grid at all: nothing is said.
        self.assertIsNone(asked(sixteenths[::2], Grid(8)).finer)
        self.assertIsNone(asked(np.sort(np.append(sixteenths[::2], [6.27, 9.73])), Grid(8)).finer)
        self.assertIsNone(asked(np.sort(rng.uniform(4, 40, 96)), Grid(8)).finer)

    def test_slight_moves(self) -> None:
        rng = np.random.default_rng(2)
        # 5 ms are .01 quarters at 120.
        self.assertEqual(asked(4.0 + np.arange(32) + rng.uniform(-0.01, 0.01, 32), Grid(4)).slight, 1.0)
        self.assertEqual(asked(4.0 + np.arange(32) + 0.06 * (-1.0) ** np.arange(32), Grid(4)).slight, 0.0)

    def test_bars_to_play_again(self) -> None:
        places = 4.0 + np.arange(40.0)
        places[16:32] += 0.4
        self.assertEqual(asked(places, Grid(4)).loose, ((6, 9),))
        # Three bars are mended.
        places[28:] = 32.0 + np.arange(12.0)
        self.assertEqual(asked(places, Grid(4)).loose, ())
        # What lies on sixteenths is played there, far from quarters or not.
        notes = 4.0 + np.concatenate(
            [bar + np.array([0.0, 0.5, 1.25, 1.75, 2.5, 3.25]) for bar in 4.0 * np.arange(8)]
        )
        self.assertEqual(asked(notes + 0.02, Grid(4)).loose, ())

    def test_playing_that_scatters_by_more_than_a_third_of_the_grid_is_said_to_be_a_guess(self) -> None:
        # Sixteen bars of eighths and of sixteenths, 50 seeds: by so many shares of the step.
        for grid in (Grid(8), Grid(16)):
            for share, least, most in ((0.1, 0.0, 0.0), (0.2, 0.0, 0.02), (0.4, 0.95, 1.0)):
                said = []
                for seed in range(50):
                    count = round(64 / grid.step_quarters)
                    loose = np.random.default_rng(seed).normal(0.0, share * grid.step_quarters, count)
                    places = np.sort(8.0 + grid.step_quarters * np.arange(count) + loose)
                    said.append(bool(asked(places, grid).adrift))
                with self.subTest(grid=str(grid), share=share):
                    self.assertTrue(least <= np.mean(said) <= most, np.mean(said))
        # Sixteenths are no loose eighths: another grid is meant.
        sixteenths = 8.0 + 0.25 * np.arange(256.0)
        found = asked(sixteenths, Grid(8))
        self.assertEqual((found.adrift, found.finer), ((), Grid(16)))

    def test_stretches_beyond_the_good_range(self) -> None:
        # 50 ms between two onsets become 250.
        self.assertEqual(asked(np.array([4.0, 4.0 + 1.2, 5.3, 6.0]), Grid(8)).far, 1)
        self.assertEqual(asked(4.0 + np.arange(16.0), Grid(4)).far, 0)
