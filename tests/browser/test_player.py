"""What sounds, to the sample."""

import re
from typing import ClassVar

import numpy as np

from combpace.core.audio import Audio
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.tiers import main
from rig.waiting import HANG_MS


class ClickTest(BrowserTest):
    @main
    def test_clicks_lie_on_the_beats_to_the_sample(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        self.look(
            "combpace.player.mix.set(combpace.state.picture.takes[0].id, { level: 0, pan: 0, mute: "
            "true, solo: false })"
        )
        self.page.click("#play")
        # The recorder may join a moment late: several beats after it is ready are enough.
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 4.6")
        runs = self.look("combpace.player.runs.map((run) => [run.ctx, run.pos, run.length])")
        rate, frames, _ = self.recorded()
        self.page.click("#play")
        starts = frames[np.concatenate([[True], np.diff(frames) > 600])]
        self.assertGreater(len(starts), 3)
        due = []
        for ctx, pos, length in runs:
            for q in range(-8, 60):
                frame = round(self.look(f"combpace.state.map.toSeconds({q})") * rate)
                if pos <= frame < pos + length:
                    due.append(ctx + frame - pos)
        inside = [start for start in starts if min(due) <= start <= max(due) and start > frames[0]]
        self.assertGreater(len(inside), 2)
        for start in inside:
            self.assertIn(start, due)

    def test_the_take_sounds_where_it_was_struck(self) -> None:
        times = [0.5, 1.0, 1.5, 2.0, 2.5, 3.0, 3.5, 4.0]
        self.drop(self.write("tub kit.wav", struck(times, 5.0)))
        self.page.keyboard.press("g")
        self.look("combpace.player.seek(0)")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.position() > 3.2")
        first = self.look("combpace.player.runs.map((run) => [run.ctx, run.pos, run.length])")
        rate, frames, values = self.recorded()
        self.page.keyboard.press("Space")
        loud = frames[np.abs(values) > 0.15]
        starts = loud[np.concatenate([[True], np.diff(loud) > rate // 5])]
        ctx, pos, _ = first[-1]
        heard = (starts - ctx + pos) / rate
        for time in times[2:6]:
            self.assertLess(float(np.min(np.abs(heard - time))), 0.001)

    def test_loop_and_speed(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        self.page.click("#canvas-box canvas", position={"x": 20, "y": 100})
        self.page.keyboard.press("l")
        loop = self.look("combpace.player.loop")
        self.assertAlmostEqual(loop[1] - loop[0], 2.5, delta=0.2)
        self.page.select_option("#speed", "50")
        self.page.keyboard.press("Escape")
        self.page.locator("#canvas-box canvas").first.focus()
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing")
        begun = self.look("[performance.now(), combpace.player.position()]")
        self.page.wait_for_function(f"performance.now() > {begun[0]} + 1500")
        now = self.look("[performance.now(), combpace.player.position()]")
        self.assertAlmostEqual((now[1] - begun[1]) / ((now[0] - begun[0]) / 1000), 0.5, delta=0.06)
        self.page.wait_for_function(f"combpace.player.position() < {begun[1]} + 0.2", timeout=HANG_MS)
        self.assertTrue(loop[0] <= self.look("combpace.player.position()") <= loop[1])

    def test_original_and_fitted_at_the_same_spot_and_through_a_change_of_station(self) -> None:
        beats, lead = breathing()
        loose = struck(beats + 0.02 * np.sin(np.arange(len(beats))), float(beats[-1]) + 1)
        self.drop(self.write("tub kit.wav", lead), self.write("reed organ.wav", loose))
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.position() > 2")
        self.page.keyboard.press("5")
        self.page.wait_for_function("combpace.state.station === 'fit'")
        self.assertTrue(self.look("combpace.player.playing"))
        before = self.look("combpace.player.position()")
        self.page.keyboard.press("v")
        self.assertEqual(self.page.inner_text("#fitted-words"), "Fitted")
        after = self.look("combpace.player.position()")
        self.assertTrue(-0.05 < after - before < 0.6)
        self.assertEqual(self.look("window.played.length"), 1)


class GestureTest(BrowserTest):
    """Without the autoplay flag: only a real press may start the sound."""

    flags: ClassVar[list[str]] = []

    @main
    def test_a_real_click_on_play_sounds(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        self.page.click("#play")
        self.page.wait_for_function(
            "combpace.player.context.state === 'running' && combpace.player.position() > 1.6"
        )
        self.page.wait_for_function("window.played.at(-1).samples.length > 1000")


class KeysTest(BrowserTest):
    def test_keys_do_nothing_while_a_field_is_typed_in_and_can_be_switched_off(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        self.page.locator('[data-act="meter"]').focus()
        self.page.keyboard.type("5")
        self.page.keyboard.press("Escape")
        self.assertEqual(self.look("combpace.state.station"), "bars")
        # Space on a focused button plays and does not press it.
        self.page.locator("#click").focus()
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing")
        self.assertTrue(self.look("combpace.player.clickOn"))
        self.page.keyboard.press("Space")
        self.page.wait_for_function("!combpace.player.playing")
        self.page.keyboard.press("?")
        self.page.uncheck("#single-keys")
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("4")
        self.page.keyboard.press("Control+z")
        self.idle()
        self.assertEqual(self.look("combpace.state.station"), "bars")
        self.assertIn("Undone", self.said())

    def test_the_shelf_by_hand(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        self.page.goto("/")
        line = self.page.locator(".session").first
        line.get_by_role("button", name="Rename").click()
        self.page.keyboard.type("Steam hall")
        self.page.keyboard.press("Enter")
        self.page.wait_for_selector("text=Renamed.")
        line.get_by_role("button", name="Remove").click()
        self.page.wait_for_selector("text=off the shelf")
        self.page.get_by_role("button", name="Undo").click()
        self.page.wait_for_selector("text=is back")
        self.page.fill("#find", "steam")
        self.page.press("#find", "Enter")
        self.page.wait_for_url("**/?find=steam")
        self.assertEqual(self.page.locator(".session-name").all_inner_texts(), ["Steam hall"])
        self.page.get_by_role("button", name="Duplicate").click()
        self.page.wait_for_selector("text=Steam hall (copy)")


class SwitchTest(BrowserTest):
    def test_original_and_fitted_change_over_without_a_gap_or_a_step(self) -> None:
        beats, lead = breathing(bars=8)
        rng = np.random.default_rng(3)
        loose = struck(beats + rng.uniform(-0.03, 0.03, len(beats)), float(beats[-1]) + 1)
        t = np.arange(loose.frames) / loose.sample_rate_hz
        # A held tone under the strokes: a gap or a step in it is plain.
        held = Audio(
            (0.4 * loose.samples + 0.2 * np.sin(2 * np.pi * 150 * t)).astype(np.float32), loose.sample_rate_hz
        )
        self.drop(self.write("tub kit.wav", lead), self.write("reed organ.wav", held))
        self.page.keyboard.press("5")
        self.page.wait_for_function(
            "combpace.state.station === 'fit' && !!combpace.state.picture.fit?.pegs?.length"
        )
        self.page.evaluate(
            "combpace.store.sound({ click: false, mix: { [combpace.state.picture.lead]: { level: "
            "0, pan: 0, mute: true, solo: false } } })"
        )
        # Both are at hand: how long a busy machine takes to stretch is another question.
        self.page.evaluate(
            """async () => {
              const { player } = combpace;
              for (player.fitted of [true, false])
                for (const voice of player.audible())
                  for (const number of [1, 2, 3, 4]) await player.fetch(voice, number);
            }"""
        )
        self.page.evaluate("combpace.player.seek(4)")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 4.6")
        self.page.keyboard.press("v")
        self.page.wait_for_function(
            "combpace.player.fitted && combpace.player.position() > 6", timeout=HANG_MS
        )
        self.page.keyboard.press("Space")
        rate, frames, _ = self.recorded()
        inside = (frames > frames[0] + 0.2 * rate) & (frames < frames[-1] - 0.1 * rate)
        frames = frames[inside]
        # No silence: the tone crosses zero, but never stays there for 3 ms.
        self.assertGreater(len(frames), rate)
        self.assertLess(int(np.max(np.diff(frames))), 0.003 * rate)

    def test_undone_and_done_again_while_it_plays_every_sound_is_that_of_its_name(self) -> None:
        beats = breathing(bars=10)[0]
        time = np.arange(round(44100 * (float(beats[-1]) + 2.0))) / 44100
        tone = (0.2 * np.sin(2 * np.pi * 220 * time)).astype(np.float32)
        struck_too = struck(beats, len(tone) / 44100, low_every=4).samples[0][: len(tone)]
        self.drop(self.write("tone kit.wav", Audio((tone + 0.5 * struck_too)[None, :], 44100)))
        self.page.keyboard.press("5")
        asked: list[tuple[str, int]] = []
        self.page.on(
            "requestfinished",
            lambda request: (
                asked.append((request.url, request.response().status))  # type: ignore[union-attr]
                if "/sound?" in request.url
                else None
            ),
        )
        # What is to be heard later is at hand: how long a busy machine takes to stretch is another question.
        for strength, numbers in (("100", [0, 1, 2, 3, 4, 5, 6, 7]), ("40", [0, 1, 4, 5, 6, 7])):
            self.page.fill('[data-act="rule"][data-name="strength"]', strength)
            self.page.press('[data-act="rule"][data-name="strength"]', "Enter")
            self.idle()
            self.page.evaluate(
                """async (numbers) => {
                  const { player } = combpace;
                  player.fitted = true;
                  for (const voice of player.audible())
                    for (const number of numbers) await player.fetch(voice, number);
                  player.fitted = false;
                }""",
                numbers,
            )
        session = self.look("combpace.state.picture.session")
        self.page.keyboard.press("v")
        self.page.evaluate("combpace.player.seek(1)")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 2.5")
        # Undone by another page: this one finds out by its sound, asks for the picture, and goes on.
        version = self.look("combpace.state.picture.version")
        self.page.request.post(f"/api/sessions/{session}/act/undo", data={"version": version, "args": {}})
        self.page.wait_for_function(f"combpace.state.picture.version > {version}", timeout=HANG_MS)
        self.page.wait_for_function("combpace.player.position() > 7", timeout=HANG_MS)
        for key in ("Control+Shift+z", "Control+z"):
            self.page.keyboard.press(key)
            self.idle()
        self.page.wait_for_function("combpace.player.position() > 10", timeout=HANG_MS)
        self.page.keyboard.press("Space")
        self.assertIn(409, {status for _, status in asked}, "an old name was refused")
        names = {re.search(r"&v=([^&]*)", url)[1] for url, _ in asked}  # type: ignore[index]
        self.assertGreaterEqual(len(names), 2)
        # What the browser keeps under each name is what the server makes under it.
        differ = self.page.evaluate(
            """async (urls) => {
              const wrong = [];
              for (const url of urls) {
                const [kept, fresh] = await Promise.all(
                  ["default", "no-store"].map((cache) => fetch(url, { cache })),
                );
                if (kept.status !== 200 || fresh.status !== 200) continue;
                const [a, b] = (await Promise.all([kept, fresh].map((one) => one.arrayBuffer()))).map(
                  (data) => new Uint8Array(data),
                );
                if (a.length !== b.length || a.some((value, k) => value !== b[k])) wrong.push(url);
              }
              return wrong;
            }""",
            sorted({url for url, status in asked if status == 200}),
        )
        self.assertEqual(differ, [])
        rate, frames, _ = self.recorded()
        inside = (frames > frames[0] + 0.2 * rate) & (frames < frames[-1] - 0.1 * rate)
        frames = frames[inside]
        self.assertGreater(len(frames), 5 * rate)
        self.assertLess(int(np.max(np.diff(frames))), 0.003 * rate, "no gap")
