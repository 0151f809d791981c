import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.measure import Measured, measure, zero_crossing
from rig.sounds import marks, struck


class MeasureTest(unittest.TestCase):
    BPM = 119.99

    def setUp(self) -> None:
        self.beats = 0.5 + np.arange(64) * 60 / self.BPM
        self.audio = struck(self.beats, float(self.beats[-1]) + 1, low_every=4)
        self.source, self.onsets = ArraySource(self.audio), marks(self.beats)

    def measured(self, from_s: float, to_s: float, **more: object) -> Measured:
        return measure(self.source, self.onsets, from_s, to_s, rough_bpm=120.3, beats_s=self.beats, **more)  # type: ignore[arg-type]

    def test_a_range_held_late_goes_to_its_attacks(self) -> None:
        for late in (0.0, 0.06, 0.11, -0.05):
            found = self.measured(float(self.beats[8]) + late, float(self.beats[16]) + late)
            with self.subTest(late=late):
                self.assertEqual((found.bars, found.beats_per_bar), (2, 4))
                self.assertAlmostEqual(found.bpm, self.BPM, delta=found.plus_minus_bpm + 0.01)
                self.assertLess(abs(found.from_s - self.beats[8]), 0.0012)

    def test_the_end_is_the_next_downbeat_and_not_the_last_hit(self) -> None:
        # Common practice: bars 1 to 3 are a selection of two bars.
        self.assertEqual(self.measured(float(self.beats[0]), float(self.beats[8])).bars, 2)

    def test_bars_that_are_stated_count(self) -> None:
        found = self.measured(float(self.beats[8]), float(self.beats[16]), bars=1)
        self.assertEqual(found.bars, 1)
        self.assertAlmostEqual(found.bpm, self.BPM / 2, delta=0.05)

    def test_the_whole_file_is_so_many_bars(self) -> None:
        loop = ArraySource(struck(np.arange(8) * 0.5, 4.0))
        found = measure(loop, marks(np.arange(8) * 0.5), 0.0, 4.0, rough_bpm=None, bars=2, catch=False)
        self.assertEqual((found.from_s, found.to_s, found.bpm), (0.0, 4.0, 120.0))
        with self.assertRaisesRegex(ParameterError, "say how many bars"):
            measure(loop, marks([]), 0.0, 4.0, rough_bpm=None, catch=False)

    def test_a_right_length_has_a_clean_seam_and_a_wrong_one_has_not(self) -> None:
        t = np.arange(44100 * 6) / 44100
        tone = Audio((0.4 * np.sin(2 * np.pi * 220.5 * t)).astype(np.float32), 44100)
        source, none = ArraySource(tone), Onsets(marks([]).times, np.zeros(0), np.zeros(0))
        right = measure(source, none, 1.0, 1.0 + 441 / 220.5, rough_bpm=120.0, catch=False)
        wrong = measure(source, none, 1.0, 1.0 + 441.25 / 220.5, rough_bpm=120.0, catch=False)
        self.assertTrue(right.seam.clean)
        self.assertFalse(wrong.seam.clean)
        self.assertGreater(right.seam.score, wrong.seam.score)

    def test_edges_that_are_no_range_are_refused(self) -> None:
        for edges in ((5.0, 5.0), (6.0, 5.0), (-1.0, 2.0), (0.0, 900.0), (float("nan"), 1.0)):
            with self.subTest(edges=edges), self.assertRaises(ParameterError):
                self.measured(*edges)

    def test_zero_crossings_within_a_millisecond(self) -> None:
        t = np.arange(4410) / 44100
        source = ArraySource(Audio(np.sin(2 * np.pi * 300 * t + 0.7).astype(np.float32), 44100))
        found = zero_crossing(source, 0.0502)
        self.assertLess(abs(float(np.sin(2 * np.pi * 300 * found + 0.7))), 0.05)
        self.assertLess(abs(found - 0.0502), 0.00101)
