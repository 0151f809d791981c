"""What stands in deploy/: the unit is verified by systemd where that is there; the others agree with the
settings.
"""

import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from combpace.settings import from_environment

ROOT = Path(__file__).parents[1]
DEPLOY = ROOT / "deploy"


class DeployTest(unittest.TestCase):
    @unittest.skipUnless(shutil.which("systemd-analyze"), "no systemd here")
    def test_the_unit_is_one(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            unit = Path(folder, "combpace.service")
            # What it starts is not installed here.
            unit.write_text(
                (DEPLOY / "combpace.service").read_text().replace("/opt/combpace/bin/combpace", "/bin/true")
            )
            found = subprocess.run(
                ["systemd-analyze", "verify", str(unit)], capture_output=True, text=True, check=False
            )
        about_it = [line for line in found.stderr.splitlines() if "combpace.service" in line]
        self.assertEqual((found.returncode, about_it), (0, []))

    def test_settings_that_are_named_exist(self) -> None:
        known = set(re.findall(r"_[A-Z_]+", from_environment.__doc__ or "")) | {"_DATA"}
        for path in (*DEPLOY.iterdir(), ROOT / "docs" / "deploy.md"):
            for name in re.findall(r"COMBPACE(_[A-Z_]+)", path.read_text()):
                with self.subTest(file=path.name, name=name):
                    self.assertIn(name, known)

    def test_the_container_copies_what_is_there(self) -> None:
        for line in re.findall(
            r"^COPY (?!--from)(.*)$", (DEPLOY / "Containerfile").read_text(), re.MULTILINE
        ):
            for name in line.split()[:-1]:
                with self.subTest(name=name):
                    self.assertTrue((ROOT / name).exists())
