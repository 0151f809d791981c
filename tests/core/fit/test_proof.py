"""A render's attacks measured again: what lies on its place, what beside it, what is not there."""

import unittest

import numpy as np

from combpace.core.fit.proof import proof, share_within
from rig.sounds import source, struck


class ProofTest(unittest.TestCase):
    def test_on_its_place_beside_it_and_missing(self) -> None:
        rendered = source(struck([0.5, 1.012, 1.5, 2.5], 3.5))
        found = proof(rendered, [0.5, 1.0, 1.5, 2.1, 9.0])
        for one, off in zip(found[:3], (0.0, 12.0, 0.0), strict=True):
            assert one.off_ms is not None
            self.assertAlmostEqual(one.off_ms, off, delta=0.7)
        self.assertIsNone(found[3].off_ms)
        self.assertIsNone(found[4].measured_s)
        self.assertAlmostEqual(share_within(found), 2 / 5)

    def test_on_the_sessions_clock(self) -> None:
        found = proof(source(struck([0.5], 1.5)), [2.5], first_s=2.0)
        assert found[0].measured_s is not None
        self.assertAlmostEqual(found[0].measured_s, 2.5, delta=0.001)
        self.assertEqual(share_within([]), 1.0)
        self.assertTrue(np.isfinite(found[0].wanted_s))
