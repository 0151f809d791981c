"""What was removed is freed from the shelf, and a hand-off from its station."""

from __future__ import annotations

import os
import sqlite3
import time

from rig.browser import BrowserTest
from rig.places import breathing
from rig.waiting import HANG_MS, until


class CleanTest(BrowserTest):
    alone = True

    def test_the_shelf_says_what_nobody_needs_and_frees_it(self) -> None:
        folder = type(self).folder / "data" / "blobs"
        before = {*folder.glob("??/*")}
        self.drop(self.write("tub kit.wav", breathing()[1]))
        session = self.look("combpace.state.picture.session")
        self.page.goto("/")
        self.assertRegex(self.page.inner_text(f'[data-session="{session}"] .session-facts'), r"\d+\.\d MB")
        self.page.click(f'[data-session="{session}"] [data-remove]')
        self.page.locator("[data-said] >> text=off the shelf").wait_for()
        # A month goes by.
        month = 31 * 86_400
        held = sqlite3.connect(type(self).folder / "data" / "combpace.db", timeout=30)
        with held:
            held.execute("UPDATE sessions SET removed = removed - ? WHERE id = ?", (month, session))
        held.close()
        blobs = {*folder.glob("??/*")} - before
        self.assertTrue(blobs)
        for path in blobs:
            os.utime(path, (time.time() - month, time.time() - month))
        self.page.goto("/")
        said = self.page.inner_text("[data-freed]")
        self.assertIn("1 session that was removed 30 days ago", said)
        self.assertRegex(said, r"Free \d+\.\d MB")
        self.page.click("[data-clean]")
        self.page.wait_for_function("!document.querySelector('[data-freed]')", timeout=HANG_MS)
        until(lambda: not any(path.exists() for path in blobs), "no blob of it is left")

    def test_a_hand_off_is_removed_where_it_was_made(self) -> None:
        # Another sound than the other session's: what both hold would not be freed.
        self.drop(self.write("tub kit.wav", breathing(start=1.2)[1]))
        self.page.keyboard.press("7")
        self.page.click("#handoff button[type=submit]")
        self.page.locator("h2.order").wait_for(timeout=HANG_MS)
        self.page.click("[data-remove-order]")
        self.page.wait_for_function("!document.querySelector('h2.order')", timeout=HANG_MS)
        self.assertIn("Hand off again", self.said())
