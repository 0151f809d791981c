"""Bars by a person's means: clips dragged and typed, ranges of bars, the curve, tidying, maps from files,
what moves said before.
"""

import json
from pathlib import Path

import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.tempo.map import Knot, TempoMap
from combpace.media.mapforms import FoundMap, write_any
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.tiers import main


class CombTest(BrowserTest):
    """A session of twelve bars, shown in the comb."""

    def setUp(self) -> None:
        super().setUp()
        self.beats, sound = breathing(bars=12)
        self.drop(self.write("tub kit.wav", sound))
        self.page.wait_for_function("combpace.state.station === 'bars' && !!combpace.view()?.pixelOf")


class BarsTest(CombTest):
    def bar_s(self, number: int) -> float:
        return float(self.look(f"combpace.state.picture.bars.find((bar) => bar.n === {number}).s"))

    def anchors(self) -> list[float]:
        return [float(one) for one in self.look("combpace.state.picture.anchors.map((one) => one.q)")]

    def lock(self, bar: int) -> None:
        """Choose a bar by its number and lock its line."""
        spot = self.look(f"combpace.view().pixelOf({4 * (bar - 1)}, {bar - 1})")
        frame = self.page.locator("#canvas-box canvas").bounding_box()
        assert frame is not None
        self.page.mouse.click(frame["x"] + 16, spot["y"])
        self.page.get_by_role("button", name="Lock its line").click()
        self.idle()

    def clip(self, bar: int) -> tuple[float, float]:
        spot = self.look(f"combpace.view().pixelOf({4 * (bar - 1)}, {bar - 1})")
        return spot["x"], spot["y"] - self.look("combpace.state.view.rowPx") * 0.6 + 6

    @main
    def test_a_clip_is_dragged_onto_an_attack_and_typed(self) -> None:
        self.lock(3)
        self.page.get_by_role("button", name="Loop it").wait_for()
        x, y = self.clip(3)
        self.page.mouse.click(x, y)
        self.page.get_by_role("button", name="Unlock it").click()
        self.idle()
        # Two eighths to the right lies the attack of the next beat: the clip catches on it.
        wide = self.look(
            "(() => { const v = combpace.view(); return v.pixelOf(9, 2).x - v.pixelOf(8, 2).x; })()"
        )
        self.page.mouse.move(x, y)
        self.page.mouse.down()
        self.page.mouse.move(x + wide / 2, y)
        self.page.mouse.move(x + wide * 1.03, y)
        self.page.mouse.up()
        self.idle()
        self.assertAlmostEqual(self.bar_s(3), float(self.beats[9]), delta=0.004)
        self.page.keyboard.press("Control+z")
        self.idle()
        self.assertAlmostEqual(self.bar_s(3), float(self.beats[8]), delta=0.004)
        self.page.mouse.click(*self.clip(3))
        field = self.page.get_by_label("time of 3·1")
        field.fill(f"{self.beats[8] + 0.031:.3f}")
        field.press("Enter")
        self.idle()
        self.assertAlmostEqual(self.bar_s(3), round(float(self.beats[8]) + 0.031, 3), places=5)

    def test_several_anchors_are_shifted_and_released_as_one(self) -> None:
        for bar in (2, 4, 6):
            self.lock(bar)
        self.assertEqual(self.anchors(), [4.0, 12.0, 20.0])
        self.page.mouse.click(*self.clip(2))
        self.page.keyboard.down("Shift")
        self.page.mouse.click(*self.clip(4))
        self.page.keyboard.up("Shift")
        self.assertEqual(self.look("combpace.state.selection.qs"), [4.0, 12.0])
        self.page.get_by_role("button", name="Unlock anchors").click()
        self.idle()
        before = [self.bar_s(2), self.bar_s(4), self.bar_s(6)]
        field = self.page.get_by_label("shift anchors by, ms")
        field.fill("20")
        field.press("Enter")
        self.idle()
        np.testing.assert_allclose(
            [self.bar_s(2), self.bar_s(4), self.bar_s(6)], np.add(before, [0.02, 0.02, 0.0]), atol=1e-5
        )
        self.page.get_by_role("button", name="Release anchors").click()
        self.idle()
        self.assertEqual(self.anchors(), [20.0])

    def test_what_one_tempo_cannot_hold_is_offered_another_way(self) -> None:
        self.page.get_by_label("kind of map").select_option("steady")
        self.idle()
        lines = [self.bar_s(bar) for bar in (2, 6, 10)]
        for bar, at in ((2, lines[0]), (10, lines[2]), (6, lines[1] + 0.07)):
            pull = "([at, place]) => combpace.host.pull(at, place, true)"
            self.page.evaluate(pull, [at, 4 * (bar - 1)])
            self.idle()
        self.assertIn("follow the playing: all three hold", self.said())
        self.assertAlmostEqual(self.bar_s(6), lines[1], places=5)
        names = self.page.locator("#last [data-offer]").all_inner_texts()
        self.assertEqual(len(names), 3)
        self.assertEqual(names[2], "Follow the playing")
        # What was refused is done with it.
        self.page.get_by_role("button", name="Follow the playing").click()
        self.page.wait_for_function("combpace.state.picture.statements.length === 3")
        self.idle()
        for bar, at in ((2, lines[0]), (6, lines[1] + 0.07), (10, lines[2])):
            self.assertAlmostEqual(self.bar_s(bar), at, places=5)
        self.assertEqual(self.page.locator("#last [data-offer]").count(), 0)

    def test_bars_dragged_over_are_chosen_loop_and_run_at_a_tempo(self) -> None:
        frame = self.page.locator("#canvas-box canvas").bounding_box()
        assert frame is not None
        rows = [self.look(f"combpace.view().pixelOf({4 * k}, {k}).y") for k in (2, 4)]
        self.page.mouse.move(frame["x"] + 16, rows[0])
        self.page.mouse.down()
        self.page.mouse.move(frame["x"] + 16, rows[1], steps=3)
        self.page.mouse.up()
        self.assertEqual(
            self.look(
                "[combpace.state.selection.kind, combpace.state.selection.bar, combpace.state.selection.to]"
            ),
            ["bars", 2, 4],
        )
        np.testing.assert_allclose(
            self.look("combpace.state.sound.loop"), [self.bar_s(3), self.bar_s(6)], atol=1e-6
        )
        # Typed, it is another.
        loop = self.page.locator("#loop-bars")
        loop.fill("2-3")
        loop.press("Enter")
        np.testing.assert_allclose(
            self.look("combpace.state.sound.loop"), [self.bar_s(2), self.bar_s(4)], atol=1e-6
        )
        # A steady stretch, then a ramp over it.
        field = self.page.get_by_label("tempo", exact=True)
        field.fill("110")
        field.press("Enter")
        self.idle()
        self.assertIn("Bars 3 to 5 run at 110.00 BPM", self.said())
        self.assertAlmostEqual(self.bar_s(6) - self.bar_s(3), 3 * 240 / 110, places=4)
        field = self.page.get_by_label("ramp to", exact=True)
        field.fill("130")
        field.press("Enter")
        self.idle()
        self.assertTrue(self.look("combpace.state.map.table.bends?.some((bend) => bend > 0.1)"))
        # The page's ramp is the server's.
        middle = self.look("combpace.state.map.toSeconds(14)")
        self.assertAlmostEqual(middle, self.bar_s(3) + 60 * 12 / 20 * np.log(1 + 20 / 110 / 2), places=4)

    def test_tidied_and_said_before_what_moves(self) -> None:
        tidy = self.page.locator("#tidy")
        tidy.get_by_label("within, ms").fill("15")
        tidy.get_by_role("button", name="Tidy").click()
        self.page.wait_for_function(
            "document.getElementById('last-words').textContent.includes('tempo changes became')"
        )
        self.idle()
        self.assertLess(self.look("combpace.state.map.table.times.length"), 14)
        later = self.page.get_by_role("button", name="A beat later")
        later.hover()
        self.page.wait_for_function(
            "/move by up to|No bar line moves/.test(document.getElementById('now').textContent)"
        )
        version = self.look("combpace.state.picture.version")
        self.assertIn("No take moves", self.says_now())
        self.assertEqual(self.look("combpace.state.picture.version"), version)

    def test_a_midi_map_comes_in_and_a_meter_changes_in_the_middle(self) -> None:
        line: TempoMap[SessionTimes] = TempoMap(tuple(Knot(0.5 + 0.6 * k, float(k)) for k in range(0, 41, 4)))
        path = Path(self.folder) / "map.mid"
        write_any(FoundMap(line, 24.5), path)
        self.page.set_input_files("#map-in input[type=file]", str(path))
        self.page.wait_for_function(
            "document.getElementById('last-words').textContent.includes(\"map.mid is the session's map\")"
        )
        self.idle()
        self.assertAlmostEqual(self.bar_s(3), 0.5 + 0.6 * 8, places=4)
        self.page.locator("body").press("Escape")
        self.lock(4)
        field = self.page.get_by_label("meter from here on")
        field.fill("3/4")
        field.press("Enter")
        self.idle()
        self.assertAlmostEqual(self.bar_s(5) - self.bar_s(4), 1.8, places=4)
        self.assertEqual(self.look("combpace.state.picture.kind"), "given")
        # What is no map says so and changes nothing.
        bad = Path(self.folder) / "bad.csv"
        bad.write_text("0.5\n0.4\n")
        version = self.look("combpace.state.picture.version")
        self.page.set_input_files("#map-in input[type=file]", str(bad))
        self.page.wait_for_selector("#last >> text=does not come after")
        self.assertEqual(self.look("combpace.state.picture.version"), version)
        self.assertTrue(json.dumps(self.anchors()))

    def test_the_read_out_is_read_from_afar(self) -> None:
        self.page.click("#position")
        self.page.wait_for_selector("#readout:not([hidden])")
        self.assertGreater(
            self.look("document.querySelector('#readout span').getBoundingClientRect().height"), 120
        )
        self.page.click("#position")
        self.page.wait_for_selector("#readout", state="hidden")

    def test_a_bar_line_is_pulled_onto_an_attack_in_the_strip(self) -> None:
        self.page.keyboard.press("4")
        self.page.wait_for_function("combpace.state.station === 'onsets' && !!combpace.view()?.pixelOfTime")
        frame = self.page.locator("#canvas-box canvas").bounding_box()
        assert frame is not None
        line, attack = (
            float(self.beats[4]),
            float(self.beats[4]) + (float(self.beats[5]) - float(self.beats[4])),
        )
        spots = [self.look(f"combpace.view().pixelOfTime({time}).x") for time in (line, attack)]
        self.page.mouse.move(spots[0] + 1, frame["y"] + 9)
        self.page.mouse.down()
        self.page.mouse.move((spots[0] + spots[1]) / 2, frame["y"] + 9)
        self.page.mouse.move(spots[1] + 2, frame["y"] + 9)
        self.page.mouse.up()
        self.idle()
        self.assertAlmostEqual(self.bar_s(2), attack, delta=0.004)
        self.assertIn(4.0, self.anchors())

    def test_a_step_of_the_curve_is_dragged(self) -> None:
        # Bar 4 in the curve: find its step by its tempo, drag it up.
        box = self.page.locator("#curve-box canvas").bounding_box()
        assert box is not None
        count = self.look("combpace.state.picture.bars.length")
        x = box["x"] + 78 + (box["width"] - 78 - 66) * 3.5 / count
        before, changed = self.bar_s(5) - self.bar_s(4), False
        for y in range(6, int(box["height"]), 5):
            self.page.mouse.move(x, box["y"] + y)
            self.page.mouse.down()
            self.page.mouse.move(x, box["y"] + y - 4)
            self.page.mouse.move(x, box["y"] + y - 14)
            self.page.mouse.up()
            self.idle()
            if "Bar 4 runs at" in self.said():
                changed = True
                break
        self.assertTrue(changed)
        self.assertLess(self.bar_s(5) - self.bar_s(4), before - 0.01)
        self.assertGreater(len(self.look("combpace.state.picture.raw")), 40)


