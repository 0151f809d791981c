"""Keys act on what is visibly chosen in the station that is shown, and fields give them back."""

import re

import numpy as np
from playwright.sync_api import APIResponse, Route

from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.tiers import main


class FieldsTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.drop(self.write("even kit.wav", struck(0.5 + np.arange(64) * 0.5, 33.0, low_every=4)))

    def playing(self, expected: bool) -> None:
        self.page.wait_for_function(f"combpace.player.playing === {str(expected).lower()}")

    @main
    def test_space_ticks_a_checkbox_and_plays_elsewhere(self) -> None:
        self.page.keyboard.press("7")
        box = self.page.locator('#handoff input[value="csv"]')
        box.focus()
        self.page.keyboard.press("Space")
        self.assertTrue(box.is_checked())
        self.assertFalse(self.look("combpace.player.playing"))
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("Space")
        self.playing(True)
        self.page.keyboard.press("Space")
        self.playing(False)

    def test_arrows_on_the_click_slider_move_the_slider_alone(self) -> None:
        self.page.keyboard.press("4")
        self.page.wait_for_function("combpace.state.station === 'onsets'")
        self.page.keyboard.press("e")
        version, level = self.look("[combpace.state.picture.version, combpace.state.sound.clickDb]")
        self.page.focus("#click-level")
        self.page.keyboard.press("ArrowRight")
        self.page.wait_for_function(f"combpace.state.sound.clickDb === {level} + 1")
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.version"), version)
        # After Escape the arrows are the picture's again.
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("ArrowRight")
        self.page.wait_for_function(f"combpace.state.picture.version > {version}")

    def test_a_drop_down_gives_the_keys_back(self) -> None:
        self.page.select_option("#speed", "70")
        self.page.keyboard.press("Space")
        self.playing(True)
        self.page.keyboard.press("l")
        self.page.wait_for_function("combpace.state.sound.loop !== null")
        self.page.keyboard.press("Space")
        self.playing(False)
        self.page.focus("#speed")
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("l")
        self.page.wait_for_function("combpace.state.sound.loop === null")

    def test_enter_takes_what_a_clicked_place_proposes_also_after_a_slider(self) -> None:
        self.page.keyboard.press("2")
        field = self.page.locator('[data-act="steady"][data-name="bpm"]').first
        for leave in ("", "slider"):
            field.fill("121")
            field.press("Enter")
            self.idle()
            self.page.locator("#look .place").first.click()
            if leave:
                box = self.page.locator("#click-level").bounding_box()
                assert box
                self.page.mouse.click(box["x"] + 5, box["y"] + box["height"] / 2)
            self.page.keyboard.press("Enter")
            self.page.wait_for_function(
                "Math.abs(combpace.state.map.toSeconds(1) - combpace.state.map.toSeconds(0) - 0.5) < 1e-5"
            )
            self.idle()
            field.wait_for()

    def test_space_stops_what_is_only_about_to_sound(self) -> None:
        # Both presses come before the sound can be there.
        pressed = "new KeyboardEvent('keydown', {code: 'Space', key: ' ', bubbles: true})"
        self.assertEqual(
            self.look(f"[0, 1].map(() => (document.body.dispatchEvent({pressed}), combpace.player.going))"),
            [True, False],
        )
        self.page.keyboard.press("Space")
        self.playing(True)

    def test_what_is_typed_stays_while_words_come(self) -> None:
        self.page.keyboard.press("2")
        field = self.page.locator('[data-act="steady"][data-name="bpm"]').first
        field.click()
        field.press("Control+a")
        self.page.keyboard.type("12")
        # Another file is read meanwhile, and the page says so.
        more = self.write("more.wav", struck(np.arange(8) * 0.5, 5.0)).read_bytes()
        session = self.look("combpace.state.picture.session")
        self.page.request.put(f"/api/sessions/{session}/uploads?name=more.wav", data=more)
        self.page.wait_for_function(
            "combpace.state.picture.takes.length + combpace.state.picture.arrivals.length === 2 &&"
            " combpace.state.picture.takes.every((take) => take.state === 'ready')"
        )
        self.idle()
        self.assertEqual(field.input_value(), "12")
        self.page.keyboard.type("1")
        self.assertEqual(field.input_value(), "121")
        field.press("Enter")
        self.page.wait_for_function(
            "Math.abs(combpace.state.map.toSeconds(1) - combpace.state.map.toSeconds(0) - 60 / 121) < 1e-9"
        )

    def test_a_slow_page_shows_no_older_words(self) -> None:
        self.page.keyboard.press("2")
        field = self.page.locator('[data-act="steady"][data-name="bpm"]').first
        field.fill("121")
        field.press("Enter")
        self.page.locator("#look .place").first.wait_for()
        self.page.keyboard.press("3")
        self.page.wait_for_function("combpace.state.station === 'bars'")
        self.idle()
        held: list[tuple[Route, APIResponse]] = []

        def hold(route: Route) -> None:
            if held:
                route.continue_()
            else:
                held.append((route, route.fetch()))

        self.page.route(re.compile(r"/pace\?.*part=1"), hold)
        version = self.look("combpace.state.picture.version")
        # The words of Pace are on their way when 121 BPM is undone.
        with self.page.expect_request(re.compile(r"/pace\?.*part=1")):
            self.page.keyboard.press("2")
        self.page.keyboard.press("Control+z")
        self.page.wait_for_function(f"combpace.state.picture.version > {version}")
        route, answer = held[0]
        route.fulfill(response=answer)
        self.page.wait_for_function("combpace.state.station === 'pace'")
        self.assertAlmostEqual(float(field.input_value()), 120.0, delta=0.01)
        self.assertEqual(self.page.locator("#look .place").count(), 0)

    def test_whoever_went_on_is_not_taken_back(self) -> None:
        self.page.keyboard.press("2")
        self.page.wait_for_function("combpace.state.station === 'pace'")
        held: list[tuple[Route, APIResponse]] = []
        self.page.route(re.compile(r"/pace\?.*part=1"), lambda route: held.append((route, route.fetch())))
        field = self.page.locator('[data-act="steady"][data-name="bpm"]').first
        field.fill("121")
        with self.page.expect_request(re.compile(r"/pace\?.*part=1")):
            field.press("Enter")
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("3")
        self.page.wait_for_function("combpace.state.station === 'bars'")
        route, answer = held[0]
        route.fulfill(response=answer)
        self.idle()
        self.assertEqual(
            self.look(
                "[combpace.state.station, document.querySelector('[data-region=side]').dataset.stationNow]"
            ),
            ["bars", "bars"],
        )

    def test_delete_removes_only_what_is_chosen_in_this_station(self) -> None:
        self.page.keyboard.press("e")
        self.assertEqual(self.look("combpace.state.selection.kind"), "onset")
        self.page.keyboard.press("1")
        self.page.wait_for_function("combpace.state.station === 'takes'")
        version = self.look("combpace.state.picture.version")
        self.page.keyboard.press("Delete")
        self.idle()
        self.assertEqual(self.look("combpace.state.picture.version"), version)
        self.page.keyboard.press("3")
        self.page.wait_for_function(
            "combpace.state.station === 'bars' && combpace.state.selection?.kind === 'onset'"
        )


