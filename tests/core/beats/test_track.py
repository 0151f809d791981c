import unittest
from collections import Counter
from unittest import mock

import mir_eval
import numpy as np

from bench.accuracy.robust import clicks
from combpace.core.beats.activations import FRAMES_PER_S, METERS, hear_activations
from combpace.core.beats.bars import BarHints, BarReading, in_one_unit, own_pace, read_bars
from combpace.core.beats.candidates import TempoSpan, best_of
from combpace.core.beats.decoder import follow
from combpace.core.beats.meter_network import WEIGHTS, Pattern, other_levels
from combpace.core.beats.readings import Reading, jumps_of, worth_of
from combpace.core.beats.track import SURE, Beats, lay_on_onsets, track_beats
from combpace.core.clocks import take_times
from combpace.core.errors import ParameterError
from combpace.core.networks.weights import weights_of
from combpace.core.onsets.detect import detect_onsets
from combpace.core.spectra import onset_strength
from combpace.core.tempo.meters import Meter
from rig.sounds import marks, source, struck


def pattern_of(count: int, starts: list[int] | range, meters: list[str]) -> Pattern:
    """What a network would say that hears every downbeat well, and the meter of each beat."""
    down = np.full(count, 0.05, np.float32)
    down[list(starts)] = 0.9
    meter = np.full((count, len(METERS)), 0.05, np.float32)
    for k, name in enumerate(meters):
        meter[k, METERS.index(name)] = 0.8
    return Pattern(down, meter, np.full(count, 0.9, np.float32), np.zeros((count, 3)))


def beats_of(count: int) -> Beats:
    times = 0.5 + np.arange(count) * 0.5
    return Beats(take_times(times), np.full(count, 0.9), times, np.ones(count))


def heard(times: np.ndarray, **more: object):  # type: ignore[no-untyped-def]
    """(pulse, onsets) of struck sounds."""
    audio = source(struck(times, float(times[-1]) + 1, **more))  # type: ignore[arg-type]
    strength = onset_strength(audio)
    return hear_activations(audio, strength), detect_onsets(audio, strength)


def odds(times: np.ndarray, seconds: float, on: float = 2.0, off: float = -3.0) -> np.ndarray:
    row = np.full(round(seconds * FRAMES_PER_S), off)
    at = np.round(np.asarray(times) * FRAMES_PER_S).astype(int)
    row[at - 1], row[at + 1] = on - 1, on - 1
    row[at] = on
    return row


def found(runs: list[np.ndarray]) -> np.ndarray:
    return np.concatenate(runs) / FRAMES_PER_S if runs else np.zeros(0)


