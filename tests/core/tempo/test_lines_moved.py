"""Bars moved as the user means it, by hand: eight bars of four beats, of which one begins elsewhere."""

from __future__ import annotations

import unittest

from combpace.core.tempo.lines_moved import Counted, Edit, edited
from combpace.core.tempo.meters import Meter

FOUR = Meter(1, 4, 4)


def bars(first: int = 2, count: int = 8) -> Counted:
    """Bars of 4/4 from a beat on."""
    return Counted(tuple(first + 4 * k for k in range(count)), (FOUR,) * count, (0.5,) * count)


class EditedTest(unittest.TestCase):
    def made(self, *edits: Edit, opens: frozenset[int] = frozenset()) -> tuple[list[int], list[str]]:
        found = edited(bars(), edits, opens, 36)
        return list(found.starts), [str(one) for one in found.meters]

    def test_everywhere_all_bars_are_the_same_and_begin_elsewhere(self) -> None:
        starts, meters = self.made(Edit("everywhere", 15))
        self.assertEqual(starts, [3, 7, 11, 15, 19, 23, 27, 31])
        self.assertEqual(set(meters), {"4/4"})

    def test_from_here_on_the_bar_before_is_longer(self) -> None:
        starts, meters = self.made(Edit("from here on", 15))
        self.assertEqual(starts, [2, 6, 10, 15, 19, 23, 27, 31])
        self.assertEqual(meters[:4], ["4/4", "4/4", "5/4", "4/4"])

    def test_only_this_bar_leaves_all_others(self) -> None:
        starts, meters = self.made(Edit("only this bar", 15))
        self.assertEqual(starts, [2, 6, 10, 15, 18, 22, 26, 30])
        self.assertEqual(meters[2:4], ["5/4", "3/4"])

    def test_from_here_on_ends_at_the_next_that_is_stated(self) -> None:
        starts, meters = self.made(Edit("from here on", 15), opens=frozenset({15, 26}))
        self.assertEqual(starts, [2, 6, 10, 15, 19, 23, 26, 30])
        self.assertEqual(meters[5], "3/4")

    def test_a_range_is_counted_on_from_its_end(self) -> None:
        starts, meters = self.made(Edit("range", 10, 16, Meter(1, 3, 4)))
        self.assertEqual(starts, [2, 6, 10, 13, 16, 20, 24, 28])
        self.assertEqual(meters[2:5], ["3/4", "3/4", "4/4"])
        starts, meters = self.made(Edit("range", 10, 15, Meter(1, 5, 4)))
        self.assertEqual((starts[2:5], meters[2]), ([10, 15, 19], "5/4"))

    def test_where_no_bar_begins_the_one_before_goes_on(self) -> None:
        starts, meters = self.made(Edit("none", 14))
        self.assertEqual(starts, [2, 6, 10, 18, 22, 26, 30])
        self.assertEqual(meters[2:4], ["8/4", "4/4"])
        self.assertEqual(self.made(Edit("none", 15))[0], self.made()[0])

    def test_the_order_is_no_matter(self) -> None:
        edits = (Edit("only this bar", 23), Edit("everywhere", 7), Edit("from here on", 12))
        self.assertEqual(self.made(*edits), self.made(*reversed(edits)))
