"""What each screen offers next, in every state; and axe on every station by day and night."""

from pathlib import Path
from typing import Any

import numpy as np

from bench.feel.first_minutes import JOBS, Walk, sounds
from combpace.core.audio import Audio
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.waiting import HANG_MS

AXE = Path(__file__).resolve().parents[2] / "node_modules" / "axe-core" / "axe.min.js"
# Web Content Accessibility Guidelines 2.2, levels A and AA, as axe-core names their rules.
LEVELS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22a", "wcag22aa"]
STATIONS = ("takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off")


class NextTest(BrowserTest):
    def go(self, station: str) -> None:
        self.page.locator(f"a.station[data-station={station}]").click()
        self.page.wait_for_function(f"combpace.state.station === '{station}'")
        self.idle()

    def primaries(self) -> list[str]:
        """The primary buttons that are seen."""
        return [text.strip() for text in self.page.locator(".button.primary:visible").all_inner_texts()]

    def test_three_jobs_by_the_next_step_alone(self) -> None:
        beat, loop = sounds(self.folder)
        for title, job in JOBS:
            self.page.goto("/")
            walk = Walk(self.page)
            job(walk, beat, loop, by_row=False)
            with self.subTest(job=title):
                self.assertLessEqual(walk.presses, 5)

    def test_every_state_says_what_is_next(self) -> None:
        made = self.page.request.post("/api/sessions", data={"name": "empty"}).json()["id"]
        for station in STATIONS:
            self.page.goto(f"/sessions/{made}/{station}")
            with self.subTest(state="empty", station=station):
                self.assertIn("Choose files", self.page.inner_text("#next"))
        # From any station the chooser opens.
        self.page.wait_for_function("window.combpace")
        with self.page.expect_file_chooser():
            self.page.click("#next .primary")
        hum = Audio(
            0.2 * np.sin(2 * np.pi * 110 * np.arange(44100 * 8) / 44100, dtype=np.float32)[None, :], 44100
        )
        self.drop(self.write("hum.wav", hum))
        self.assertIn("No pulse was found in hum", self.page.inner_text("#next"))
        self.page.click("#next .primary")
        self.page.wait_for_function("combpace.state.station === 'pace'")
        self.idle()
        self.assertIn("Tap along", self.page.inner_text("#next"))
        self.drop(self.write("tub kit.wav", breathing(bars=10, start=1.2)[1]))
        for station in STATIONS:
            self.go(station)
            with self.subTest(state="done", station=station):
                self.assertEqual(len(self.primaries()), 1, self.primaries())

    def test_another_station_begins_with_its_next_step_in_sight(self) -> None:
        self.drop(self.write("tub kit.wav", breathing(16)[1]))
        self.go("pace")
        self.look("document.querySelector('[data-region=side]').scrollTop = 300")
        self.assertEqual(self.look("document.querySelector('[data-region=side]').scrollTop"), 300)
        self.go("hand-off")
        self.assertEqual(self.look("document.querySelector('[data-region=side]').scrollTop"), 0)

    def test_a_doubtful_place_is_heard_by_the_next_step(self) -> None:
        self.drop(self.write("tub kit.wav", breathing(bars=10, start=1.2)[1]))
        session, version = self.page.url.split("/")[4], self.look("combpace.state.picture.version")
        # Half a BPM beside what is played: heard after some bars.
        self.page.request.post(
            f"/api/sessions/{session}/act/steady", data={"version": version, "args": {"bpm": 95.4}}
        )
        self.page.goto(f"/sessions/{session}/bars")
        self.page.wait_for_function("window.combpace")
        self.assertIn("Hear the first", self.page.inner_text("#next"))
        self.assertFalse(self.look("combpace.player.playing"))
        self.page.click("#next .primary")
        self.page.wait_for_function("combpace.player.playing")
        self.page.wait_for_selector("#look .place.here")

    def test_take_after_take_is_pulled_and_then_all_handed_off(self) -> None:
        beats, audio = breathing(bars=10, start=1.2)
        self.drop(
            self.write("tub kit.wav", audio),
            self.write("reed organ.wav", struck(beats + 0.02, audio.duration_s)),
            self.write("bass box.wav", struck(beats - 0.015, audio.duration_s)),
        )
        self.go("takes")
        self.assertIn("reed organ is as it was played", self.page.inner_text("#next"))
        self.page.click("#next .primary")
        self.page.wait_for_function("combpace.state.station === 'fit'")
        self.idle()
        self.assertIn("go on with bass box", self.page.inner_text("#next"))
        self.page.click("#next .primary")
        self.page.wait_for_function(
            "document.querySelector('[data-region=side]').dataset.focus === "
            "combpace.state.picture.takes.at(-1).id"
        )
        self.idle()
        self.assertIn("how bass box would be", self.page.inner_text("#next"))
        self.page.click("#next .primary")
        self.page.wait_for_function("combpace.state.station === 'hand-off'")
        self.assertEqual(self.page.locator("#handoff-plan td", has_text="fitted").count(), 4)
        self.go("bars")
        self.assertIn("everything goes with them", self.page.inner_text("#next"))

    def test_mics_of_the_lead_are_not_pulled_onto_their_own_bars(self) -> None:
        audio = breathing(bars=10, start=1.2)[1]
        self.drop(self.write("kit near.wav", audio), self.write("kit room.wav", audio))
        session, version = self.page.url.split("/")[4], self.look("combpace.state.picture.version")
        ids = self.look("combpace.state.picture.takes.map((take) => take.id)")
        self.page.request.post(
            f"/api/sessions/{session}/act/bundle",
            data={"version": version, "args": {"takes": ids, "name": "kit"}},
        )
        self.page.goto(f"/sessions/{session}/bars")
        self.page.wait_for_function("window.combpace")
        self.assertIn("Hand off these bars", self.page.inner_text("#next"))


