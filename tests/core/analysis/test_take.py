"""The ear on sounds of known timing. `mir_eval` scores; its windows are MIREX's ±70 ms (mir_eval
documentation).
"""

import unittest

import mir_eval
import numpy as np
from scipy import signal

from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.audio import Audio
from combpace.core.beats.candidates import TempoSpan
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.meters import Meter
from combpace.demo.performances import boiler_house, breathing_beats, programmed
from rig.sounds import source, struck


def heard(audio: Audio, hints: Hints | None = None) -> Analysis:
    return analyse(source(audio), hints)


class SteadyTest(unittest.TestCase):
    # BPM <-> ms: 60000 / BPM per beat (by definition).
    def test_click_tracks_are_read_at_their_tempo(self) -> None:
        for bpm in (78.0, 100.0, 120.0, 141.0):
            beats = 0.7 + np.arange(40) * 60 / bpm
            found = heard(struck(beats, beats[-1] + 1, low_every=4))
            with self.subTest(bpm=bpm):
                assert found.steady is not None
                self.assertAlmostEqual(found.steady.bpm, bpm, delta=0.02)
                self.assertEqual(found.steady.verdict, "steady")
                self.assertGreater(mir_eval.beat.f_measure(beats, np.asarray(found.beats.times)), 0.97)

    def test_a_programmed_beat_gives_its_decimal_and_its_shift(self) -> None:
        performance = programmed(97.37, bars=16)
        found = heard(Audio(np.asarray(next(iter(performance.sounds.values())), np.float32), 44100))
        assert found.steady is not None
        self.assertAlmostEqual(found.steady.bpm, 97.37, delta=0.01)
        self.assertAlmostEqual(found.steady.first_downbeat_s, 0.0251, delta=0.004)


class BreathingTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.performance = boiler_house(bars=16)
        name = "Tubs kit - room left"
        cls.found = heard(Audio(np.asarray(cls.performance.sounds[name], np.float32), 44100))

    def test_beats_and_downbeats(self) -> None:
        assert self.found.pace is not None
        beats = np.asarray(self.found.beats.times)
        # The free intro has no beats that could be right or wrong.
        beats = beats[beats > self.performance.beats[0] - 0.2]
        self.assertGreater(mir_eval.beat.f_measure(self.performance.beats, beats), 0.95)
        lines = self.found.pace.to_seconds(self.found.pace.bar_lines(0, 15))
        self.assertLess(
            np.median(np.min(np.abs(lines[:, None] - self.performance.downbeats[None, :]), axis=1)), 0.025
        )

    def test_the_intro_stays_lead_in(self) -> None:
        assert self.found.pace is not None
        self.assertAlmostEqual(self.found.pace.second(0.0), self.performance.facts["bar_1_s"], delta=0.03)

    def test_verdict(self) -> None:
        assert self.found.steady is not None
        self.assertNotEqual(self.found.steady.verdict, "steady")


class HintsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.beats = breathing_beats(np.random.default_rng(4), 10, 1.0)
        self.audio = struck(self.beats, float(self.beats[-1]) + 1, low_every=4)

    def test_hints_hold_exactly_at_the_onset_that_is_meant(self) -> None:
        found = heard(
            self.audio,
            Hints(bars=((float(self.beats[8]) + 0.03, 1),), downbeats=(float(self.beats[16]) - 0.02,)),
        )
        assert found.pace is not None
        onset = float(found.onsets.times[np.argmin(np.abs(found.onsets.times - self.beats[8]))])
        self.assertEqual(found.pace.second(0.0), onset)
        second = float(found.onsets.times[np.argmin(np.abs(found.onsets.times - self.beats[16]))])
        self.assertAlmostEqual(found.pace.address(found.pace.place(second) + 1e-7)[1], 1.0, places=5)

    def test_exactly_there_where_no_onset_is_near(self) -> None:
        between = 0.5 * float(self.beats[8] + self.beats[9])
        found = heard(self.audio, Hints(bars=((between, 1),)))
        assert found.pace is not None
        self.assertEqual(found.pace.second(0.0), between)

    def test_meter_range_and_steady(self) -> None:
        three = heard(self.audio, Hints(meter=Meter(1, 3, 4)))
        assert three.pace is not None
        self.assertEqual(str(three.pace.meters[0]), "3/4")
        fast = heard(self.audio, Hints(tempi=(TempoSpan(150, 220),)))
        assert fast.pace is not None
        self.assertGreater(float(np.median(fast.pace.span_bpm)), 149)
        self.assertTrue(heard(self.audio, Hints(steady=True)).pace.is_steady)  # type: ignore[union-attr]

    def test_meter_from_a_moment_and_what_is_no_downbeat(self) -> None:
        at = float(self.beats[16])
        found = heard(self.audio, Hints(meters=((at + 0.01, Meter(1, 3, 4)),)))
        assert found.pace is not None
        onset = float(found.onsets.times[np.argmin(np.abs(found.onsets.times - at))])
        bar, beat = found.pace.address(found.pace.place(onset) + 1e-7)
        self.assertAlmostEqual(beat, 1.0, places=5)
        self.assertEqual(str(found.pace.meter_of(bar - 1)), "3/4")
        self.assertEqual(str(found.pace.meters[-1]), "3/4")
        plain = heard(self.audio)
        assert plain.pace is not None
        line = plain.pace.second(plain.pace.bar_line(3))
        moved = heard(self.audio, Hints(others=(line,)))
        assert moved.pace is not None
        lines = moved.pace.to_seconds(moved.pace.bar_lines(0, 9))
        self.assertGreater(float(np.min(np.abs(lines - line))), 0.2)

    def test_many_hints_at_once_hold_exactly(self) -> None:
        bars = tuple((float(self.beats[4 * k]), k + 1) for k in range(9))
        found = heard(
            self.audio,
            Hints(
                bars=bars, downbeats=tuple(float(self.beats[4 * k]) for k in range(9)), meter=Meter(1, 4, 4)
            ),
        )
        assert found.pace is not None
        for time, number in bars:
            onset = float(found.onsets.times[np.argmin(np.abs(found.onsets.times - time))])
            self.assertEqual(found.pace.second(found.pace.bar_line(number - 1)), onset)

    def test_contradictions_and_places_outside_are_refused(self) -> None:
        with self.assertRaises(MapConflictError):
            heard(self.audio, Hints(bars=((float(self.beats[4]), 1), (float(self.beats[8]), 9))))
        for outside in (
            Hints(downbeats=(1e4,)),
            Hints(others=(float("nan"),)),
            Hints(meters=((-1.0, Meter(1, 3, 4)),)),
        ):
            with self.subTest(hints=outside), self.assertRaises(ParameterError):
                heard(self.audio, outside)


