"""How the application feels on this machine: `.venv/bin/python -m bench.feel.feel [--json PATH]`.

Each line: what, measured, budget (from the issue, for the machine it was written on). Nothing here asserts.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf
from playwright.sync_api import Page, sync_playwright

from rig.browser import CHROMIUM, FLAGS
from rig.server import Server


def song(seconds: float, seed: int = 2) -> np.ndarray:
    """A stereo performance of the demo's kind: struck beats that breathe, with a held tone under them."""
    from combpace.demo.performances import breathing_beats
    from rig.sounds import struck

    beats = breathing_beats(np.random.default_rng(seed), int(seconds / 2.55), 1.5)
    audio = struck(beats[beats < seconds - 1], seconds, low_every=4).samples[0]
    t = np.arange(len(audio)) / 44100
    tone = 0.05 * np.sin(2 * np.pi * 220 * t)
    return np.stack([0.8 * audio + tone, 0.7 * np.roll(audio, 40) + tone], axis=1)


def measure(folder: Path) -> list[tuple[str, str, str]]:
    rows: list[tuple[str, str, str]] = []
    sf.write(folder / "four minutes.wav", song(240), 44100, subtype="PCM_24")
    begun = time.monotonic()
    server = Server(folder / "data").start()
    rows.append(("server start", f"{time.monotonic() - begun:.2f} s", "3 s"))
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=CHROMIUM, args=[*FLAGS, "--autoplay-policy=no-user-gesture-required"]
            )
            page = browser.new_page(
                viewport={"width": 1280, "height": 800}, base_url=server.address, bypass_csp=True
            )
            rows += in_the_page(page, folder)
            browser.close()
    finally:
        server.stop()
    rows.append(("worker's memory, 10 minutes of stereo", worker_memory(folder), "600 MB"))
    return rows


def in_the_page(page: Page, folder: Path) -> list[tuple[str, str, str]]:
    rows = []
    page.goto("/")
    begun = time.monotonic()
    page.set_input_files("[data-files]", str(folder / "four minutes.wav"))
    page.wait_for_function(
        "window.combpace && combpace.state.picture.bars.length > 0 && "
        "document.querySelector('#canvas-box canvas')",
        timeout=120_000,
    )
    rows.append(("first bars of a dropped 4-minute stereo WAV", f"{time.monotonic() - begun:.2f} s", "15 s"))
    url = page.url
    begun = time.monotonic()
    page.goto(url)
    page.wait_for_function("window.combpace && document.querySelector('#canvas-box canvas')")
    rows.append(("a session opens", f"{time.monotonic() - begun:.2f} s", "1 s"))
    page.wait_for_timeout(800)
    frames = page.evaluate(
        """async () => {
          const view = combpace.view(), state = combpace.state, spent = [];
          const wait = () => new Promise(requestAnimationFrame);
          for (let k = 0; k < 120; k++) {
            state.view.top = k * 0.7; view.draw(); await wait();
            const before = performance.now(); await wait(); spent.push(performance.now() - before);
          }
          spent.sort((a, b) => a - b);
          return [spent[60], spent[113]];
        }"""
    )
    rows.append(
        (
            "a frame while scrolling the comb, median / 95 %",
            f"{frames[0]:.1f} / {frames[1]:.1f} ms",
            "16.7 ms at 60 Hz",
        )
    )
    page.evaluate("combpace.state.view.top = 0")
    spot = page.evaluate("combpace.view().pixelOf(8, 2)")
    page.mouse.move(spot["x"], spot["y"])
    page.mouse.down()
    lag = []
    for k in range(1, 30):
        begun = time.monotonic()
        page.mouse.move(spot["x"] + 2 * k, spot["y"])
        page.evaluate("() => new Promise(requestAnimationFrame)")
        lag.append(1000 * (time.monotonic() - begun))
    page.keyboard.press("Escape")
    page.mouse.up()
    rows.append(
        (
            "a dragged attack follows the pointer, median (through the test driver)",
            f"{np.median(lag):.0f} ms",
            "a frame or two",
        )
    )
    starts = []
    for _ in range(5):
        page.keyboard.press("Space")
        page.wait_for_function("combpace.player.playing")
        starts.append(page.evaluate("combpace.player.lastStartMs"))
        page.keyboard.press("Space")
        page.wait_for_function("!combpace.player.playing")
    rows.append(
        ("play starts, first / median of 5", f"{starts[0]:.0f} / {np.median(starts):.0f} ms", "150 ms")
    )
    rows += previews(page)
    page.keyboard.press("3")
    page.wait_for_function("combpace.state.station === 'bars' && !!combpace.view()?.pixelOf")
    page.keyboard.press("Escape")
    spot = page.evaluate(
        "(() => { combpace.state.view.top = 0; combpace.view().draw(); return "
        "combpace.view().pixelOf(4, 1); })()"
    )
    page.mouse.click(spot["x"], spot["y"])
    version = page.evaluate("combpace.state.picture.version")
    begun = time.monotonic()
    page.keyboard.press("d")
    page.wait_for_function(f"combpace.state.picture.version > {version}")
    rows.append(
        ("a correction solved, kept and shown (94 bars)", f"{1000 * (time.monotonic() - begun):.0f} ms", "-")
    )
    return rows


def previews(page: Page) -> list[tuple[str, str, str]]:
    """Four bars as they will be: asked of the server as the player asks, cold and again after a change of the
    rule.
    """
    page.keyboard.press("5")
    page.wait_for_function(
        "combpace.state.station === 'fit' && combpace.state.picture.fit && "
        "!combpace.state.picture.fit.missing"
    )
    found = []
    for method in ("cut", "chord"):
        page.select_option('[data-act="rule"][data-name="method"]', method)
        page.evaluate("combpace.idle()")
        spent = page.evaluate(
            """async () => {
              const { picture } = combpace.state, first = picture.bars.find((bar) => bar.n === 9),
              begun = performance.now();
              const from = Math.floor(first.s / 2), to = Math.floor((first.s + 4 * (first.e - first.s)) / 2);
              const take = `/api/sessions/${picture.session}/takes/${picture.focus}`;
              const path = `${take}/sound?rate=48000&fitted=true`, fresh = { cache: 'no-store' };
              for (let k = from; k <= to; k++)
                await (await fetch(`${path}&segment=${k}`, fresh)).arrayBuffer();
              return performance.now() - begun;
            }"""
        )
        found.append((f"preview of 4 bars of stereo, {method}", f"{spent / 1000:.2f} s", "0.5 s"))
    return found


def worker_memory(folder: Path) -> str:
    """Peak memory of the reading of ten minutes of stereo, in a process of its own."""
    path = folder / "ten minutes.wav"
    sf.write(path, song(600), 44100, subtype="PCM_24")
    code = (
        "import sys, pathlib, re\n"
        "from combpace.core.analysis.take import Hints\nfrom combpace.batch.files import analyse_file\n"
        "analyse_file(pathlib.Path(sys.argv[1]), Hints())\n"
        "print(re.search(r'VmHWM:\\s+(\\d+)', pathlib.Path('/proc/self/status').read_text())[1])\n"
    )
    kib = int(
        subprocess.run(
            [sys.executable, "-c", code, str(path)], capture_output=True, text=True, check=True
        ).stdout
    )
    return f"{kib / 1024:.0f} MB"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        rows = measure(Path(folder))
    width = max(len(row[0]) for row in rows)
    for what, found, budget in rows:
        print(f"{what:<{width}}  {found:>16}   (budget {budget})")
    if options.json:
        options.json.write_text(json.dumps(rows, indent=1))


if __name__ == "__main__":
    main()
