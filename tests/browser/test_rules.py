"""Rules of some bars, chosen over bar numbers; alarms that lead to their mark."""

import numpy as np

from rig.browser import BrowserTest
from rig.sounds import struck

HEAD_PX = 24


class RulesTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        beats = 0.5 + 0.6 * np.arange(48) + np.random.default_rng(4).uniform(-0.02, 0.02, 48)
        self.drop(self.write("tub kit.wav", struck(beats, float(beats[-1]) + 1.0, low_every=4)))
        self.page.keyboard.press("5")
        self.page.wait_for_function("combpace.state.station === 'fit' && combpace.state.picture.fit?.pegs")
        self.idle()

    def number(self, row: int) -> tuple[float, float]:
        """Where the number of a row's bar stands, page pixels."""
        box = self.page.locator("#canvas-box canvas").first.bounding_box()
        assert box is not None
        tall = 1.4 * float(self.look("combpace.state.view.rowPx"))
        return box["x"] + 24, box["y"] + HEAD_PX + (row + 0.5) * tall

    def over(self, first: int, last: int) -> None:
        self.page.mouse.move(*self.number(first))
        self.page.mouse.down()
        self.page.mouse.move(*self.number(last), steps=4)
        self.page.mouse.up()

    def strengths(self) -> list[tuple[str, float]]:
        return [(one["bars"], one["strength"]) for one in self.look("combpace.state.picture.fit.ranges")]

    def moved(self, bar: int) -> float:
        """The largest pull in a bar, ms, as it is drawn."""
        begins, ends = (
            float(self.look(f"combpace.state.picture.bars[{bar}].{end}")) - 0.1 for end in ("s", "e")
        )
        pegs = self.look("combpace.state.picture.fit.pegs")
        return max(1000 * abs(goal - own) for _, own, goal, *_ in pegs if begins <= goal < ends)

    def test_bars_are_chosen_over_their_numbers_and_pulled_by_a_rule_of_their_own(self) -> None:
        before = [self.moved(bar) for bar in range(6)]
        self.over(1, 2)
        self.assertIn("Bars 2–3", self.page.inner_text("#chosen"))
        field = self.page.locator("#chosen").get_by_label("pull here with, %")
        field.fill("0")
        field.press("Enter")
        self.page.wait_for_function("combpace.state.picture.fit.ranges.length === 1")
        self.idle()
        self.assertEqual(self.strengths(), [("2-3", 0)])
        after = [self.moved(bar) for bar in range(6)]
        self.assertLess(max(after[1:3]), 0.01)
        np.testing.assert_allclose([after[0], *after[3:]], [before[0], *before[3:]], atol=0.01)
        # One bar alone, by a click on its number; what is said of it stands at the side, too.
        self.page.mouse.click(*self.number(4))
        self.assertIn("Bar 5", self.page.inner_text("#chosen"))
        self.page.locator("#chosen").get_by_role("button", name="A rule of their own").click()
        self.page.wait_for_function("combpace.state.picture.fit.ranges.length === 2")
        self.idle()
        self.page.get_by_label("strength of bars 5").fill("50")
        self.page.get_by_label("strength of bars 5").press("Enter")
        self.page.wait_for_function("combpace.state.picture.fit.ranges[1].strength === 50")
        self.idle()
        self.assertAlmostEqual(self.moved(4), before[4] / 2, delta=0.1)
        # The sentence of all bars is still that of all others; one is taken back where it stands.
        self.page.get_by_label("Remove the rule of bars 2–3").click()
        self.page.wait_for_function("combpace.state.picture.fit.ranges.length === 1")
        self.idle()
        self.assertEqual(self.strengths(), [("5-5", 50)])
        self.assertAlmostEqual(self.moved(1), before[1], delta=0.01)
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function("combpace.state.picture.fit.ranges.length === 2")
        self.idle()

    def test_the_neighbours_of_a_pull_by_hand_may_give_way_one_after_the_other(self) -> None:
        pegs = self.look("combpace.state.picture.fit.pegs")
        # The third stroke of bar 3 is pulled a sixteenth later.
        times = [peg[0] for peg in pegs]
        chosen = times[10]
        take = self.look("combpace.state.focus")
        session, version = self.look("[combpace.state.picture.session, combpace.state.picture.version]")
        made = self.page.request.post(
            f"/api/sessions/{session}/act/peg",
            data={"version": version, "args": {"take": take, "take_s": chosen, "quarters": 10.25}},
        )
        self.assertEqual(made.status, 200)
        self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.state.picture.fit?.pegs")
        self.idle()
        place = self.look("combpace.view().pixelOf(10.25, 2)")
        self.page.mouse.click(place["x"], place["y"])
        panel = self.page.locator("#chosen")
        panel.get_by_role("button", name="Let 3·4 give way").click()
        self.page.wait_for_function(f"combpace.state.picture.fit.pegs.length === {len(pegs) - 1}")
        self.idle()
        self.page.mouse.click(place["x"], place["y"])
        # The next one on that side is offered then.
        panel.get_by_role("button", name="Let 4·1 give way").wait_for()
        self.assertEqual(panel.get_by_role("button", name="Let 3·2 give way").count(), 1)

    def test_an_alarm_goes_to_its_mark_in_onsets(self) -> None:
        take = self.look("combpace.state.picture.lead")
        mark = float(self.look(f"combpace.state.picture.onsets['{take}'].t[9]"))
        session = self.look("combpace.state.picture.session")
        made = self.page.request.post(
            f"/api/sessions/{session}/act/onset-move",
            data={
                "version": self.look("combpace.state.picture.version"),
                "args": {"take": take, "from_s": mark, "to_s": mark + 0.012},
            },
        )
        self.assertEqual(made.status, 200)
        self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.state.picture.fit?.pegs")
        self.idle()
        self.page.click("[data-render]")
        self.page.wait_for_function("combpace.state.picture.fit.rendered")
        self.idle()
        alarm = self.page.locator("#look .place", has_text="from its place in the render").first
        alarm.click()
        self.page.locator("#look-buttons").get_by_role("button", name="See it in Onsets").click()
        self.page.wait_for_function(
            "combpace.state.station === 'onsets' && combpace.state.selection?.kind === 'onset'"
        )
        self.idle()
        self.assertAlmostEqual(float(self.look("combpace.state.selection.t")), mark + 0.012, delta=0.0001)
        self.assertEqual(self.look("combpace.state.selection.take"), take)
