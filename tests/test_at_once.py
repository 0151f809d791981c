"""The runner of `make test`: what fails is counted, what ends its process is said, nothing is left out."""

import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests import at_once

GOOD = "import unittest\nclass T(unittest.TestCase):\n    def test_a(self): pass\n"
BAD = GOOD + "    def test_b(self): self.assertEqual(1, 2)\n    def test_c(self): raise OSError('gone')\n"
ENDS = "import os, unittest\nclass T(unittest.TestCase):\n    def test_a(self): os._exit(3)\n"


class AtOnceTest(unittest.TestCase):
    def ran(self, **modules: str) -> tuple[int, str]:
        """(status, what was said) of a run over modules by name."""
        with tempfile.TemporaryDirectory() as folder:
            for name, text in modules.items():
                Path(folder, f"{name}.py").write_text(text, encoding="utf-8")
            command = [sys.executable, "-m", "tests.at_once", "--at-once", "2", *modules]
            paths = f"{folder}{os.pathsep}{at_once.ROOT}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"
            environment = {name: value for name, value in os.environ.items() if name != "COVER"}
            ended = subprocess.run(
                command,
                cwd=at_once.ROOT,
                env=environment | {"PYTHONPATH": paths},
                capture_output=True,
                text=True,
                timeout=120,
                check=False,
            )
        return ended.returncode, ended.stderr

    def test_what_fails_is_counted_and_shown(self) -> None:
        status, said = self.ran(one=GOOD, two=BAD)
        self.assertEqual(status, 1)
        self.assertIn("Ran 4 tests", said)
        self.assertIn("FAILED (failures=1, errors=1)", said)
        self.assertIn("OSError: gone", said)
        # CI adds these lines up.
        self.assertEqual((len(re.findall("^Ran ", said, re.M)), said.count("failures=")), (1, 1))

    def test_a_module_that_ends_its_process_is_an_error_and_the_others_run(self) -> None:
        status, said = self.ran(ends=ENDS, one=GOOD, two=GOOD, three=GOOD)
        self.assertEqual(status, 1)
        self.assertIn("ERROR: ends", said)
        self.assertIn("Ran 4 tests", said)
        self.assertIn("FAILED (errors=1)", said)

    def test_all_well_is_ok_and_nothing_at_all_is_not(self) -> None:
        self.assertEqual(self.ran(one=GOOD, two=GOOD)[0], 0)
        status, said = self.ran(empty="x = 1\n")
        self.assertEqual(status, 1)
        self.assertIn("Ran 0 tests", said)

    def test_it_imports_nothing_of_the_application_before_lines_are_measured(self) -> None:
        asked = "import sys, tests.at_once; print([one for one in sys.modules if one.startswith('combpace')])"
        done = subprocess.run(
            [sys.executable, "-c", asked], cwd=at_once.ROOT, capture_output=True, text=True, check=True
        )
        self.assertEqual(done.stdout.strip(), "[]")

    def test_every_module_of_tests_is_run_once(self) -> None:
        found = at_once.modules()
        files = {str(path.relative_to(at_once.ROOT)) for path in (at_once.ROOT / "tests").rglob("test_*.py")}
        self.assertEqual({name.replace(".", "/") + ".py" for name in found}, files)
        self.assertEqual(len(found), len(files))
        self.assertTrue(all(re.match(r"tests\.browser\.", name) for name in found[:10]))
