"""Where a take lies if no rule acts, and what a rule then does with its feel."""

import unittest

import numpy as np

from combpace.core.clocks import SessionTimes, TakeTimes
from combpace.core.fit.follow import follow_of, following, one_tempo_of, pace_of, placed
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from rig.sounds import marks

BEATS = 64
SCATTER_S = 0.010


def played(seed: int = 1, bpm: float = 100.0, start: float = 0.5) -> np.ndarray:
    """An even player's beats, scattered."""
    return start + 60.0 / bpm * np.arange(BEATS) + np.random.default_rng(seed).normal(0.0, SCATTER_S, BEATS)


def beats_of(times: np.ndarray) -> TempoMap[TakeTimes]:
    return TempoMap(tuple(Knot(float(time), float(k)) for k, time in enumerate(times)))


class FollowTest(unittest.TestCase):
    def test_by_its_placement_alone(self) -> None:
        found = placed(2.0, 10.0)
        np.testing.assert_array_equal(found(np.array([-1.0, 0.0, 3.3, 12.0])), [1.0, 2.0, 5.3, 14.0])
        self.assertTrue(found.as_played)

    def test_what_shares_the_pace_that_the_map_is_lies_as_played(self) -> None:
        times = played()
        beats = beats_of(times)
        line: TempoMap[SessionTimes] = beats.shifted(1.0)  # type: ignore[assignment]
        found = follow_of(beats, line, 1.0, 40.0, shares=True, loop=False, steady=None)
        np.testing.assert_allclose(found(times), times + 1.0, rtol=0, atol=0)

    def test_one_tempo_is_one_factor_to_the_sample(self) -> None:
        times = played()
        line: TempoMap[SessionTimes] = steady_map(104.0, 0.25)
        pace = pace_of(beats_of(times), 40.0, loop=False, steady=(100.0, 0.5))
        found = following(pace, line, 0.0, 40.0)
        at = np.linspace(0.0, 40.0, 200)
        np.testing.assert_allclose(found(at), 0.25 + (at - 0.5) * 100.0 / 104.0, atol=1e-9)
        # No point but both ends: nothing is bent by a beat.
        self.assertEqual(len(found.source_s), 2)

    def test_a_loop_is_one_tempo_from_its_first_frame_to_its_last(self) -> None:
        times = 0.5 * np.arange(9) + np.array([0.0, 9, -7, 4, -3, 6, -8, 2, 0.0]) / 1000
        pace = pace_of(beats_of(times), 4.0, loop=True, steady=None)
        found = following(pace, steady_map(100.0, 2.0), 0.0, 4.0)
        self.assertEqual(len(found.source_s), 2)
        np.testing.assert_allclose(found(np.array([0.0, 4.0])), [2.0, 2.0 + 8 * 0.6], atol=1e-9)

    def test_within_a_millisecond_it_is_as_played(self) -> None:
        times = played()
        pace = pace_of(beats_of(times), 38.0, loop=False, steady=(100.0, 0.5))
        self.assertTrue(following(pace, steady_map(100.001, 0.5002), 0.0, 38.0).as_played)
        self.assertFalse(following(pace, steady_map(100.01, 0.5), 0.0, 38.0).as_played)

    def test_its_own_bar_1_may_lie_on_another_bar_of_the_session(self) -> None:
        times = played(start=0.5)
        beats = TempoMap(tuple(Knot(float(time), float(k) + 8.0) for k, time in enumerate(times)))
        pace = pace_of(beats, 38.0, loop=False, steady=(100.0, 0.5))
        self.assertAlmostEqual(pace.place(0.5), 8.0, places=9)

    def test_called_steady_only_where_it_keeps_its_tempo(self) -> None:
        even = beats_of(0.5 + 0.6 * np.arange(BEATS))
        self.assertEqual(one_tempo_of(even, "steady", 100.0, 0.5), (100.0, 0.5))
        self.assertIsNone(one_tempo_of(even, "wanders", 100.0, 0.5))
        late = 0.5 + 0.6 * np.arange(BEATS)
        late[-12:] += np.linspace(0.02, 0.4, 12)
        self.assertIsNone(one_tempo_of(beats_of(late), "steady", 100.0, 0.5))


