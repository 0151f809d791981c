"""The campaign's short form: what must not be is not (docs/decisions/reliability.md)."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
# How long a call takes depends on what else the machine does: the long form alone judges that.
MUST_BE_ZERO = ("lost", "faults", "orphans", "processes")


class CampaignTest(unittest.TestCase):
    def test_short_form(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "counts.json"
            command = [sys.executable, "-m", "bench.campaign.campaign", "--short", "--json", str(out)]
            done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False, timeout=300)
            parts = json.loads(out.read_text(encoding="utf-8"))
        self.assertGreaterEqual(len(parts), 7)
        for part in parts:
            with self.subTest(part=part["name"]):
                self.assertEqual(
                    {name: part[name] for name in MUST_BE_ZERO}, dict.fromkeys(MUST_BE_ZERO, 0), part["said"]
                )
                self.assertTrue(part["did"] or part["skipped"])
        self.assertEqual(done.returncode, 0, done.stdout)
