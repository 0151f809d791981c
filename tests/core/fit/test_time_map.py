import unittest

import numpy as np

from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap, identity


class TimeMapTest(unittest.TestCase):
    def test_there_and_back_and_factors(self) -> None:
        time_map = TimeMap(np.array([0.0, 1.0, 3.0]), np.array([0.0, 1.5, 2.5]))
        np.testing.assert_allclose(time_map.factors, [1.5, 0.5])
        times = np.linspace(-1, 4, 101)
        np.testing.assert_allclose(time_map.to_source(time_map.to_target(times)), times, atol=1e-12)

    def test_beyond_both_ends_nothing_is_stretched(self) -> None:
        time_map = TimeMap(np.array([1.0, 2.0]), np.array([2.0, 4.0]))
        np.testing.assert_allclose(time_map.to_target([0.0, 3.0]), [1.0, 5.0])

    def test_refusals(self) -> None:
        for source, target in (
            ([0.0], [0.0]),
            ([0, 1], [0, 0]),
            ([1, 0], [0, 1]),
            ([0, float("nan")], [0, 1]),
            ([0, 1], [0, 1, 2]),
        ):
            with self.subTest(source=source), self.assertRaises(ParameterError):
                TimeMap(np.array(source, dtype=float), np.array(target, dtype=float))
        self.assertEqual(identity(2.0).factors[0], 1.0)
