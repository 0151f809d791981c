"""The curve edited: tempi of bars, ramps, steps between anchors, smoothing; anchors are exact whatever
comes.
"""

import unittest

import numpy as np

from combpace.core.clocks import TakeTimes, quarters
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.anchors import lock
from combpace.core.tempo.curve import shaped, smoothed, with_tempo
from combpace.core.tempo.map import Knot, TempoMap


def breathing(bars: int = 16) -> TempoMap[TakeTimes]:
    rng = np.random.default_rng(6)
    times = 1.0 + np.concatenate([[0], np.cumsum(60 / rng.uniform(95, 105, 4 * bars))])
    return TempoMap(tuple(Knot(float(t), float(k), confidence=0.8) for k, t in enumerate(times)))


def lines(line: TempoMap[TakeTimes], count: int = 17) -> np.ndarray:
    return np.asarray(line.to_seconds(quarters(4.0 * np.arange(count))))


class TempoTest(unittest.TestCase):
    def test_bars_at_a_tempo_and_what_follows_goes_along(self) -> None:
        line = breathing()
        made = with_tempo(line, 4, 7, 120.0)
        was, now = lines(line), lines(made)
        np.testing.assert_allclose(now[:5], was[:5], atol=1e-9)
        np.testing.assert_allclose(np.diff(now[4:9]), 2.0, atol=1e-9)
        np.testing.assert_allclose(np.diff(now[8:]), np.diff(was[8:]), atol=1e-9)

    def test_a_ramp_over_bars_has_its_closed_length(self) -> None:
        made = with_tempo(breathing(), 4, 7, 90.0, 120.0)
        # 16 quarters from 90 to 120: 60 * 16 / 30 * ln(4/3) s.
        self.assertAlmostEqual(lines(made)[8] - lines(made)[4], 32 * np.log(4 / 3), places=9)
        self.assertAlmostEqual(made.bpm_at(16.0), 90.0, places=6)
        self.assertAlmostEqual(made.bpm_at(31.999999), 120.0, places=3)

    def test_an_anchor_after_it_takes_up_the_difference(self) -> None:
        line = lock(breathing(), 48.0, False)
        made = with_tempo(line, 4, 5, 110.0)
        was, now = lines(line), lines(made)
        self.assertEqual(made.second(48.0), line.second(48.0))
        np.testing.assert_allclose(now[12:], was[12:], atol=1e-9)
        self.assertTrue(np.all(np.diff(now) > 1.5))

    def test_an_anchor_inside_is_named(self) -> None:
        line = lock(breathing(), 20.0, False)
        for last in (4, 6):
            with self.assertRaisesRegex(MapConflictError, "Bar 6, fixed at .* cannot both hold"):
                with_tempo(line, 4, last, 140.0)
        with self.assertRaisesRegex(MapConflictError, "would have"):
            with_tempo(line, 1, 3, 40.0)
        for bad in (0.0, 5000.0, float("nan")):
            with self.assertRaises(ParameterError):
                with_tempo(line, 1, 3, bad)
        with self.assertRaisesRegex(ParameterError, "run backwards"):
            with_tempo(line, 5, 3, 100.0)


