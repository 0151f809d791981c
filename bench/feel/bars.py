"""Frames of the comb with ten minutes, 400 bars and nine takes: `.venv/bin/python -m bench.feel.bars`.

Each line: what, the time between frames (median, 95 %, longest), and how much of it the page's own drawing
took. Asked: 60 frames a second. Nothing here asserts. Without a graphics card the browser paints in the
processor, so these are the slowest figures that a user sees.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import soundfile as sf
from playwright.sync_api import Page, sync_playwright

from combpace.demo.performances import breathing_beats
from rig.browser import CHROMIUM, FLAGS
from rig.server import Server
from rig.sounds import struck

SECONDS, BARS, TAKES = 610, 400, 9
# Each step is done in a frame of its own; the time between frames is what is seen, the time inside of them
# what the page costs.
DRIVE = """async ([steps, what]) => {
  const wait = () => new Promise(requestAnimationFrame), view = combpace.view(), { state } = combpace;
  const canvas = document.querySelector('#canvas-box canvas');
  const box = canvas.getBoundingClientRect(), spent = [], cost = [];
  const send = (kind, x, y) => canvas.dispatchEvent(new PointerEvent(kind, { bubbles: true, pointerId: 1,
  isPrimary: true,
    button: 0, buttons: 1,
    clientX: box.left + x, clientY: box.top + y, pointerType: 'mouse', shiftKey: what === 'clip' }));
  const original = view.draw;
  canvas.setPointerCapture = () => {};
  const dragged = what === 'drag' || what === 'clip';
  const spot = dragged ? view.pixelOf(8, 2) : null;
  if (what === 'clip') spot.y += 6 - state.view.rowPx * 0.6;
  if (spot) send('pointerdown', spot.x - box.left, spot.y - box.top);
  let before = await wait();
  for (let k = 0; k < steps; k++) {
    const begun = performance.now();
    if (what === 'scroll') { state.view.top = k * 2.9; view.draw(); }
    if (what === 'zoom') { state.view.rowPx = 6 * Math.pow(200 / 6, k / (steps - 1)); view.draw(); }
    if (dragged) send('pointermove', spot.x - box.left + 4 + 90 * Math.sin(k / 40), spot.y - box.top);
    cost.push(performance.now() - begun);
    const now = await wait();
    spent.push(now - before);
    before = now;
  }
  if (spot) { window.dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape', bubbles: true }));
    send('pointerup', spot.x - box.left, spot.y - box.top); }
  return [spent, cost];
}"""


ROOM = "performance.clearResourceTimings(); performance.setResourceTimingBufferSize(5000)"
ANSWERS = """() => performance.getEntriesByType('resource').filter((one) => one.name.includes('/foresee/'))
  .map((one) => one.responseEnd - one.startTime)"""


def session(folder: Path) -> list[Path]:
    beats = breathing_beats(np.random.default_rng(4), BARS + 2, 1.0, 158.0, 166.0)
    beats = beats[beats < SECONDS - 1]
    paths = []
    for k in range(TAKES):
        seconds = SECONDS if k == 0 else 40
        audio = struck(beats[beats < seconds - 1], float(seconds), low_every=4)
        path = folder / f"{'Ten minutes' if k == 0 else f'Take {k}'}.wav"
        sf.write(path, audio.samples.T, audio.sample_rate_hz, subtype="PCM_16")
        paths.append(path)
    return paths


def frames(page: Page, what: str, steps: int = 150) -> str:
    spent, cost = (np.array(row) for row in page.evaluate(DRIVE, [steps, what]))
    late = int((spent > 25.0).sum())
    return (
        f"{what:<8} {np.median(spent):5.1f} / {np.percentile(spent, 95):5.1f} / {spent.max():5.1f} "
        "ms between frames, "
        f"{np.median(cost):5.1f} / {np.percentile(cost, 95):5.1f} ms own, {late} of {steps} frames late"
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = session(folder)
        server = Server(folder / "data").start()
        try:
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
                page = browser.new_page(
                    viewport={"width": 1280, "height": 800}, base_url=server.address, bypass_csp=True
                )
                page.goto("/")
                page.set_input_files("[data-files]", [str(path) for path in paths])
                page.wait_for_function(
                    "window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')",
                    timeout=300_000,
                )
                page.evaluate("combpace.idle()")
                page.keyboard.press("3")
                page.wait_for_function("combpace.state.station === 'bars' && !!combpace.view()?.pixelOf")
                page.evaluate("combpace.idle()")
                page.wait_for_timeout(1500)
                print(f"{page.evaluate('combpace.state.picture.bars.length')} bars, {len(paths)} takes")
                for row_px in (6, 24, 57, 120, 200):
                    page.evaluate(
                        f"() => {{ combpace.state.view.rowPx = {row_px}; combpace.view().draw(); }}"
                    )
                    print(f"rows of {row_px} px: {frames(page, 'scroll')}")
                print(f"rows of 6–200 px: {frames(page, 'zoom')}")
                page.evaluate(
                    "() => { combpace.state.view.top = 0; combpace.state.view.rowPx = 57; "
                    "combpace.view().draw(); }"
                )
                print(f"rows of 57 px: {frames(page, 'drag')}")
                page.evaluate("combpace.idle()")
                page.evaluate("() => combpace.host.pull(combpace.state.map.toSeconds(8), 8, true)")
                page.evaluate("combpace.idle()")
                page.evaluate(ROOM)
                print(f"rows of 57 px: {frames(page, 'clip', 600)}")
                page.evaluate("combpace.idle()")
                answers = np.array(page.evaluate(ANSWERS))
                print(
                    f"what the drop would do, page to page: {len(answers)} answers, median / 95 % / longest "
                    f"{np.median(answers):.0f} / {np.percentile(answers, 95):.0f} / {answers.max():.0f} ms"
                )
                browser.close()
        finally:
            server.stop()


if __name__ == "__main__":
    main()
