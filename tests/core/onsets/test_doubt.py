import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.onsets.doubt import doubt

RATE = 44100


def heard(sound: np.ndarray, at_s: float):  # type: ignore[no-untyped-def]
    return doubt(ArraySource(Audio(sound[None].astype(np.float32), RATE)), at_s)


class WhyAMarkIsDoubtful(unittest.TestCase):
    def setUp(self) -> None:
        self.t = np.arange(RATE) / RATE

    def test_a_note_that_only_decays(self) -> None:
        self.assertEqual(heard(np.sin(2 * np.pi * 220 * self.t) * np.exp(-6 * self.t), 0.4).kind, "decay")

    def test_another_pitch_without_a_new_rise_is_bound(self) -> None:
        hz = np.where(self.t < 0.5, 220.0, 261.6)
        found = heard(0.5 * np.sin(2 * np.pi * np.cumsum(hz) / RATE), 0.5)
        self.assertEqual(found.kind, "legato")
        self.assertLess(abs(found.rise_db), 3.0)

    def test_a_held_tone_hardly_gets_louder(self) -> None:
        self.assertEqual(heard(0.5 * np.sin(2 * np.pi * 220 * self.t), 0.5).kind, "level")

    def test_a_swell_is_slow_and_a_stroke_is_not(self) -> None:
        tone = np.sin(2 * np.pi * 330 * self.t)
        self.assertEqual(heard(tone * np.clip((self.t - 0.5) / 0.08, 0.001, 1), 0.5).kind, "slow")
        stroke = heard(tone * np.where(self.t < 0.5, 0.001, 0.05 * np.exp(-8 * (self.t - 0.5))), 0.5)
        self.assertEqual(stroke.kind, "soft")
        # From 1/1000 to 1/20 of full scale is 34 dB; the first 10 ms have lost .4 dB of it.
        self.assertAlmostEqual(stroke.rise_db, 33.6, delta=0.4)

    def test_at_either_end_there_is_silence(self) -> None:
        tone = 0.5 * np.sin(2 * np.pi * 220 * self.t)
        self.assertEqual(heard(tone, 0.0).kind, "soft")
        self.assertEqual(heard(tone, 1.0).kind, "decay")


if __name__ == "__main__":
    unittest.main()
