"""The pictures in docs/screenshots, from the demo: `.venv/bin/python -m bench.shots.shots [--data DIR]`."""

from __future__ import annotations

import argparse
import io
import tempfile
from dataclasses import replace
from pathlib import Path

import soundfile as sf
from playwright.sync_api import Page, sync_playwright

from combpace.demo.build import CUT_NAME
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.session.state import session_state
from combpace.settings import Settings
from combpace.stations import registry  # noqa: F401 - registers every decision
from combpace.stations.takes.demo import build
from rig.browser import CHROMIUM, FLAGS
from rig.server import Server

OUT = Path(__file__).resolve().parents[2] / "docs" / "screenshots"


def cut_session(folder: Path) -> str:
    """The demo's session whose loop is in pieces."""
    place = DataFolder(replace(Settings(), data_dir=folder))
    found = next(entry.id for entry in shelf.shelf(place) if entry.name == CUT_NAME)
    place.close()
    return found


def drop_loops(folder: Path, page: Page, session: str) -> None:
    """Two loops of the demo's pipes come in, each cut shorter: arrivals."""
    sound, rate = sf.read(folder / "demo-sounds" / "pipe-loop" / "Pipe loop.wav")
    for name, share in (("Pipe loop, one bar", 0.5), ("Pipe loop, half a bar", 0.25)):
        file = io.BytesIO()
        sf.write(file, sound[: round(len(sound) * share)], rate, format="WAV", subtype="PCM_24")
        page.request.put(
            f"/api/sessions/{session}/uploads?name={name}.wav",
            data=file.getvalue(),
            headers={"X-Comb-Pace": "1"},
        )


def prepare(folder: Path) -> str:
    """The demo, with a few decisions as a user would have taken them."""
    place = DataFolder(replace(Settings(), data_dir=folder))
    place.prepare()
    session = build(place)
    seen = session_state(place, session)
    if not any(knot.fixed for knot in seen.own_pace(seen.need_lead().id).knots):  # type: ignore[union-attr]
        for bar in (0, 6, 11):
            line = session_state(place, session).need_map()
            version = place.open(session).revision.version
            decide(place, session, "lock", version, {"quarters": line.bar_line(bar), "locked": bar == 0})
        organ = next(take.id for take in seen.document.takes if take.name == "Reed organ")
        decide(
            place,
            session,
            "rule",
            place.open(session).revision.version,
            {"take": organ, "field": "strength", "value": "90"},
        )
    place.close()
    return session


def settled(page: Page) -> None:
    page.evaluate(
        "async () => { await combpace.idle(); await document.fonts.ready; for (let k = 0; k < 30; "
        "k++) await new Promise(requestAnimationFrame); }"
    )
    page.wait_for_timeout(700)


def shoot(page: Page, session: str) -> None:
    def station(name: str, file: str, before: str = "") -> None:
        page.goto(f"/sessions/{session}/{name}")
        page.wait_for_function("window.combpace")
        settled(page)
        if before:
            page.evaluate(before)
            settled(page)
        page.screenshot(path=OUT / f"{file}.png")

    page.goto("/")
    page.wait_for_timeout(900)
    page.screenshot(path=OUT / "shelf.png")
    station("takes", "takes")
    station("pace", "pace")
    # A data folder remembers the close comb from the run before.
    choose = """(() => {
      [...document.querySelectorAll('.seg button')].find((button) => button.textContent === 'Comb').click();
      const s = combpace.state, at = s.map.toSeconds(16.5), own = s.picture.onsets[s.picture.lead].t;
      const t = own.reduce((a, b) => (Math.abs(b - at) < Math.abs(a - at) ? b : a));
      document.querySelector('#canvas-box canvas').blur();
      for (let k = 0; k < 400 && !(Math.abs(s.selection?.t - t) < 1e-4); k++)
        dispatchEvent(new KeyboardEvent('keydown', { code: 'KeyE' }));
    })()"""
    station("bars", "bars", choose)
    below = """(async () => { const field = document.querySelector('select[data-view="below"]');
    field.value = '%s';
      field.dispatchEvent(new Event('change', { bubbles: true }));
      await new Promise((done) => setTimeout(done, 900)); })()"""
    station("onsets", "onsets", below % "sheet")
    station("onsets", "stack", below % "stack")
    station("onsets", "onsets", below % "sheet")
    station("fit", "fit")
    station("hand-off", "hand-off")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--data", type=Path)
    options = parser.parse_args()
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        data = options.data or Path(folder)
        session = prepare(data)
        server = Server(data).start()
        try:
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
                page = browser.new_page(
                    viewport={"width": 1280, "height": 800},
                    base_url=server.address,
                    bypass_csp=True,
                    color_scheme="light",
                )
                page.goto(f"/sessions/{session}/hand-off")
                page.wait_for_selector("#handoff")
                if not page.query_selector("tr.archive"):
                    page.get_by_role("button", name="Hand off").click()
                    page.wait_for_selector("tr.archive a", timeout=120_000)
                shoot(page, session)
                page.goto(f"/sessions/{cut_session(data)}/pieces")
                page.wait_for_function("window.combpace")
                page.evaluate("(() => { for (const _ of [1, 2, 3]) combpace.view().step(1); })()")
                settled(page)
                page.screenshot(path=OUT / "pieces.png")
                drop_loops(data, page, session)
                page.goto(f"/sessions/{session}/takes")
                page.wait_for_selector("[data-arrival]", timeout=60_000)
                page.evaluate(
                    "document.querySelector('canvas[data-follow]').scrollIntoView({ block: 'end' })"
                )
                settled(page)
                page.screenshot(path=OUT / "arrivals.png")
                night = browser.new_page(
                    viewport={"width": 1280, "height": 800},
                    base_url=server.address,
                    bypass_csp=True,
                    color_scheme="dark",
                )
                night.goto(f"/sessions/{session}/bars")
                night.wait_for_function("window.combpace")
                night.get_by_role("button", name="Close comb").click()
                settled(night)
                night.screenshot(path=OUT / "close-comb-night.png")
                narrow = browser.new_page(
                    viewport={"width": 1024, "height": 680},
                    base_url=server.address,
                    bypass_csp=True,
                    color_scheme="light",
                )
                narrow.goto(f"/sessions/{session}/fit")
                narrow.wait_for_function("window.combpace")
                settled(narrow)
                narrow.screenshot(path="/tmp/narrow.png")
                browser.close()
        finally:
            server.stop()


if __name__ == "__main__":
    main()
