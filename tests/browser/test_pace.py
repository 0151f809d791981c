"""Pace by a person's means: hold, tap, nudge, hear, choose; what is drawn is what sounds."""

import unittest

import numpy as np
import soundfile as sf
from playwright.sync_api import Route

from combpace.core.audio import Audio
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.tiers import main
from rig.waiting import HANG_MS

# A beat of a machine at 120 BPM, a loud stroke on every fourth.
BEATS = 1.0 + 0.5 * np.arange(48)


class PaceTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.drop(self.write("machine beat.wav", struck(BEATS, 26.0, low_every=4)))
        self.page.keyboard.press("2")
        self.page.wait_for_function("combpace.state.station === 'pace' && combpace.state.weave")

    def play_from(self, time_s: float) -> None:
        self.page.evaluate(f"combpace.player.seek({time_s})")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 0")

    def until(self, time_s: float) -> None:
        self.page.wait_for_function(f"combpace.player.position() >= {time_s}", polling=10)

    def hold_over_two_bars(self) -> None:
        """Hold H from 5 to 9 s while it plays, until the range is measured.

        A machine that is busy may let the key come or go too late to mean these beats: then once more.
        """
        for attempt in range(4):
            if attempt:
                self.page.keyboard.press("Escape")
                self.page.keyboard.press("Escape")
                self.page.wait_for_function("document.getElementById('range-box').hidden")
                if self.look("combpace.player.playing"):
                    self.page.keyboard.press("Space")
            self.play_from(4.6)
            self.until(5.03)
            self.page.keyboard.down("h")
            self.until(9.03)
            self.page.keyboard.up("h")
            self.page.wait_for_selector("#range-box .seam")
            if np.allclose(self.look("combpace.state.sound.loop"), [5.0, 9.0], atol=0.002):
                return

    def bpm(self) -> float:
        return float(self.look("60 / (combpace.state.map.toSeconds(1) - combpace.state.map.toSeconds(0))"))

    def test_hold_over_two_bars_hear_the_loop_use_it_start_at_bar_5(self) -> None:
        """Hold H over two bars while it plays, use the rounded tempo, let the music start at bar 5."""
        self.hold_over_two_bars()
        text = self.page.inner_text("#range-box .range-words")
        self.assertRegex(text, r"are 2 bars: (119\.9|120\.0)\d+ BPM ± \d.*the seam is clean")
        # It loops between the attacks themselves, at once.
        loop = self.look("combpace.state.sound.loop")
        np.testing.assert_allclose(loop, [5.0, 9.0], atol=0.002)
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() < 9.1")
        # J hops to the other edge, arrows move it by a millisecond and it is measured again.
        self.page.keyboard.press("j")
        self.page.wait_for_function(
            "document.querySelector('#range-box .hint').textContent.startsWith('The start')"
        )
        self.page.keyboard.press("ArrowRight")
        self.page.wait_for_function(f"Math.abs(combpace.state.sound.loop[0] - {loop[0]} - 0.001) < 1e-6")
        self.page.keyboard.press("q")
        self.page.wait_for_function("Math.abs(combpace.state.sound.loop[0] - 5.0) < 0.0006")
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("document.getElementById('range-box').hidden")
        self.idle()
        self.assertAlmostEqual(self.bpm(), 120.0, places=4)
        self.assertIsNone(self.look("combpace.state.sound.loop"))
        first = self.look("combpace.state.picture.takes[0].offset_s")
        self.assertEqual(first, 0)
        field = self.page.locator(".field[data-act='first-bar']")
        field.fill("5")
        field.press("Enter")
        self.idle()
        self.page.wait_for_function("combpace.state.picture.takes[0].offset_s !== 0")
        # The first stroke of the file lies on the line of bar 5, to a sample.
        offset = self.look("combpace.state.picture.takes[0].offset_s")
        onset = self.look("combpace.state.picture.onsets[combpace.state.picture.lead].t[0]")
        self.assertAlmostEqual(
            offset + onset,
            self.look("combpace.state.map.toSeconds(combpace.state.map.barLine(4))"),
            delta=0.002,
        )

    def test_eight_actions_from_a_dropped_beat_to_a_file_with_its_downbeat_on_the_line_of_bar_5(self) -> None:
        # 1: dropped (setUp). 2: play. 3: hold H over two bars; they loop.
        self.hold_over_two_bars()
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() < 9.1")
        # 4: use what was measured.
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("document.getElementById('range-box').hidden")
        self.idle()
        self.assertEqual(
            self.look("[combpace.state.picture.bars[0].n, combpace.state.map.table.times.length]"), [1, 2]
        )
        # 5: hear the end, where it would be off; the drift there stands over its picture.
        self.page.keyboard.press("Space")
        self.page.locator(".tempi [data-hear-bpm]").first.click()
        self.page.wait_for_function("combpace.player.playing")
        # 6: the music starts at bar 5.
        field = self.page.locator(".field[data-act='first-bar']")
        field.fill("5")
        field.press("Enter")
        self.idle()
        # 7: to Hand-off. 8: hand off.
        self.page.keyboard.press("7")
        self.page.get_by_role("button", name="Hand off").click()
        self.page.wait_for_selector("tr.archive a", timeout=HANG_MS)
        with self.page.expect_download() as download:
            self.page.locator("a[download]", has_text="- machine beat.wav").click()
        samples, rate = sf.read(download.value.path(), dtype="float32")
        whole, _ = sf.read(self.folder / "machine beat.wav", dtype="float32")
        mark = self.look("combpace.state.picture.onsets[combpace.state.picture.lead].t[0]")
        # The mark of the downbeat, in frames of the file that was dropped, is on the first frame of bar 5
        # now.
        line = 4 * 4 * 60 * rate / self.bpm()
        self.assertAlmostEqual(line, 352800, delta=1)
        shift = int(np.argmax(np.abs(samples) > 0.3)) - int(np.argmax(np.abs(whole) > 0.3))
        self.assertAlmostEqual(mark * rate + shift, line, delta=1)
        np.testing.assert_allclose(
            samples[400_000:500_000], whole[400_000 - shift : 500_000 - shift], atol=1e-4
        )

    def test_taps_turn_the_weave_and_are_taken_in_one_step(self) -> None:
        self.page.keyboard.press("b")
        self.assertIn("Play first", self.says_now())
        self.play_from(2.6)
        before = self.look("combpace.state.weave.rows")
        for beat in range(8):
            self.until(3.0 + 0.5 * beat + (0.03 if beat % 2 else 0.0))
            self.page.keyboard.press("b")
        self.page.wait_for_function(
            "document.querySelector('#range-box .range-words')?.textContent.startsWith('8 taps')"
        )
        self.assertIn("the attacks near them say", self.page.inner_text("#range-box .range-words"))
        self.assertGreater(before, 0)
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("document.getElementById('last-words').textContent.startsWith('8 taps')")
        self.idle()
        self.assertAlmostEqual(self.bpm(), 120.0, delta=0.05)
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function("document.getElementById('last-words').textContent.startsWith('Undone')")

    @main
    def test_nudges_turn_the_rows_at_once_and_the_server_confirms(self) -> None:
        was, version = self.bpm(), self.look("combpace.state.picture.version")
        self.page.wait_for_function("document.querySelectorAll('#canvas-box canvas').length > 0")
        for key, step in (("ArrowRight", 0.1), ("Shift+ArrowLeft", -0.01), ("PageUp", 1.0)):
            self.page.keyboard.press(key)
            was += step
            self.assertAlmostEqual(self.bpm(), was, delta=0.002)
        self.page.wait_for_function(f"combpace.state.picture.version > {version}")
        self.idle()
        self.assertAlmostEqual(self.bpm(), was, delta=0.002)
        # The weave that the page made is the one that the server makes.
        same = self.look(
            """(async () => {
              const { weaveFrom } = await
              import(document.querySelector('script[type=module]').src.replace('workspace_page.js',
              'views/darkness.js'));
              const found = await fetch(`/api/sessions/${combpace.state.picture.session}/activation`);
              const mine = weaveFrom(combpace.state.map, new Uint8Array(await found.arrayBuffer()),
              Number(found.headers.get('X-Offset-S')));
              const theirs = combpace.state.weave;
              let off = 0;
              for (let k = 0; k < Math.min(mine.dark.length, theirs.dark.length);
              k++) off += Math.abs(mine.dark[k] - theirs.dark[k]) > 2 ? 1 : 0;
              return [mine.rows - theirs.rows, mine.first - theirs.first, off / mine.dark.length];
            })()"""
        )
        self.assertEqual(same[:2], [0, 0])
        self.assertLess(same[2], 0.01)

    @main
    def test_a_candidate_is_heard_before_it_is_used(self) -> None:
        version, rows = self.look("[combpace.state.picture.version, combpace.state.weave.rows]")
        self.page.locator(".tempi tbody tr", has_text="half").first.locator("[data-hear-bpm]").click()
        self.page.wait_for_function("combpace.player.playing")
        self.assertIn("at the start", self.says_now())
        self.page.keyboard.press("w")
        self.page.wait_for_function("document.getElementById('now').textContent.includes('in the middle')")
        self.page.keyboard.press("w")
        self.page.wait_for_function("document.getElementById('now').textContent.includes('at the end')")
        self.assertLess(self.look("combpace.state.weave.rows"), rows)
        self.assertEqual(self.look("combpace.state.picture.version"), version)
        # Stopped in the middle, the weave is the session's again: what is drawn is what sounds.
        self.page.keyboard.press("Space")
        self.page.wait_for_function(f"combpace.state.weave.rows === {rows} && !combpace.state.weave.map")

    def test_a_range_of_the_strip_is_measured(self) -> None:
        self.page.keyboard.press("4")
        self.page.wait_for_function("combpace.state.station === 'onsets' && combpace.view()?.pixelOfTime")
        spots = [self.look(f"combpace.view().pixelOfTime({time})") for time in (1.02, 4.97)]
        self.page.keyboard.down("Shift")
        self.page.mouse.move(spots[0]["x"], spots[0]["y"])
        self.page.mouse.down()
        self.page.mouse.move(spots[1]["x"], spots[1]["y"], steps=4)
        self.page.mouse.up()
        self.page.keyboard.up("Shift")
        self.assertEqual(self.look("combpace.state.selection.kind"), "range")
        self.page.get_by_role("button", name="Measure its tempo").click()
        self.page.wait_for_selector("#range-box .seam")
        self.assertIn("are 2 bars: 1", self.page.inner_text("#range-box .range-words"))

    def test_a_range_is_dragged_on_the_weave_and_given_up_in_two_steps(self) -> None:
        box = self.page.locator("#canvas-box canvas").bounding_box()
        assert box is not None
        self.page.mouse.move(box["x"] + 200, box["y"] + 40)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 202, box["y"] + 70, steps=4)
        self.page.mouse.up()
        self.page.wait_for_selector("#range-box .seam")
        self.page.keyboard.press("Escape")
        self.page.wait_for_function(
            "document.querySelector('#range-box .hint').textContent.includes('no edge is chosen')"
        )
        self.page.keyboard.press("Escape")
        self.page.wait_for_function(
            "document.getElementById('range-box').hidden && combpace.state.sound.loop === null"
        )


