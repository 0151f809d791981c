import unittest

import numpy as np

from combpace.core.clocks import session_times
from combpace.core.onsets.stack import shared, stack
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map
from combpace.core.tempo.meters import Meter


class StackTest(unittest.TestCase):
    def setUp(self) -> None:
        # 120 BPM from 1 s: an eighth is 250 ms.
        self.line = steady_map(120.0, 1.0, (Meter(1, 4, 4),))

    def stack(self, *each: list[float]):  # type: ignore[no-untyped-def]
        return stack([session_times(np.array(times)) for times in each], self.line, Grid(8))

    def test_spread_of_a_place_and_who_has_none(self) -> None:
        notes = self.stack([1.002, 1.25, 1.51], [0.985, 1.47], [1.26])
        self.assertEqual([note.quarters for note in notes], [0.0, 0.5, 1.0])
        self.assertEqual([note.which for note in notes], [(0, 0, None), (1, None, 0), (2, 1, None)])
        np.testing.assert_allclose([note.spread_s for note in notes], [0.017, 0.010, 0.040], atol=1e-12)
        np.testing.assert_allclose(notes[0].off_s, [0.002, -0.015, 0.0], atol=1e-12)

    def test_the_nearest_of_several_and_nothing_out_of_reach(self) -> None:
        notes = self.stack([0.97, 1.005], [1.0], [1.11])
        self.assertEqual([note.which for note in notes], [(1, 0, None)])
        self.assertEqual(self.stack([1.0], [1.125]), [])
        self.assertEqual(self.stack([1.0], []), [])

    def test_what_two_takes_share(self) -> None:
        notes = self.stack([1.0, 1.25, 1.5, 1.75], [1.01, 1.51])
        self.assertEqual(shared(notes, [4, 2], 0, 1), 1.0)
        self.assertEqual(shared(notes, [4, 4], 0, 1), 0.5)


if __name__ == "__main__":
    unittest.main()