class RobustTest(unittest.TestCase):
    def test_nothing_to_hear_is_an_honest_answer(self) -> None:
        rng = np.random.default_rng(1)
        cases = {
            "silence": np.zeros(44100 * 4),
            "one click": np.eye(1, 44100 * 3, 44100)[0],
            "noise": 0.1 * rng.standard_normal(44100 * 4),
            "a held tone": 0.5 * np.sin(np.arange(44100 * 4) * 0.05),
            "one sample": np.zeros(1),
        }
        for name, samples in cases.items():
            with self.subTest(sound=name):
                found = heard(Audio(np.asarray(samples, np.float32), 44100))
                if found.pace is not None:
                    self.assertLess(float(np.mean([knot.confidence for knot in found.pace.knots])), 0.75)
                self.assertTrue(np.isfinite(np.asarray(found.onsets.times)).all())

    def test_time_shift_gain_and_rate_change_nothing(self) -> None:
        times = 0.6 + np.arange(16) * 0.5
        plain = heard(struck(times, 9.5))
        later = heard(struck(times + 0.2, 9.7))
        softer = heard(Audio(struck(times, 9.5).samples * 0.2, 44100))
        other = heard(struck(times, 9.5, rate=48000))
        self.assertEqual(len(plain.onsets), 16)
        for found, shift in ((later, 0.2), (softer, 0.0), (other, 0.0)):
            np.testing.assert_allclose(
                np.asarray(found.onsets.times) - shift, np.asarray(plain.onsets.times), atol=0.001
            )

    def test_gain_rate_and_start_leave_every_bar_line_of_a_performance_where_it_is(self) -> None:
        performance = boiler_house(bars=8)
        plain = np.asarray(performance.sounds["Tubs kit - room left"], np.float64)
        rng = np.random.default_rng(3)
        silence = 1e-5 * rng.standard_normal(round(0.7351 * 44100))
        # 48 kHz is 160 / 147 of 44.1 kHz.
        cases = {
            "gain": (plain * 0.11, 44100, 0.0),
            "rate": (signal.resample_poly(plain, 160, 147), 48000, 0.0),
            "start": (np.concatenate([silence, plain]), 44100, len(silence) / 44100),
        }
        first = heard(Audio(np.asarray(plain, np.float32), 44100)).pace
        assert first is not None
        lines = first.to_seconds(first.bar_lines(0, 8))
        for name, (samples, rate, later) in cases.items():
            with self.subTest(changed=name):
                pace = heard(Audio(np.asarray(samples, np.float32), rate)).pace
                assert pace is not None
                self.assertEqual(
                    [str(meter) for meter in pace.meters], [str(meter) for meter in first.meters]
                )
                moved = np.abs(pace.to_seconds(pace.bar_lines(0, 8)) - later - lines)
                self.assertLess(float(np.median(moved)), 0.001)
                self.assertLess(float(moved.max()), 0.012)

    def test_talk_has_no_sure_pulse(self) -> None:
        # Syllables as of a read text: voiced, of two formants each, with irregular distances and pauses
        # (durations of syllables about 0.1-0.3 s are common knowledge of phonetics; the sound is invented).
        rng = np.random.default_rng(5)
        rate, out, time = 16000, np.zeros(16000 * 30), 0.3
        while time < 29:
            length = rng.uniform(0.08, 0.3)
            t = np.arange(round(length * rate)) / rate
            offered_readings = signal.sawtooth(
                2 * np.pi * np.cumsum(rng.uniform(90, 140) * (1 - 0.2 * t / length)) / rate
            )
            for hz in (rng.uniform(300, 800), rng.uniform(900, 2300)):
                sos = signal.butter(1, (hz * 0.9, hz * 1.1), "bandpass", fs=rate, output="sos")
                out[round(time * rate) :][: len(t)] += signal.sosfilt(sos, offered_readings) * np.hanning(
                    len(t)
                )
            time += length + float(rng.choice([0.02, 0.06, rng.uniform(0.2, 0.9)], p=[0.5, 0.3, 0.2]))
        found = heard(Audio(np.asarray(0.3 * out / np.abs(out).max(), np.float32), rate))
        self.assertTrue(np.isfinite(np.asarray(found.beats.times)).all())
        if found.pace is not None:
            self.assertLess(float(np.mean([knot.confidence for knot in found.pace.knots])), 0.6)
            self.assertLess(found.sure, 0.6)

    def test_deterministic(self) -> None:
        audio = struck(0.6 + np.arange(16) * 0.5, 9.5)
        np.testing.assert_array_equal(heard(audio).beats.times, heard(audio).beats.times)


class OnsetTest(unittest.TestCase):
    def test_marks_sit_at_the_attack_start(self) -> None:
        rng = np.random.default_rng(2)
        times = np.cumsum(rng.uniform(0.12, 0.5, 40))
        found = heard(struck(times, float(times[-1]) + 1))
        matched = mir_eval.util.match_events(times, np.asarray(found.onsets.times), 0.05)
        self.assertGreater(len(matched), 38)
        errors = np.array([found.onsets.times[j] - times[i] for i, j in matched])
        self.assertLess(float(np.median(np.abs(errors))), 0.001)
