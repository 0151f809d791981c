"""A session that goes to the page in ranges: seen, played, corrected and fitted as any other."""

from __future__ import annotations

from itertools import pairwise
from typing import ClassVar

from rig.browser import BrowserTest
from rig.places import breathing

WHOLE = """async (fit) => {
  const { state, host } = combpace;
  if (fit) host.need(-Infinity, Infinity);
  await combpace.idle();
  const whole = await (await
  fetch(`/api/sessions/${state.picture.session}/picture?focus=${state.focus}`)).json(), seen = state.picture;
  const alike = (a, b) => JSON.stringify(a) === JSON.stringify(b);
  return {
    ranged: !!seen.ranged, bars: alike(seen.allBars, whole.bars), map: alike(seen.map, whole.map),
    onsets: alike(seen.onsets, whole.onsets),
    pegs: alike(seen.fit?.pegs, whole.fit?.pegs), riding: alike(seen.fit?.riding, whole.fit?.riding),
    points: alike([seen.fit?.source, seen.fit?.target], [whole.fit?.source, whole.fit?.target]),
    parts: Object.keys(seen.ranged?.parts ?? {}).length, count: seen.ranged?.count,
  };
}"""


class RangesTest(BrowserTest):
    environment: ClassVar[dict[str, str]] = {"COMBPACE_RANGE": "4"}

    def setUp(self) -> None:
        super().setUp()
        self.beats, sound = breathing(bars=24)
        self.drop(self.write("tub kit.wav", sound))
        self.page.wait_for_function("combpace.state.station === 'bars' && !!combpace.view()?.pixelOf")

    def go(self, key: str, station: str) -> None:
        self.page.keyboard.press(key)
        self.page.wait_for_function(f"combpace.state.station === '{station}'")
        self.idle()

    def marks(self) -> int:
        return int(self.look("combpace.host.marks(combpace.state.picture.lead).times.length"))

    def test_bars_come_as_they_are_scrolled_to_and_are_corrected_there(self) -> None:
        found = self.look(f"({WHOLE})(false)")
        self.assertTrue(found["ranged"] and found["bars"] and found["map"], found)
        self.assertLess(found["parts"], found["count"], "what is not seen is not there yet")
        before = self.marks()
        self.assertLess(before, len(self.beats))
        # The last bars: their attacks come, and one of their lines is pulled by hand.
        self.look("combpace.view().show(22)")
        self.page.wait_for_function(
            "combpace.host.marks(combpace.state.picture.lead).times.some((time) => time > "
            f"{float(self.beats[80])})"
        )
        self.assertGreater(self.marks(), before)
        spot = self.look("combpace.view().pixelOf(84, 21)")
        self.page.mouse.click(spot["x"], spot["y"])
        self.page.keyboard.press("d")
        self.idle()
        self.assertIn("downbeat", self.said())
        # What is in sight came with the new picture.
        self.assertTrue(
            self.look(
                "combpace.host.marks(combpace.state.picture.lead).times.some((time) => time > "
                f"{float(self.beats[80])})"
            )
        )

    def test_onsets_has_all_its_marks_and_fit_all_its_points(self) -> None:
        self.go("4", "onsets")
        self.page.wait_for_function(
            "Object.keys(combpace.state.picture.ranged.parts).length === combpace.state.picture.ranged.count"
        )
        self.assertTrue(self.look(f"({WHOLE})(false)")["onsets"])
        self.go("5", "fit")
        self.page.wait_for_function("combpace.state.picture.fit?.pegs?.length > 0")
        found = self.look(f"({WHOLE})(true)")
        for name in ("onsets", "pegs", "riding", "points", "bars", "map"):
            self.assertTrue(found[name], (name, found))

    def test_q_and_e_go_on_over_the_edge_of_a_range_and_v_hears_the_fit(self) -> None:
        lead = "combpace.state.selection?.t"
        self.page.keyboard.press("e")
        seen = []
        for _ in range(24):
            seen.append(float(self.look(lead)))
            self.page.keyboard.press("e")
            self.idle()
        self.assertGreater(seen[-1], 8.0, "over two edges")
        steps = [b - a for a, b in pairwise(seen)]
        self.assertLess(max(steps), 1.0, "none is left out")
        self.assertIsNone(self.look("combpace.state.picture.fit"))
        self.page.keyboard.press("v")
        self.page.wait_for_function("!!combpace.state.picture.fit?.key")
