"""The campaign's short form: what must not be is not (docs/decisions/reliability.md)."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from rig.tiers import soak
from rig.waiting import HANG_S

ROOT = Path(__file__).resolve().parents[1]
# How long a call takes depends on what else the machine does: the long form alone judges that.
MUST_BE_ZERO = ("lost", "faults", "orphans", "processes")


class CampaignTest(unittest.TestCase):
    def test_short_form(self) -> None:
        self.lived_through("--short", 2)

    @soak
    def test_two_minutes_of_it(self) -> None:
        self.lived_through("--minutes", 11)

    def lived_through(self, form: str, most: int) -> None:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "counts.json"
            command = [sys.executable, "-m", "bench.campaign.campaign", form, "--json", str(out)]
            done = subprocess.run(
                command, cwd=ROOT, capture_output=True, text=True, check=False, timeout=4 * HANG_S
            )
            parts = json.loads(out.read_text(encoding="utf-8"))
        self.assertEqual(len(parts), most)
        for part in parts:
            with self.subTest(part=part["name"]):
                self.assertEqual(
                    {name: part[name] for name in MUST_BE_ZERO}, dict.fromkeys(MUST_BE_ZERO, 0), part["said"]
                )
                self.assertTrue(part["did"] or part["skipped"])
        self.assertEqual(done.returncode, 0, done.stdout)
