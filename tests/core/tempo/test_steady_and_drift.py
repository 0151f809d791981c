import unittest
from dataclasses import replace

import numpy as np

from combpace.core.analysis.steady_tempo import candidates_of, steady_tempo
from combpace.core.clocks import Placement, SessionTimes, TakeTimes, session_times, take_times
from combpace.core.errors import ParameterError
from combpace.core.tempo.drift import bars_between, course_against, drift_ms
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from rig.sounds import marks


def pace_of(times: np.ndarray) -> TempoMap[TakeTimes]:
    return TempoMap(tuple(Knot(float(t), float(k)) for k, t in enumerate(times)))


class SteadyTest(unittest.TestCase):
    def test_the_line_is_numpys_for_clean_beats(self) -> None:
        # numpy's least squares is the reference for the slope; outliers are what we do better.
        rng = np.random.default_rng(1)
        times = 0.5 + np.arange(120) * 0.6 + 0.003 * rng.standard_normal(120)
        found = steady_tempo(pace_of(times), marks(times), 75.0)
        slope, start = np.polyfit(np.arange(120), times, 1)
        self.assertAlmostEqual(found.bpm, 60 / slope, delta=0.01)
        self.assertAlmostEqual(found.first_downbeat_s, start, delta=0.001)
        self.assertTrue(abs(found.bpm - 100) < 2 * found.plus_minus_bpm)

    def test_outliers_do_not_pull_it(self) -> None:
        times = 0.5 + np.arange(120) * 0.6
        times[[20, 60, 100]] += 0.25
        found = steady_tempo(pace_of(times), marks(times), 75.0)
        self.assertAlmostEqual(found.bpm, 100.0, places=4)

    def test_attacks_between_the_beats_sharpen_it(self) -> None:
        # 40 s of programmed music at 123.45 BPM: beats read to half a millisecond, swung eighths and late
        # sixteenths more exactly.
        rng = np.random.default_rng(5)
        period = 60 / 123.45
        true = 0.25 + period * np.arange(80)
        read = true + 0.0005 * rng.standard_normal(80) + np.linspace(0, 0.0008, 80)
        between = np.concatenate([true + 0.5 * period + 0.009, true + 0.25 * period + 0.004, true])
        attacks = np.sort(between + 0.00005 * rng.standard_normal(len(between)))
        found = steady_tempo(pace_of(read), marks(attacks), 41.0)
        alone = steady_tempo(pace_of(read), marks([]), 41.0)
        self.assertLess(abs(found.bpm - 123.45), 0.0005)
        self.assertLess(abs(found.bpm - 123.45), 0.2 * abs(alone.bpm - 123.45))
        self.assertAlmostEqual(found.first_downbeat_s, 0.25, delta=0.001)

    def test_verdicts(self) -> None:
        k = np.arange(100)
        rng = np.random.default_rng(3)
        cases = {
            "steady": k * 0.5 + 0.006 * rng.standard_normal(100),
            "wanders": k * 0.5 + 0.08 * np.sin(k / 8),
            "speeds up": k * 0.5 - 0.0004 * k**2,
            "slows down": k * 0.5 + 0.0004 * k**2,
        }
        for verdict, times in cases.items():
            with self.subTest(verdict=verdict):
                self.assertEqual(steady_tempo(pace_of(times + 1), marks(times + 1), 60.0).verdict, verdict)
        noisy = k * 0.43 + 0.019 * rng.standard_normal(100)
        self.assertEqual(steady_tempo(pace_of(np.sort(noisy) + 1), marks(noisy), 45.0).verdict, "steady")

    def test_drift_at_the_end_has_the_sign_of_the_attacks(self) -> None:
        # Early is negative (common practice: check at the end, an early attack means a slow grid).
        k = np.arange(64)
        late = k * 0.5 + np.where(k > 56, 0.03, 0.0)
        self.assertGreater(steady_tempo(pace_of(late + 1), marks(late + 1), 40.0).drift_end_ms, 10)


