"""Sound at a fraction of its rate and back, against scipy's own resampling."""

from __future__ import annotations

import unittest

import numpy as np
from scipy import signal

from combpace.core.audio import ArraySource, Audio, Samples
from combpace.core.stretch.decimated import Decimated, decimation
from combpace.core.stretch.sustain import Sustained

HIGHEST_HZ = 5000.0


def tones(rate: int, hz: tuple[float, ...], seconds: float = 1.0) -> Samples:
    at = np.arange(round(seconds * rate)) / rate
    sound: Samples = np.stack(
        [0.1 * np.sum([np.sin(2 * np.pi * f * at + k * f) for f in hz], axis=0) for k in (1, 2)]
    ).astype(np.float32)
    return sound


class DecimatedTest(unittest.TestCase):
    def test_what_lies_below_comes_back_at_every_rate(self) -> None:
        for rate, by in (
            (8000, 1),
            (16_000, 1),
            (22_050, 2),
            (44_100, 4),
            (48_000, 4),
            (96_000, 8),
            (192_000, 16),
        ):
            how = decimation(rate, HIGHEST_HZ)
            self.assertEqual(how.by, by, rate)
            sound = tones(rate, (55.0, 440.0, 0.95 * min(HIGHEST_HZ, rate / 2)))
            slow = Decimated(ArraySource(Audio(sound, rate)), how)
            self.assertEqual(slow.frames, -(-rate // by))
            start = slow.frames // 3
            back = how.all(slow.read(start - how.reach, start + 100 + how.reach))
            # Three tones of 0.1, each kept to 80 dB both ways.
            np.testing.assert_allclose(back, sound[:, by * start : by * (start + 100)], atol=6e-5)

    def test_what_lies_above_is_not_folded_back(self) -> None:
        how = decimation(44_100, HIGHEST_HZ)
        for hz in (6_100.0, 9_000.0, 15_000.0, 21_000.0):
            slow = Decimated(ArraySource(Audio(tones(44_100, (hz,)), 44_100)), how).read(2000, 6000)
            self.assertLess(float(np.abs(slow).max()), 0.1 * 10 ** (-76 / 20), hz)

    def test_scipy_reads_the_same_slow_frames(self) -> None:
        sound = tones(44_100, (110.0, 1234.0, 3000.0))
        slow = Decimated(ArraySource(Audio(sound, 44_100)), decimation(44_100, HIGHEST_HZ))
        theirs = signal.resample_poly(sound.astype(np.float64), 1, 4, axis=1, window=("kaiser", 9.0))
        np.testing.assert_allclose(slow.read(500, 9000), theirs[:, 500:9000], atol=1e-4)

    def test_any_range_is_the_same_and_beyond_the_ends_there_is_silence(self) -> None:
        sound = tones(44_100, (200.0,))
        slow = Decimated(ArraySource(Audio(sound, 44_100)), decimation(44_100, HIGHEST_HZ))
        np.testing.assert_allclose(slow.read(4321, 5000), slow.read(0, 6000)[:, 4321:5000], atol=1e-7)
        self.assertEqual(float(np.abs(slow.read(-300, -100)).max()), 0.0)

    def test_what_sounds_on_is_one_sound_at_both_rates(self) -> None:
        sound = tones(44_100, (220.0, 331.0, 1000.0), 5.0)
        sustained = Sustained(ArraySource(Audio(sound, 44_100)))
        # Across two blocks of it.
        np.testing.assert_allclose(
            sustained.slow.read(10_000, 40_000), sustained.read(40_000, 160_000)[:, ::4], atol=3e-5
        )
        np.testing.assert_allclose(sustained.read(60_000, 140_000), sound[:, 60_000:140_000], atol=2e-3)


if __name__ == "__main__":
    unittest.main()
