import unittest

import numpy as np

from combpace.core.audio import Audio
from combpace.core.beats.activations import Activations, hear_activations
from combpace.core.beats.readings import (
    INPUTS,
    KINDS,
    NAMES,
    WEIGHTS,
    Reading,
    Take,
    features,
    rows_of,
    worth_of,
)
from combpace.core.beats.tempogram import TempoSpectrum, steady_rows
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import onset_strength
from rig.sounds import source, struck


def heard(audio: Audio) -> Activations:
    return hear_activations(source(audio), onset_strength(source(audio)))


def off_beats(bpm: float, count: int, drift: float = 0.0) -> np.ndarray:
    """What is struck on sixteenths of a pulse, on few of its beats: second and fourth of each beat, by
    chance.
    """
    rng = np.random.default_rng(2)
    steps = np.arange(4 * count)
    played = steps[np.where(steps % 4 == 0, rng.random(len(steps)) < 0.25, rng.random(len(steps)) < 0.5)]
    return 0.7 + np.cumsum(60 / bpm / 4 * (1 + drift * np.sin(steps / 40)))[played]


class TempoSpectrumTest(unittest.TestCase):
    def test_a_click_is_heard_however_little_is_struck_on_it(self) -> None:
        for bpm in (71.3, 95.0, 127.9):
            spectrum = TempoSpectrum(heard(struck(off_beats(bpm, 60), 60 * 60 / bpm + 1.5)))
            with self.subTest(bpm=bpm):
                tempi = 60 * np.array(spectrum.tempi(3))
                # The beat itself or its half or double: which of them is for the pattern to say.
                ratio = tempi[0] / bpm
                self.assertLess(np.min(np.abs(ratio / np.array([0.5, 1.0, 2.0]) - 1)), 0.002)
                self.assertGreater(spectrum.standing(bpm / 60), 1.5 * spectrum.standing(bpm / 60 * 1.13))

    def test_what_drifts_is_no_click(self) -> None:
        steady, moving = (
            TempoSpectrum(heard(struck(off_beats(100, 80, drift), 50.0))).click for drift in (0.0, 0.03)
        )
        self.assertGreater(steady, moving + 0.15)

    def test_of_nothing_nothing_stands_out(self) -> None:
        for samples in (np.zeros(44100 * 6), np.zeros(1), np.eye(1, 44100 * 2, 500)[0]):
            spectrum = TempoSpectrum(heard(Audio(np.asarray(samples, np.float32), 44100)))
            self.assertEqual((spectrum.tempi(3), spectrum.most, spectrum.standing(2.0)), ([], 0.0, 0.0))

    def test_rows_lie_in_the_phases_that_are_struck(self) -> None:
        strength = np.zeros(3000)
        for frame in (19, 20, 21):
            # As wide as attacks are seen there.
            strength[frame::50] = 1.0
        rows = steady_rows(2.0, 30.0, strength, np.zeros(3000), 2)
        self.assertAlmostEqual(float(rows[0][0]), 0.2, delta=0.5 / 24)
        np.testing.assert_allclose(np.diff(rows[0]), 0.5)
        apart = abs(float(rows[1][0] - rows[0][0])) % 0.5
        self.assertGreater(min(apart, 0.5 - apart), 0.05)


class WaysTest(unittest.TestCase):
    def test_features_are_finite_for_any_sound_and_row(self) -> None:
        rng = np.random.default_rng(3)
        for samples in (
            np.zeros(44100 * 5),
            0.1 * rng.standard_normal(44100 * 5),
            struck(np.arange(0.5, 5, 0.4), 5.0).samples[0],
        ):
            take = Take(heard(Audio(np.asarray(samples, np.float32), 44100)))
            for row in (
                np.arange(0.1, 4.9, 0.5),
                np.array([0.0, 0.02, 3.0, 4.9]),
                np.cumsum(rng.uniform(0.2, 0.4, 12)),
            ):
                values = features(take, Reading("band", row))
                self.assertEqual(values.shape, (len(NAMES),))
                self.assertTrue(np.isfinite(values).all())

    def test_the_right_count_of_a_plain_beat_is_worth_most(self) -> None:
        times = 0.5 + np.arange(48) * 0.5
        take = Take(heard(struck(times, 25.0, low_every=4)))
        rows = [times, times[::2], np.arange(0.5, 24.5, 0.75), times + 0.25, np.arange(0.5, 24, 0.25)]
        found = np.array([features(take, Reading("band", row)) for row in rows])
        self.assertEqual(int(np.argmax(worth_of(found, ["band"] * len(rows)))), 0)

    def test_inputs_are_features_and_how_they_compare(self) -> None:
        values = np.arange(2.0 * len(NAMES)).reshape(2, -1)
        rows = rows_of(values, ["first", "steady"])
        self.assertEqual(rows.shape, (2, INPUTS))
        np.testing.assert_array_equal(rows[1, len(NAMES) : 2 * len(NAMES)], 0)
        np.testing.assert_array_equal(rows[0, len(NAMES) : 2 * len(NAMES)], -len(NAMES))
        np.testing.assert_array_equal(rows[1, -len(KINDS) - 1 : -1], [0, 0, 0, 1, 0, 0])

    def test_weights_are_small_and_fit(self) -> None:
        kept = weights_of(WEIGHTS)
        self.assertEqual(kept["v"].shape[1], INPUTS)
        self.assertLess(sum(array.size for array in kept.values()), 25_000)
