"""Hand-off in the page: what is announced is what comes, its settings stay, and an archive without sound is
completed by dropping files.
"""

import io
import re
import zipfile
from pathlib import Path

import numpy as np
import soundfile as sf
from wavinfo import WavInfoReader

from rig.browser import BrowserTest
from rig.sounds import struck
from rig.tiers import main
from rig.waiting import HANG_MS


class HandOffTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.write("even kit.wav", struck(0.5 + np.arange(64) * 0.5, 33.0, low_every=4))
        self.drop(self.path)
        self.page.wait_for_function("combpace.state.picture.takes.every((one) => one.state === 'ready')")

    def planned(self) -> list[str]:
        return self.page.locator("#handoff-plan tbody tr").evaluate_all(
            "rows => rows.map((row) => row.title)"
        )

    def change(self, what: str, value: str) -> None:
        """Change a field of the sentence and wait until the page says what that comes to."""
        before = self.page.evaluate("document.getElementById('handoff-plan').dataset.asked ?? ''")
        field = self.page.locator(f"#handoff [name={what}]").first
        if field.evaluate("one => one.tagName") == "SELECT":
            field.select_option(value)
        elif field.get_attribute("type") == "checkbox":
            field.click()
        else:
            field.fill(value)
        self.page.wait_for_function(
            "(before) => (document.getElementById('handoff-plan').dataset.asked ?? '') !== before", arg=before
        )

    @main
    def test_what_is_announced_comes_and_the_settings_stay(self) -> None:
        self.page.keyboard.press("7")
        self.page.wait_for_selector("#handoff")
        self.assertEqual(len(self.planned()), 4)
        for what, value in (
            ("written", "files and mix"),
            ("bar", "3"),
            ("until", "bars"),
            ("bars", "2"),
            ("rate", "48000"),
            ("markers", ""),
        ):
            self.change(what, value)
        said = self.page.locator("#handoff-plan .hint").first.inner_text()
        self.assertIn("They begin at bar 3", said)
        self.assertIn("192,000 frames at 48 kHz", said)
        names = self.planned()
        # What cannot be is said at the field, and the button waits.
        self.change("bar", "900")
        self.assertIn("outside the music", self.page.locator("#handoff-plan .problem").inner_text())
        self.assertTrue(self.page.locator("#handoff button[type=submit]").is_disabled())
        self.change("bar", "3")
        self.page.click("#handoff button[type=submit]")
        self.page.wait_for_selector("tr.archive a", timeout=HANG_MS)
        with self.page.expect_download() as coming:
            self.page.click("tr.archive a")
        pack = zipfile.ZipFile(io.BytesIO(Path(coming.value.path()).read_bytes()))
        self.assertEqual(pack.namelist(), names)
        wav = next(name for name in names if name.endswith("even kit.wav"))
        one = self.folder / "one.wav"
        one.write_bytes(pack.read(wav))
        self.assertEqual((sf.info(one).frames, sf.info(one).samplerate), (192_000, 48_000))
        cues = WavInfoReader(str(one)).cues
        self.assertEqual([label.text for label in cues.labels], ["bar 3", "bar 4"])
        self.assertEqual([cue.sample_offset for cue in cues.cues], [0, 96_000])
        # After a restart the sentence says what it said; a decision makes what was written old.
        where = re.sub(r"^https?://[^/]+", "", self.page.url)
        type(self).server.stop()
        type(self).server.start()
        self.page.goto(f"{type(self).server.address}{where}")
        self.page.wait_for_selector("#handoff")
        self.assertEqual(self.planned(), names)
        self.assertRegex(
            self.page.locator("h2.order").inner_text(),
            r"Handed off on \d+ \w+ \d{4}, \d\d:\d\d, version \d+$",
        )
        self.page.wait_for_function("window.combpace")
        self.page.keyboard.press("3")
        self.page.wait_for_function("combpace.state.station === 'bars'")
        self.page.fill('[data-act="meter"]', "3/4")
        self.page.press('[data-act="meter"]', "Enter")
        self.idle()
        self.page.keyboard.press("7")
        self.page.wait_for_selector("h2.order .problem")
        self.assertIn("made before your last change", self.page.locator("h2.order").inner_text())

    def test_an_archive_without_sound_opens_and_a_dropped_file_completes_it(self) -> None:
        self.page.keyboard.press("7")
        self.page.wait_for_selector("#handoff")
        with self.page.expect_download() as coming:
            self.page.click("a[href*='sound=false']")
        small = self.folder / "small.combpace"
        small.write_bytes(Path(coming.value.path()).read_bytes())
        self.assertLess(small.stat().st_size, 60_000)
        response = self.page.request.put(
            f"{type(self).server.address}/api/archives?name=small",
            data=small.read_bytes(),
            headers={"X-Comb-Pace": "1"},
        )
        session = response.json()["id"]
        self.page.goto(f"{type(self).server.address}/sessions/{session}/takes")
        self.page.wait_for_function("window.combpace")
        self.assertIn("Drop “even kit.wav” here", self.page.locator(".look").inner_text())
        # Every station opens meanwhile; nothing on the page is in trouble.
        for key, station in zip(
            "234567", ("pace", "bars", "onsets", "fit", "pieces", "hand-off"), strict=True
        ):
            self.page.keyboard.press(key)
            self.page.wait_for_function("(station) => combpace.state.station === station", arg=station)
            self.idle()
        self.page.keyboard.press("1")
        self.page.wait_for_selector("[data-files]", state="attached")
        self.page.set_input_files("[data-files]", str(self.path))
        self.page.wait_for_function("combpace.state.picture.takes[0].state === 'ready'", timeout=HANG_MS)
        with self.page.expect_download() as coming:
            self.page.click("a[href*='/sources/']")
        self.assertEqual(Path(coming.value.path()).read_bytes(), Path(self.path).read_bytes())
