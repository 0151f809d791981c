"""The first five minutes, walked with files of one's own: `.venv/bin/python -m bench.feel.first_minutes`.

Three jobs, each from the empty shelf to the file that is taken away: presses and drops are counted, seconds
are those of this machine between them (a person reads and listens as well). `by the row` goes by the row of
stations and the buttons of each; `by the next step` presses only what each screen offers as next.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf
from playwright.sync_api import Page, sync_playwright

from rig.browser import CHROMIUM, FLAGS
from rig.places import breathing
from rig.server import Server
from rig.sounds import struck


class Walk:
    """A page whose presses are counted."""

    def __init__(self, page: Page) -> None:
        self.page, self.presses, self.begun = page, 0, time.monotonic()

    def files(self, *paths: Path) -> None:
        self.page.set_input_files("[data-files]", [str(path) for path in paths])
        self.presses += 1
        self.page.wait_for_url("**/sessions/*/*")
        self.page.wait_for_function(
            "window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')",
            timeout=60_000,
        )
        self.idle()

    def press(self, selector: str) -> None:
        self.page.locator(selector).first.click()
        self.presses += 1
        self.idle()

    def choose(self, selector: str, value: str) -> None:
        self.page.locator(selector).first.select_option(value)
        self.presses += 1
        self.idle()

    def at(self, station: str) -> None:
        self.page.wait_for_function(f"combpace.state.station === '{station}'")
        self.idle()

    def idle(self) -> None:
        self.page.evaluate("async () => { await combpace.idle(); await new Promise(requestAnimationFrame); }")

    def taken(self, selector: str) -> str:
        with self.page.expect_download() as got:
            self.page.locator(selector).first.click()
        self.presses += 1
        return got.value.suggested_filename

    def made(self) -> None:
        self.page.wait_for_selector("table.files .archive a", timeout=60_000)
        self.idle()


def hand_off_by_row(walk: Walk) -> None:
    walk.press("a.station[data-station=hand-off]")
    walk.press("#handoff button[type=submit]")
    walk.made()
    walk.taken("table.files .archive a")


def hand_off(walk: Walk) -> None:
    """The next step leads there; what is made is its next step."""
    walk.press("#next .primary")
    walk.at("hand-off")
    walk.press("#handoff .primary")
    walk.made()
    walk.taken("#next .primary")


def off_the_grid(walk: Walk, beat: Path, loop: Path, by_row: bool) -> None:
    walk.files(beat)
    if not by_row:
        walk.press("#next [data-do=steady]")
        walk.at("fit")
        return hand_off(walk)
    walk.choose("[data-act=map][data-name=kind]", "steady")
    walk.press("a.station[data-station=fit]")
    walk.press("[data-render]")
    return hand_off_by_row(walk)


def drifted(walk: Walk, beat: Path, loop: Path, by_row: bool) -> None:
    walk.files(beat)
    (hand_off_by_row if by_row else hand_off)(walk)


def follows(walk: Walk, beat: Path, loop: Path, by_row: bool) -> None:
    walk.files(beat, loop)
    walk.press("[data-arrival-does]:not([hidden]) [data-do=arrival-keep]")
    (hand_off_by_row if by_row else hand_off)(walk)


JOBS = (
    ("my beat is off the grid", off_the_grid),
    ("my band drifted, I want bars", drifted),
    ("this loop must follow", follows),
)


def sounds(folder: Path) -> tuple[Path, Path]:
    """A beat that breathes, and a loop of two bars at another tempo."""
    beat, loop = folder / "yard beat.wav", folder / "pipe loop.wav"
    audio = breathing(bars=12, start=1.2)[1]
    sf.write(beat, audio.samples.T, audio.sample_rate_hz, subtype="PCM_24")
    steps = struck(np.arange(16) * 0.3125, 5.0)
    sf.write(loop, steps.samples.T, steps.sample_rate_hz, subtype="PCM_24")
    return beat, loop


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as player:
        server = Server(Path(folder) / "data").start()
        browser = player.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        try:
            print(
                "| job | by the row of stations | by the next step | seconds of the machine "
                "|\n|---|---|---|---|"
            )
            beat, loop = sounds(Path(folder))
            for title, job in JOBS:
                counts, took = [], 0.0
                for by_row in (True, False):
                    page = browser.new_page(
                        viewport={"width": 1280, "height": 800},
                        base_url=server.address,
                        accept_downloads=True,
                        bypass_csp=True,
                    )
                    page.goto("/")
                    walk = Walk(page)
                    job(walk, beat, loop, by_row)
                    counts.append(walk.presses)
                    took = time.monotonic() - walk.begun
                    page.close()
                print(f"| {title} | {counts[0]} presses | {counts[1]} | {took:.1f} |", flush=True)
        finally:
            browser.close()
            server.stop()


if __name__ == "__main__":
    main()
