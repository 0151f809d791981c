"""One server and one browser for all browser tests of a process, a page a test; sounds are recorded."""

from __future__ import annotations

import atexit
import json
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import soundfile as sf
from playwright.sync_api import Browser, BrowserContext, Page, Playwright, sync_playwright

from combpace.core.audio import Audio
from rig.server import Server
from rig.waiting import HANG_MS

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

# Whatever is connected to a context's destination is also fed to a worklet that reports each sample that is
# not zero with its absolute frame. Blocks carry their own frame number: they are not always contiguous
# without a sound device.
TAP = r"""
(() => {
  window.played = [];
  const worklet = `registerProcessor('tap', class extends AudioWorkletProcessor {
    process(inputs) {
      const block = inputs[0][0];
      if (block && block.some((value) => value)) this.port.postMessage([currentFrame, block.slice()]);
      return true;
    }
  })`;
  const url = URL.createObjectURL(new Blob([worklet], { type: 'text/javascript' }));
  const connect = AudioNode.prototype.connect;
  const taps = new WeakMap(), waiting = new WeakMap();
  AudioNode.prototype.connect = function (destination, ...rest) {
    const result = connect.call(this, destination, ...rest);
    const context = destination?.context;
    if (destination instanceof AudioDestinationNode && context instanceof AudioContext && !this.isTap) {
      const tap = taps.get(context);
      if (tap) connect.call(this, tap);
      else waiting.set(context, [...(waiting.get(context) ?? []), this]);
    }
    return result;
  };
  const Original = window.AudioContext;
  window.AudioContext = class extends Original {
    constructor(options) {
      super(options);
      const record = { sampleRate: this.sampleRate, blocks: [], samples: { length: 0 }, ready: false };
      window.played.push(record);
      this.audioWorklet.addModule(url).then(() => {
        const tap = new AudioWorkletNode(this, 'tap', { channelCount: 1, channelCountMode: 'explicit' });
        tap.isTap = true;
        tap.port.onmessage = ({ data: [frame, block] }) => {
          record.blocks.push([frame, block]);
          for (const value of block) if (value) record.samples.length += 1;
        };
        connect.call(tap, this.destination);
        taps.set(this, tap);
        (waiting.get(this) ?? []).forEach((node) => connect.call(node, tap));
        record.ready = true;
      });
    }
  };
})();
"""

# A display of eight frames a second: without a graphics card each frame costs the processor, and nothing
# here is judged by how smoothly it moves. The first frame after a rest comes at once.
SLOW_DISPLAY = r"""
(() => {
  const native = window.requestAnimationFrame.bind(window), every = 125;
  let waiting = new Map(), number = 0, last = -Infinity, asked = false;
  const frame = (now) => {
    const due = waiting;
    waiting = new Map();
    asked = false;
    last = now;
    for (const draw of due.values()) draw(now);
  };
  window.requestAnimationFrame = (draw) => {
    waiting.set(++number, draw);
    if (!asked) {
      asked = true;
      const rest = every - (performance.now() - last);
      if (rest > 0) setTimeout(() => native(frame), rest);
      else native(frame);
    }
    return number;
  };
  window.cancelAnimationFrame = (id) => waiting.delete(id);
})();
"""


_SHARED: list[Server] = []
_DRIVER: list[Playwright] = []
_BROWSERS: dict[tuple[str, ...], Browser] = {}
_CONTEXTS: dict[tuple[tuple[str, ...], str], BrowserContext] = {}
# A page of the application that asks for nothing more.
KEPT = "/health"


def shared_browser(flags: tuple[str, ...]) -> Browser:
    """The browser of this process with these flags: each start costs more than most tests."""
    if not _DRIVER:
        _DRIVER.append(sync_playwright().start())
        atexit.register(_end_browsers)
    if flags not in _BROWSERS:
        _BROWSERS[flags] = _DRIVER[0].chromium.launch(executable_path=CHROMIUM, args=[*FLAGS, *flags])
    return _BROWSERS[flags]


def _end_browsers() -> None:
    for browser in _BROWSERS.values():
        browser.close()
    _DRIVER[0].stop()


def shared_server() -> Server:
    """The server of this process: each start costs seconds, and each test has a session of its own."""
    if not _SHARED:
        folder = Path(tempfile.mkdtemp())
        _SHARED.append(Server(folder / "data").start())
        atexit.register(lambda: (_SHARED[0].stop(), shutil.rmtree(folder, ignore_errors=True)))
    return _SHARED[0]


