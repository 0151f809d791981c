import unittest

import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.core.onsets import OnsetSettings, detect_onsets, nearest_onset
from combpace.core.spectra import onset_strength
from tests.support.sounds import marks, source, struck


def found(audio: Audio, settings: OnsetSettings | None = None) -> np.ndarray:
    return np.asarray(detect_onsets(source(audio), onset_strength(source(audio)), settings).times)


class DetectTest(unittest.TestCase):
    def test_soft_attacks_beside_loud_ones(self) -> None:
        times = [0.3, 0.6, 0.9, 1.2, 1.5, 1.8]
        levels = [0.7, 0.06, 0.7, 0.06, 0.7, 0.06]
        np.testing.assert_allclose(found(struck(times, 2.2, levels=levels)), times, atol=0.002)

    def test_threshold_keeps_the_stronger(self) -> None:
        audio = struck([0.3, 0.6, 0.9, 1.2], 1.6, levels=[0.7, 0.02, 0.7, 0.02])
        self.assertEqual(len(found(audio, OnsetSettings(threshold=1.0))), 2)
        self.assertGreaterEqual(len(found(audio, OnsetSettings(threshold=0.1))), 4)

    def test_the_shortest_gap_is_kept(self) -> None:
        times = np.arange(0.3, 2.0, 0.04)
        for gap in (0.03, 0.1, 0.5):
            gaps = np.diff(found(struck(times, 2.4), OnsetSettings(min_gap_s=gap)))
            self.assertTrue(np.all(gaps >= gap - 1e-9))

    def test_listening_to_lows_or_highs(self) -> None:
        t = np.arange(44100 * 2) / 44100
        low = np.where(t >= 0.5, 0.6 * np.sin(2 * np.pi * 70 * (t - 0.5)) * np.exp(-(t - 0.5) / 0.1), 0)
        rng = np.random.default_rng(4)
        hiss = np.diff(rng.standard_normal(len(t) + 1))
        high = np.where(t >= 1.2, 0.2 * hiss * np.exp(-np.maximum(t - 1.2, 0) / 0.03), 0)
        audio = Audio(np.asarray(low + high, np.float32), 44100)
        self.assertLess(abs(found(audio, OnsetSettings(listen="lows"))[0] - 0.5), 0.01)
        highs = found(audio, OnsetSettings(listen="highs", threshold=0.6))
        self.assertTrue(np.any(np.abs(highs - 1.2) < 0.004))

    def test_a_mark_sits_at_a_zero_crossing_near_the_start(self) -> None:
        audio = struck([0.5, 1.0], 1.5)
        for time in found(audio):
            at = round(time * 44100)
            around = audio.samples[0, at - 45 : at + 46]
            crossings = np.flatnonzero(np.signbit(around[1:]) != np.signbit(around[:-1]))
            self.assertTrue(len(crossings) and np.min(np.abs(crossings - 44)) <= 1)

    def test_settings_are_checked(self) -> None:
        for bad in ({"threshold": 2.0}, {"listen": "birds"}, {"min_gap_s": 0.0}):
            with self.assertRaises(ParameterError):
                OnsetSettings(**bad)  # type: ignore[arg-type]

    def test_nearest(self) -> None:
        times = marks([1.0, 2.0]).times
        self.assertEqual((nearest_onset(times, 1.9, 0.2), nearest_onset(times, 1.5, 0.2)), (1, None))
        self.assertIsNone(nearest_onset(marks([]).times, 1.0, 1.0))
