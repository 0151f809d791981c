"""The fewest tempo changes: proved by brute force on small maps, and what holds for any."""

import itertools
import unittest

import numpy as np
from scipy.optimize import linprog

from combpace.core.clocks import TakeTimes, quarters
from combpace.core.errors import ParameterError
from combpace.core.tempo.anchors import lock
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.tidy import EXACT_S, RAMP_ENDS, _steps, bends_between, tempo_changes, tidy
from combpace.demo.performances import breathing_beats


def breathing(bars: int, seed: int = 1) -> TempoMap[TakeTimes]:
    beats = breathing_beats(np.random.default_rng(seed), bars, 1.0)
    return TempoMap(tuple(Knot(float(time), float(k)) for k, time in enumerate(beats)))


def fewest_by_force(places: np.ndarray, times: np.ndarray, half: np.ndarray) -> int:
    """Pieces of the best of all choices of inner ends: each is a linear program in the times of the ends."""
    inner = range(1, len(places) - 1)
    for count in range(len(places) - 1):
        for chosen in itertools.combinations(inner, count):
            ends = [0, *chosen, len(places) - 1]
            # Times between two ends are weighted means of theirs.
            rows = np.zeros((len(places), len(ends)))
            for k, (a, b) in enumerate(itertools.pairwise(ends)):
                share = (places[a : b + 1] - places[a]) / (places[b] - places[a])
                rows[a : b + 1] = 0.0
                rows[a : b + 1, k], rows[a : b + 1, k + 1] = 1 - share, share
            limit = np.concatenate([times + half, -(times - half)])
            if (
                linprog(np.zeros(len(ends)), np.concatenate([rows, -rows]), limit, bounds=(None, None)).status
                == 0
            ):
                return count + 1
    return len(places) - 1


class StepsTest(unittest.TestCase):
    def test_as_few_as_any_choice_on_small_maps(self) -> None:
        rng = np.random.default_rng(4)
        for _ in range(60):
            n = int(rng.integers(3, 9))
            places = np.cumsum(rng.uniform(2, 5, n))
            times = np.cumsum(rng.uniform(0.45, 0.55, n) * np.diff(places, prepend=0))
            half = np.where(rng.uniform(size=n) < 0.2, EXACT_S, rng.choice([0.01, 0.05, 0.15]))
            made = _steps(places, times, half)
            self.assertEqual(len(made) - 1, fewest_by_force(places, times, half))
            got = np.interp(places, [place for place, _, _ in made], [time for _, time, _ in made])
            self.assertLess(float(np.max(np.abs(got - times) - half)), 1e-9)

    def test_bar_lines_stay_within_the_distance_and_anchors_exact(self) -> None:
        line = breathing(60)
        for place in (8.0, 30.0, 101.0):
            line = lock(line, place, place == 30.0)
        made, said = tidy(line, 1.0, float(line.times_s[-1]), 10.0)
        lines = quarters(np.arange(0, 241, 4.0))
        self.assertLessEqual(
            float(np.abs(made.to_seconds(lines) - line.to_seconds(lines)).max()), 0.010 + 1e-9
        )
        self.assertLessEqual(said.largest_ms, 10.0 + 1e-6)
        for place in (8.0, 30.0, 101.0):
            knot = next(knot for knot in made.knots if knot.quarters == place)
            self.assertEqual(
                (knot.time_s, knot.fixed, knot.locked), (line.second(place), True, place == 30.0)
            )
        self.assertEqual(said.changes, tempo_changes(made))
        self.assertLess(said.changes, 0.2 * said.changes_before)
        # Coarser is never more.
        counts = [
            tidy(line, 1.0, float(line.times_s[-1]), ms)[1].changes for ms in (2.0, 5.0, 10.0, 20.0, 50.0)
        ]
        self.assertEqual(counts, sorted(counts, reverse=True))

    def test_a_steady_map_has_no_changes(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(97.37, 0.5)
        made, said = tidy(line, 0.5, 200.0, 1.0)
        self.assertEqual(said.changes, 0)
        self.assertAlmostEqual(made.bpm_at(0.0), 97.37, places=6)

    def test_meters_stay_and_beats_may_carry_changes(self) -> None:
        line = breathing(24)
        made, on_lines = tidy(line, 1.0, float(line.times_s[-1]), 4.0)
        other, on_beats = tidy(line, 1.0, float(line.times_s[-1]), 4.0, on_beats=True)
        self.assertEqual(made.meters, line.meters)
        self.assertLessEqual(on_beats.changes, on_lines.changes)
        self.assertTrue(all(abs(knot.quarters - round(knot.quarters)) < 1e-9 for knot in other.knots))

    def test_a_distance_that_is_none_is_refused(self) -> None:
        for bad in (0.0, -1.0, float("nan"), 2000.0):
            with self.assertRaises(ParameterError):
                tidy(breathing(4), 1.0, 9.0, bad)


class RampsTest(unittest.TestCase):
    def test_one_ramp_is_found_as_one(self) -> None:
        line: TempoMap[TakeTimes] = TempoMap(
            (Knot(0.0, 0.0, ramp=1.3), Knot(60 * 64 / 100 * np.log(1.3) / 0.3, 64.0))
        )
        made, said = tidy(line, 0.0, float(line.times_s[-1]), 10.0, ramps=True)
        self.assertEqual(len(made.knots), 2)
        self.assertAlmostEqual(made.knots[0].ramp, 1.3, delta=0.005)
        self.assertEqual(said.changes, 1)
        self.assertLess(said.largest_ms, 10.0)

    def test_as_few_as_any_choice_of_its_lattice_and_never_more_than_steps(self) -> None:
        for seed in range(6):
            line = breathing(8, seed)
            places = np.arange(0, 33, 4.0)
            times, half = np.asarray(line.to_seconds(quarters(places))), np.full(len(places), 0.004)
            lattice = times[:, None] + half[:, None] * np.array(RAMP_ENDS)[None, :]
            made, _ = tidy(line, 1.0, float(line.times_s[-1]), 4.0, ramps=True)
            fewest = next(
                count + 1
                for count in range(len(places))
                if any(
                    self.joins(places, times, half, lattice, [0, *chosen, 8])
                    for chosen in itertools.combinations(range(1, 8), count)
                )
            )
            self.assertEqual(len(made.knots) - 1, fewest)
            lines = quarters(places)
            self.assertLess(
                float(np.abs(made.to_seconds(lines) - line.to_seconds(lines)).max()), 0.004 + 1e-9
            )

    def joins(
        self, places: np.ndarray, times: np.ndarray, half: np.ndarray, lattice: np.ndarray, ends: list[int]
    ) -> bool:
        """Whether any choice of lattice ends on these places, and of bends between them, passes all
        windows.
        """
        reached = set(range(len(RAMP_ENDS)))
        for a, b in itertools.pairwise(ends):
            if not reached:
                return False
            bends, _ = bends_between(places, times, half, lattice, a, b, sorted(reached))
            reached = set(np.flatnonzero(np.isfinite(bends).any(axis=0)).tolist())
        return bool(reached)