class BrowserTest(unittest.TestCase):
    """A page for the test. The pages of a class share what the browser keeps of our scripts; what a page
    stored is cleared.
    """

    flags: ClassVar[list[str]] = ["--autoplay-policy=no-user-gesture-required"]
    tier: ClassVar[str] = "more"
    # What the server's environment says beside; a class that says so has a server of its own.
    environment: ClassVar[dict[str, str]] = {}
    # Whether it needs a server of its own: an empty shelf, no grooves in the library.
    alone: ClassVar[bool] = False
    folder: ClassVar[Path]
    server: ClassVar[Server]
    browser: ClassVar[Browser]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        if cls.environment or cls.alone:
            cls.server = Server(cls.folder / "data", **cls.environment).start()
            cls.addClassCleanup(lambda: cls.server.stop())
            cls.addClassCleanup(cls._end_context)
        else:
            cls.server = shared_server()
        cls.browser = shared_browser(tuple(cls.flags))

    def setUp(self) -> None:
        self.errors: list[str] = []
        self.page = self.new_page()

    def tearDown(self) -> None:
        self.assertEqual(self.errors, [], "the page reported errors")

    def new_page(self, **options: Any) -> Page:
        """A page; with options in a context of its own."""
        context = self._new_context(**options) if options else self._shared_context()
        page = context.new_page()
        page.set_default_timeout(HANG_MS)
        page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.addCleanup(context.close if options else self._leave, *([] if options else [page]))
        return page

    def _new_context(self, **options: Any) -> BrowserContext:
        # The recorder's worklet comes from a blob, which the application's own policy rightly forbids.
        context = self.browser.new_context(
            viewport={"width": 1280, "height": 800},
            bypass_csp=True,
            base_url=self.server.address,
            accept_downloads=True,
            **options,
        )
        context.add_init_script(TAP)
        context.add_init_script(SLOW_DISPLAY)
        return context

    def _shared_context(self) -> BrowserContext:
        """The context of all tests with these flags and this server."""
        named = (tuple(self.flags), self.server.address)
        if named not in _CONTEXTS:
            made = self._new_context()
            # A page that stays keeps its process: the next page needs no new one, half of what it costs.
            made.new_page().goto(KEPT)
            _CONTEXTS[named] = made
        return _CONTEXTS[named]

    def _leave(self, page: Page) -> None:
        """Close a page, and whatever else its test opened; nothing that it stored stays."""
        kept, *others = page.context.pages
        page.context.clear_cookies()
        kept.evaluate("() => { localStorage.clear(); sessionStorage.clear(); }")
        for one in others:
            one.close()

    @classmethod
    def _end_context(cls) -> None:
        """Of a server that is this class's own nothing is left."""
        for named in [one for one in _CONTEXTS if one[1] == cls.server.address]:
            _CONTEXTS.pop(named).close()

    def write(self, name: str, audio: Audio) -> Path:
        path = self.folder / name
        sf.write(path, audio.samples.T, audio.sample_rate_hz, subtype="PCM_24")
        return path

    def drop(self, *paths: Path) -> None:
        """From the shelf to a new session, until all has been listened to; arrivals are kept."""
        self.page.goto("/")
        self.page.set_input_files("[data-files]", [str(path) for path in paths])
        self.page.wait_for_url("**/sessions/*/*")
        self.page.wait_for_function(
            "window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')",
            timeout=HANG_MS,
        )
        self.idle()
        while self.page.locator("[data-arrival]").count():
            self.page.locator("[data-arrival-does]:not([hidden]) [data-do=arrival-keep]").click()
            self.idle()

    def idle(self) -> None:
        """Until every decision so far is kept and shown."""
        self.page.evaluate("async () => { await combpace.idle(); await new Promise(requestAnimationFrame); }")

    def look(self, expression: str) -> Any:
        return self.page.evaluate(expression)

    def said(self) -> str:
        """What the last decision did: it stays until the next."""
        return self.page.inner_text("#last-words")

    def says_now(self) -> str:
        """What goes on just now."""
        return self.page.text_content("#now") or ""

    def recorded(self) -> tuple[int, np.ndarray, np.ndarray]:
        """(rate, frames, values) of what has sounded so far."""
        # As one text: a hundred thousand numbers that the driver wraps one by one take it half a minute.
        record = json.loads(
            self.page.evaluate(
                """(() => { const r = window.played.at(-1), found = [];
                for (const [frame, block] of r.blocks)
                  block.forEach((value, k) => value && found.push([frame + k, value]));
                return JSON.stringify([r.sampleRate, found]); })()"""
            )
        )
        samples = np.array(record[1]) if record[1] else np.zeros((0, 2))
        return record[0], samples[:, 0].astype(int), samples[:, 1]
