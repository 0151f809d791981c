import unittest

import librosa
import numpy as np

from combpace.core.audio import ArraySource, Audio, blocks, mono
from combpace.core.errors import ParameterError
from combpace.core.spectra import BANDS, band_weights, mel_edges_hz, onset_strength
from rig.sounds import source, struck


class MelTest(unittest.TestCase):
    def test_edges_are_the_reference_librarys(self) -> None:
        # O'Shaughnessy 1987: mel = 2595 log10(1 + f / 700); librosa's "htk" form is the same formula
        # (reference library).
        np.testing.assert_allclose(
            mel_edges_hz(40, 30.0, 16000.0),
            librosa.mel_frequencies(42, fmin=30, fmax=16000, htk=True),
            rtol=1e-9,
        )

    def test_bands_weigh_to_one_and_none_is_empty(self) -> None:
        for rate, size in ((8000, 190), (44100, 1024), (192000, 4500)):
            weights, centres = band_weights(rate, size)
            np.testing.assert_allclose(weights.sum(axis=0), 1.0, atol=1e-5)
            self.assertEqual(len(centres), BANDS)
            self.assertTrue(np.all(np.diff(centres) > 0))


class StrengthTest(unittest.TestCase):
    def test_it_rises_at_attacks_and_nowhere_else(self) -> None:
        heard = onset_strength(source(struck([0.5, 1.0, 1.5], 2.0)))
        total = heard.total
        at = (np.array([0.5, 1.0, 1.5]) * heard.frame_rate_hz).round().astype(int)
        peaks = np.array([total[k - 3 : k + 4].max() for k in at])
        between = np.array([total[k + 40 : k + 60].max() for k in at])
        self.assertTrue(np.all(peaks > 8 * np.maximum(between, 0.5)))

    def test_lows_and_highs_are_told_apart(self) -> None:
        t = np.arange(44100) / 44100
        for pitch, column in ((90.0, 0), (900.0, 1), (9000.0, 2)):
            tone = np.where(t > 0.5, 0.5 * np.sin(2 * np.pi * pitch * t), 0)
            flux = onset_strength(
                source(
                    Audio(np.asarray(tone * np.minimum(1, np.maximum(0, (t - 0.5) * 100)), np.float32), 44100)
                )
            ).flux
            around = flux[round(0.5 * 200) - 4 : round(0.5 * 200) + 8].sum(axis=0)
            with self.subTest(pitch=pitch):
                self.assertEqual(int(np.argmax(around)), column)

    def test_blocks_make_no_difference(self) -> None:
        from combpace.core import spectra

        audio = struck([0.3, 0.9, 1.4], 2.0)
        whole = onset_strength(source(audio))
        kept, spectra.BLOCK_FRAMES = spectra.BLOCK_FRAMES, 37
        try:
            parts = onset_strength(source(audio))
        finally:
            spectra.BLOCK_FRAMES = kept
        np.testing.assert_allclose(whole.flux, parts.flux, atol=1e-5)

    def test_silence_and_nothing(self) -> None:
        for frames in (0, 1, 100, 44100):
            heard = onset_strength(source(Audio(np.zeros((2, frames), np.float32), 44100)))
            self.assertTrue(np.isfinite(heard.flux).all())
            self.assertEqual(float(heard.flux.sum()), 0.0)


class AudioTest(unittest.TestCase):
    def test_shapes_and_refusals(self) -> None:
        self.assertEqual(Audio(np.zeros(10), 8000).samples.shape, (1, 10))
        self.assertEqual(Audio(np.zeros((2, 8000)), 8000).duration_s, 1.0)
        for samples, rate in (
            (np.zeros((1, 2, 3)), 8000),
            (np.zeros((0, 5)), 8000),
            (np.zeros(5), 10),
            (np.zeros(5), 10**9),
        ):
            with self.assertRaises(ParameterError):
                Audio(samples, rate)

    def test_reading_outside_is_silence(self) -> None:
        ours = ArraySource(Audio(np.ones((2, 5), np.float32), 8000))
        np.testing.assert_array_equal(ours.read(-2, 7)[0], [0, 0, 1, 1, 1, 1, 1, 0, 0])
        np.testing.assert_array_equal(ours.read(9, 12), np.zeros((2, 3)))
        self.assertEqual([block.shape[1] for block in blocks(ours, 2)], [2, 2, 1])
        np.testing.assert_array_equal(mono(Audio(np.array([[1.0, 0.0], [0.0, 1.0]]), 8000)), [0.5, 0.5])
