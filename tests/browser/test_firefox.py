"""The main path once in Firefox, through WebDriver BiDi; where Debian's Firefox is not there it is
skipped.
"""

import json
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from bench.feel.first_minutes import sounds
from rig.server import Server
from rig.tiers import soak
from rig.waiting import HANG_S

ROOT = Path(__file__).resolve().parents[2]
FIREFOX = shutil.which("firefox-esr")
PUPPETEER = ROOT / "node_modules" / "puppeteer-core"


@unittest.skipUnless(FIREFOX and PUPPETEER.is_dir(), "no Firefox here")
@soak
class FirefoxTest(unittest.TestCase):
    def test_from_a_file_to_files(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            beat, _ = sounds(Path(folder))
            server = Server(Path(folder) / "data").start()
            self.addCleanup(server.stop)
            done = subprocess.run(
                ["node", "tests/browser/firefox_walk.mjs", server.address, str(beat), str(FIREFOX)],
                cwd=ROOT,
                capture_output=True,
                text=True,
                check=False,
                timeout=2 * HANG_S,
            )
        seen = json.loads(done.stdout)
        self.assertEqual((seen.get("failed"), seen["errors"]), (None, []))
        self.assertEqual((seen["station"], seen["bars"]), ("bars", 13))
        # More than ground, line and ink: waveforms and marks are drawn.
        self.assertGreater(seen["colours"], 10)
        self.assertTrue(any(name.endswith("fitted.wav") for name in seen["files"]), seen["files"])