class FeelTest(unittest.TestCase):
    """The rule reads what lies between a take's course and the grid."""

    def fitted(self, times: np.ndarray, line: TempoMap[SessionTimes], rule: Rule) -> np.ndarray:
        beats, end = beats_of(times), float(times[-1]) + 1.0
        follow = follow_of(beats, line, 0.0, end, shares=False, loop=False, steady=(100.0, 0.5))
        made = fit(marks(times), beats, follow, line, end, rule)
        return np.asarray(made.time_map.to_target(times))

    def test_strength_leave_alone_and_ignore_act_on_what_lies_on_the_beats(self) -> None:
        times, line = played(), steady_map(100.0, 0.5)
        feel = times - (0.5 + 0.6 * np.arange(BEATS))
        for strength in (0.0, 0.5, 1.0):
            off = self.fitted(times, line, Rule(grid="1/8", strength=100 * strength)) - (
                0.5 + 0.6 * np.arange(BEATS)
            )
            np.testing.assert_allclose(off, (1 - strength) * feel, atol=1e-9)
        off = self.fitted(times, line, Rule(grid="1/8", leave_alone_ms=10.0)) - (0.5 + 0.6 * np.arange(BEATS))
        np.testing.assert_allclose(off, np.where(np.abs(feel) < 0.010, feel, 0.0), atol=1e-9)
        far = np.abs(feel) > 0.012
        self.assertTrue(far.any())
        moved = self.fitted(times, line, Rule(grid="1/8", ignore_beyond_ms=12.0))
        self.assertLess(np.abs(moved[~far] - (0.5 + 0.6 * np.flatnonzero(~far))).max(), 1e-9)

    def test_feel_is_stretched_with_its_beat(self) -> None:
        times, line = played(), steady_map(80.0, 0.5)
        feel = times - (0.5 + 0.6 * np.arange(BEATS))
        off = self.fitted(times, line, Rule(grid="1/8", strength=0)) - (0.5 + 0.75 * np.arange(BEATS))
        np.testing.assert_allclose(off, 1.25 * feel, atol=1e-9)

    def test_outside_a_range_nothing_moves_but_by_what_it_follows(self) -> None:
        times = played()
        for line, share in ((steady_map(100.0, 0.5), 1.0), (steady_map(90.0, 0.5), 100.0 / 90.0)):
            out = self.fitted(times, line, Rule(grid="1/8", bars=(3, 4)))
            lies = 0.5 + share * (times - 0.5)
            inside = slice(8, 16)
            np.testing.assert_allclose(
                np.delete(out, np.arange(8, 16)), np.delete(lies, np.arange(8, 16)), atol=1e-9
            )
            np.testing.assert_allclose(out[inside], 0.5 + 0.6 * share * np.arange(8, 16), atol=1e-9)

    def test_a_tempo_that_drifts_is_followed_and_its_feel_left_at_nothing(self) -> None:
        true = [0.5]
        for _ in range(255):
            true.append(true[-1] + 0.6 / (1 + 0.035 * np.sin(2 * np.pi * true[-1] / 30)))
        line = steady_map(100.0, 0.5)
        for seed in range(6):
            feel = np.random.default_rng(seed).normal(0.0, SCATTER_S, 256)
            times, beats = np.array(true) + feel, beats_of(np.array(true) + feel)
            end = float(times[-1]) + 1.0
            follow = follow_of(beats, line, 0.0, end, shares=False, loop=False, steady=None)
            for strength, least, most in ((0.0, 0.85, 1.0), (0.5, 0.42, 0.5)):
                made = fit(marks(times), beats, follow, line, end, Rule(grid="1/8", strength=100 * strength))
                off = np.asarray(made.time_map.to_target(times)) - (0.5 + 0.6 * np.arange(256))
                self.assertTrue(least <= off.std() / feel.std() <= most, off.std() / feel.std())
                self.assertGreater(np.corrcoef(off, feel)[0, 1], 0.9)
            made = fit(marks(times), beats, follow, line, end, Rule(grid="1/8"))
            off = np.asarray(made.time_map.to_target(times)) - (0.5 + 0.6 * np.arange(256))
            self.assertLess(np.abs(off).max(), 1e-9)

    def test_the_player_beside_a_drummer_takes_none_of_his_wobble(self) -> None:
        # A guitar that is even lies on the drummer's pace: on his course, not on his strokes.
        drums, line = played(3), steady_map(100.0, 0.5)
        beats, guitar = beats_of(drums), 0.5 + 0.3 * np.arange(2 * BEATS - 2)
        end = float(drums[-1]) + 1.0
        follow = follow_of(beats, line, 0.0, end, shares=False, loop=False, steady=None)
        made = fit(marks(guitar), beats, follow, line, end, Rule(grid="1/8", strength=0))
        self.assertLess(np.abs(np.asarray(made.time_map.to_target(guitar)) - guitar).max(), 0.004)


if __name__ == "__main__":
    unittest.main()