class CandidatesTest(unittest.TestCase):
    def test_half_and_double_beside_the_reading(self) -> None:
        times = 0.5 + np.arange(64) * 0.5
        found = candidates_of(120.0, 0.5, marks(times), 33.0)
        by = {candidate.relation: candidate for candidate in found}
        self.assertEqual((by["half"].bpm, by["double"].bpm, round(by["dotted"].bpm)), (60.0, 240.0, 80))
        self.assertEqual(found[0].relation, "as read")
        # With the attacks of both hands on halves too, the double explains as much: hats tell (common
        # practice).
        busy = candidates_of(120.0, 0.5, marks(np.sort(np.concatenate([times, times + 0.25]))), 33.0)
        self.assertGreater({c.relation: c.evidence for c in busy}["double"], by["double"].evidence)

    def test_they_are_asked_of_the_playing_as_it_moved(self) -> None:
        # The same quarters with some eighths, steady and breathing by a tenth of a beat and more: what is
        # read is the same.
        k = np.arange(96)
        said = []
        for sway in (0.0, 0.08):
            times = 1 + k * 0.6 + sway * np.sin(k / 9)
            attacks = np.sort(np.concatenate([times, 0.5 * (times[:-1:4] + times[1::4])]))
            found = {
                c.relation: c.evidence for c in steady_tempo(pace_of(times), marks(attacks), 60.0).candidates
            }
            self.assertGreater(found["as read"], 0.85)
            self.assertLess(found["double"], 0.8 * found["as read"])
            said.append([found[name] for name in ("as read", "half", "double")])
        np.testing.assert_allclose(said[0], said[1], atol=0.02)

    def test_nothing_to_explain(self) -> None:
        self.assertTrue(
            all(candidate.evidence == 0 for candidate in candidates_of(120.0, 0.0, marks([]), 10.0))
        )


class DriftTest(unittest.TestCase):
    def test_attacks_before_the_line_are_negative(self) -> None:
        line: TempoMap[SessionTimes] = steady_map(120, 0.0)
        np.testing.assert_allclose(
            drift_ms(session_times([0.49, 0.51, 1.0]), line, Grid(4)), [-10, 10, 0], atol=1e-9
        )
        self.assertEqual(len(drift_ms(session_times([]), line, Grid(4))), 0)

    def test_a_grid_that_is_too_slow_makes_attacks_early_and_ever_earlier(self) -> None:
        # A song at 97.37 on a grid of 97.25: 0.12 BPM too slow, about 3 ms more in every bar.
        line: TempoMap[SessionTimes] = steady_map(97.25, 0.0)
        attacks = session_times(np.arange(96 * 4) * 60 / 97.37)
        rows = [
            row for row in bars_between(line, -0.1, 96 * 4 * 60 / 97.37, attacks) if row.drift_ms is not None
        ]
        slope = np.polyfit([row.index for row in rows[:60]], [row.drift_ms for row in rows[:60]], 1)[0]
        self.assertAlmostEqual(slope, -4 * 60000 * (1 / 97.25 - 1 / 97.37), delta=0.02)
        self.assertLess(slope, -2.9)

    def test_bars_without_an_attack_near_have_none(self) -> None:
        line: TempoMap[SessionTimes] = steady_map(120, 1.0, (Meter(1, 3, 4),))
        rows = bars_between(line, 0.0, 6.0, session_times([1.02, 3.4]))
        self.assertEqual([row.index for row in rows], [0, 1, 2, 3])
        self.assertAlmostEqual(rows[0].drift_ms or 0, 20.0)
        self.assertEqual([row.drift_ms for row in rows[1:]], [None, None, None])
        self.assertAlmostEqual(rows[0].bpm, 120.0)
        self.assertEqual(bars_between(line, 5.9, 5.95, session_times([])), [])


