import unittest

import numpy as np

from combpace.core.sounds.click import ClickBeat, ClickTrack, click_sound


class ClickTest(unittest.TestCase):
    def test_clicks_lie_on_the_sample(self) -> None:
        beats = [ClickBeat(0.0, True), ClickBeat(0.5, False), ClickBeat(1.00001, False)]
        track = ClickTrack(beats, 96000, 48000).read(0, 96000)[0]
        for frame in (0, 24000, 48000):
            self.assertGreater(abs(track[frame]), 0.5)
            if frame:
                self.assertEqual(track[frame - 1], 0.0)

    def test_any_range_is_the_same_sound(self) -> None:
        track = ClickTrack([ClickBeat(k * 0.1, k % 4 == 0) for k in range(20)], 50000, 44100)
        whole = track.read(0, 50000)
        parts = np.concatenate([track.read(at, min(at + 777, 50000)) for at in range(0, 50000, 777)], axis=1)
        np.testing.assert_array_equal(whole, parts)

    def test_a_downbeat_is_louder_and_higher(self) -> None:
        low, high = click_sound(44100, downbeat=False), click_sound(44100, downbeat=True)
        self.assertGreater(np.abs(high).max(), np.abs(low).max())
        peaks = [np.argmax(np.abs(np.fft.rfft(sound, 44100))) for sound in (low, high)]
        self.assertGreater(peaks[1], peaks[0])

    def test_at_few_frames_a_second_it_is_a_click_too(self) -> None:
        for rate in (1000, 1050, 2000, 8000):
            for downbeat in (False, True):
                sound = click_sound(rate, downbeat=downbeat)
                self.assertEqual(len(sound), round(0.03 * rate))
                self.assertEqual(int(np.argmax(np.abs(sound))), 0)
                self.assertAlmostEqual(float(sound[-1]), 0.0, places=6)
                self.assertTrue(np.all(np.isfinite(sound)))
