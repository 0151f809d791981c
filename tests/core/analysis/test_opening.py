import unittest

import numpy as np

from combpace.core.analysis.opening import listen
from combpace.core.analysis.take import Hints, analyse
from combpace.core.audio import ArraySource, Audio

RATE, STEP_S = 44100, 60 / 96 / 2


def eighths(before_s: float = 0.0, attack_s: float = 0.001, rate: int = RATE) -> Audio:
    """Two bars of struck tones at 96 BPM, cut to their first frame."""
    out = np.zeros(round((16 * STEP_S + before_s) * rate) + rate, np.float32)
    t = np.arange(round(0.3 * rate)) / rate
    for k in range(16):
        note = (
            0.4
            * np.sin(2 * np.pi * 220 * 2 ** (k % 5 / 12) * t)
            * np.exp(-t / 0.12)
            * np.minimum(1, t / attack_s)
        )
        at = round((before_s + k * STEP_S) * rate)
        out[at : at + len(note)] += note.astype(np.float32)
    return Audio(out[: round((16 * STEP_S + before_s) * rate)], rate)


class TrimmedTest(unittest.TestCase):
    def test_a_trimmed_loop_has_all_its_strokes_and_its_bar_1(self) -> None:
        for rate in (44100, 48000):
            for cut_s in (0.0, 0.0015, 0.004):
                whole = eighths(rate=rate)
                cut = Audio(whole.samples[:, round(cut_s * rate) :], rate)
                found = analyse(ArraySource(cut), Hints(is_loop=True))
                with self.subTest(rate=rate, cut_s=cut_s):
                    self.assertEqual(len(found.onsets), 16)
                    self.assertEqual(float(found.onsets.times[0]), 0.0)
                    np.testing.assert_allclose(
                        found.onsets.times[1:], STEP_S * np.arange(1, 16) - cut_s, atol=0.006
                    )
                    assert found.pace is not None
                    self.assertEqual(found.pace.second(0.0), 0.0)
                    # What is kept for reading again is on the source's own clock too.
                    self.assertAlmostEqual(len(found.pulse.beat) / 100, cut.frames / rate, delta=0.03)

    def test_what_begins_with_silence_is_heard_as_ever(self) -> None:
        found = listen(ArraySource(eighths(before_s=0.005)))
        self.assertEqual((len(found.onsets), found.before), (16, 0))
        self.assertGreater(float(found.onsets.times[0]), 0.002)

    def test_a_bar_that_is_stated_comes_first(self) -> None:
        found = analyse(ArraySource(eighths()), Hints(is_loop=True, bars=((4 * STEP_S, 1),)))
        assert found.pace is not None
        self.assertAlmostEqual(found.pace.second(0.0), 4 * STEP_S, delta=0.004)

    def test_silence_and_almost_nothing(self) -> None:
        for samples in (np.zeros(1000), np.zeros(0), np.full(10, 0.1), np.full(3 * RATE, 0.0)):
            self.assertLess(len(listen(ArraySource(Audio(samples.astype(np.float32), RATE))).onsets), 2)
