"""What is said in the page is heard again: one true downbeat puts right what was read wrong near it, and no
right bar wrong.
"""

from __future__ import annotations

import random

import numpy as np

from combpace.core.clocks import Quarters
from combpace.core.errors import CombPaceError
from combpace.session import shelf
from rig.forms import FORMS, PICKUP, Song, song
from rig.places import PlaceTest, bring_in
from rig.tiers import soak

NEAR_S = 0.012
MOST_ACTIONS = 3
# What is not reached yet: (actions, right lines made wrong) at most, so that it gets no worse.
NOT_REACHED = {
    ("7/8, 4/4, 7/8", 2): (MOST_ACTIONS, 10),
    ("7/8, 4/4, 7/8", 3): (MOST_ACTIONS + 1, 7),
    ("a tempo that changes by 4/3", 2): (MOST_ACTIONS, 3),
}


class HeardAgainTest(PlaceTest):
    def begun(self, form: str, seed: int) -> Song:
        made = song(form, seed)
        self.session = shelf.create(self.place, form)
        self.lead = bring_in(self.place, self.session, made.audio, "tub song.wav")
        return made

    def lines(self) -> np.ndarray:
        line = self.seen().need_map()
        last = line.bar_of(line.place(self.seen().end_s()))
        return np.asarray(
            line.to_seconds(Quarters(np.array([line.bar_line(k) for k in range(-2, last + 1)])))
        )

    def right(self, made: Song) -> np.ndarray:
        """Which downbeats have a line."""
        return np.asarray(np.abs(self.lines()[None, :] - made.downbeats[:, None]).min(axis=1) < NEAR_S)

    def said_until_right(self, form: str, seed: int) -> tuple[int, int]:
        """(actions of a person who says the first downbeat that has no line, right lines made wrong). A line
        too many is not counted: there is no way yet to say that it is none.
        """
        made = self.begun(form, seed)
        actions = harmed = 0
        while not np.all(right := self.right(made)) and actions <= MOST_ACTIONS:
            self.act("downbeat", time_s=float(made.downbeats[int(np.flatnonzero(~right)[0])]))
            actions += 1
            harmed += int(np.sum(right & ~self.right(made)))
        return actions, harmed

    def test_a_bar_of_2_4_in_a_steady_session_takes_one_action(self) -> None:
        self.assertEqual(self.said_until_right("a bar of 2/4", 1), (1, 0))
        self.assertEqual(self.seen().map_choice().kind, "steady")
        self.assertIn((10, "2/4"), [(one.bar, str(one)) for one in self.seen().need_map().meters])

    def test_the_first_downbeat_leaves_the_bars_that_are_right(self) -> None:
        made = self.begun("4/4, 7/8, 4/4", 2)
        before, right = self.lines(), self.right(made)
        self.assertFalse(np.all(right))
        self.act("downbeat", time_s=float(made.downbeats[int(np.flatnonzero(~right)[0])]))
        np.testing.assert_allclose(self.lines()[:19], before[:19], rtol=0, atol=1e-9)
        self.assertTrue(np.all(self.right(made)[right]))
        self.assertGreater(self.right(made).sum(), right.sum())

    def test_without_what_was_heard_bars_are_counted_on_from_what_is_said(self) -> None:
        made = self.begun("4/4, 7/8, 4/4", 2)
        self.place.keeps_pulse = lambda row: False  # type: ignore[method-assign]
        wrong = int(np.flatnonzero(~self.right(made))[0])
        note = self.act("downbeat", time_s=float(made.downbeats[wrong])).note
        self.assertTrue(self.right(made)[wrong])
        self.assertIn("listen to it again in Takes, and they are heard with it", note)

    @soak
    def test_songs_of_every_form_take_at_most_three_actions_but_those_that_are_named(self) -> None:
        wrong: list[str] = []
        for form in (*FORMS, PICKUP):
            for seed in (1, 2, 3):
                actions, harmed = self.said_until_right(form, seed)
                most, worst = NOT_REACHED.get((form, seed), (MOST_ACTIONS, 0))
                if actions > most or harmed > worst:
                    wrong.append(f"{form}, seed {seed}: {actions} actions, {harmed} made wrong")
        self.assertEqual(wrong, [])

    @soak
    def test_what_was_said_holds_in_whatever_order_it_is_said(self) -> None:
        rng = random.Random(11)
        for seed in range(6):
            made = song("4/4, 7/8, 4/4", 1 + seed % 3)
            said = [float(made.downbeats[k]) for k in rng.sample(range(len(made.downbeats)), 4)]
            found = []
            for _ in range(2):
                rng.shuffle(said)
                self.begun("4/4, 7/8, 4/4", 1 + seed % 3)
                for time in said:
                    try:
                        self.act("downbeat", time_s=time)
                    except CombPaceError as error:
                        self.fail(f"{said}: {error}")
                kept = self.seen().map_choice().stated.downbeats
                lines = self.lines()
                for time in kept:
                    self.assertLess(np.abs(lines - time).min(), 0.0005)
                found.append(lines)
            np.testing.assert_allclose(found[0], found[1], rtol=0, atol=1e-6)