class FollowTest(unittest.TestCase):
    # BPM <-> gap: 60 / BPM seconds (by definition).
    def test_a_bare_pulse_is_followed_from_30_to_300(self) -> None:
        for bpm in (31, 40, 60, 92, 128, 175, 240, 300):
            times = np.arange(0.5, 30, 60 / bpm)
            with self.subTest(bpm=bpm):
                self.assertGreater(mir_eval.beat.f_measure(times, found(follow(odds(times, 30.5)))), 0.98)

    def test_beats_that_are_missed_are_counted_through(self) -> None:
        times = np.arange(0.5, 30, 0.53)
        heard = np.delete(times, [7, 8, 20, 33])
        np.testing.assert_allclose(found(follow(odds(heard, 30.5, off=-1.5))), times, atol=0.021)

    def test_a_ramp_is_followed(self) -> None:
        times = 0.5 + np.cumsum(np.linspace(0.62, 0.38, 60))
        self.assertEqual(
            mir_eval.beat.f_measure(times, found(follow(odds(times, float(times[-1]) + 1)))), 1.0
        )

    def test_a_pulse_stops_and_another_starts(self) -> None:
        first, second = np.arange(0.5, 10, 0.5), np.arange(14.2, 30, 0.41)
        runs = follow(odds(np.concatenate([first, second]), 31))
        self.assertEqual(len(runs), 2)
        np.testing.assert_allclose(runs[0] / FRAMES_PER_S, first, atol=0.011)
        np.testing.assert_allclose(runs[1] / FRAMES_PER_S, second, atol=0.011)

    def test_nothing_is_followed_where_nothing_is_heard(self) -> None:
        self.assertEqual(follow(np.full(2000, -4.0)), [])
        self.assertEqual(follow(np.full(1, -4.0)), [])

    def test_held_frames_are_beats_and_tempi_are_kept(self) -> None:
        times = np.arange(0.5, 30, 0.5)
        for held in ([775.0], [325.0, 1012.0], [30.0]):
            beats = np.concatenate(follow(odds(times, 30.5), held=np.array(held)))
            self.assertLessEqual(set(held), set(beats))
        for low, high in ((55, 65), (110, 130), (230, 250)):
            span = TempoSpan(low, high)
            bpm = 60 / float(
                np.median(np.diff(found(follow(odds(times, 30.5, off=-1.0), tempi=[span.gaps]))))
            )
            with self.subTest(range=(low, high)):
                self.assertTrue(low - 2 <= bpm <= high + 6, bpm)
        for bad in ((120, 100, 0.0, 9.0), (100, 120, 5.0, 5.0), (1, 5, 0.0, 9.0)):
            with self.assertRaises(ParameterError):
                TempoSpan(*bad)

    def test_a_tempo_between_two_moments_leaves_the_rest(self) -> None:
        times = np.arange(0.5, 40, 0.5)
        beats = found(follow(odds(times, 40.5, off=-1.0), tempi=[TempoSpan(55, 65, 15.0, 25.0).gaps]))
        gaps = np.diff(beats)
        inside = (beats[1:] > 16) & (beats[1:] < 25)
        np.testing.assert_allclose(gaps[inside], 1.0, atol=0.08)
        np.testing.assert_allclose(gaps[beats[1:] < 14], 0.5, atol=0.03)


