import numpy as np

from combpace.core.errors import ParameterError
from combpace.session import notes, pieces
from combpace.session.state import session_state
from combpace.stations.takes import parts
from rig.places import PlaceTest, bring_in
from rig.sounds import struck
from tests.stations.test_parts import tune

RATE = 44100
FADE = round(0.005 * RATE)


class CellsTest(PlaceTest):
    """A steady session at 120 from the first frame on, a take of noise: what is repeated, silenced or copied
    is compared with arrays made by hand.
    """

    def setUp(self) -> None:
        super().setUp()
        self.act("steady", bpm="120", bar_1_s="0")
        self.noise = bring_in(self.place, self.session, struck(0.25 * np.arange(40), 10.3), "pipes.wav")
        seen = self.seen()
        with self.place.source(seen.rows[self.noise]) as opened:
            self.whole = opened.read(0, opened.frames)[0]

    def sound(self, take: str | None = None) -> np.ndarray:
        seen, take = self.seen(), take or self.noise
        with pieces.opened(seen, take) as made:
            return made.read(0, made.frames)[0]

    def cells(self, what: str, from_q: float, to_q: float, **more: object) -> str:
        return self.act("cells", takes=[self.noise], from_q=from_q, to_q=to_q, what=what, **more).note

    def frame(self, quarters: float) -> int:
        return round(self.seen().need_map().second(quarters) * RATE)

    def same(self, found: np.ndarray, wanted: np.ndarray) -> None:
        """Equal but for the fades at either end."""
        np.testing.assert_array_equal(found[: len(found) - FADE], wanted[: len(found) - FADE])

    def test_a_stutter_a_dropped_beat_and_a_doubled_bar(self) -> None:
        self.assertIn("repeated 3 times on 1 take", self.cells("repeat", 4.0, 4.5, times=3))
        out, cell = self.sound(), self.whole[self.frame(4.0) : self.frame(4.5)]
        for k in range(4):
            start = self.frame(4.0 + 0.5 * k)
            self.same(out[start : start + len(cell)], cell)
        self.same(out[self.frame(6.0) : self.frame(8.0)], self.whole[self.frame(6.0) : self.frame(8.0)])
        self.act("undo")
        self.cells("silence", 5.0, 6.0)
        out = self.sound()
        self.assertFalse(out[self.frame(5.0) : self.frame(6.0) - FADE].any())
        self.same(out[self.frame(6.0) : self.frame(7.0)], self.whole[self.frame(6.0) : self.frame(7.0)])
        self.act("undo")
        self.cells("copy", 0.0, 4.0, at_q=12.0)
        out = self.sound()
        for beat in range(4):
            a, b = self.frame(float(beat)), self.frame(beat + 1.0)
            self.same(out[self.frame(12.0 + beat) :][: b - a], self.whole[a:b])
        self.same(out[self.frame(4.0) : self.frame(8.0)], self.whole[self.frame(4.0) : self.frame(8.0)])

    def test_on_all_takes_as_one_step(self) -> None:
        other = bring_in(self.place, self.session, struck(0.5 * np.arange(20), 10.3), "bells.wav")
        self.act("cells", takes=[self.noise, other], from_q=4.0, to_q=8.0, what="silence")
        for take in (self.noise, other):
            self.assertFalse(self.sound(take)[self.frame(4.0) : self.frame(8.0) - FADE].any())
        self.act("undo")
        self.assertFalse(self.seen().document.pieces)

    def test_what_cannot_be_is_refused(self) -> None:
        for what, from_q, to_q, more in (
            ("repeat", 4.0, 4.0, {}),
            ("copy", 4.0, 8.0, {}),
            ("silence", -100.0, 100.0, {}),
        ):
            with self.subTest(what=what), self.assertRaises(ParameterError):
                self.cells(what, from_q, to_q, **more)
        self.act("rule", take=self.noise, field="grid", value="1/8")
        with self.assertRaisesRegex(ParameterError, "is fitted"):
            self.cells("silence", 4.0, 5.0)

    def test_pushed_later_by_whole_bars_the_map_stays(self) -> None:
        line = self.seen().need_map()
        note = self.act(
            "cells", takes=[self.noise], from_q=0.0, to_q=4.0, what="copy", at_q=4.0, push=True
        ).note
        self.assertIn("everything after it moves 1 bar later, the map stays", note)
        self.assertEqual(self.seen().need_map(), line)
        out = self.sound()
        bar = self.frame(4.0)
        for beat in range(4):
            a, b = self.frame(float(beat)), self.frame(beat + 1.0)
            self.same(out[bar + a : bar + b], self.whole[a:b])
        later = self.whole[bar : bar + 6000]
        self.same(out[2 * bar : 2 * bar + len(later)], later)
        with self.assertRaisesRegex(ParameterError, "by whole bars"):
            self.cells("copy", 0.0, 2.0, at_q=4.0, push=True)

    def test_parts_go_along_with_takes(self) -> None:
        reed, sticks = parts.add_parts(
            self.place, self.session, tune(self.place.blobs.new_path(".mid")), "yard tune.mid"
        )
        note = self.act("cells", takes=[self.noise, reed], from_q=0.0, to_q=1.0, what="repeat", times=3).note
        self.assertIn("repeated 3 times on 1 take and 1 part", note)
        keys = [one.key for one in notes.heard(self.seen(), reed)]
        self.assertEqual(keys, [57, 60, 60, 60, 60])
        self.assertEqual(len(notes.heard(self.seen(), sticks)), 4)
        self.act("cells", takes=[reed], from_q=1.0, to_q=2.0, what="silence")
        again = session_state(self.place, self.session)
        self.assertEqual([round(one.start_q, 6) for one in notes.heard(again, reed)], [-0.5, 0.0, 2.0, 3.0])
        self.act("undo")
        self.act("undo")
        self.assertEqual([one.key for one in notes.heard(self.seen(), reed)], [57, 60, 61, 62, 63])

    def test_what_was_not_heard_behind_an_edge_is_left_away(self) -> None:
        self.act("cut-and-lay", take=self.noise, at="onsets", lay="where")
        # Each piece reaches far over the next, which ends it.
        made = self.seen().document.pieces[self.noise]
        for number in (8, 9):
            self.act("piece-move", take=self.noise, number=number, quarters=0.5 * number - 0.2)
        before = self.sound()
        self.cells("silence", 12.0, 13.0)
        after = self.seen().document.pieces[self.noise].pieces
        self.assertEqual(len(made.pieces) - len(after), 2)
        self.assertTrue(all(one.stop - one.start > FADE for one in after))
        self.same(self.sound()[: self.frame(11.0)], before[: self.frame(11.0)])
        self.assertFalse(self.sound()[self.frame(12.0) + 2 * FADE : self.frame(13.0) - 2 * FADE].any())
