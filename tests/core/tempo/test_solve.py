"""The map as a function of what was heard and what was stated, on songs whose downbeats are known."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace
from fractions import Fraction
from functools import partial

import numpy as np

from combpace.core.analysis.take import Analysis
from combpace.core.clocks import Quarters, TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo.bars_again import hear_row
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import parse_meter
from combpace.core.tempo.solve import Heard, place_heard, solved
from combpace.core.tempo.statements import Stated, Tie
from tests.core.tempo.test_bars_again import heard

HOLDS_S = 1e-9


def lines(line: TempoMap[TakeTimes], until: float) -> np.ndarray:
    last = line.bar_of(line.place(until))
    return np.asarray(line.to_seconds(Quarters(np.array([line.bar_line(k) for k in range(last + 1)]))))


def known_of(found: Analysis) -> Heard[TakeTimes]:
    assert found.pace is not None
    return Heard(found.pace, found.onsets, lambda: found.pulse, partial(hear_row, found.pulse))


class SolvedTest(unittest.TestCase):
    def setUp(self) -> None:
        self.song, found = heard("4/4, 7/8, 4/4", 2)
        assert found.pace is not None
        self.pace = found.pace
        self.known = known_of(found)
        self.deaf = Heard(found.pace, found.onsets)

    def test_nothing_stated_is_what_was_heard(self) -> None:
        self.assertIs(solved(self.known, Stated()), self.pace)

    def test_what_is_stated_holds_to_the_sample_in_any_order(self) -> None:
        said = [float(self.song.downbeats[k]) for k in (3, 9, 14, 19)]
        found = set()
        for order in itertools.permutations(said):
            made = solved(self.known, Stated(downbeats=order))
            found.add(made.knots)
            for time in said:
                self.assertLess(np.abs(made.times_s - time).min(), HOLDS_S)
                self.assertLess(np.abs(lines(made, 60.0) - time).min(), HOLDS_S)
        self.assertEqual(len(found), 1)

    def test_a_beat_that_opens_no_bar(self) -> None:
        # Only that line goes, whatever the ear would make of it.
        for form, seed in (("a bar of 2/4", 1), ("a bar of 2/4", 3), ("7/8, 4/4, 7/8", 2)):
            song, found = heard(form, seed)
            assert found.pace is not None
            end = float(song.downbeats[-1]) + 0.5
            before = lines(found.pace, end)
            wrong = [time for time in before if np.abs(song.downbeats - time).min() > 0.05]
            made = solved(known_of(found), Stated(others=(float(wrong[0]),)))
            np.testing.assert_allclose(lines(made, end), before[before != wrong[0]], rtol=0, atol=1e-9)
        wrong = [time for time in lines(self.pace, 47.0) if np.abs(self.song.downbeats - time).min() > 0.05]
        with self.assertRaisesRegex(MapConflictError, "cannot both hold"):
            solved(self.known, Stated(downbeats=(float(wrong[0]),), others=(float(wrong[0]),)))
        deaf = solved(self.deaf, Stated(others=(float(wrong[0]),)))
        self.assertGreater(np.abs(lines(deaf, 47.0) - wrong[0]).min(), 0.05)
        with self.assertRaisesRegex(MapConflictError, "outside of the beats"):
            solved(self.deaf, Stated(others=(-5.0,)))

    def test_the_reach_says_how_far(self) -> None:
        beats = self.pace.beats_between(0.0, float(self.pace.quarters[-1]))
        before = lines(self.pace, 45.0)
        bar = self.pace.bar_of(self.pace.place(float(self.song.downbeats[4])) + 0.1)
        line = self.pace.bar_line(bar)
        time = self.pace.second(float(beats[np.searchsorted(beats, line + 1e-6)]))
        alone = lines(solved(self.known, Stated(downbeats=(time,), reach=((time, "only this bar"),))), 45.0)
        deaf = solved(self.deaf, Stated(downbeats=(time,), reach=((time, "only this bar"),)))
        np.testing.assert_allclose(lines(deaf, 45.0), alone, rtol=0, atol=1e-9)
        on = lines(solved(self.known, Stated(downbeats=(time,), reach=((time, "from here on"),))), 45.0)
        every = lines(solved(self.known, Stated(downbeats=(time,), reach=((time, "everywhere"),))), 45.0)
        self.assertEqual(int(np.sum(np.abs(alone[: len(before)] - before[: len(alone)]) > 0.01)), 1)
        np.testing.assert_allclose(on[:bar], before[:bar], rtol=0, atol=1e-9)
        self.assertGreater(np.abs(on[bar:20] - before[bar:20]).min(), 0.1)
        self.assertGreater(np.abs(every[:20] - before[:20]).min(), 0.1)

    def test_a_tie_to_a_beat_keeps_what_it_was_heard_as(self) -> None:
        place = self.pace.bar_line(5) + 1.0
        was = place_heard(self.known, Stated(), place)
        self.assertAlmostEqual(was, self.pace.second(place), places=9)
        stated = Stated(ties=(Tie(was + 0.2, was),))
        made = solved(self.known, stated)
        self.assertAlmostEqual(made.second(place), was + 0.2, places=9)
        # However far it was pulled, it is found again as the same beat.
        self.assertAlmostEqual(place_heard(self.known, stated, place), was, places=6)

    def test_a_line_before_the_first_beat_is_put_where_it_is_pulled(self) -> None:
        places = [float(self.pace.quarters[0]) - beats for beats in (8.0, 4.0)]
        first = self.pace.bar_line(self.pace.bar_of(places[0]))
        second = self.pace.bar_line(self.pace.bar_of(places[1]))
        stated = Stated()
        for place, by in ((first, -0.2), (second, 0.15)):
            was = place_heard(self.known, stated, place)
            self.assertAlmostEqual(was, self.pace.second(place), places=6)
            at = was + by
            stated = replace(
                stated, downbeats=(*stated.downbeats, at), ties=(*stated.ties, Tie(at, was, alone=True))
            )
            made = solved(self.known, stated)
            self.assertAlmostEqual(made.second(place), at, places=9)
        # The bars that were heard are where they were.
        np.testing.assert_allclose(lines(made, 40.0), lines(self.pace, 40.0), rtol=0, atol=1e-9)

    def test_levels_are_of_what_was_heard(self) -> None:
        twice = solved(self.known, Stated(levels=((None, Fraction(2)),)))
        self.assertAlmostEqual(twice.bpm_at(8.0), 2 * self.pace.bpm_at(4.0), places=6)
        later = float(self.song.downbeats[4])
        both = solved(self.known, Stated(levels=((None, Fraction(2)), (later, Fraction(1)))))
        self.assertAlmostEqual(
            both.bpm_at(both.place(later + 2.0)), self.pace.bpm_at(self.pace.place(later + 2.0)), places=6
        )

    def test_a_range_ends_where_it_is_said_to(self) -> None:
        beats = np.asarray(self.pace.to_seconds(Quarters(self.pace.beats_between(0.0, 40.0))))
        stated = Stated(ranges=((float(beats[8]), float(beats[14]), parse_meter("3/4")),))
        for known in (self.known, self.deaf):
            made = solved(known, stated)
            self.assertEqual([str(made.meter_of(k)) for k in range(1, 5)], ["4/4", "3/4", "3/4", "4/4"])
            np.testing.assert_allclose(made.times_s, self.pace.times_s, rtol=0, atol=1e-12)

    def test_without_the_ear_bars_are_counted_on(self) -> None:
        time = float(self.song.downbeats[6])
        made = solved(self.deaf, Stated(downbeats=(time,)))
        self.assertLess(np.abs(lines(made, 60.0) - time).min(), HOLDS_S)
        made = solved(self.deaf, Stated(bars=((time, 3),)))
        self.assertLess(abs(made.second(made.bar_line(2)) - time), HOLDS_S)
