import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from combpace import core
from combpace.core.audio import Audio
from combpace.core.beats.activations import FRAMES_PER_S, INPUTS, METERS, WEIGHTS, hear_activations, inputs_of
from combpace.core.beats.meter_network import WEIGHTS as PATTERN
from combpace.core.beats.meter_network import hear_pattern
from combpace.core.spectra import onset_strength
from rig.sounds import source, struck


def features(audio: Audio) -> np.ndarray:
    return inputs_of(source(audio), onset_strength(source(audio)))


class InputsTest(unittest.TestCase):
    def test_shape_and_finite_for_any_sound(self) -> None:
        rng = np.random.default_rng(1)
        for name, samples in {
            "silence": np.zeros(44100),
            "one sample": np.zeros(1),
            "noise": rng.standard_normal(44100),
            "a click": np.eye(1, 44100, 20000)[0],
            "full scale square": np.sign(np.sin(np.arange(44100) * 0.02)),
        }.items():
            with self.subTest(sound=name):
                rows = features(Audio(np.asarray(samples, np.float32), 44100))
                self.assertEqual(rows.shape[1], INPUTS)
                self.assertAlmostEqual(len(rows), len(samples) / 44100 * FRAMES_PER_S / 2, delta=1)
                self.assertTrue(np.isfinite(rows).all())

    def test_harmony_is_heard_where_the_chord_changes(self) -> None:
        # Equal temperament, A4 = 440 Hz (ISO 16): C major, then F major, then C major again.
        t = np.arange(2 * 44100) / 44100
        c, f = (
            sum(np.sin(2 * np.pi * hz * t) for hz in chord) / 4
            for chord in ((261.63, 329.63, 392.00), (349.23, 440.00, 523.25))
        )
        novelty = features(Audio(np.asarray(np.concatenate([c, f, c]), np.float32), 44100))[:, -4]
        at = np.arange(len(novelty)) * 2 / FRAMES_PER_S
        self.assertGreater(novelty[np.abs(at - 2.0) < 0.1].max(), 0.3)
        self.assertLess(novelty[np.abs(at - 1.0) < 0.3].max(), 0.05)


class NetworkTest(unittest.TestCase):
    def test_beats_of_a_click_track_are_heard_between_its_clicks_not(self) -> None:
        times = 0.5 + np.arange(40) * 0.5
        audio = struck(times, 21.0, low_every=4)
        pulse = hear_activations(source(audio), onset_strength(source(audio)))
        self.assertEqual(pulse.meter.shape, (len(pulse.beat), len(METERS)))
        # Kept at half precision: 11 bits.
        np.testing.assert_allclose(pulse.meter.sum(axis=1), 1.0, rtol=5 * 2.0**-11)
        at = np.round(times[8:] * FRAMES_PER_S).astype(int)
        on = np.max([pulse.beat[at + k] for k in (-1, 0, 1)], axis=0)
        self.assertGreater(float(np.median(on)), 0.6)
        self.assertLess(float(np.median(pulse.beat[at - 13])), 0.1)

    def test_weights_are_small(self) -> None:
        files = sorted((Path(core.__file__).parent / "networks").glob("*.npz"))
        self.assertIn(WEIGHTS, [file.name for file in files])
        self.assertLess(sum(file.stat().st_size for file in files), 2_000_000)

    def test_gain_and_a_second_channel_change_nothing(self) -> None:
        times = 0.5 + np.arange(16) * 0.5
        plain = struck(times, 9.0)
        soft = Audio(plain.samples * 0.25, 44100)
        wide = Audio(np.repeat(plain.samples, 2, axis=0), 44100)
        heard = [
            hear_activations(source(audio), onset_strength(source(audio))).beat
            for audio in (plain, soft, wide)
        ]
        np.testing.assert_allclose(heard[1], heard[0], atol=0.15)
        np.testing.assert_array_equal(heard[2], heard[0])


class DisagreementTest(unittest.TestCase):
    def test_a_network_agrees_with_itself_and_two_are_farther_apart_on_what_is_no_music(self) -> None:
        rng = np.random.default_rng(1)
        steady, scattered = 0.5 + np.arange(40) * 0.5, np.sort(rng.uniform(0.5, 20.0, 40))
        both = [
            hear_activations(source(sound), onset_strength(source(sound)))
            for sound in (struck(times, 21.0) for times in (steady, scattered))
        ]
        apart = [
            hear_pattern(pulse, times).apart for pulse, times in zip(both, (steady, scattered), strict=True)
        ]
        self.assertEqual(apart[0].shape, (40, 3))
        self.assertTrue(all((each >= 0).all() and (each <= [10, 1, 10]).all() for each in apart))
        self.assertGreater(float(apart[1][:, 2].mean()), float(apart[0][:, 2].mean()))
        with mock.patch("combpace.core.beats.meter_network.SECOND", PATTERN):
            self.assertEqual(float(hear_pattern(both[0], steady).apart.max()), 0.0)
