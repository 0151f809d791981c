import json
import unittest
from dataclasses import replace

import numpy as np
import soundfile as sf
from scipy import signal

from combpace.core.analysis.bleed import bleed_in
from combpace.core.analysis.bundle import (
    Together,
    analyse_bundle,
    on_loud_starts,
    on_own_strokes,
    on_strokes_of,
    without_bleed,
)
from combpace.core.analysis.opening import listen
from combpace.core.analysis.take import Hints, analyse
from combpace.core.audio import ArraySource, Audio
from combpace.core.clocks import TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from rig.shared import OPEN, THERE, WHY_NOT
from rig.sounds import marks, source, struck, two_close_mics


class BleedTest(unittest.TestCase):
    def test_what_another_mic_hears_first_and_louder_is_bleed(self) -> None:
        # Sound takes 2.9 ms for a metre (343 m/s at 20 °C, ISO 9613-1).
        near, far = marks([1.0, 2.0, 3.0]), marks([1.0029, 1.5, 2.0, 3.0029])
        own = without_bleed([near, far], [np.array([0.0, -20.0, 0.0]), np.array([-20.0, 0.0, 0.0, -3.0])])
        # Louder in the far mic at 2.0; about as loud in both at 3.0: that is an overhead, and stays.
        self.assertEqual(own[0].times.tolist(), [1.0, 3.0])
        self.assertEqual(own[1].times.tolist(), [1.5, 2.0, 3.0029])

    def test_an_onset_that_starts_on_bleed_lies_on_the_mic_s_own_stroke(self) -> None:
        # The tub follows the board by 8 ms; the tub's mic hears the board 28 dB softer, the board's mic hears
        # little of the tub.
        times = 0.5 + 0.6 * np.arange(8)
        board, tub = struck(times, 6.0).samples, struck(times + 0.008, 6.0).samples
        mics = [source(Audio(tub + 0.04 * board, 44100)), source(Audio(board + 0.04 * tub, 44100))]
        early, loud = [marks(list(times)), marks(list(times))], [-20.0, -20.0]
        np.testing.assert_allclose(
            on_own_strokes(0, mics, early[0], early, loud).times, times + 0.008, atol=0.001
        )
        # The board strikes first and loudest in its own mic: that is its stroke.
        np.testing.assert_allclose(on_own_strokes(1, mics, early[1], early, loud).times, times)
        # A soft beginning that no other mic hears is the stroke's own.
        far = [early[0], marks(list(times + 0.2))]
        np.testing.assert_allclose(on_own_strokes(0, mics, far[0], far, loud).times, times)
        # Nor is it bleed where the other mic hears it no louder: an overhead hears both as its own.
        alike = [mics[0], mics[0]]
        np.testing.assert_allclose(on_own_strokes(0, alike, early[0], early, loud).times, times)
        self.assertEqual(len(on_own_strokes(0, mics, marks([]), early, loud)), 0)

    def test_a_mic_alone_keeps_all(self) -> None:
        one = marks([1.0, 2.0])
        self.assertEqual(
            without_bleed([one, marks([])], [np.zeros(2), np.zeros(0)])[0].times.tolist(), [1.0, 2.0]
        )


class BundleTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        beats = 0.6 + np.arange(32) * 0.5
        low, high = struck(beats[::2], 17.5), struck(beats[1::2], 17.5)
        late = round(0.004 * 44100)

        def mic(near: Audio, far: Audio) -> Audio:
            bleed = np.zeros_like(far.samples)
            bleed[:, late:] = 0.04 * far.samples[:, :-late]
            return Audio(near.samples + bleed, 44100)

        cls.beats, cls.mics = beats, [source(mic(low, high)), source(mic(high, low))]
        cls.found = analyse_bundle(cls.mics)

    def test_one_count_for_all(self) -> None:
        paces = [found.pace for found in self.found]
        assert paces[0] is not None and paces[1] is not None
        self.assertEqual(paces[0].meters, paces[1].meters)
        self.assertEqual(
            [knot.quarters for knot in paces[0].knots], [knot.quarters for knot in paces[1].knots]
        )
        np.testing.assert_allclose(paces[0].times_s, paces[1].times_s, atol=0.005)
        self.assertAlmostEqual(float(np.median(np.diff(self.found[0].beats.times))), 0.5, delta=0.01)

    def test_the_beats_of_a_mic_lie_on_its_own_strokes(self) -> None:
        for found, own in zip(self.found, (self.beats[::2], self.beats[1::2]), strict=True):
            assert found.pace is not None
            near = np.abs(np.asarray(found.onsets.times)[:, None] - found.pace.times_s[None, :]).min(axis=1)
            self.assertEqual(float(near.max()), 0.0)
            np.testing.assert_allclose(found.onsets.times, own, atol=0.002)

    def test_beats_go_to_strokes_that_are_near_and_not_to_what_is_fixed(self) -> None:
        # Sound takes 8 ms for 2.75 m (343 m/s at 20 °C, ISO 9613-1).
        pace: TempoMap[TakeTimes] = TempoMap(
            (Knot(1.0, 0.0), Knot(1.5, 1.0), Knot(2.0, 2.0, fixed=True), Knot(2.5, 3.0), Knot(3.0, 4.0)),
            (Meter(1, 4, 4),),
        )
        strokes = replace(
            marks([1.008, 1.52, 2.008, 2.494, 2.5]), strength=np.array([0.9, 0.9, 0.9, 0.9, 0.2])
        )
        moved = on_strokes_of(pace, strokes)
        np.testing.assert_allclose(moved.times_s, [1.008, 1.5, 2.0, 2.494, 3.0])
        self.assertEqual(on_strokes_of(pace, marks([])), pace)
        close: TempoMap[TakeTimes] = TempoMap(
            (Knot(1.0, 0.0), Knot(1.125, 1.0), Knot(1.6, 2.0)), (Meter(1, 4, 4),)
        )
        np.testing.assert_allclose(on_strokes_of(close, marks([1.01, 1.12])).times_s, [1.01, 1.125, 1.6])

    def test_a_steady_pace_is_moved_by_no_stroke(self) -> None:
        steady: TempoMap[TakeTimes] = steady_map(120.0, 1.0)
        self.assertEqual(on_strokes_of(steady, marks([1.008, 1.508])), steady)
        stated = analyse_bundle(self.mics, Hints(steady=True))[0].pace
        assert stated is not None
        self.assertTrue(stated.is_steady)
        self.assertAlmostEqual(stated.bpm_at(0.0), 120.0, delta=0.01)

    def test_each_mic_keeps_its_own_strokes(self) -> None:
        self.assertEqual([len(found.onsets) for found in self.found], [16, 16])

    def test_one_file_is_itself_and_rates_must_agree(self) -> None:
        alone = analyse_bundle(self.mics[:1])
        self.assertEqual(alone[0].pace, analyse(self.mics[0]).pace)
        with self.assertRaises(ParameterError):
            Together([self.mics[0], source(struck([0.5], 1.0, rate=48000))])
        with self.assertRaises(ParameterError):
            Together([])

    def test_any_range_reads_the_same(self) -> None:
        whole = Together(self.mics)
        np.testing.assert_array_equal(whole.read(0, 5000)[:, 1000:2000], whole.read(1000, 2000))
        self.assertEqual(whole.read(-100, whole.frames + 100).shape, (1, whole.frames + 200))


