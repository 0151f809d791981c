"""The other pictures and panels, by hand."""

from typing import Any

import numpy as np
import soundfile as sf

from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.tiers import main
from rig.waiting import HANG_MS


class ViewsTest(BrowserTest):
    # The library of grooves is that of the server.
    alone = True

    def setUp(self) -> None:
        super().setUp()
        self.beats, self.audio = breathing(bars=10, start=1.2)
        self.lead = self.write("tub kit - near.wav", self.audio)

    def go(self, key: str, station: str) -> None:
        self.page.keyboard.press(key)
        self.page.wait_for_function(f"combpace.state.station === '{station}'")
        self.idle()

    def choose_bars(self, first: int, last: int) -> None:
        """Drag over the numbers of bars, by their indices, in 4/4."""
        rows = [self.look(f"combpace.view().pixelOf({4 * bar}, {bar})") for bar in (first, last)]
        box = self.page.locator("#canvas-box canvas").bounding_box()
        assert box is not None
        self.page.mouse.move(box["x"] + 20, rows[0]["y"])
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 22, rows[1]["y"])
        self.page.mouse.up()

    def test_the_close_comb_moves_a_line_onto_its_attack(self) -> None:
        self.drop(self.lead)
        self.page.get_by_role("button", name="Close comb").click()
        self.page.wait_for_function("combpace.state.view.close")
        before = self.look("combpace.state.map.toSeconds(8)")
        spot = self.look("combpace.view().pixelOf(8, 2)")
        self.page.mouse.move(spot["x"], spot["y"])
        self.page.mouse.down()
        self.page.mouse.move(spot["x"] + 20, spot["y"])
        self.page.mouse.move(spot["x"] + 34, spot["y"])
        self.assertIn("ms from 3·1", self.says_now())
        self.page.mouse.up()
        self.idle()
        # The attack went to the right of the tooth: the line is earlier now, by what 34 pixels are at about
        # 1.7 px per ms.
        moved = 1000 * (before - self.look("combpace.state.map.toSeconds(8)"))
        self.assertTrue(12 < moved < 30, moved)
        self.assertEqual(self.look("combpace.state.picture.anchors.length"), 1)
        self.assertTrue(self.look("combpace.state.picture.bars.find((bar) => bar.n === 3).drift") > 10)

    def test_look_here_plays_as_it_is_and_then_as_proposed(self) -> None:
        self.drop(self.lead)
        self.page.keyboard.press("2")
        self.page.get_by_role("button", name="Use one steady tempo").click()
        self.page.wait_for_function("combpace.state.picture.kind === 'steady'")
        self.idle()
        loose = self.write("reed organ.wav", struck(self.beats + 0.02, self.audio.duration_s))
        self.page.keyboard.press("1")
        self.page.set_input_files("[data-files]", str(loose))
        self.page.wait_for_function(
            "combpace.state.picture.takes.length === 2 && "
            "combpace.state.picture.takes.every((take) => take.state === 'ready')"
        )
        self.go("5", "fit")
        made = self.look("combpace.state.picture.fit.pegs.length")
        self.assertGreater(made, 10)
        mark = self.look("combpace.state.picture.fit.pegs[8]")
        # The next onset is held by hand, so it does not give way, and no pause is long enough to take it all.
        after = self.look("combpace.state.picture.fit.pegs[9]")
        for name, args in (
            ("as-played", {"times_s": [after[0]]}),
            ("peg", {"take_s": mark[0], "quarters": mark[3] + 0.92}),
        ):
            self.page.evaluate(
                """([name, args]) => {
                  const button = document.createElement('button');
                  button.dataset.do = name;
                  button.dataset.args = JSON.stringify({ take: combpace.state.focus, ...args });
                  document.body.append(button);
                  button.click();
                }""",
                [name, args],
            )
            self.idle()
        self.page.wait_for_selector("#look .place")
        self.idle()
        self.page.keyboard.press("s")
        self.page.wait_for_function("combpace.player.playing && !combpace.player.fitted")
        self.assertIn("as it is", self.says_now())
        self.page.wait_for_function("combpace.player.playing && combpace.player.fitted")
        self.assertIn("as fitted", self.says_now())
        # The line that says what changed is still there to be read.
        self.assertIn("is pulled to", self.said())
        self.page.wait_for_function("!combpace.player.playing")
        self.page.wait_for_function("!combpace.player.fitted")

    def test_the_weave_is_that_of_the_tempo_in_force(self) -> None:
        self.drop(self.write("even kit.wav", struck(0.5 + np.arange(96) * 0.5, 49.0, low_every=4)))
        self.go("2", "pace")
        field = self.page.locator('[data-act="steady"][data-name="bpm"]').first
        image = "document.querySelector('#canvas-box canvas').toDataURL()"
        right = self.look(image)
        field.fill("122")
        field.press("Enter")
        self.idle()
        wrong = self.look(image)
        self.assertNotEqual(wrong, right)
        self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.state.weave")
        self.idle()
        self.assertEqual(self.look(image), wrong)
        self.page.keyboard.press("Control+z")
        self.idle()
        self.assertEqual(self.look(image), right)

    def test_moved_is_what_really_moves_and_both_parts_are_said(self) -> None:
        # A kit that is even at 100, in a session of 101: what it follows grows, what is pulled does not.
        feel = np.random.default_rng(2).normal(0.0, 0.012, 64)
        self.drop(self.write("even kit.wav", struck(0.5 + 0.6 * np.arange(64) + feel, 40.0, low_every=4)))
        self.page.locator('[data-act="steady"][data-name="bpm"]').first.fill("101")
        self.page.keyboard.press("Enter")
        self.idle()
        self.go("5", "fit")
        found = self.look(
            "combpace.state.picture.bars.filter((bar) => bar.i >= 0 && bar.i < 15)"
            ".map((bar) => combpace.host.fitMove(bar)).filter((one) => one)"
        )
        followed = np.array([one["moved"] - one["pulled"] for one in found])
        self.assertLess(followed[-1], followed[0] - 200)
        self.assertLess(max(abs(one["pulled"]) for one in found), 60)
        frame = self.page.locator("#canvas-box canvas").bounding_box()
        assert frame is not None
        self.page.mouse.move(frame["x"] + frame["width"] - 20, frame["y"] + 120)
        self.page.wait_for_function("document.getElementById('now').textContent.includes('by following')")
        self.assertIn("ms by the rule", self.says_now())

    def test_weave_curve_and_comb_go_to_the_same_places(self) -> None:
        self.drop(self.lead)
        curve = self.page.locator("#curve-box canvas")
        box = curve.bounding_box()
        assert box
        self.page.mouse.click(box["x"] + 78 + (box["width"] - 144) * 0.55, box["y"] + 30)
        chosen = self.look("combpace.state.selection.bar")
        self.assertAlmostEqual(
            self.look("combpace.player.rest"),
            self.look(f"combpace.state.picture.bars.find((bar) => bar.i === {chosen}).s"),
            places=3,
        )
        self.go("2", "pace")
        self.page.wait_for_function("combpace.state.weave && combpace.state.weave.rows > 5")
        box = self.page.locator("#canvas-box canvas").bounding_box()
        assert box
        self.page.mouse.click(box["x"] + box["width"] / 2, box["y"] + 26 + 5 * 14)
        self.assertNotEqual(self.look("combpace.state.selection.bar"), chosen)

    def test_from_a_chosen_bar_on_it_is_counted_half_as_fast(self) -> None:
        self.drop(self.lead)
        self.go("3", "bars")
        for _ in range(3):
            self.page.keyboard.press("ArrowDown")
        chosen = int(self.look("combpace.state.selection.bar"))
        self.assertGreater(chosen, 0)
        bpm = "combpace.state.picture.bars.find((bar) => bar.i === {}).bpm"
        before, here = (float(self.look(bpm.format(index))) for index in (chosen - 1, chosen))
        self.page.get_by_role("button", name="Half as fast from here").click()
        self.page.wait_for_function(f"{bpm.format(chosen)} < {0.6 * here}")
        self.assertAlmostEqual(float(self.look(bpm.format(chosen - 1))), before, places=2)
        self.assertIn("half as fast from bar", self.said())
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function(f"{bpm.format(chosen)} > {0.9 * here}")

    def test_scrolling_zooming_and_bar_by_bar(self) -> None:
        self.drop(self.lead)
        self.page.locator("#canvas-box canvas").hover()
        self.page.mouse.wheel(0, 200)
        self.page.wait_for_function("combpace.state.view.top > 1")
        tall = self.look("combpace.state.view.rowPx")
        self.page.keyboard.press("+")
        self.assertGreater(self.look("combpace.state.view.rowPx"), tall)
        self.page.keyboard.press("-")
        for _ in range(3):
            self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("PageDown")
        self.assertGreater(self.look("combpace.state.selection.bar"), 7)
        self.page.keyboard.press("Escape")
        self.assertIsNone(self.look("combpace.state.selection"))

    def test_takes_bundled_removed_and_brought_back(self) -> None:
        self.drop(
            self.lead, self.write("tub kit - far.wav", struck(self.beats + 0.004, self.audio.duration_s))
        )
        self.go("1", "takes")
        self.page.keyboard.press("s")
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("combpace.state.picture.takes.every((take) => take.bundle)")
        self.assertEqual(self.page.locator("#chips .chip").count(), 1)
        self.page.locator('tr[data-take-line] button[data-do="take-remove"]').nth(1).click()
        self.page.wait_for_function("combpace.state.picture.takes.length === 1")
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function("combpace.state.picture.takes.length === 2")
        name = self.page.locator('[data-act="take"][data-name="name"]').first
        name.fill("Copper tub")
        name.press("Enter")
        self.page.wait_for_function("combpace.state.picture.takes[0].name === 'Copper tub'")

    def test_what_is_kept_mutes_its_source_here_and_its_undo_lets_it_sound(self) -> None:
        self.drop(self.write("tub kit.wav", breathing()[1]))
        picture = self.look("combpace.state.picture")
        session, take, version = picture["session"], picture["takes"][0]["id"], picture["version"]

        def post(path: str, body: dict[str, Any]) -> Any:
            return self.page.request.post(f"/api/sessions/{session}/{path}", data=body).json()

        cut = {"version": version, "args": {"take": take, "at": "beats", "lay": "1/4"}}
        version = post("act/cut-and-lay", cut)["version"]
        post("keep-pieces", {"version": version, "take": take})
        mute = f"!!combpace.state.sound.mix['{take}']?.mute"
        self.page.wait_for_function(mute, timeout=HANG_MS)
        self.page.wait_for_function("combpace.state.picture.takes.every((one) => one.state === 'ready')")
        self.idle()
        # What the page keeps of its levels says so, too.
        self.page.reload()
        self.page.wait_for_function(f"window.combpace && {mute}")
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function(f"!({mute})", timeout=HANG_MS)
        self.page.reload()
        self.page.wait_for_function(f"window.combpace && !({mute})")

    def test_muted_takes_are_silent_and_levels_are_kept(self) -> None:
        self.drop(self.lead)
        self.page.keyboard.press("g")
        self.page.click("#levels")
        self.page.get_by_label("mute tub kit - near").check()
        self.page.get_by_label("level of tub kit - near").fill("-12")
        self.page.click("#play")
        self.page.wait_for_function("combpace.player.position() > 2.4")
        self.page.click("#play")
        self.assertEqual(len(self.recorded()[1]), 0)
        self.page.wait_for_function(
            "fetch(location.pathname).then((answer) => answer.text()).then((text) => "
            "text.includes('\"level\": -12'))"
        )
        self.page.reload()
        self.page.wait_for_function("window.combpace && combpace.player.mix.size")
        self.assertEqual(
            self.look("[...combpace.player.mix.values()][0]"),
            {"level": -12, "pan": 0, "mute": True, "solo": False},
        )

    @main
    def test_a_peg_by_hand_and_let_ride(self) -> None:
        rng = np.random.default_rng(8)
        self.drop(
            self.lead,
            self.write(
                "reed organ.wav",
                struck(self.beats + rng.uniform(-0.02, 0.02, len(self.beats)), self.audio.duration_s),
            ),
        )
        self.go("5", "fit")
        # On eighths the next place is free: on quarters, which are proposed, its neighbour would give way.
        self.page.select_option('[data-act="rule"][data-name="grid"]', "1/8")
        self.idle()
        self.page.locator("#canvas-box canvas").first.focus()
        self.page.keyboard.press("e")
        self.page.keyboard.press("e")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("Enter")
        self.page.wait_for_function("combpace.state.picture.fit.pegs.some((peg) => peg[4] === 'hand')")
        self.assertIn("is pulled to", self.said())
        riding = self.look("combpace.state.picture.fit.riding.length")
        pegs = self.look("combpace.state.picture.fit.pegs.length")
        self.page.keyboard.press("Delete")
        self.page.wait_for_function(f"combpace.state.picture.fit.pegs.length < {pegs}")
        self.assertEqual(self.look("combpace.state.picture.fit.riding.length"), riding)

    def test_day_and_night_and_the_list_of_keys(self) -> None:
        self.drop(self.lead)
        day = self.look("document.documentElement.dataset.theme")
        self.page.get_by_role("button", name="Day / night").click()
        self.assertNotEqual(self.look("document.documentElement.dataset.theme"), day)
        self.page.reload()
        self.page.wait_for_function("window.combpace")
        self.assertNotEqual(self.look("document.documentElement.dataset.theme"), day)
        self.page.keyboard.press("?")
        self.page.wait_for_selector("#keys:visible >> text=this is a downbeat")
        self.page.keyboard.press("Escape")
        self.page.wait_for_selector("#keys", state="hidden")

    def test_nothing_is_cut_off_where_room_is_small(self) -> None:
        self.drop(self.lead)
        for width, height in ((1280, 680), (1024, 680), (2560, 1300)):
            self.page.set_viewport_size({"width": width, "height": height})
            for station in ("takes", "pace", "bars", "onsets", "fit", "hand-off"):
                key = {"takes": "1", "pace": "2", "bars": "3", "onsets": "4", "fit": "5", "hand-off": "7"}[
                    station
                ]
                if self.look("combpace.state.station") != station:
                    self.go(key, station)
                over = self.look(
                    """(() => ['html', '.side', '.player',
                    '.ledger'].map((name) => document.querySelector(name))
                      .filter((box) => box && !box.hidden && box.scrollWidth > box.clientWidth + 1)
                      .map((box) => `${box.className} ${box.scrollWidth} > ${box.clientWidth}`))()"""
                )
                cut = self.look(
                    """(() => [...document.querySelectorAll(
                        '.side input.field, .ledger input.field, #chips .chip')]
                      .filter((box) => box.offsetParent && box.scrollWidth > box.clientWidth + 1)
                      .map((box) => box.value || box.textContent))()"""
                )
                with self.subTest(width=width, station=station):
                    self.assertEqual(over, [])
                    self.assertEqual(cut, [])
                    self.assertTrue(self.page.locator("#chips .chip").first.is_visible())
                    self.assertGreaterEqual(
                        self.look("innerHeight"), self.look("document.documentElement.scrollHeight")
                    )

    def test_the_picture_has_a_text_equivalent(self) -> None:
        self.drop(self.lead)
        rows = self.page.locator("#bars-table tbody tr")
        self.assertEqual(rows.count(), self.look("combpace.state.picture.bars.length"))
        self.assertRegex(rows.nth(1).inner_text(), r"\d+\s+0:0\d\.\d{3}")
        for name in ("#play", "#canvas-box canvas", "#loop"):
            self.assertTrue(
                self.page.locator(name).first.get_attribute("aria-label")
                or self.page.locator(name).first.inner_text()
            )

    def test_down_to_samples_and_marks_that_tick(self) -> None:
        self.drop(self.lead)
        self.go("4", "onsets")
        mark = self.look("combpace.state.picture.onsets[combpace.state.focus].t[6]")
        self.page.evaluate(
            "(t) => { Object.assign(combpace.state.view, { stripSpan: 0.002, stripStart: t - 0.001 "
            "}); combpace.view().draw(); }",
            mark,
        )
        self.page.wait_for_function(
            "[...combpace.host.peaks.tiles.keys()].some((key) => key.split(':')[1] === '1')"
        )
        self.page.get_by_label("marks tick").check()
        self.page.evaluate("combpace.state.sound.click && document.getElementById('click').click()")
        # The sound itself is muted: what is left are the ticks.
        self.page.evaluate("document.querySelector('#chips .chip').click()")
        self.page.wait_for_function("!combpace.player.clickOn && !combpace.player.audible().length")
        self.page.locator("#canvas-box canvas").focus()
        self.page.keyboard.press("Space")
        self.page.wait_for_function(
            "combpace.player.playing && (window.played.at(-1)?.samples.length ?? 0) > 2000", timeout=HANG_MS
        )
        self.page.keyboard.press("Space")
        rate, frames, _ = self.recorded()
        begins = frames[np.concatenate([[True], np.diff(frames) > 0.05 * rate])] / rate
        times = np.array(self.look("combpace.state.picture.onsets[combpace.state.focus].t"))
        gaps = np.diff(begins)
        self.assertGreater(len(gaps), 2)
        # Wherever playing began: two marks apart may be as far as two others.
        runs = np.lib.stride_tricks.sliding_window_view(np.diff(times), len(gaps))
        self.assertLess(np.abs(runs - gaps).max(axis=1).min(), 0.001)

    def test_takes_above_each_other_and_one_brought_to_the_other(self) -> None:
        late = self.beats.copy()
        late[12] += 0.05
        double = self.write("second voice.wav", struck(late, self.audio.duration_s))
        self.drop(self.lead, double)
        self.go("4", "onsets")
        self.page.select_option('select[data-view="below"]', "stack")
        self.page.wait_for_function("combpace.host.stack()?.notes.length > 10")
        spot = self.look("combpace.view().pixelOfNote(0)")
        self.page.mouse.click(spot["x"], spot["y"])
        self.assertRegex(self.page.inner_text("#chosen"), r"(4[89]|5[012]) ms apart")
        self.page.get_by_role("button", name="Bring second voice to tub kit - near here").click()
        self.idle()
        self.assertIn("goes to where tub kit - near plays", self.said())
        self.page.wait_for_function(
            "combpace.host.stack() && Math.max(...combpace.host.stack().notes.map((note) => "
            "note.spread_ms)) < 10"
        )

    def test_a_groove_is_taken_from_bars_laid_on_a_take_and_comes_back_after_removal(self) -> None:
        self.drop(self.lead)
        self.go("5", "fit")
        self.choose_bars(2, 4)
        self.page.get_by_role("button", name="Take their groove").click()
        self.page.wait_for_selector("[data-groove]")
        self.idle()
        self.assertIn("The groove tub kit - near, bars 3–5 is in the library", self.said())
        self.page.get_by_role("button", name="Pull onto it").click()
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.fit.groove.bars.length"), 1)
        self.page.locator("#grooves").evaluate("(box) => { box.open = true; }")
        name = self.page.locator("[data-groove-name]")
        name.fill("yard")
        name.blur()
        self.page.wait_for_function(
            "document.querySelector('#last-words').textContent.includes('is called yard')"
        )
        self.page.locator("[data-groove-remove]").click()
        self.page.wait_for_selector("[data-groove-restore]")
        self.assertEqual(self.page.locator("[data-groove]").count(), 0)
        # The session keeps what it uses.
        self.assertIsNotNone(self.look("combpace.state.picture.fit.groove"))
        self.page.locator("[data-groove-restore]").click()
        self.page.wait_for_selector("[data-groove]", state="attached")
        self.assertEqual(self.page.locator("[data-groove-name]").input_value(), "yard")

    @main
    def test_a_take_is_cut_a_piece_pulled_and_all_undone(self) -> None:
        self.drop(self.lead)
        self.go("6", "pieces")
        # The sentence previews at once, changes nothing, and is dropped with Escape.
        self.page.select_option('#pieces-form [name="lay"]', "1/4")
        self.page.wait_for_function("combpace.view().drawn().length > 20")
        self.assertEqual(self.look("combpace.state.picture.pieces.length"), 0)
        self.page.locator('#pieces-form [name="lay"]').focus()
        self.page.keyboard.press("Escape")
        self.page.wait_for_function("combpace.view().drawn().length === 0")
        self.page.select_option('#pieces-form [name="lay"]', "1/16")
        self.page.wait_for_function("combpace.view().drawn().length > 20")
        self.page.locator("#canvas-box canvas").focus()
        self.page.keyboard.press("Escape")
        self.page.wait_for_function("combpace.view().drawn().length === 0")
        self.page.select_option('#pieces-form [name="lay"]', "1/8")
        self.page.wait_for_function("combpace.view().drawn().length > 20")
        seen = self.look("combpace.view().drawn().map((one) => one.q)")
        # The preview is heard before it is kept.
        self.page.locator("#canvas-box canvas").focus()
        with self.page.expect_request(
            lambda request: "trial=" in request.url and "/sound" in request.url
        ) as asked:
            self.page.keyboard.press("Space")
        self.assertEqual(asked.value.response().status, 200)  # type: ignore[union-attr]
        self.page.wait_for_function("combpace.player.playing")
        self.page.keyboard.press("Space")
        self.page.get_by_role("button", name="Cut and lay").click()
        self.page.wait_for_function("combpace.state.picture.pieces.length > 20")
        self.idle()
        self.assertTrue(self.look("combpace.state.sound.fitted"))
        self.assertEqual(self.look("combpace.view().drawn().map((one) => one.q)"), seen)
        piece = self.look("combpace.state.picture.pieces.find((one) => Math.abs(one.q - 9) < 1e-3)")
        spot = self.look("combpace.view().pixelOf(9, 2)")
        beat = self.look("combpace.view().pixelOf(10, 2).x - combpace.view().pixelOf(9, 2).x")
        self.page.mouse.move(spot["x"] + 12, spot["y"])
        self.page.mouse.down()
        self.page.mouse.move(spot["x"] + 30, spot["y"])
        self.page.mouse.move(spot["x"] + 12 + beat / 2, spot["y"])
        self.page.mouse.up()
        self.idle()
        moved = self.look(f"combpace.state.picture.pieces[{piece['number']}].q")
        self.assertAlmostEqual(moved, 9.5, places=6)
        # What is drawn is what sounds: the same pieces are played.
        self.page.locator("#canvas-box canvas").focus()
        self.page.keyboard.press("w")
        self.page.wait_for_function("combpace.player.playing")
        self.page.wait_for_function(
            "!combpace.player.playing && (window.played.at(-1)?.samples.length ?? 0) > 1000"
        )
        fade = self.page.get_by_label("comes in over, ms")
        self.assertEqual(fade.input_value(), "as all")
        fade.fill("60")
        fade.press("Enter")
        self.page.wait_for_function(f"combpace.state.picture.pieces[{piece['number']}].fadeIn === 60")
        self.idle()
        self.page.get_by_label("comes in over, ms").fill("as all")
        self.page.get_by_label("comes in over, ms").press("Enter")
        self.page.wait_for_function(f"combpace.state.picture.pieces[{piece['number']}].fadeIn === null")
        self.idle()
        self.page.locator("#canvas-box canvas").focus()
        count = self.look("combpace.state.picture.pieces.length")
        self.page.keyboard.press("Delete")
        self.page.wait_for_function(f"combpace.state.picture.pieces.length === {count - 1}")
        # Takes and Hand-off say how it sounds.
        self.idle()
        take = self.look("combpace.state.focus")
        self.go("1", "takes")
        self.assertEqual(self.page.locator(f'[data-take-state="{take}"]').inner_text(), "in pieces")
        self.go("7", "hand-off")
        self.assertEqual(self.page.locator("#handoff small", has_text="in pieces").count(), 1)
        self.go("6", "pieces")
        for _ in range(5):
            self.idle()
            self.page.keyboard.press("Control+z")
        self.page.wait_for_function("combpace.state.picture.pieces.length === 0")

    def test_k_catches_where_a_drag_does_and_shift_frees_both(self) -> None:
        self.drop(self.lead)
        self.go("6", "pieces")
        self.page.get_by_role("button", name="Cut and lay").click()
        self.page.wait_for_function("combpace.state.picture.pieces.length > 20")
        self.idle()
        self.look("combpace.store.view({ grid: '1/16', catch: 'grid' })")

        def places() -> list[float]:
            self.idle()
            return list(self.look("combpace.state.picture.pieces.map((one) => one.q)"))

        def point(q: float) -> None:
            spot = self.look(f"combpace.view().pixelOf({q}, 2)")
            self.page.mouse.move(spot["x"], spot["y"])

        before = places()
        point(9.3)
        self.page.keyboard.press("k")
        (cut,) = [q for q in places() if min(abs(q - old) for old in before) > 1e-3]
        self.assertAlmostEqual(cut, 9.25, delta=1e-3)
        before = places()
        point(10.37)
        self.page.keyboard.press("Shift+K")
        (cut,) = [q for q in places() if min(abs(q - old) for old in before) > 1e-3]
        self.assertAlmostEqual(cut, 10.37, delta=0.02)
        # Shift frees a drag; a click with it adds to the choice.
        point(9.05)
        self.page.mouse.down()
        self.page.mouse.up()
        before = places()
        self.page.keyboard.down("Shift")
        point(11.05)
        self.page.mouse.down()
        point(11.25)
        point(11.42)
        self.page.mouse.up()
        self.page.keyboard.up("Shift")
        (freed,) = [q for q in places() if min(abs(q - old) for old in before) > 1e-3]
        self.assertAlmostEqual(freed, 11.37, delta=0.02)
        self.assertFalse(self.look("combpace.state.selection.also?.length ?? 0"))
        self.page.keyboard.down("Shift")
        point(9.05)
        self.page.mouse.down()
        self.page.mouse.up()
        self.page.keyboard.up("Shift")
        self.assertEqual(self.look("combpace.state.selection.also.length"), 1)

    def test_a_bar_is_doubled_and_a_beat_dropped_on_the_grid(self) -> None:
        self.drop(self.lead)
        self.go("6", "pieces")
        self.choose_bars(1, 2)
        self.assertIn("Bars 2–3", self.page.inner_text("#chosen"))
        field = self.page.get_by_label("copy to bar")
        field.fill("6")
        field.press("Enter")
        self.page.wait_for_function("combpace.state.picture.pieces.length > 8")
        self.idle()
        self.assertIn("is also at 6·1", self.said())
        # What lies on bar 6 now is the sound of bar 2.
        first, copied = (
            self.look(f"combpace.state.picture.pieces.find((one) => Math.abs(one.q - {place}) < 1e-3)")
            for place in (4, 20)
        )
        self.assertEqual((first["start"], first["stop"]), (copied["start"], copied["stop"]))
        self.page.get_by_role("button", name="Silence them").click()
        self.page.wait_for_function(
            "!combpace.state.picture.pieces.some((one) => one.q > 3.9 && one.q < 11.9)"
        )
        self.idle()
        self.page.keyboard.press("Control+z")
        self.idle()
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function("combpace.state.picture.pieces.length === 0")

    def test_cells_dragged_over_stutter_on_all_takes_and_push_what_is_later(self) -> None:
        self.drop(self.lead)
        self.go("6", "pieces")
        self.page.get_by_label("choose cells").check()
        a, b = (self.look(f"combpace.view().pixelOf({place}, 1)") for place in (4.1, 4.3))
        self.page.mouse.move(a["x"], a["y"])
        self.page.mouse.down()
        self.page.mouse.move(b["x"], b["y"], steps=3)
        self.page.mouse.up()
        self.assertIn("2·1 to 2·1.5", self.page.inner_text("#chosen"))
        self.page.get_by_label("on what").select_option("all")
        field = self.page.get_by_label("repeat, times")
        field.fill("3")
        field.press("Enter")
        self.page.wait_for_function("combpace.state.picture.pieces.length > 3")
        self.idle()
        self.assertIn("is repeated 3 times on 1 take, over what was there", self.said())
        starts = [
            self.look(
                f"combpace.state.picture.pieces.find((one) => Math.abs(one.q - {4 + 0.5 * k}) < 1e-3).start"
            )
            for k in range(4)
        ]
        self.assertEqual(len(set(starts)), 1)
        # A whole bar is put in, and what is later goes later.
        end = self.look(
            "Math.max(...combpace.state.picture.pieces.map((one) => one.at + one.stop - one.start))"
        )
        self.choose_bars(2, 2)
        self.page.get_by_label("what is there").select_option("yes")
        self.page.get_by_role("button", name="Repeat once").click()
        self.idle()
        self.assertIn("everything after it moves 1 bar later, the map stays", self.said())
        after = self.look(
            "Math.max(...combpace.state.picture.pieces.map((one) => one.at + one.stop - one.start))"
        )
        self.assertGreater(after, end + 1.5)
        self.page.get_by_label("what is there").select_option("no")
        self.page.get_by_label("on what").select_option("")

    def test_a_piece_is_made_its_own_saved_and_touches_its_copies(self) -> None:
        self.drop(self.lead)
        self.go("6", "pieces")
        self.choose_bars(1, 1)
        field = self.page.get_by_label("repeat, times")
        field.fill("2")
        field.press("Enter")
        self.page.wait_for_function("combpace.state.picture.pieces.some((one) => one.alike === 3)")
        self.idle()
        number = self.look("combpace.state.picture.pieces.find((one) => Math.abs(one.q - 4) < 1e-3).number")
        spot = self.look("combpace.view().pixelOf(4.2, 1)")
        self.page.mouse.click(spot["x"], spot["y"])
        self.assertIn("touch 3 pieces", self.page.inner_text("#chosen"))
        level = self.page.get_by_label("level, dB")
        level.fill("-6")
        level.press("Enter")
        self.idle()
        self.assertEqual(self.said(), "This touches 3 pieces: each is -6 dB.")
        self.page.get_by_role("button", name="Make it its own").click()
        self.idle()
        self.assertIn("2 other pieces of the same sound no longer go with it", self.said())
        self.assertTrue(self.look(f"combpace.state.picture.pieces[{number}].own"))
        with self.page.expect_download() as coming:
            self.page.get_by_text("Save it as a file").click()
        frames = self.look(
            f"Math.round((p => (p.stop - p.start) * 44100)(combpace.state.picture.pieces[{number}]))"
        )
        self.assertEqual(sf.info(coming.value.path()).frames, frames)
        # Its level over time is drawn by hand in the row.
        self.page.get_by_label("levels", exact=True).check()
        self.page.mouse.click(spot["x"], spot["y"] - 14)
        self.page.wait_for_function(f"combpace.state.picture.pieces[{number}].curve.length === 1")
        # The list chooses several at once.
        self.idle()
        self.page.locator("#all-pieces summary").click()
        self.page.wait_for_selector("#all-pieces tbody input")
        for _ in range(2):
            self.page.locator("#all-pieces tbody input:not(:checked)").first.click()
        self.assertIn("3 pieces", self.page.inner_text("#chosen h2"))
        fade = self.page.get_by_label("comes in over, ms")
        fade.fill("30")
        fade.press("Enter")
        self.page.wait_for_function(
            "combpace.state.picture.pieces.filter((one) => one.fadeIn === 30).length >= 3"
        )
        # All of it is there after a restart, and undone step by step.
        self.idle()
        kept = self.look("JSON.stringify(combpace.state.picture.pieces)")
        where = self.page.url.split("/", 3)[3]
        type(self).server.stop()
        type(self).server.start()
        self.page.goto(f"{type(self).server.address}/{where}")
        self.page.wait_for_function("window.combpace")
        self.idle()
        self.assertEqual(self.look("JSON.stringify(combpace.state.picture.pieces)"), kept)
        for _ in range(5):
            self.page.keyboard.press("Control+z")
            self.idle()
        self.page.wait_for_function("combpace.state.picture.pieces.length === 0")
