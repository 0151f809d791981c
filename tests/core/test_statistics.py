"""Small statistics, held against their plain forms."""

import tracemalloc
import unittest

import numpy as np

from combpace.core.statistics import nearest, one_row


class NearestTest(unittest.TestCase):
    def test_it_is_what_a_table_of_all_distances_says(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(100):
            row = np.sort(rng.uniform(0, 50, rng.integers(1, 60)).round(1))
            moments = rng.uniform(-2, 52, 40).round(1)
            away = np.abs(row[None, :] - moments[:, None])
            found = nearest(row, moments)
            np.testing.assert_array_equal(row[found], row[np.argmin(away, axis=1)])
            np.testing.assert_array_equal(np.abs(row[found] - moments), away.min(axis=1))

    def test_two_hours_of_attacks_and_beats_need_no_table(self) -> None:
        row, moments = np.arange(30_000) * 0.24, np.arange(15_000) * 0.48 + 0.01
        tracemalloc.start()
        nearest(row, moments)
        most = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(most, 10 * 2**20)


class OneRowTest(unittest.TestCase):
    def test_four_of_five_within_70_ms_on_both_sides(self) -> None:
        row = 0.5 * np.arange(20)
        late = row + np.where(np.arange(20) < 16, 0.069, 0.2)
        self.assertTrue(one_row(row, late))
        self.assertFalse(one_row(row, row + np.where(np.arange(20) < 15, 0.069, 0.2)))
        self.assertFalse(one_row(row, row + 0.071))
        # All of every second beat lie on a beat, but half of the beats on none of them.
        self.assertFalse(one_row(row, row[::2]))
        self.assertFalse(one_row(row, np.zeros(0)))