class ReadingTest(BrowserTest):
    def test_the_lead_in_is_shown_only_where_it_is_asked_for(self) -> None:
        # Two beats of a pickup, then bars with a deep stroke on their first.
        bars, pickup = struck(2.0 + 0.5 * np.arange(60), 33.0, low_every=4), struck([1.0, 1.5], 33.0)
        self.drop(self.write("pickup.wav", Audio(bars.samples + pickup.samples, bars.sample_rate_hz)))
        self.page.keyboard.press("2")
        self.page.wait_for_function("combpace.state.station === 'pace' && combpace.state.weave")
        spot = "combpace.state.picture.allBars[0].i"
        self.assertLess(self.look(spot), 0)
        self.assertEqual(self.look("combpace.state.picture.bars[0].i"), 0)
        box = self.page.get_by_label("lead-in")
        with self.page.expect_response("**/levels"):
            box.check()
        self.assertEqual(self.look("combpace.state.picture.bars[0].i"), self.look(spot))
        self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.state.weave")
        self.assertTrue(self.page.get_by_label("lead-in").is_checked())
        self.page.keyboard.press("3")
        self.page.wait_for_function("combpace.state.station === 'bars'")
        self.page.get_by_label("lead-in").uncheck()
        self.assertEqual(self.look("combpace.state.picture.bars[0].i"), 0)

    def test_a_doubtful_count_offers_the_other_ways_and_enter_takes_none(self) -> None:
        beats, _ = breathing()
        # A deep stroke on every seventh: where the bars begin, and how long they are, is open.
        self.drop(self.write("open kit.wav", struck(beats, float(beats[-1]) + 1.0, low_every=7)))
        self.page.keyboard.press("3")
        self.page.wait_for_function("combpace.state.station === 'bars'")
        place = self.page.locator("#look .place").first
        self.assertIn("how it is counted", place.inner_text())
        version = self.look("combpace.state.picture.version")
        place.click()
        choices = self.page.locator("#look-buttons button")
        self.assertGreater(choices.count(), 0)
        self.page.keyboard.press("Enter")
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.version"), version)
        wanted = choices.first.inner_text().split(" at ")[0].strip()
        choices.first.click()
        self.page.wait_for_function(f"combpace.state.picture.version > {version}")
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.bars.find((bar) => bar.i === 1).meter"), wanted)
        # In Pace it stands first now, in use; the others are heard and used there.
        self.page.keyboard.press("2")
        self.page.wait_for_selector("#ways li")
        first = self.page.locator("#ways li").first
        self.assertIn("in use", first.inner_text())
        self.assertIn(wanted, first.inner_text())
        # A hand that is faster than the server hears the reading it pressed, not the map that stands.
        held: list[Route] = []
        self.page.route("**/readings", lambda route: held.append(route))
        with self.page.expect_request("**/readings"):
            self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.state.weave")
        self.page.locator("#ways [data-hear-reading]").nth(1).click()
        self.assertFalse(self.look("combpace.player.going"))
        for route in held:
            route.continue_()
        self.page.unroute("**/readings")
        self.page.wait_for_function(
            "combpace.player.playing && document.getElementById('now').textContent.includes('from "
            "the middle')"
        )
        self.page.locator("#ways [data-do='reading']").first.click()
        self.page.wait_for_function(
            "document.getElementById('last-words').textContent.includes('is counted in')"
        )
        self.idle()


class WithoutPulseTest(BrowserTest):
    def test_taps_and_ranges_work_where_no_pulse_was_found(self) -> None:
        self.drop(self.write("drone.wav", struck([0.5], 14.0)))
        self.page.keyboard.press("2")
        self.page.wait_for_function(
            "combpace.state.station === 'pace' && document.querySelector('.canvas-empty')"
        )
        self.assertIn("No pulse was found", self.page.inner_text(".canvas-empty"))
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 0")
        for beat in range(6):
            self.page.wait_for_function(f"combpace.player.position() >= {1.0 + 0.6 * beat}", polling=10)
            self.page.keyboard.press("b")
        self.page.wait_for_function(
            "document.querySelector('#range-box .range-words')?.textContent.startsWith('6 taps')"
        )
        self.assertIn("too few attacks", self.page.inner_text("#range-box .range-words"))
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("combpace.state.map !== null")
        self.idle()
        self.assertAlmostEqual(
            float(self.look("60 / (combpace.state.map.toSeconds(1) - combpace.state.map.toSeconds(0))")),
            100.0,
            delta=3.0,
        )


if __name__ == "__main__":
    unittest.main()