class AxeTest(BrowserTest):
    def violations(self) -> list[str]:
        self.page.evaluate(AXE.read_text(encoding="utf-8"))
        found: list[Any] = self.page.evaluate(
            """async (levels) => (await axe.run(document, { runOnly: { type: "tag",
            values: levels } })).violations
               .flatMap((rule) => rule.nodes.map((node) =>
               `${rule.id}: ${node.target.join(" ")}: ${node.failureSummary}`))""",
            LEVELS,
        )
        return found

    def test_no_station_breaks_the_guidelines_by_day_or_night(self) -> None:
        beat, loop = sounds(self.folder)
        for scheme in ("light", "dark"):
            self.page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
            self.page.goto("/")
            with self.subTest(scheme=scheme, page="shelf"):
                self.assertEqual(self.violations(), [])
            if scheme == "light":
                self.page.set_input_files("[data-files]", [str(beat), str(loop)])
                self.page.wait_for_url("**/sessions/*/*")
                self.page.wait_for_function(
                    "window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')",
                    timeout=HANG_MS,
                )
                session = self.page.url.split("/")[4]
            for station in STATIONS:
                self.page.goto(f"/sessions/{session}/{station}")
                self.page.wait_for_function("window.combpace")
                self.idle()
                with self.subTest(scheme=scheme, station=station):
                    self.assertEqual(self.violations(), [])
            self.page.keyboard.press("?")
            self.page.wait_for_selector("#keys:visible")
            with self.subTest(scheme=scheme, page="keys"):
                self.assertEqual(self.violations(), [])
            self.page.keyboard.press("Escape")
            self.page.keyboard.press("3")
            self.page.wait_for_function("combpace.state.station === 'bars'")
            self.page.click("#levels")
            with self.subTest(scheme=scheme, page="levels"):
                self.assertEqual(self.violations(), [])
            for address in ("/health", "/nowhere"):
                self.page.goto(address)
                with self.subTest(scheme=scheme, page=address):
                    self.assertEqual(self.violations(), [])
