"""A map through moments that were put on its places: all at once, exact, near by, and nothing else."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from combpace.core.clocks import Quarters, TakeTimes, take_times
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.tied import FADE_BARS, tied

NONE = Onsets(take_times([]), np.zeros(0), np.zeros(0))


def even(bars: int = 24, gap: float = 0.5) -> TempoMap[TakeTimes]:
    """A map of 4/4 with a found knot on each of its beats."""
    return TempoMap(tuple(Knot(1.0 + gap * k, float(k), confidence=0.8) for k in range(4 * bars + 1)))


def moved(old: TempoMap[TakeTimes], new: TempoMap[TakeTimes]) -> np.ndarray:
    """By how much each beat moved, seconds."""
    places = Quarters(np.arange(97.0))
    return np.asarray(new.to_seconds(places)) - np.asarray(old.to_seconds(places))


class TiedTest(unittest.TestCase):
    def test_a_tie_is_exact_and_fades_out_over_four_bars(self) -> None:
        old = even()
        new = tied(old, [Knot(old.second(40.0) + 0.03, 40.0, True)], NONE)
        by = moved(old, new)
        self.assertEqual(new.second(40.0), old.second(40.0) + 0.03)
        self.assertTrue(next(knot for knot in new.knots if knot.quarters == 40.0).fixed)
        # Half of it half-way, nothing from there on: a hat, by hand.
        self.assertAlmostEqual(by[40 + 2 * FADE_BARS], 0.015, places=9)
        self.assertEqual(np.abs(by[: 40 - 4 * FADE_BARS + 1]).max(), 0.0)
        self.assertEqual(np.abs(by[40 + 4 * FADE_BARS :]).max(), 0.0)

    def test_more_than_a_quarter_of_a_beat_is_a_matter_of_phase(self) -> None:
        old = even()
        by = moved(old, tied(old, [Knot(old.second(40.0) + 0.2, 40.0, True)], NONE))
        np.testing.assert_allclose(by, 0.2, rtol=0, atol=1e-9)

    def test_between_two_that_are_near_beats_are_bent_and_far_ones_leave_each_other_alone(self) -> None:
        old = even()
        near = tied(
            old,
            [Knot(old.second(40.0) + 0.02, 40.0, True), Knot(old.second(48.0) - 0.02, 48.0, True)],
            NONE,
        )
        np.testing.assert_allclose(moved(old, near)[40:49], np.linspace(0.02, -0.02, 9), rtol=0, atol=1e-9)
        far = tied(
            old, [Knot(old.second(8.0) + 0.02, 8.0, True), Knot(old.second(88.0) - 0.02, 88.0, True)], NONE
        )
        self.assertEqual(np.abs(moved(old, far)[24:72]).max(), 0.0)

    def test_the_order_is_no_matter_and_what_holds_moves_nothing(self) -> None:
        old = even()
        ties = [
            Knot(old.second(place) + by, place, True)
            for place, by in ((8.0, 0.02), (21.5, -0.01), (40.0, 0.0))
        ]
        found = {tied(old, order, NONE).knots for order in itertools.permutations(ties)}
        self.assertEqual(len(found), 1)
        holds = tied(old, [Knot(old.second(place), place, True) for place in (8.0, 40.0)], NONE)
        self.assertEqual(np.abs(moved(old, holds)).max(), 0.0)
        self.assertEqual([knot.quarters for knot in holds.knots if knot.fixed], [8.0, 40.0])

    def test_alone_no_other_line_moves(self) -> None:
        old = even()
        by = moved(old, tied(old, [Knot(old.second(40.0) + 0.03, 40.0, True)], NONE, alone=[40.0]))
        self.assertAlmostEqual(by[40], 0.03, places=12)
        self.assertEqual(np.abs(by[:37]).max() + np.abs(by[44:]).max(), 0.0)

    def test_beats_between_are_laid_on_attacks(self) -> None:
        old = even()
        struck = take_times([old.second(41.0) + 0.021, old.second(42.0) + 0.016])
        attacks = Onsets(struck, np.ones(2), np.ones(2))
        new = tied(old, [Knot(old.second(40.0) + 0.02, 40.0, True)], attacks)
        self.assertAlmostEqual(new.second(41.0), float(struck[0]), places=9)
        self.assertAlmostEqual(new.second(42.0), float(struck[1]), places=9)

    def test_what_cannot_be_is_refused_with_both_places(self) -> None:
        old = even()
        with self.assertRaisesRegex(
            MapConflictError, r"bar 11 at 21\.000 s and bar 12 at 20\.\d+ s.*take one"
        ):
            tied(old, [Knot(21.0, 40.0, True), Knot(20.5, 44.0, True)], NONE)
        with self.assertRaisesRegex(MapConflictError, "cannot both be bar 11"):
            tied(old, [Knot(21.0, 40.0, True), Knot(21.01, 40.0, True)], NONE)
