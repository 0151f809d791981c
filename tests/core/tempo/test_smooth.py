"""The pace under beats whose course and scatter are known."""

import unittest
from collections.abc import Callable

import numpy as np

from combpace.core.clocks import TakeTimes
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.smooth import course, sections, smoothed

BEATS, SCATTER_S, SEEDS = 256, 0.010, 20
PLACES = np.arange(BEATS, dtype=np.float64)


def steady() -> np.ndarray:
    return 0.6 * PLACES


def drifting() -> np.ndarray:
    """100 BPM, faster and slower by 3.5 % in 30 s."""
    times = [0.0]
    for _ in range(BEATS - 1):
        times.append(times[-1] + 0.6 / (1 + 0.035 * np.sin(2 * np.pi * times[-1] / 30)))
    return np.array(times)


class CourseTest(unittest.TestCase):
    def measured(self, true: Callable[[], np.ndarray]) -> np.ndarray:
        """Of each seed: (scatter left, how alike both are, rms and most off the course, ms)."""
        rows = []
        for seed in range(SEEDS):
            feel = np.random.default_rng(seed).normal(0.0, SCATTER_S, BEATS)
            played = true() + feel
            made = course(played, PLACES)
            self.assertTrue(np.all(np.diff(made) > 0))
            left, off = played - made, made - true()
            rows.append(
                (
                    left.std() / feel.std(),
                    np.corrcoef(left, feel)[0, 1],
                    1000 * np.sqrt(np.mean(off**2)),
                    1000 * np.abs(off).max(),
                )
            )
        return np.array(rows)

    def test_of_even_playing_all_scatter_is_feel(self) -> None:
        rows = self.measured(steady)
        self.assertGreater(rows[:, 0].min(), 0.97)
        self.assertLess(rows[:, 0].max(), 1.03)
        self.assertGreater(rows[:, 1].min(), 0.98)

    def test_a_tempo_that_drifts_is_followed_and_the_feel_stays(self) -> None:
        rows = self.measured(drifting)
        self.assertGreater(rows[:, 0].min(), 0.85)
        self.assertLess(rows[:, 0].max(), 1.0)
        self.assertGreater(rows[:, 1].min(), 0.9)
        self.assertLess(rows[:, 2].max(), 5.0)

    def test_playing_without_scatter_is_its_own_pace(self) -> None:
        # Free playing, every beat where the tempo puts it.
        walk = np.cumsum(np.random.default_rng(3).normal(0.0, 0.03, BEATS))
        played = np.concatenate([[0.0], np.cumsum(0.6 * np.exp(walk))[:-1]])
        self.assertLess(1000 * np.abs(course(played, PLACES) - played).max(), 8.0)

    def test_another_section_begins_anew(self) -> None:
        half = BEATS // 2
        true = np.concatenate([0.6 * PLACES[:half], 0.6 * half + 0.45 * PLACES[:half]])
        played = true + np.random.default_rng(1).normal(0.0, SCATTER_S, BEATS)
        self.assertEqual(len(sections(played, PLACES)), 1)
        self.assertLess(abs(sections(played, PLACES)[0] - half), 2)
        self.assertLess(1000 * np.abs(course(played, PLACES, (float(half),)) - true)[half + 8 :].max(), 15.0)
        self.assertEqual(sections(steady(), PLACES), [])
        self.assertEqual(sections(drifting(), PLACES), [])

    def test_few_beats_are_one_tempo(self) -> None:
        made = course(np.array([0.0, 0.51, 0.99, 1.5]), np.arange(4.0))
        self.assertLess(np.ptp(np.diff(made)), 1e-12)
        self.assertEqual(list(course(np.array([1.0]), np.array([0.0]))), [1.0])

    def test_beats_of_another_note_value_are_weighed_by_their_length(self) -> None:
        # Every other span is twice as long: what is steady stays so.
        places = np.cumsum(np.tile([0.0, 1.0, 2.0], 40)[1:])
        places = np.unique(places)
        made = course(0.5 * places, places)
        np.testing.assert_allclose(made, 0.5 * places, atol=1e-9)

    def test_a_map_keeps_its_places_and_no_anchor(self) -> None:
        knots = tuple(Knot(0.5 * k + 0.01 * (k % 2), float(k), fixed=k == 3) for k in range(16))
        beats: TempoMap[TakeTimes] = TempoMap(knots, (Meter(1, 4, 4),))
        made = smoothed(beats)
        np.testing.assert_array_equal(made.quarters, beats.quarters)
        self.assertFalse(any(knot.fixed for knot in made.knots))


if __name__ == "__main__":
    unittest.main()