class OtherInstrumentTest(unittest.TestCase):
    def test_what_does_not_sound_like_the_mics_instrument_is_bleed(self) -> None:
        mics, deep_at, bright_at = two_close_mics()
        sources = [ArraySource(mic) for mic in mics]
        each = [marks(np.sort(np.concatenate([deep_at, bright_at]))) for _ in range(2)]
        for found, onsets, own in zip(bleed_in(sources, each), each, (deep_at, bright_at), strict=True):
            is_own = np.array([np.min(np.abs(own - time)) < 0.01 for time in onsets.times])
            self.assertFalse(found[is_own].any(), "ghost strokes stay")
            self.assertTrue(found[~is_own].all())

    def test_a_mic_that_hears_many_instruments_has_none(self) -> None:
        self.assertFalse(bleed_in([source(struck([1.0], 2.0))], [marks([1.0])])[0].any())

    @unittest.skipUnless(THERE, WHY_NOT)
    def test_kick_and_snare_of_a_played_kit(self) -> None:
        sources, truth = [], []
        for name in ("a_multi1_kick", "a_multi1_snare", "a_multi1_oh"):
            samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
            sources.append(ArraySource(Audio(samples.T, rate)))
            truth.append(json.loads((OPEN / f"{name}.json").read_text())["onsets"])
        each = [listen(one).onsets for one in sources]
        for found, onsets, notes, drum in zip(
            bleed_in(sources, each), each, truth, ("kick", "snare"), strict=False
        ):
            own = np.array([note.get("t_mic", note["t"]) for note in notes if drum in note["inst"]])
            is_own = np.array([np.min(np.abs(own - time)) < 0.02 for time in onsets.times])
            self.assertGreaterEqual(float(found[~is_own].mean()), 0.90)
            self.assertLessEqual(float(found[is_own].mean()), 0.03)


class LoudStartTest(unittest.TestCase):
    """A close mic of a deep drum: before some of its strokes another, bright drum is heard softly, and one
    stroke is a flam.
    """

    def mic(self) -> tuple[Audio, np.ndarray, np.ndarray]:
        rate, strokes = 44100, 0.5 + 0.5 * np.arange(20)
        rng, out = np.random.default_rng(5), np.zeros(round(11.0 * rate))
        t = np.arange(round(0.12 * rate)) / rate
        deep = np.exp(-t / 0.03) * (
            np.sin(2 * np.pi * 180 * t + 1.0) + 0.3 * rng.standard_normal(len(t)) * np.exp(-t / 0.004)
        )
        bright = signal.sosfilt(
            signal.butter(4, 6000, "highpass", fs=rate, output="sos"), rng.standard_normal(len(t))
        ) * np.exp(-t / 0.02)
        laid = strokes.copy()
        for k, time in enumerate(strokes):
            at = round(time * rate)
            out[at : at + len(t)] += 0.8 * deep
            if k in (3, 7, 10):
                before = round((time - 0.010) * rate)
                out[before : before + len(t)] += 0.05 * bright
                laid[k] = time - 0.010
            if k == 5:
                before = round((time - 0.012) * rate)
                out[before : before + len(t)] += 0.12 * deep
                laid[k] = time - 0.012
        return Audio(np.asarray(out, np.float32), rate), strokes, laid

    def test_a_mark_on_anothers_soft_stroke_goes_to_its_own_and_a_flam_stays(self) -> None:
        audio, strokes, laid = self.mic()
        onsets = Onsets(take_times(laid), np.full(len(laid), 0.8), np.full(len(laid), 0.9))
        found = np.asarray(on_loud_starts(ArraySource(audio), onsets).times)
        for k in (3, 7, 10):
            self.assertLess(abs(found[k] - strokes[k]), 0.002, k)
        np.testing.assert_array_equal(np.delete(found, [3, 7, 10]), np.delete(laid, [3, 7, 10]))

    def test_of_few_strokes_nothing_is_usual(self) -> None:
        audio, _, laid = self.mic()
        onsets = Onsets(take_times(laid[:5]), np.full(5, 0.8), np.full(5, 0.9))
        np.testing.assert_array_equal(np.asarray(on_loud_starts(ArraySource(audio), onsets).times), laid[:5])
