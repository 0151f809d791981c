"""Marks of several mics as one."""

import unittest

import numpy as np

from combpace.core.fit.together import clearest_first, union
from rig.sounds import marks


class UnionTest(unittest.TestCase):
    def test_what_coincides_is_one_and_the_first_in_the_order_counts(self) -> None:
        kick, snare = marks([0.500, 1.012], 0.9), marks([0.512, 1.0, 1.5], 0.6)
        found, owner = union([kick, snare], [0, 1])
        np.testing.assert_allclose(found.times, [0.500, 1.012, 1.5])
        self.assertEqual(owner.tolist(), [0, 0, 1])
        found, owner = union([kick, snare], [1, 0])
        np.testing.assert_allclose(found.times, [0.512, 1.0, 1.5])
        self.assertEqual(found.strength.tolist(), [0.9, 0.9, 0.6])

    def test_strokes_farther_apart_stay_two(self) -> None:
        found, _ = union([marks([0.5]), marks([0.530])])
        self.assertEqual(len(found), 2)

    def test_the_clearest_counts_first_where_nobody_says(self) -> None:
        self.assertEqual(clearest_first([marks([0.0, 1.0], 0.3), marks([0.0], 0.8), marks([])]), [1, 0, 2])
        self.assertEqual(len(union([])[0]), 0)
        self.assertEqual(len(union([marks([])])[0]), 0)