class TrackTest(unittest.TestCase):
    def test_one_network_alone_is_not_certain_of_a_way_to_count(self) -> None:
        sound = source(clicks(120.0, 40.0))
        heard = onset_strength(sound)
        onsets = detect_onsets(sound, heard)
        # Both certain: no other ways are compared. One against the other: they are.
        for other, times in ((8.0, 0), (-4.0, 1)):

            def says(inputs: np.ndarray, weights: object, other: float = other) -> np.ndarray:
                out = np.zeros((len(inputs), 2 + len(METERS)), np.float32)
                out[:, -1] = 8.0 if weights is weights_of(WEIGHTS) else other
                return out

            with (
                mock.patch("combpace.core.beats.meter_network.network", says),
                mock.patch("combpace.core.beats.candidates.worth_of", wraps=worth_of) as compared,
            ):
                # What was said of a pulse is remembered with it.
                beats = track_beats(hear_activations(sound, heard), onsets)
            with self.subTest(other=other):
                self.assertEqual(compared.call_count, times)
                self.assertTrue(times or beats.counted == SURE)

    def test_beats_that_only_one_of_two_likely_ways_has_are_doubtful(self) -> None:
        pulse, _ = heard(0.5 + np.arange(40) * 0.5)
        quarters, eighths = (
            Reading("attacks", np.arange(0.5, 20, 0.5)),
            Reading("band", np.arange(0.5, 20, 0.25)),
        )
        for worth, counted in (
            (np.array([0.0, 1.0]), 1 / (1 + np.exp(-1.0))),
            (np.array([2.0, 0.0]), 1 / (1 + np.exp(-2.0))),
        ):
            with (
                mock.patch("combpace.core.beats.candidates.worth_of", return_value=worth),
                mock.patch("combpace.core.beats.candidates.RARE", 0.0),
                mock.patch("combpace.core.beats.candidates.CERTAIN", 99.0),
            ):
                chosen = best_of(pulse, [quarters, eighths])
            with self.subTest(counted=counted):
                self.assertAlmostEqual(chosen.counted, counted, places=6)
                on = np.isin(chosen.row, quarters.row)
                np.testing.assert_allclose(chosen.shared[on], SURE)
                np.testing.assert_allclose(chosen.shared[~on], counted, rtol=1e-5)

    def test_strikes_are_beats_and_stand_on_their_attacks(self) -> None:
        times = 0.5 + np.arange(40) * 0.5
        pulse, onsets = heard(times, low_every=4)
        beats = track_beats(pulse, onsets)
        self.assertGreater(mir_eval.beat.f_measure(times, np.asarray(beats.times)), 0.95)
        self.assertTrue(np.isin(np.asarray(beats.times), np.asarray(onsets.times)).mean() > 0.95)
        self.assertEqual(len(beats.rough), len(beats))

    def test_held_moments_are_beats_exactly_and_tempi_hold(self) -> None:
        times = 0.5 + np.arange(40) * 0.5
        pulse, onsets = heard(times, low_every=4)
        self.assertIn(10.013, list(track_beats(pulse, onsets, held=[10.013]).times))
        for low, high in ((55, 65), (115, 125), (230, 250)):
            beats = track_beats(pulse, onsets, [TempoSpan(low, high)])
            with self.subTest(range=(low, high)):
                self.assertAlmostEqual(60 / float(np.median(np.diff(beats.rough))), (low + high) / 2, delta=7)

    def test_a_jump_is_no_ramp_and_no_breath(self) -> None:
        even = np.full(40, 0.5)
        jump = np.concatenate([even[:20], [0.55, 0.57, 0.56, 0.57], even[:20]])
        ramp = np.linspace(0.6, 0.4, 60)
        self.assertEqual(
            [
                jumps_of(np.cumsum(gaps))
                for gaps in (even, jump, ramp, 0.5 + 0.02 * np.sin(np.arange(60) / 3))
            ],
            [0, 1, 0, 0],
        )
        self.assertEqual(jumps_of(np.arange(5) * 0.5), 0)

    def test_the_same_counted_otherwise(self) -> None:
        beats = np.arange(12) * 0.5
        gaps = Counter(round(float(np.median(np.diff(row))), 4) for row in other_levels(beats))
        # Twice, half in two phases, two thirds and thirds in three, three halves in two, three times, and off
        # the beat.
        self.assertEqual(gaps, {0.25: 1, 1.0: 2, 0.75: 3, 1.5: 3, 0.3333: 2, 0.1667: 1, 0.5: 1})
        self.assertEqual(list(other_levels(beats[:3])), [])

    def test_fewer_than_three_attacks_carry_no_pulse(self) -> None:
        pulse, _ = heard(0.5 + np.arange(8) * 0.5)
        self.assertEqual(len(track_beats(pulse, marks([1.0, 2.0]))), 0)


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

    def test_beats_without_attack_lie_on_the_course_and_not_on_the_pulses_frames(self) -> None:
        count = np.arange(40)
        for name, true in (
            ("one tempo", 0.5 + 0.5137 * count),
            ("slower and slower", 0.5 + 0.42 * count + 0.0014 * count**2),
        ):
            with self.subTest(name):
                silent = [7, 18, 19, 31]
                times, carried = lay_on_onsets(np.round(true, 2), marks(np.delete(true, silent)))
                self.assertEqual(np.flatnonzero(carried == 0).tolist(), silent)
                np.testing.assert_allclose(times, true, atol=0.001)


