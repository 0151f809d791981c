import unittest

import mir_eval
import numpy as np

from combpace.core.audio import Audio
from combpace.core.beats.activations import hear_activations
from combpace.core.beats.meter_network import Pattern
from combpace.core.beats.readings import Reading, Take
from combpace.core.beats.sections import (
    EMPTY,
    OVER,
    SHORTEST_SECTION_S,
    STEPS_PER_S,
    better_section,
    changed,
    joined_readings,
    said_of,
)
from combpace.core.beats.track import track_beats
from combpace.core.onsets.detect import detect_onsets
from combpace.core.spectra import onset_strength
from rig.sounds import source, struck

SECONDS = 30
QUARTERS, EIGHTHS = np.arange(0.5, SECONDS, 0.5), np.arange(0.5, SECONDS, 0.25)


def saying(change_s: float, before: float, after: float) -> np.ndarray:
    steps = np.arange(SECONDS * STEPS_PER_S) / STEPS_PER_S
    return np.where(steps < change_s, before, after)


class SaidTest(unittest.TestCase):
    def test_each_beat_speaks_until_the_next(self) -> None:
        row = np.array([1.0, 2.0, 3.0])
        pattern = Pattern(
            np.zeros(3, np.float32),
            np.zeros((3, 5), np.float32),
            np.array([0.5, 1.0, 0.0], np.float32),
            np.zeros((3, 3)),
        )
        said = said_of(pattern, row, 5 * STEPS_PER_S, EMPTY)
        for second, value in enumerate((EMPTY, 0.0, 4.0, -4.0, EMPTY)):
            np.testing.assert_allclose(
                said[second * STEPS_PER_S : (second + 1) * STEPS_PER_S], value, atol=1e-6
            )


class BetterSectionTest(unittest.TestCase):
    def found(
        self, change_s: float, base: tuple[float, float], other: tuple[float, float]
    ) -> tuple[float, float, float] | None:
        return better_section(QUARTERS, saying(change_s, *base), EIGHTHS, saying(change_s, *other))

    def test_from_where_the_other_is_right(self) -> None:
        found = self.found(15.0, (3.0, -1.0), (-2.0, 3.0))
        assert found is not None
        # Fifteen seconds of four nats each, less what going over costs.
        self.assertAlmostEqual(found[0], 15 * 4.0 - OVER)
        self.assertEqual(found[1:], (15.0, float(SECONDS)))

    def test_up_to_where_the_other_is_right(self) -> None:
        found = self.found(10.0, (-1.0, 3.0), (3.0, -2.0))
        assert found is not None
        self.assertEqual(found[1:], (0.0, 10.0))

    def test_in_between(self) -> None:
        other = saying(10.0, -2.0, 3.0) + saying(20.0, 0.0, -5.0)
        found = better_section(QUARTERS, np.zeros(SECONDS * STEPS_PER_S), EIGHTHS, other)
        assert found is not None
        self.assertAlmostEqual(found[0], 10 * 3.0 - 2 * OVER)
        self.assertEqual(found[1:], (10.0, 20.0))

    def test_none_where_it_is_short_or_little_better_or_all_or_shares_no_beat(self) -> None:
        self.assertIsNone(self.found(SECONDS - SHORTEST_SECTION_S + 1.0, (3.0, -1.0), (-4.0, 2.0)))
        self.assertIsNone(self.found(15.0, (3.0, 1.0), (-2.0, 1.5)))
        # Better from end to end: that is another way to count, not a section.
        self.assertIsNone(better_section(QUARTERS, saying(0, 0, 0.0), EIGHTHS, saying(28.0, 3.0, 0.0)))
        self.assertIsNone(
            better_section(QUARTERS, saying(15.0, 3.0, -1.0), EIGHTHS[::2] + 0.11, saying(15.0, -2.0, 3.0))
        )


class JoinedTest(unittest.TestCase):
    def test_quarters_that_go_over_to_eighths(self) -> None:
        # Ten bars of 4/4 at 120, then twelve of 7/8, whose beat is the eighth: no single row counts both.
        quarters, eighths = 0.5 + 0.5 * np.arange(40), 20.5 + 0.25 * np.arange(84)
        sound = struck(quarters, 42.0, low_every=4).samples + struck(eighths, 42.0, low_every=7).samples
        heard = source(Audio(sound, 44100))
        take = Take(hear_activations(heard, onset_strength(heard)))
        rows = [
            Reading("band", np.arange(0.5, 41.4, 0.5)),
            Reading("counted otherwise", np.arange(0.5, 41.4, 0.25)),
        ]
        found = [way.row for way in joined_readings(take, rows)]
        truth = np.concatenate([quarters, eighths])
        best = max(mir_eval.beat.f_measure(truth, row) for row in found)
        self.assertGreater(best, 0.98)
        self.assertTrue(all(mir_eval.beat.f_measure(truth, way.row) < 0.9 for way in rows))
        beats = track_beats(take.pulse, detect_onsets(heard, onset_strength(heard))).times
        self.assertGreater(mir_eval.beat.f_measure(truth, np.asarray(beats)), 0.98)

    def test_one_way_has_nothing_to_go_over_to(self) -> None:
        heard = source(struck(0.5 + 0.5 * np.arange(30), 16.0, low_every=4))
        take = Take(hear_activations(heard, onset_strength(heard)))
        self.assertEqual(list(joined_readings(take, [Reading("first", 0.5 + 0.5 * np.arange(30))])), [])
        self.assertEqual(list(joined_readings(take, [Reading("first", np.array([1.0, 2.0, 3.0]))])), [])


class ChangedTest(unittest.TestCase):
    def test_beats_of_the_other_within_and_no_beat_twice(self) -> None:
        row = changed(QUARTERS, EIGHTHS + 0.01, 10.0, 12.0)
        np.testing.assert_allclose(row[row < 9.9], QUARTERS[QUARTERS < 9.9])
        np.testing.assert_allclose(row[row > 12.1], QUARTERS[QUARTERS > 12.1])
        np.testing.assert_allclose(row[(row > 9.9) & (row < 12.1)], np.arange(10.0, 12.1, 0.25) + 0.01)
        self.assertGreater(float(np.diff(row).min()), 0.2)
