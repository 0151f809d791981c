"""Bars heard again with what was said: what is doubtful follows it, what is sure stays, in any order."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from combpace.core.analysis.take import Analysis, analyse
from combpace.core.audio import ArraySource
from combpace.core.clocks import Quarters, TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo import bars_again as solve
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import parse_meter
from combpace.core.tempo.statements import Stated
from rig.forms import Song, song

NEAR_S = 0.012


@cache
def heard(form: str, seed: int) -> tuple[Song, Analysis]:
    made = song(form, seed)
    return made, analyse(ArraySource(made.audio))


def lines(line: TempoMap[TakeTimes], count: int) -> np.ndarray:
    return np.asarray(line.to_seconds(Quarters(np.array([line.bar_line(k) for k in range(count)]))))


def near(times: np.ndarray, line: TempoMap[TakeTimes]) -> np.ndarray:
    """Which of these moments are lines."""
    found = lines(line, 60)
    return np.abs(found[None, :] - times[:, None]).min(axis=1) < NEAR_S


class SolveTest(unittest.TestCase):
    """A song of 8 bars of 4/4, 10 of 7/8 and 4 of 4/4; of the last four the ear reads one line wrong."""

    def setUp(self) -> None:
        self.song, self.heard = heard("4/4, 7/8, 4/4", 2)
        assert self.heard.pace is not None
        self.pace = self.heard.pace
        self.kept = solve.lines_of(self.pace)

    def again(self, stated: Stated, pace: TempoMap[TakeTimes] | None = None) -> TempoMap[TakeTimes]:
        def row() -> solve.Row:
            return solve.hear_row(self.heard.pulse, self.pace)

        return solve.bars_again(pace or self.pace, row, lambda: self.heard.pulse, self.kept, stated)

    def beat(self, time: float) -> float:
        """The beat nearest to a moment: what is stated lies on one."""
        return self.pace.second(self.pace.beat_near(self.pace.place(time)))

    def test_what_holds_already_changes_nothing(self) -> None:
        known = [k for k, ok in enumerate(near(self.song.downbeats, self.pace)) if ok]
        self.assertEqual(len(known), 21)
        for k in known[::4]:
            made = self.again(Stated(downbeats=(self.beat(self.song.downbeats[k]),)))
            self.assertTrue(solve.same_bars(made, self.pace))
            np.testing.assert_array_equal(made.times_s, self.pace.times_s)

    def test_a_true_downbeat_puts_right_what_was_wrong_and_moves_no_right_line(self) -> None:
        right = near(self.song.downbeats, self.pace)
        wrong = int(np.flatnonzero(~right)[0])
        made = self.again(Stated(downbeats=(self.beat(self.song.downbeats[wrong]),)))
        after = near(self.song.downbeats, made)
        self.assertTrue(np.all(after[right]))
        self.assertTrue(after[wrong])
        # Two eighths that are left over are 2/8, and no 6/8 at three times the tempo.
        self.assertNotIn(1.5, [meter.beat_quarters for meter in made.meters])
        # Up to the bar before it not a line moved.
        np.testing.assert_allclose(lines(made, 18), lines(self.pace, 18), rtol=0, atol=1e-9)

    def test_the_same_statements_in_any_order_give_the_same_map(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(12):
            downs = [self.beat(t) for t in rng.choice(self.song.downbeats, 4, replace=False)]
            k = int(rng.integers(0, 20))
            bar = (self.beat(self.song.downbeats[k]), k + 3)
            meters = [(self.beat(self.song.downbeats[8]), parse_meter("7/8"))]
            made = []
            for _ in range(3):
                rng.shuffle(downs)
                made.append(self.again(Stated((bar,), tuple(downs), tuple(meters))))
                for time in (*downs, bar[0], meters[0][0]):
                    self.assertTrue(near(np.array([time]), made[-1])[0], time)
            self.assertAlmostEqual(made[0].second(made[0].bar_line(k + 2)), bar[0], places=9)
            self.assertEqual(made[0], made[1])
            self.assertEqual(made[0], made[2])

    def test_what_cannot_hold_is_refused_in_a_sentence(self) -> None:
        beat, gap = self.song.beats[12], self.song.beats[13] - self.song.beats[12]
        for stated, said in (
            (Stated(downbeats=(beat + 0.4 * gap,)), "on no beat"),
            (Stated(downbeats=(beat, beat + 0.1 * gap)), "are one beat"),
            (Stated(bars=((self.beat(self.song.downbeats[0]), 1), (self.beat(self.song.downbeats[4]), 12))),
             "cannot both hold"),
            (Stated(((self.beat(self.song.downbeats[14]), 1),), (self.beat(self.song.downbeats[2]),)),
             "lead-in is counted in whole bars"),
            (Stated(bars=((self.beat(self.song.downbeats[14]), -40),)), "behind the last beat"),
        ):  # fmt: skip
            with self.subTest(said=said), self.assertRaisesRegex(MapConflictError, said):
                self.again(stated)

    def test_another_meter_leaves_bar_1_where_it_was_heard(self) -> None:
        made = self.again(Stated(meters=((None, parse_meter("3/4")),)))
        self.assertAlmostEqual(made.second(0.0), self.pace.second(0.0), places=9)
        self.assertEqual([str(meter) for meter in made.meters], ["3/4"])


class OneMeterTest(unittest.TestCase):
    def setUp(self) -> None:
        _, self.heard = heard("a breakdown", 1)
        assert self.heard.pace is not None
        self.pace = self.heard.pace
        _, self.beats = solve.beats_of(self.pace)

    def again(self, *at: int) -> TempoMap[TakeTimes]:
        kept = solve.lines_of(self.pace)
        stated = Stated(downbeats=tuple(float(self.beats[k]) for k in at))
        row = solve.hear_row(self.heard.pulse, self.pace)
        return solve.bars_again(self.pace, lambda: row, lambda: self.heard.pulse, kept, stated)

    def test_music_of_one_meter_shifts_as_a_whole(self) -> None:
        made = self.again(17)
        self.assertEqual([str(meter) for meter in made.meters], ["4/4"])
        self.assertTrue(np.all(near(self.beats[5::4], made)))
        self.assertFalse(np.any(near(self.beats[4::4], made)))

    def test_two_downbeats_that_no_count_of_four_joins_are_heard_again(self) -> None:
        made = self.again(17, 40)
        self.assertTrue(np.all(near(self.beats[[17, 40]], made)))
        self.assertGreater(len(made.meters), 1)


class EvenTest(unittest.TestCase):
    def test_one_downbeat_after_a_bar_of_2_4_moves_the_bars_after_it_alone(self) -> None:
        made, found = heard("a bar of 2/4", 1)
        assert found.pace is not None
        pace = found.pace
        kept = solve.lines_of(pace)
        # Told of the bar after it, the ear finds the short bar.
        time = pace.second(pace.beat_near(pace.place(made.downbeats[12])))
        row = solve.hear_row(found.pulse, pace)
        line = solve.bars_again(pace, lambda: row, lambda: found.pulse, kept, Stated(downbeats=(time,)))
        self.assertTrue(np.all(near(made.downbeats[:9], line)))
        self.assertTrue(np.all(near(made.downbeats[12:], line)))


class BeatsTest(unittest.TestCase):
    def test_a_pulse_that_was_read_beside_the_beat_is_told_from_one_that_is_wrong_in_one_place(self) -> None:
        _, found = heard("a bar of 2/4", 1)
        assert found.pace is not None
        pace = found.pace
        _, times = solve.beats_of(pace)
        beat, gap = float(times[10]), float(times[11] - times[10])
        self.assertFalse(solve.speaks_as_much(pace, found.pulse, beat + 0.5 * gap))
        # The same pulse half a beat late: what goes through a true beat says more.
        late = pace.shifted(0.5 * gap)
        self.assertTrue(solve.speaks_as_much(late, found.pulse, beat))

    def test_beats_are_followed_again_about_a_moment_that_is_none_and_nowhere_else(self) -> None:
        _, found = heard("4/4, 7/8, 4/4", 1)
        assert found.pace is not None
        pace = found.pace
        _, times = solve.beats_of(pace)
        # Half a beat beside: the beats about it change, those 12 beats away are the same to the bit.
        wanted = float(0.5 * (times[20] + times[21]))
        line = solve.beats_again(pace, found.pulse, found.onsets, [wanted])
        self.assertIn(wanted, line.times_s)
        np.testing.assert_array_equal(line.times_s[:8], pace.times_s[:8])
        np.testing.assert_array_equal(line.times_s[-40:], pace.times_s[-40:])
        self.assertIs(solve.beats_again(pace, found.pulse, found.onsets, [float(times[20])]), pace)
        with self.assertRaisesRegex(MapConflictError, "outside"):
            solve.beats_again(pace, found.pulse, found.onsets, [float(times[-1]) + 5.0])


if __name__ == "__main__":
    unittest.main()
