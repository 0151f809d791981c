import unittest

import numpy as np

from combpace.core.errors import ParameterError
from combpace.core.tempo.tap import tapped
from rig.sounds import marks


class TapTest(unittest.TestCase):
    def test_attacks_near_noisy_taps_say_the_tempo(self) -> None:
        """Taps within 40 ms of the beat, attacks within a millisecond: within 0.05 BPM."""
        for seed in range(30):
            rng = np.random.default_rng(seed)
            bpm = rng.uniform(70, 170)
            beats = 3.0 + 60 / bpm * np.arange(16)
            halves = beats + 30 / bpm
            attacks = np.sort(np.concatenate([beats, halves]) + rng.normal(0, 0.001, 32))
            found = tapped(beats + rng.uniform(-0.04, 0.04, 16), marks(attacks))
            with self.subTest(seed=seed, bpm=bpm):
                self.assertAlmostEqual(found.bpm, bpm, delta=0.05)
                self.assertEqual(found.attacks, 16)
                self.assertLess(
                    abs((found.beat_s - 3.0) * bpm / 60 - round((found.beat_s - 3.0) * bpm / 60)), 0.01
                )

    def test_slips_and_missed_beats(self) -> None:
        beats = 1.0 + 0.5 * np.arange(12)
        taps = np.sort(np.concatenate([np.delete(beats, [4, 7]), [2.24, 5.77]]))
        found = tapped(taps, marks([]))
        self.assertEqual((found.taps, found.slips, found.attacks), (12, 2, 0))
        self.assertAlmostEqual(found.bpm, 120.0, delta=0.01)

    def test_without_attacks_the_taps_stand_alone_and_say_how_sure(self) -> None:
        rng = np.random.default_rng(3)
        found = tapped(2.0 + 0.6 * np.arange(10) + rng.normal(0, 0.02, 10), marks([0.1, 0.2]))
        self.assertEqual(found.attacks, 0)
        self.assertEqual(found.bpm, found.rough_bpm)
        self.assertLess(abs(found.bpm - 100.0), 2 * found.plus_minus_bpm + 0.2)

    def test_too_few_and_too_fast(self) -> None:
        with self.assertRaisesRegex(ParameterError, "4 taps or more"):
            tapped(np.array([1.0, 2.0, 3.0]), marks([]))
        with self.assertRaisesRegex(ParameterError, "BPM"):
            tapped(np.arange(8) * 0.02, marks([]))
