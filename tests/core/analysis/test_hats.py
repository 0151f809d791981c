"""What rides in the highs: how many to the beat, and at which tempo that would be eighths."""

import unittest

import numpy as np
from scipy import signal

from combpace.core.analysis.hats import hats, suggested_bpm
from combpace.core.audio import ArraySource, Audio
from combpace.core.spectra import onset_strength
from rig.sounds import RATE

BEATS = 1.0 + 0.5 * np.arange(40)


def ride(per_beat: int, level: float = 0.2) -> Audio:
    """A deep stroke on every beat; noise above 6 kHz so many times to the beat, with a weaker one now and
    then.
    """
    rng = np.random.default_rng(3)
    out = 1e-4 * rng.standard_normal(round(22.0 * RATE))
    t = np.arange(round(0.15 * RATE)) / RATE
    for beat in BEATS:
        at = round(beat * RATE)
        out[at : at + len(t)] += 0.6 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.05)
    high = signal.butter(4, 6000, "high", fs=RATE, output="sos")
    for k in range(per_beat * len(BEATS)):
        at = round((BEATS[0] + 0.5 * k / per_beat) * RATE)
        noise = signal.sosfilt(high, rng.standard_normal(len(t))) * np.exp(-t / 0.02)
        out[at : at + len(t)] += level * rng.uniform(0.5, 1.0) * noise
    return Audio(out[None].astype(np.float32), RATE)


class HatsTest(unittest.TestCase):
    def test_they_are_counted_to_the_beat(self) -> None:
        for per_beat in (1, 2, 3, 4):
            found = hats(onset_strength(ArraySource(ride(per_beat))), BEATS)
            assert found is not None
            self.assertEqual(found.per_beat, per_beat)
            self.assertAlmostEqual(found.per_minute, 120.0 * per_beat, places=6)
            self.assertGreater(found.share, 0.9)

    def test_counted_at_half_the_tempo_they_still_say_the_same(self) -> None:
        found = hats(onset_strength(ArraySource(ride(2))), BEATS[::2])
        assert found is not None
        self.assertEqual(found.per_beat, 4)
        self.assertAlmostEqual(suggested_bpm(found.per_minute), 120.0, places=6)

    def test_none_where_nothing_rides(self) -> None:
        heard = onset_strength(ArraySource(ride(1)))
        self.assertIsNone(hats(heard, BEATS + 0.21))
        self.assertIsNone(hats(heard, BEATS[:7]))