class ClocksTest(unittest.TestCase):
    def test_a_placement_joins_take_and_session_time(self) -> None:
        placed = Placement("a", 2.5)
        np.testing.assert_allclose(placed.to_session(take_times([0, 1])), [2.5, 3.5])
        np.testing.assert_allclose(placed.to_take(placed.to_session(take_times([0.1, 7]))), [0.1, 7])
        with self.assertRaises(ParameterError):
            Placement("a", float("inf"))


class MachineTest(unittest.TestCase):
    def test_a_fill_in_what_a_machine_plays_is_no_breathing(self) -> None:
        times = 0.3 + np.arange(240) * 60 / 170.0001
        times[100:112] += 0.045
        line: TempoMap[TakeTimes] = TempoMap(
            tuple(Knot(float(time), float(k), confidence=0.9) for k, time in enumerate(times))
        )
        found = steady_tempo(line, marks(times), float(times[-1]) + 1)
        self.assertEqual(found.verdict, "steady")
        self.assertAlmostEqual(found.bpm, 170.0001, delta=0.001)

    def test_a_change_of_tempo_is(self) -> None:
        gaps = np.where(np.arange(239) < 160, 60 / 120, 60 / 121.5)
        times = 0.3 + np.concatenate([[0.0], np.cumsum(gaps)])
        line: TempoMap[TakeTimes] = TempoMap(
            tuple(Knot(float(time), float(k), confidence=0.9) for k, time in enumerate(times))
        )
        self.assertNotEqual(steady_tempo(line, marks(times), float(times[-1]) + 1).verdict, "steady")


class CourseTest(unittest.TestCase):
    def played(
        self, bpm: float = 128.037, bars: int = 121, per_beat: int = 1, start: float = 0.5
    ) -> TempoMap[TakeTimes]:
        beats = bars * 4 * per_beat + 1
        unit = 1.0 / per_beat
        return TempoMap(
            tuple(Knot(start + k * unit * 60 / bpm, k * unit, confidence=0.9) for k in range(beats))
        )

    def steady(self, bpm: float, start: float = 0.5) -> TempoMap[TakeTimes]:
        return steady_map(bpm, start)

    def test_drift_is_followed_beat_by_beat_and_never_wraps(self) -> None:
        for bpm in (128.137, 128.05, 128.3, 127.9, 131.0):
            course = course_against(self.steady(bpm), self.played())
            with self.subTest(bpm=bpm):
                self.assertAlmostEqual(course.bpm, 128.037, places=6)
                at_end = 1000 * 484 * (60 / 128.037 - 60 / bpm)
                self.assertAlmostEqual(course.piled_ms, at_end, delta=0.5)
                self.assertAlmostEqual(course.at(484.0) or 0.0, at_end, delta=0.5)
                self.assertIsNone(course.at(488.0))
                self.assertIsNone(course.at(-4.0))

    def test_the_level_and_the_meter_of_the_playing_may_differ(self) -> None:
        eighths = self.played(per_beat=2)
        for played in (
            eighths,
            replace(eighths, meters=(Meter(1, 7, 8),)),
            replace(self.played(), meters=(Meter(1, 3, 4),)),
        ):
            course = course_against(self.steady(128.1), played)
            self.assertAlmostEqual(course.bpm, 128.037, delta=0.001)
        half = TempoMap(
            tuple(Knot(knot.time_s, knot.quarters / 2, confidence=0.9) for knot in self.played().knots)
        )
        self.assertAlmostEqual(course_against(self.steady(128.1), half).bpm, 128.037, delta=0.001)

    def test_one_loose_beat_does_not_turn_the_course(self) -> None:
        knots = list(self.played().knots)
        knots[-1] = replace(knots[-1], time_s=knots[-1].time_s - 0.2)
        course = course_against(self.steady(128.037), TempoMap(tuple(knots)))
        self.assertAlmostEqual(course.bpm, 128.037, delta=0.0005)
