import unittest

import mir_eval
import numpy as np

from combpace.core.bars import own_pace, read_bars
from combpace.core.beats import FRAMES_PER_S, BeatSettings, confidence_of, decode, lay_on_onsets, track_beats
from combpace.core.errors import ParameterError
from combpace.core.onsets import detect_onsets
from combpace.core.spectra import onset_strength
from combpace.core.tempomap import Meter
from tests.support.sounds import marks, source, struck


def activation_of(times: np.ndarray, seconds: float, strength: float = 1.0) -> np.ndarray:
    act = np.zeros(round(seconds * FRAMES_PER_S))
    act[np.round(np.asarray(times) * FRAMES_PER_S).astype(int)] = strength
    return act


def tracked(times: np.ndarray, **more: object):  # type: ignore[no-untyped-def]
    audio = struck(times, float(times[-1]) + 1, **more)  # type: ignore[arg-type]
    heard = onset_strength(source(audio))
    onsets = detect_onsets(source(audio), heard)
    return heard, track_beats(heard, onsets)


class DecodeTest(unittest.TestCase):
    def test_a_bare_pulse_is_followed_at_common_tempi(self) -> None:
        for bpm in (70, 75, 92, 110, 128, 150):
            times = np.arange(0.5, 30, 60 / bpm)
            beats = decode(activation_of(times, 30.5), BeatSettings()) / FRAMES_PER_S
            with self.subTest(bpm=bpm):
                self.assertGreater(mir_eval.beat.f_measure(times, beats), 0.95)

    def test_eighths_between_do_not_double_it(self) -> None:
        beats = np.arange(0.5, 30, 0.6)
        act = activation_of(beats, 30.5) + activation_of(beats[:-1] + 0.3, 30.5, 0.5)
        found = decode(act, BeatSettings()) / FRAMES_PER_S
        self.assertAlmostEqual(float(np.median(np.diff(found))), 0.6, delta=0.02)

    def test_a_ramp_is_followed(self) -> None:
        gaps = np.linspace(0.62, 0.48, 60)
        times = 0.5 + np.cumsum(gaps)
        found = decode(activation_of(times, float(times[-1]) + 1), BeatSettings()) / FRAMES_PER_S
        self.assertGreater(mir_eval.beat.f_measure(times, found), 0.93)

    def test_a_stated_range_is_kept(self) -> None:
        times = np.arange(0.5, 20, 0.5)
        for low, high in ((55, 65), (110, 130), (230, 250)):
            found = decode(activation_of(times, 20.5), BeatSettings(bpm_range=(low, high))) / FRAMES_PER_S
            bpm = 60 / float(np.median(np.diff(found)))
            with self.subTest(range=(low, high)):
                self.assertTrue(low - 2 <= bpm <= high + 4, bpm)
        with self.assertRaises(ParameterError):
            BeatSettings(bpm_range=(120, 100))


class LayTest(unittest.TestCase):
    def test_on_the_dominant_early_attack(self) -> None:
        # Two attacks share a beat: the earlier one where it is nearly as strong, else the stronger one.
        near = marks([1.0, 1.012])
        times, carried = lay_on_onsets(np.array([1.006, 1.506]), near)
        self.assertEqual(times[0], 1.0)
        weak = marks([1.0, 1.012])
        object.__setattr__(weak, "strength", np.array([0.05, 0.9]))
        self.assertEqual(lay_on_onsets(np.array([1.006, 1.506]), weak)[0][0], 1.012)
        self.assertEqual(carried[1], 0.0)

    def test_beats_without_attack_ride_between_and_never_fold(self) -> None:
        times, _ = lay_on_onsets(np.array([1.0, 1.5, 2.0]), marks([1.02, 2.02]))
        np.testing.assert_allclose(times, [1.02, 1.52, 2.02])
        rng = np.random.default_rng(2)
        for _ in range(20):
            rough = np.cumsum(rng.uniform(0.3, 0.6, 40))
            laid, _ = lay_on_onsets(rough, marks(np.sort(rng.uniform(0, 20, 200))))
            self.assertTrue(np.all(np.diff(laid) > 0))

    def test_confidence_falls_where_it_is_irregular_or_empty(self) -> None:
        times = np.arange(20) * 0.5
        even = confidence_of(times, np.ones(20))
        bent = times.copy()
        bent[10] += 0.15
        self.assertLess(confidence_of(bent, np.ones(20))[10], 0.6 * even[10])
        self.assertLess(confidence_of(times, np.zeros(20)).max(), even.min())


class BarsTest(unittest.TestCase):
    def test_three_and_four_by_their_deep_notes(self) -> None:
        for count in (3, 4):
            heard, beats = tracked(0.5 + np.arange(48) * 0.5, low_every=count)
            reading = read_bars(heard, beats)
            with self.subTest(meter=count):
                self.assertEqual((reading.beats_in_bar, reading.phase), (count, 0))
                self.assertGreater(reading.confidence, 0.5)
                self.assertAlmostEqual(own_pace(beats, reading).second(0.0), 0.5, delta=0.01)

    def test_a_pickup_stays_before_bar_1(self) -> None:
        times = 0.5 + np.arange(41) * 0.5
        audio_levels = [0.5] + [0.7] * 40
        out = struck(times[1:], float(times[-1]) + 1, low_every=4)
        first = struck(times[:1], float(times[-1]) + 1, levels=audio_levels[:1])
        from combpace.core.audio import Audio

        both = Audio(out.samples + first.samples[:, : out.frames], 44100)
        heard = onset_strength(source(both))
        beats = track_beats(heard, detect_onsets(source(both), heard))
        pace = own_pace(beats, read_bars(heard, beats))
        self.assertAlmostEqual(pace.second(0.0), 1.0, delta=0.01)
        self.assertAlmostEqual(pace.second(-1.0), 0.5, delta=0.02)

    def test_a_stated_meter_is_taken(self) -> None:
        heard, beats = tracked(0.5 + np.arange(30) * 0.5, low_every=3)
        self.assertEqual(read_bars(heard, beats, Meter(1, 5, 4)).beats_in_bar, 5)

    def test_too_few_beats(self) -> None:
        heard, beats = tracked(np.array([0.5, 1.0, 1.5]))
        self.assertEqual(read_bars(heard, beats).confidence, 0.0)
        with self.assertRaises(ParameterError):
            own_pace(track_beats(heard, marks([])), read_bars(heard, beats))
