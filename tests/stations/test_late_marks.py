"""A line that was put on a late mark, and pulled off it: the mark goes along. A mark under a line takes it
along. Nothing else couples them.
"""

from __future__ import annotations

import numpy as np

from combpace.core.errors import ParameterError
from combpace.stations.bars.station import stated_rows
from rig.places import PlaceTest


class LateMarkTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.act("downbeat", time_s=float(self.beats[8]))
        self.at = self.line(2)
        self.place_q = self.seen().need_map().bar_line(2)

    def marks(self) -> np.ndarray:
        return np.asarray(self.seen().onsets(self.lead).times)

    def test_the_mark_goes_along_and_one_button_leaves_it(self) -> None:
        before = self.marks()
        note = self.act("pull", time_s=self.at - 0.012, quarters=self.place_q, free=True).note
        self.assertIn("The mark that it was put on went along.", note)
        self.assertAlmostEqual(self.line(2), self.at - 0.012, places=9)
        np.testing.assert_allclose(
            np.sort(np.append(before[before != self.at], self.at - 0.012)), self.marks()
        )
        row = stated_rows(self.seen())[0]
        leave = next(way for way in row["others"] if way["words"] == "leave its mark")
        self.act(leave["do"], **leave["args"])
        np.testing.assert_allclose(self.marks(), before, rtol=0, atol=1e-9)
        self.assertAlmostEqual(self.line(2), self.at - 0.012, places=9)
        self.assertFalse([way for way in stated_rows(self.seen())[0]["others"] if "mark" in way["words"]])

    def test_a_lock_of_a_line_that_was_pulled_alone_moves_nothing(self) -> None:
        place = self.seen().need_map().bar_line(4)
        self.act("pull", time_s=self.line(4) + 0.05, quarters=place, free=True, alone=True)
        before = self.seen().need_map().times_s
        self.act("lock", quarters=place)
        np.testing.assert_array_equal(self.seen().need_map().times_s, before)
        # What is locked is not offered to be taken back, but to be unlocked.
        back = stated_rows(self.seen())[0]["back"]
        self.assertEqual(back["words"], "unlock")
        self.act(back["do"], **back["args"])
        self.assertEqual(stated_rows(self.seen())[0]["back"]["words"], "take back")
        np.testing.assert_array_equal(self.seen().need_map().times_s, before)

    def test_far_away_or_said_so_or_locked_it_stays(self) -> None:
        before = self.marks()
        for more in ({"time_s": self.at + 0.06}, {"time_s": self.at - 0.012, "leave": True}):
            self.act("pull", quarters=self.place_q, free=True, **more)
            np.testing.assert_array_equal(self.marks(), before)
            self.act("undo")
        self.act("onset-lock", take=self.lead, times_s=[self.at])
        self.act("pull", time_s=self.at - 0.012, quarters=self.place_q, free=True)
        np.testing.assert_array_equal(self.marks(), before)

    def test_whoever_moves_the_mark_moves_its_line_and_a_locked_one_refuses(self) -> None:
        note = self.act("onset-move", take=self.lead, from_s=self.at, to_s=self.at + 0.009).note
        self.assertIn("and the bar line that was put on it with it; bar", note)
        self.assertAlmostEqual(self.line(2), self.at + 0.009, places=9)
        # A mark that no line was put on moves none, near a line or not.
        line = self.line(3)
        self.act("onset-move", take=self.lead, from_s=line, to_s=line + 0.009)
        self.assertEqual(self.line(3), line)
        self.act("lock", quarters=self.place_q)
        here = self.line(2)
        with self.assertRaisesRegex(ParameterError, "locked at .*; unlock it first. Nothing was changed"):
            self.act("onset-move", take=self.lead, from_s=here, to_s=here - 0.01)