class ForeseenTest(CombTest):
    """What is drawn while a hand rests in a drag is what the drop makes, to 1e-9 s."""

    def rested(self) -> dict[str, list[float]]:
        """The map that is drawn once the server has answered what the hand does now."""
        self.page.wait_for_function("combpace.state.foreseen && !combpace.foresight.busy()")
        found: dict[str, list[float]] = self.look("combpace.state.foreseen.table")
        return found

    def assert_dropped(self, drawn: dict[str, list[float]]) -> None:
        before = self.look("combpace.state.picture.version")
        self.page.mouse.up()
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.version"), before + 1)
        self.assertIsNone(self.look("combpace.state.foreseen"))
        made = self.look("combpace.state.picture.map")
        for name in ("times", "quarters", "meters"):
            np.testing.assert_allclose(made[name], drawn[name], rtol=0, atol=1e-9, err_msg=name)

    @main
    def test_an_attack_that_is_pulled_onto_a_tooth_and_an_anchor_that_is_moved(self) -> None:
        spot = self.look("combpace.view().pixelOf(8, 2)")
        beside = self.look("combpace.view().pixelOf(9, 2)")
        foot = spot["y"] + self.look("combpace.state.view.rowPx") / 2 - 6
        self.page.mouse.move(spot["x"], foot)
        self.page.mouse.down()
        self.page.mouse.move((spot["x"] + beside["x"]) / 2, foot)
        self.page.mouse.move(beside["x"], foot)
        drawn = self.rested()
        # The attack of the third bar's line lies under its second beat.
        self.assertAlmostEqual(np.interp(9.0, drawn["quarters"], drawn["times"]), self.beats[8], delta=0.004)
        self.assert_dropped(drawn)
        clip = self.look("combpace.view().pixelOf(9, 2)")
        y = clip["y"] - self.look("combpace.state.view.rowPx") * 0.6 + 6
        self.page.mouse.move(clip["x"], y)
        self.page.mouse.down()
        self.page.keyboard.down("Shift")
        self.page.mouse.move(clip["x"] + 9, y)
        self.page.mouse.move(clip["x"] + 17, y)
        drawn = self.rested()
        self.page.keyboard.up("Shift")
        self.assert_dropped(drawn)

    def test_escape_in_a_drag_leaves_everything_as_it_was(self) -> None:
        before = self.look("combpace.state.picture.map")
        spot = self.look("combpace.view().pixelOf(8, 2)")
        foot = spot["y"] + self.look("combpace.state.view.rowPx") / 2 - 6
        self.page.mouse.move(spot["x"], foot)
        self.page.mouse.down()
        self.page.mouse.move(spot["x"] + 30, foot)
        self.page.mouse.move(spot["x"] + 60, foot)
        self.rested()
        self.page.keyboard.press("Escape")
        self.assertIsNone(self.look("combpace.state.foreseen"))
        self.page.mouse.up()
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.map"), before)

    def test_a_line_in_the_strip_and_a_step_of_the_curve(self) -> None:
        box = self.page.locator("#curve-box canvas").bounding_box()
        assert box is not None
        count = self.look("combpace.state.picture.bars.length")
        x = box["x"] + 78 + (box["width"] - 78 - 66) * 3.5 / count
        for y in range(6, int(box["height"]), 5):
            self.page.mouse.move(x, box["y"] + y)
            self.page.mouse.down()
            self.page.mouse.move(x, box["y"] + y - 4)
            self.page.mouse.move(x, box["y"] + y - 14)
            # The answer may be there before it is asked whether one is to come.
            if self.look("combpace.foresight.busy() || combpace.state.foreseen !== null"):
                self.assert_dropped(self.rested())
                break
            self.page.mouse.up()
            self.idle()
        else:
            self.fail("no step of the curve was found")
        self.page.keyboard.press("4")
        self.page.wait_for_function("combpace.state.station === 'onsets' && !!combpace.view()?.pixelOfTime")
        frame = self.page.locator("#canvas-box canvas").bounding_box()
        assert frame is not None
        line = self.look("combpace.state.picture.bars.find((bar) => bar.n === 2).s")
        at = self.look(f"combpace.view().pixelOfTime({line}).x")
        self.page.mouse.move(at + 1, frame["y"] + 9)
        self.page.mouse.down()
        self.page.keyboard.down("Shift")
        self.page.mouse.move(at + 6, frame["y"] + 9)
        self.page.mouse.move(at + 11, frame["y"] + 9)
        drawn = self.rested()
        self.page.keyboard.up("Shift")
        self.assert_dropped(drawn)

    def test_a_meter_says_what_it_would_move_while_it_is_typed(self) -> None:
        field = self.page.get_by_label("meter", exact=True).first
        field.fill("3/4")
        self.page.wait_for_function("/Bars? .* moves? by/.test(document.getElementById('now').textContent)")
        self.assertEqual(self.look("combpace.state.picture.map.meters.length"), 1)
        field.press("Escape")

    def test_what_is_stated_is_listed_and_taken_back(self) -> None:
        bars = self.look("combpace.state.picture.map.times")
        spot = self.look("combpace.view().pixelOf(9, 2)")
        self.page.mouse.click(spot["x"], spot["y"] + self.look("combpace.state.view.rowPx") / 2 - 6)
        self.page.keyboard.press("d")
        self.idle()
        box = self.page.locator("#stated")
        self.assertIn("The downbeat at", box.inner_text())
        box.get_by_role("button", name="only this bar").click()
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.statements.at(-1).reach"), "only this bar")
        self.assertIn("only this bar", self.said())
        self.page.locator("#stated").get_by_role("button", name="take back").first.click()
        self.idle()
        self.assertIn("is no longer stated", self.said())
        self.assertEqual(self.look("combpace.state.picture.statements"), [])
        self.assertEqual(self.look("combpace.state.picture.map.times"), bars)


