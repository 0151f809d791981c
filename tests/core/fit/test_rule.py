"""A sentence is said in one place, whoever says it; several of them, each for its bars."""

import unittest

import numpy as np

from combpace.core.clocks import Quarters
from combpace.core.errors import ParameterError
from combpace.core.fit.follow import following
from combpace.core.fit.groove import GrooveGrid, take_groove
from combpace.core.fit.pegs import fit
from combpace.core.fit.ranges import (
    NONE,
    governed,
    read_ranged,
    refuse_beyond,
    spoken_to,
    with_said,
    without,
)
from combpace.core.fit.rule import Rule, read_bars, value_of
from combpace.core.tempo.grid import Grid, parse_grid
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from rig.sounds import marks

# 120 BPM in 4/4 from zero on: a bar is two seconds.
LINE = steady_map(120.0, 0.0)
PLAYED = steady_map(120.0, 0.0)


class RuleTest(unittest.TestCase):
    def test_each_field_is_read_as_it_is_written(self) -> None:
        for said, meant in (
            ({"strength": "85 %"}, {"strength": 85.0}),
            ({"strength": 85}, {"strength": 85.0}),
            ({"swing": "57,5"}, {"swing": 57.5}),
            ({"leave_alone": "6 ms"}, {"leave_alone_ms": 6.0}),
            ({"leave_alone_ms": 6}, {"leave_alone_ms": 6.0}),
            ({"ignore": "60 ms"}, {"ignore_beyond_ms": 60.0, "ignore_beyond": None}),
            ({"ignore": "1/32"}, {"ignore_beyond_ms": None, "ignore_beyond": "1/32"}),
            ({"ignore": "nothing"}, {"ignore_beyond_ms": None, "ignore_beyond": None}),
            ({"bars": "9–12"}, {"bars": (9, 12)}),
            ({"bars": "all"}, {"bars": None}),
            ({"bars": [9, 12]}, {"bars": (9, 12)}),
            ({"keep_lag": "yes"}, {"keep_lag": True}),
            ({"coarse": True}, {"coarse": True}),
            ({"grid": " 1/8T "}, {"grid": "1/8t"}),
        ):
            with self.subTest(said=said):
                made = Rule(ignore_beyond_ms=40.0).said(said)
                self.assertEqual({name: getattr(made, name) for name in meant}, meant)

    def test_what_it_cannot_take_is_refused_by_name(self) -> None:
        for said, words in (
            ({"strength": "120"}, "Strength lies between 0 and 100 %, not at 120 %."),
            ({"strength": "much"}, "Strength must be a number"),
            ({"strength": "nan"}, "Strength"),
            ({"swing": 40}, "Swing lies between 50 and 80 %"),
            ({"leave_alone": -1}, "“Leave alone” lies between 0 and 1000 ms"),
            ({"ignore": "soon"}, "“Ignore” takes milliseconds or a note value"),
            ({"grid": "1/7"}, "1/7"),
            ({"bars": "0-3"}, "There is no bar 0."),
            ({"bars": "9-5"}, "Bars 9 to 5 run backwards."),
            ({"bars": "soon"}, "names no bars"),
            ({"coarse": "perhaps"}, "takes yes or no"),
            ({"volume": 3}, "The sentence has no “volume”."),
            ({"groove_start": 3}, "The sentence has no “groove_start”."),
        ):
            with self.subTest(said=said), self.assertRaises(ParameterError) as refused:
                Rule().said(said)
            self.assertIn(words, str(refused.exception))
        for fields in ({"strength": 120}, {"volume": 1}, {"bars": (0, 1)}, {"grid": "1/9"}):
            with self.subTest(fields=fields), self.assertRaises(ParameterError):
                Rule(**fields)

    def test_what_is_kept_is_read_again_as_it_was(self) -> None:
        groove = take_groove(np.arange(4) * 0.5, np.array([6.0, 0, 0, 0]), LINE, (0, 0), Grid(4))
        for rule in (
            Rule(grid="1/8d", swing=61.5, strength=7, ignore_beyond="1/32t", bars=(-2, 5), keep_lag=True),
            Rule.onto(GrooveGrid(groove, 3), accent=40),
        ):
            again = Rule.model_validate(rule.model_dump(mode="json", exclude_none=True))
            self.assertEqual(again, rule)
            self.assertEqual(again.places, rule.places)
        # A share that was typed in % is that share to the bit.
        self.assertTrue(all(Rule(strength=one).share == one / 100 for one in range(101)))

    def test_every_note_value_has_its_name(self) -> None:
        for text in ("1/4", "1/8t", "1/16d", "1/32"):
            self.assertEqual(value_of(parse_grid(text).step_quarters), text)
        self.assertEqual((read_bars("bar 9"), read_bars(None), read_bars("-2-3")), ((9, 9), None, (-2, 3)))