class ChosenTakeTest(BrowserTest):
    def test_the_chosen_take_stays_chosen_and_a_preview_leaves_no_loop(self) -> None:
        beats, lead = breathing()
        loose = struck(beats + 0.02 * np.sin(np.arange(len(beats))), float(beats[-1]) + 1)
        self.drop(
            self.write("tub kit.wav", lead),
            self.write("reed organ.wav", loose),
            self.write("bass box.wav", loose),
        )
        self.page.keyboard.press("4")
        self.page.select_option("[data-focus-choice]", label="bass box")
        self.page.wait_for_function(
            "combpace.state.picture.takes.find((take) => take.id === combpace.state.focus).name "
            "=== 'bass box'"
        )
        bass = self.look("combpace.state.focus")
        for key, station in (("5", "fit"), ("3", "bars"), ("2", "pace"), ("4", "onsets"), ("5", "fit")):
            self.page.keyboard.press(key)
            self.page.wait_for_function(f"combpace.state.station === '{station}'")
            self.assertEqual(self.look("combpace.state.focus"), bass, station)
        self.page.reload()
        self.page.wait_for_function("window.combpace")
        self.assertEqual(self.look("combpace.state.focus"), bass)
        self.page.keyboard.press("l")
        self.page.wait_for_function("combpace.state.sound.loop !== null")
        self.page.click("#preview-bars")
        self.page.wait_for_function("combpace.player.playing")
        self.assertIsNone(self.look("combpace.state.sound.loop"))
        self.assertIsNone(self.look("combpace.player.loop"))

    @main
    def test_fit_draws_what_will_sound(self) -> None:
        _, lead = breathing()
        loop = struck(np.arange(8) * 0.55, 8 * 0.55, low_every=4)
        self.drop(self.write("tub kit.wav", lead), self.write("pipe loop.wav", loop))
        self.page.keyboard.press("5")
        self.page.wait_for_function(
            "combpace.state.station === 'fit' && combpace.state.picture.fit?.pegs?.length > 6"
        )
        # The loop begins with bar 1: its attacks are found under the teeth of bars 1 and 2, not where the
        # file was dropped.
        for q, index in ((0, 0), (2, 0), (5, 1)):
            spot = self.look(f"combpace.view().pixelOf({q}, {index})")
            self.page.mouse.click(spot["x"], spot["y"])
            self.assertEqual(self.look("combpace.state.selection.kind"), "onset", q)
            self.assertAlmostEqual(self.look("combpace.state.selection.t"), q * 0.55, delta=0.01)