class BarsTest(unittest.TestCase):
    def read(self, count: int, meter: str, first: int = 0, hints: BarHints | None = None) -> BarReading:
        return read_bars(pattern_of(60, range(first, 60, count), [meter] * 60), hints)

    def test_every_meter_by_its_downbeats(self) -> None:
        for meter, count in (("4/4", 4), ("3/4", 3), ("5/4", 5), ("6/8", 2), ("7/8", 7)):
            reading = self.read(count, meter)
            with self.subTest(meter=meter):
                self.assertEqual(reading.starts, tuple(range(0, 60, count)))
                self.assertEqual({str(each) for each in reading.meters}, {meter})
                self.assertGreater(float(reading.sure.mean()), 0.9)

    def test_a_pickup_stays_before_bar_1(self) -> None:
        pace = own_pace(beats_of(60), self.read(4, "4/4", first=1))
        self.assertAlmostEqual(pace.second(0.0), 1.0)
        self.assertAlmostEqual(pace.second(-1.0), 0.5)

    def test_a_change_of_meter_in_mid_take(self) -> None:
        reading = read_bars(
            pattern_of(64, [*range(0, 32, 4), *range(32, 64, 3)], ["4/4"] * 32 + ["3/4"] * 32)
        )
        pace = own_pace(beats_of(64), reading)
        self.assertEqual([(meter.bar, str(meter)) for meter in pace.meters], [(1, "4/4"), (9, "3/4")])
        self.assertAlmostEqual(pace.second(pace.bar_line(9)), 0.5 + 35 * 0.5)

    def test_eighths_and_quarters_at_one_pulse_have_one_name_and_the_tempo_does_not_double(self) -> None:
        for sevens, names in ((2, {"7/4", "5/4"}), (6, {"7/8", "5/8"})):
            starts = [*range(0, 7 * sevens, 7), *range(7 * sevens, 7 * sevens + 20, 5)]
            meters = ["7/8"] * (7 * sevens) + ["5/4"] * 20
            heard = read_bars(pattern_of(len(meters), starts, meters))
            self.assertEqual({str(meter) for meter in heard.meters}, {"7/8", "5/4"})
            even = 0.5 + 0.3 * np.arange(len(meters))
            reading = in_one_unit(heard, even)
            with self.subTest(sevens=sevens):
                self.assertEqual({str(meter) for meter in reading.meters}, names)
                self.assertEqual(reading.starts, heard.starts)
                pace = own_pace(beats_of(len(meters)), reading)
                self.assertAlmostEqual(float(np.ptp(np.diff(pace.quarters))), 0.0)
            # Beats that become twice as long where quarters begin: the meter did change.
            longer = np.concatenate([even[: 7 * sevens], even[7 * sevens - 1] + 0.3 + 0.6 * np.arange(20)])
            self.assertIs(in_one_unit(heard, longer), heard)

    def test_one_short_bar_does_not_turn_the_rest(self) -> None:
        reading = read_bars(pattern_of(62, [*range(0, 20, 4), *range(22, 62, 4)], ["4/4"] * 62))
        self.assertIn(22, reading.starts)
        pace = own_pace(beats_of(62), reading)
        self.assertEqual([str(meter) for meter in pace.meters], ["4/4", "2/4", "4/4"])
        np.testing.assert_allclose(np.diff(pace.quarters), 1.0)

    def test_what_is_stated_holds(self) -> None:
        reading = self.read(3, "3/4", hints=BarHints(meters=((0, Meter(1, 5, 4)),)))
        self.assertEqual({str(each) for each in reading.meters[:-1]}, {"5/4"})
        reading = self.read(4, "4/4", hints=BarHints(downbeats=frozenset({10, 31})))
        self.assertLessEqual({10, 31}, set(reading.starts))
        reading = self.read(4, "4/4", hints=BarHints(others=frozenset({16})))
        self.assertNotIn(16, reading.starts)
        reading = self.read(4, "4/4", hints=BarHints(meters=((24, Meter(1, 7, 8)),)))
        self.assertIn(24, reading.starts)
        self.assertEqual(
            {str(m) for s, m in zip(reading.starts, reading.meters, strict=True) if s >= 24}, {"7/8"}
        )
        # Eighths after quarters: the beats keep their times, musical time goes on without a gap.
        self.assertAlmostEqual(float(np.diff(own_pace(beats_of(60), reading).quarters)[30]), 0.5)

    def test_a_bar_line_is_no_surer_than_its_bar(self) -> None:
        reading = self.read(4, "4/4")
        pace = own_pace(beats_of(60), reading, np.full(15, 0.4))
        self.assertEqual({knot.confidence for knot in pace.knots if knot.quarters % 4 == 0}, {0.4})
        self.assertEqual({knot.confidence for knot in pace.knots if knot.quarters % 4 != 0}, {0.9})

    def test_too_few_beats(self) -> None:
        one = Beats(take_times([0.5]), np.ones(1), np.array([0.5]), np.ones(1))
        reading = read_bars(pattern_of(1, [0], ["4/4"]))
        self.assertEqual(reading.sure.tolist(), [0.0])
        with self.assertRaises(ParameterError):
            own_pace(one, reading)
