import unittest

import numpy as np

from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.readings import LEAST_PROBABILITY, MOST, alike, as_read, readings
from combpace.core.analysis.take import analyse
from rig.sounds import source, struck

BEATS = 0.6 + 0.4 * np.arange(64)


class ReadingsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        # Eighths as loud as quarters, a deep stroke on every third of them: how it is counted is open.
        cls.sound = struck(np.sort(np.concatenate([BEATS, BEATS + 0.2])), 27.0, low_every=3)
        cls.heard = analyse(source(cls.sound))
        cls.found = readings(cls.heard)

    def test_the_kept_one_is_first_and_the_others_differ_in_kind(self) -> None:
        self.assertGreater(len(self.found), 1)
        self.assertLessEqual(len(self.found), MOST)
        self.assertEqual([one.rank for one in self.found], list(range(1, len(self.found) + 1)))
        self.assertIs(self.found[0].pace, self.heard.pace)
        self.assertTrue(all(one.probability >= LEAST_PROBABILITY for one in self.found[1:]))
        self.assertLessEqual(sum(one.probability for one in self.found), 1.0 + 1e-6)
        for one in self.found:
            self.assertEqual(sum(alike(one.pace, other.pace) for other in self.found), 1)

    def test_each_has_a_meter_a_tempo_and_downbeats_on_its_beats(self) -> None:
        for one in self.found:
            self.assertTrue(np.isin(np.round(one.downbeats(), 6), np.round(one.pace.times_s, 6)).all())
            self.assertAlmostEqual(one.bpm, 60.0 / float(np.median(np.diff(one.pace.times_s))), delta=0.2)

    def test_an_analysis_can_be_counted_as_another_has_it(self) -> None:
        other = self.found[1]
        again = as_read(self.heard, other, 27.0)
        self.assertEqual(again.pace, other.pace)
        assert again.steady is not None
        self.assertAlmostEqual(again.steady.bpm, other.bpm, delta=0.3)
        self.assertIs(as_read(self.heard, self.found[0], 27.0), self.heard)

    def test_silence_has_none_and_a_bundle_has_one_list(self) -> None:
        self.assertEqual(readings(analyse(source(struck([], 3.0)))), ())
        mics = analyse_bundle([source(self.sound), source(self.sound)])
        first, second = (readings(mic) for mic in mics)
        self.assertEqual(
            [(one.meter, round(one.probability, 6)) for one in first],
            [(one.meter, round(one.probability, 6)) for one in second],
        )
