"""The list of faults follows the code, and a fault that changes nothing is not caught."""

import dataclasses
import tempfile
import unittest
from pathlib import Path

from bench import mutants


class MutantsTest(unittest.TestCase):
    def test_the_text_of_every_fault_stands_once_in_the_code_and_its_room_exists(self) -> None:
        tests = mutants.ROOT / "tests"
        for one in mutants.MUTANTS:
            with self.subTest(one.name):
                code = (mutants.ROOT / "src" / "combpace" / one.file).read_text(encoding="utf-8")
                self.assertEqual(code.count(one.old), 1)
                self.assertNotEqual(one.old, one.new)
                self.assertTrue((tests / one.room).is_dir() or (tests / f"{one.room}.py").is_file())

    def test_only_what_a_test_notices_is_caught(self) -> None:
        (fault,) = (one for one in mutants.MUTANTS if one.name == "dotted grid")
        fault = dataclasses.replace(fault, room="core/tempo/test_grid")
        with tempfile.TemporaryDirectory() as folder:
            copy = mutants.copied(Path(folder))
            code = (copy / "src" / "combpace" / fault.file).read_bytes()
            caught, by = mutants.tried(fault, copy)
            self.assertTrue(caught)
            self.assertRegex(by, "^(FAIL|ERROR): test_")
            self.assertEqual(mutants.tried(dataclasses.replace(fault, new=fault.old), copy), (False, ""))
            self.assertEqual((copy / "src" / "combpace" / fault.file).read_bytes(), code)
            with self.assertRaisesRegex(RuntimeError, "No test of"):
                mutants.tests_of("js", copy)
            self.assertFalse(mutants.tests_of("core/tempo/test_nothing", copy)[0])


if __name__ == "__main__":
    unittest.main()
