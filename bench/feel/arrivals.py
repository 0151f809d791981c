"""How soon a dropped loop is heard: `.venv/bin/python -m bench.feel.arrivals [--rounds 3]`.

A session of 40 seconds plays, its takes muted and the click off. A loop of two bars is dropped on the page;
then three at once. From the drop: until its line is seen, and until the first sample of it leaves the page.
Asked: 2 s, each more a second later, on the machine that the budget was written on. Nothing here asserts.
"""

from __future__ import annotations

import argparse
import base64
import tempfile
from pathlib import Path

import numpy as np
import soundfile as sf
from playwright.sync_api import Page, sync_playwright

from rig.browser import CHROMIUM, FLAGS, TAP
from rig.places import breathing
from rig.server import Server
from rig.sounds import burst

RATE = 44100
DROP = """(files) => {
  const given = new DataTransfer(), bytes = (data) => Uint8Array.from(atob(data),
  (letter) => letter.charCodeAt(0));
  for (const [name, data] of files) given.items.add(new File([bytes(data)], name, { type: 'audio/wav' }));
  window.droppedAt = performance.now();
  window.played.at(-1).samples.length = 0;
  window.firstSound = null;
  const watch = () => {
    if (window.played.at(-1).samples.length > 200) { window.firstSound = performance.now() -
    window.droppedAt; return; }
    setTimeout(watch, 5);
  };
  watch();
  document.querySelector('#picture').dispatchEvent(new DragEvent('drop', { dataTransfer: given,
  bubbles: true, cancelable: true }));
}"""


def loop(bpm: float, pitch: float) -> np.ndarray:
    """Two bars of 4/4, a stroke on every eighth, the first of each bar louder."""
    step = 30.0 / bpm
    out = np.zeros(round(16 * step * RATE))
    for k in range(16):
        sound, at = (0.9 if k % 8 == 0 else 0.5) * burst(pitch=pitch, seed=k), round(k * step * RATE)
        out[at : at + len(sound)] += sound[: len(out) - at]
    return out


def drop(page: Page, files: list[Path]) -> list[float]:
    """Seconds from the drop until each line is seen, and at the end until the first sound."""
    known = page.locator("[data-arrival]").count()
    page.evaluate(DROP, [[path.name, base64.b64encode(path.read_bytes()).decode()] for path in files])
    times = []
    for k in range(len(files)):
        page.wait_for_function(
            f"document.querySelectorAll('[data-arrival]').length >= {known + k + 1}", timeout=60_000
        )
        times.append(page.evaluate("(performance.now() - window.droppedAt) / 1000"))
    page.wait_for_function("window.firstSound !== null", timeout=60_000)
    return [*times, page.evaluate("window.firstSound / 1000")]


def clear(page: Page) -> None:
    while page.locator("[data-arrival]").count():
        page.locator("[data-arrival-does]:not([hidden]) [data-do=arrival-drop]").click()
        page.evaluate("combpace.idle()")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rounds", type=int, default=3)
    rounds = parser.parse_args().rounds
    with tempfile.TemporaryDirectory() as name, sync_playwright() as playwright:
        folder = Path(name)
        lead = breathing(16)[1]
        sf.write(folder / "tub kit.wav", lead.samples.T, lead.sample_rate_hz, subtype="PCM_24")
        server = Server(folder / "data").start()
        try:
            browser = playwright.chromium.launch(
                executable_path=CHROMIUM, args=[*FLAGS, "--autoplay-policy=no-user-gesture-required"]
            )
            page = browser.new_page(
                viewport={"width": 1280, "height": 800}, base_url=server.address, bypass_csp=True
            )
            page.add_init_script(TAP)
            page.goto("/")
            page.set_input_files("[data-files]", str(folder / "tub kit.wav"))
            page.wait_for_function(
                "window.combpace && combpace.state.picture.bars.length > 0", timeout=60_000
            )
            page.evaluate(
                "combpace.store.sound({ click: false, mix: { [combpace.state.picture.takes[0].id]: "
                "{ level: 0, pan: 0, mute: true, solo: false } } })"
            )
            page.keyboard.press("Space")
            page.wait_for_function("combpace.player.position() > 1 && window.played.at(-1)?.ready")
            for count in (1, 3):
                for turn in range(rounds):
                    files = []
                    for k in range(count):
                        path = folder / f"yard {count} {turn} {k} loop.wav"
                        sf.write(path, loop(96 + 7 * turn + 11 * k, 700 + 300 * k), RATE, subtype="PCM_24")
                        files.append(path)
                    page.evaluate("combpace.player.seek(1)")
                    *seen, heard = drop(page, files)
                    print(
                        f"{count} dropped: seen after {', '.join(f'{one:.2f}' for one in seen)} s, "
                        f"the first heard after {heard:.2f} s"
                    )
                    clear(page)
            browser.close()
        finally:
            server.stop()


if __name__ == "__main__":
    main()