class RangesTest(unittest.TestCase):
    def setUp(self) -> None:
        # An eighth every quarter of a second for eight bars, each 20 ms late.
        self.times = np.arange(64) * 0.25 + 0.020

    def lies(self, *rules: Rule) -> np.ndarray:
        made = fit(marks(self.times), PLAYED, following(PLAYED, LINE, 0.0, 17.0), LINE, 17.0, rules)
        return 1000.0 * (made.time_map.to_target(self.times) - np.arange(64) * 0.25)

    def test_the_later_sentence_counts_and_the_others_stand(self) -> None:
        whole = Rule(grid="1/8", strength=90)
        rules = with_said(with_said((whole,), (3, 4), {"strength": 50}), (4, 4), {"strength": 0})
        self.assertEqual([one.bars for one in rules], [None, (3, 4), (4, 4)])
        off = self.lies(*rules)
        np.testing.assert_allclose(off[:16], 2.0, atol=1e-6)
        np.testing.assert_allclose(off[16:24], 10.0, atol=1e-6)
        np.testing.assert_allclose(off[24:32], 20.0, atol=1e-6)
        np.testing.assert_allclose(off[32:], 2.0, atol=1e-6)
        # What a range does not say it has as the sentence of all bars; it is told again in its place.
        again = with_said(rules, (3, 4), {"strength": 100})
        self.assertEqual(
            [(one.bars, one.strength) for one in again], [(None, 90), ((3, 4), 100), ((4, 4), 0)]
        )
        self.assertEqual({one.grid for one in again}, {"1/8"})
        self.assertEqual(without(again, (3, 4)), (again[0], again[2]))
        with self.assertRaises(ParameterError):
            without(again, (3, 3))

    def test_one_of_all_bars_comes_first_so_that_the_others_count(self) -> None:
        only = (Rule(grid="1/8", bars=(3, 3)),)
        made = with_said(only, None, {"strength": 50})
        self.assertEqual([one.bars for one in made], [None, (3, 3)])
        off = self.lies(*made)
        np.testing.assert_allclose(off[16:24], 0.0, atol=1e-6)
        np.testing.assert_allclose(np.delete(off, np.arange(16, 24)), 10.0, atol=1e-6)

    def test_bars_between_two_ranges_stay_as_they_were_played(self) -> None:
        off = self.lies(Rule(grid="1/8", bars=(2, 2)), Rule(grid="1/8", bars=(4, 4)))
        moved = np.flatnonzero(np.abs(off - 20.0) > 1e-6)
        np.testing.assert_array_equal(moved, [*range(8, 16), *range(24, 32)])

    def test_each_sentence_pulls_to_its_own_grid(self) -> None:
        self.times = np.concatenate([np.arange(16) * 0.5, np.arange(8.0, 16.0, 0.125)]) + 0.015
        rules = with_said((Rule(grid="1/4"),), (5, 8), {"grid": "1/16"})
        which, goal = governed(rules, PLAYED.to_quarters(marks(self.times).times), LINE)
        self.assertEqual(which.tolist(), [0] * 16 + [1] * 64)
        np.testing.assert_allclose(goal[16:], np.arange(16.0, 32.0, 0.25))

    def test_what_is_late_in_the_lines_and_in_the_groove_is_late_once(self) -> None:
        # A drummer whose first beats are 30 ms late: the lines of a breathing map are these strokes.
        struck = np.arange(65) * 0.5 + np.where(np.arange(65) % 4 == 0, 0.030, 0.0)
        lines = TempoMap(tuple(Knot(float(time), float(k)) for k, time in enumerate(struck)), LINE.meters)
        late = take_groove(struck[:32], np.zeros(32), LINE, (0, 7), Grid(4))
        own = Quarters(np.arange(32.0))
        for under, twice in ((LINE, 0.0), (None, 0.030)):
            rules = (Rule.onto(GrooveGrid(late)),)
            _, goal = governed(rules, own, lines, under)
            first = np.asarray(lines.to_seconds(goal))[4::4] - struck[4:32:4]
            np.testing.assert_allclose(first, twice, atol=0.004)

    def test_an_early_downbeat_belongs_to_the_bar_that_it_opens(self) -> None:
        at = Quarters(np.array([3.95, 4.0, 7.95, 8.0]))
        which, _ = governed((Rule(grid="1/8", bars=(2, 2)),), at, LINE)
        self.assertEqual(which.tolist(), [0, 0, NONE, NONE])

    def test_without_bars_the_one_of_all_is_meant_or_the_only_one(self) -> None:
        whole, three, five = Rule(), Rule(bars=(3, 3)), Rule(bars=(5, 6))
        self.assertIs(spoken_to((whole, three)), whole)
        self.assertIs(spoken_to((three,)), three)
        with self.assertRaises(ParameterError) as refused:
            spoken_to((three, five))
        self.assertIn("Bar 3 and bars 5–6 have sentences of their own", str(refused.exception))

    def test_a_sentence_of_the_command_line(self) -> None:
        base = Rule(grid="1/8", strength=90, leave_alone_ms=6)
        made = read_ranged("9-12: strength=85, grid=1/16", base)
        self.assertEqual(
            (made.bars, made.strength, made.grid, made.leave_alone_ms), ((9, 12), 85.0, "1/16", 6.0)
        )
        self.assertEqual(read_ranged("9: leave-alone-ms=0", base).bars, (9, 9))
        wrong = ["9-12", "strength=85", "9-12: strength", "0: strength=1", "9-5: strength=1"]
        for text in (*wrong, "all: strength=1", "9-12: bars=3, strength=1", "9-12: volume=3"):
            with self.subTest(text=text), self.assertRaises(ParameterError):
                read_ranged(text, base)

    def test_bars_that_a_take_does_not_have_are_refused(self) -> None:
        refuse_beyond([Rule(bars=(1, 8)), Rule()], LINE, 0.0, 32.0)
        for bars in ((9, 9), (8, 9), (-9, -4)):
            with self.subTest(bars=bars), self.assertRaises(ParameterError) as refused:
                refuse_beyond([Rule(bars=bars)], LINE, 0.0, 32.0)
            self.assertIn("beyond the take, which has bars 1–8", str(refused.exception))


if __name__ == "__main__":
    unittest.main()