class OwnBarsTest(BrowserTest):
    def test_a_loops_own_pace_is_corrected_in_the_comb(self) -> None:
        _, sound = breathing(bars=8)
        loop = struck(np.arange(8) * 60 / 110, 8 * 60 / 110, low_every=4)
        self.drop(self.write("tub kit.wav", sound), self.write("pipe loop.wav", loop))
        self.page.wait_for_function("combpace.state.station === 'bars' && !!combpace.view()?.pixelOf")
        lines = self.look("combpace.state.picture.bars.slice(0, 4).map((bar) => bar.s)")
        self.page.select_option("[data-bars-of]", label="pipe loop")
        self.page.wait_for_function("combpace.state.of && combpace.state.picture.lead === combpace.state.of")
        # Two bars of its own are drawn; read twice as fast they are four.
        first = self.look("combpace.state.map.toSeconds(4) - combpace.state.map.toSeconds(0)")
        self.assertAlmostEqual(first, 240 / 110, delta=0.03)
        self.page.get_by_role("button", name="Twice as fast", exact=True).click()
        self.page.wait_for_function(
            "document.getElementById('last-words').textContent.includes('pipe loop: The tempo is "
            "read twice as fast')"
        )
        self.idle()
        self.assertAlmostEqual(
            self.look("combpace.state.map.toSeconds(4) - combpace.state.map.toSeconds(0)"),
            120 / 110,
            delta=0.02,
        )
        # The session's own bars are as they were.
        self.page.select_option("[data-bars-of]", label="tub kit")
        self.page.wait_for_function(
            "!combpace.state.of && combpace.state.picture.takes.find((take) => take.id === "
            "combpace.state.picture.lead).name === 'tub kit'"
        )
        np.testing.assert_allclose(
            self.look("combpace.state.picture.bars.slice(0, 4).map((bar) => bar.s)"), lines, atol=1e-9
        )
