"""The guide walked as it is written: the steps of each page, in the application."""

import re
import unittest
from pathlib import Path

import numpy as np

from bench.feel.first_minutes import Walk, sounds
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck

GUIDE = Path(__file__).resolve().parents[2] / "docs" / "guide"
STEP = re.compile(r"<!-- (\w+): (.+?) -->")
PAGES = sorted(path for path in GUIDE.glob("*.md") if path.name != "README.md")


class GuideTest(BrowserTest):
    def walk(self, path: Path) -> None:
        beat, loop = sounds(self.folder)
        beats = breathing(bars=12, start=1.2)[0]
        loose = np.random.default_rng(3).normal(0, 0.012, len(beats))
        files = {
            "beat": beat,
            "loop": loop,
            "organ": self.write("reed organ.wav", struck(beats + loose, float(beats[-1]) + 1.0)),
        }
        self.page.goto("/")
        walk = Walk(self.page)
        for verb, text in STEP.findall(path.read_text(encoding="utf-8")):
            what, _, value = (part.strip() for part in text.partition(" ~ " if verb == "see" else " = "))
            if verb == "files":
                walk.files(*(files[name] for name in text.split()))
            elif verb == "key":
                self.page.keyboard.press(text)
                walk.idle()
            elif verb == "press":
                walk.press(what)
            elif verb == "choose":
                select = self.page.locator(what).first
                select.select_option(label=value)
                walk.idle()
            elif verb == "type":
                field = self.page.locator(what).first
                field.fill(value)
                field.press("Enter")
                walk.idle()
            elif verb == "see":
                with self.subTest(page=path.name, sees=text):
                    self.page.wait_for_function(
                        """([where, text]) => { const box = document.querySelector(where);
                           return box && (text === "." || (box.value ?? box.innerText).includes(text)); }""",
                        arg=[what, value],
                    )
            elif verb == "take":
                walk.made()
                self.assertTrue(walk.taken(what).endswith(".zip"))
            else:
                self.fail(f"{path.name}: what is {verb}?")

    def test_every_page_works_as_written(self) -> None:
        for path in PAGES:
            with self.subTest(page=path.name):
                self.walk(path)


class PagesTest(unittest.TestCase):
    def test_five_jobs_each_to_a_file_with_a_picture_that_is_there(self) -> None:
        self.assertEqual(len(PAGES), 5)
        index = (GUIDE / "README.md").read_text(encoding="utf-8")
        for path in PAGES:
            text = path.read_text(encoding="utf-8")
            with self.subTest(page=path.name):
                self.assertIn(f"({path.name})", index)
                self.assertIn("<!-- take:", text)
                (picture,) = re.findall(r"!\[[^\]]+\]\(([^)]+)\)", text)
                self.assertTrue((GUIDE / picture).resolve().is_file())