class ShapeTest(unittest.TestCase):
    def setUp(self) -> None:
        self.line = breathing()
        for place in (16.0, 32.0, 41.0):
            self.line = lock(self.line, place, False)

    def test_steps_and_ramps_go_through_every_anchor(self) -> None:
        for shape in ("steps", "ramps"):
            made = shaped(self.line, 1, 13, shape)
            for place in (4.0, 16.0, 32.0, 41.0, 56.0):
                self.assertEqual(made.second(place), self.line.second(place))
            self.assertEqual(
                [knot.quarters for knot in made.knots if 4.0 <= knot.quarters <= 56.0],
                [4.0, 16.0, 32.0, 41.0, 56.0],
            )
            self.assertEqual(made.has_ramps, shape == "ramps")
            # Outside of the bars nothing moved.
            self.assertEqual(made.second(2.0), self.line.second(2.0))
            self.assertEqual(made.second(60.0), self.line.second(60.0))

    def test_ramps_leave_smaller_jumps_than_steps(self) -> None:
        def jumps(made: TempoMap[TakeTimes]) -> float:
            start, end = made.span_ends_bpm
            inside = [k for k, knot in enumerate(made.knots) if knot.quarters in (16.0, 32.0, 41.0)]
            return max(abs(float(start[k] / end[k - 1]) - 1) for k in inside)

        self.assertLess(jumps(shaped(self.line, 1, 13, "ramps")), jumps(shaped(self.line, 1, 13, "steps")))

    def test_smoothing_evens_out_and_keeps_ends_and_anchors(self) -> None:
        made = smoothed(self.line, 1, 13)
        for place in (4.0, 16.0, 32.0, 41.0, 56.0):
            self.assertEqual(made.second(place), self.line.second(place))
        free = breathing()
        rough = lambda one: float(np.abs(np.diff(1 / np.diff(lines(one)[2:14]))).max())  # noqa: E731
        self.assertLess(rough(smoothed(free, 2, 12)), 0.7 * rough(free))

    def test_a_shape_that_is_none_is_refused(self) -> None:
        with self.assertRaisesRegex(ParameterError, "steps or ramps"):
            shaped(self.line, 1, 4, "curves")


class WithoutAnchorsTest(unittest.TestCase):
    """A performance that breathes from 98 to 104 and back, and nobody set an anchor."""

    def setUp(self) -> None:
        bpm = 101 - 3 * np.cos(2 * np.pi * np.arange(128) / 128)
        times = 2.0 + np.concatenate([[0], np.cumsum(60 / bpm)])
        self.line: TempoMap[TakeTimes] = TempoMap(
            tuple(Knot(float(t), float(k), confidence=0.8) for k, t in enumerate(times))
        )

    def moved_ms(self, made: TempoMap[TakeTimes], count: int = 33) -> float:
        return 1000 * float(np.abs(lines(made, count) - lines(self.line, count)).max())

    def test_no_bar_line_moves_farther_than_is_said(self) -> None:
        for within in (3.0, 10.0, 25.0):
            for name, made in (
                ("ramps", shaped(self.line, 0, 31, "ramps", within)),
                ("steps", shaped(self.line, 0, 31, "steps", within)),
                ("smooth", smoothed(self.line, 0, 31, within)),
            ):
                with self.subTest(shape=name, within=within):
                    self.assertLessEqual(self.moved_ms(made), within + 1e-6)
        ramps = shaped(self.line, 0, 31, "ramps", 10.0)
        self.assertLess(len(ramps.knots), 8)
        self.assertTrue(ramps.has_ramps)
        # One flat tempo would lie a third of a second off.
        straight = TempoMap((self.line.knots[0], self.line.knots[-1]), self.line.meters)
        self.assertGreater(self.moved_ms(straight), 250.0)

    def test_one_anchor_is_kept_and_goes_between_nothing(self) -> None:
        made = shaped(lock(self.line, 40.0, False), 0, 31, "ramps", 10.0)
        self.assertEqual(made.second(40.0), self.line.second(40.0))
        self.assertLessEqual(self.moved_ms(made), 10.0 + 1e-6)

    def test_of_some_bars_both_ends_and_all_beside_them_stay(self) -> None:
        made = shaped(self.line, 8, 15, "ramps", 10.0)
        self.assertLessEqual(self.moved_ms(made), 10.0 + 1e-6)
        was, now = lines(self.line, 33), lines(made, 33)
        np.testing.assert_allclose(now[:9], was[:9], atol=1e-9)
        np.testing.assert_allclose(now[16:], was[16:], atol=1e-9)
        self.assertFalse(any(knot.fixed for knot in made.knots))
