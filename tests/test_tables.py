"""Generated tables of the docs: each has a bench, and what moved by more than its noise is named."""

import contextlib
import io
import sys
import unittest
from pathlib import Path

from bench import same, tables
from rig.shared import needed


class TablesTest(unittest.TestCase):
    def test_every_table_of_the_docs_has_a_bench_and_something_in_it(self) -> None:
        found = tables.tables()
        self.assertGreaterEqual(len(found), 3)
        for table in found:
            with self.subTest(command=table.command):
                self.assertIn(table.part, tables.PARTS)
                self.assertGreaterEqual(len(table.text.strip().splitlines()), 3)

    def test_only_what_moved_by_more_than_the_noise_is_named(self) -> None:
        old = "| drums | 0.97 | 120 |\n| piano | 0.80 | 95 |\n"
        self.assertEqual(tables.moved(old, old, 0.02), [])
        self.assertEqual(tables.moved(old, old.replace("0.97", "0.98"), 0.02), [])
        (said,) = tables.moved(old, old.replace("0.80", "0.70"), 0.02)
        self.assertIn("0.80", said)
        self.assertIn("0.70", said)
        self.assertEqual(len(tables.moved(old, old.replace("120", "150"), 0.4)), 0)
        self.assertEqual(tables.moved(old, "| drums | 0.97 | 120 |\n", 0.02), ["2 lines became 1"])

    def test_what_a_bench_runs_in_another_tree_is_python(self) -> None:
        compile(same.CHILD, "child", "exec")

    def test_without_its_material_a_bench_says_so_and_its_table_stays(self) -> None:
        with self.assertRaises(SystemExit) as ended, contextlib.redirect_stderr(io.StringIO()) as said:
            needed(Path("/nowhere/shared/bench"))
        self.assertEqual(ended.exception.code, 77)
        self.assertIn("/nowhere/shared/bench is not beside this checkout", said.getvalue())
        table = tables.Table(Path("page.md"), f"{sys.executable} -c 'raise SystemExit(77)'", "| 1 |\n")
        text, trouble = tables.made(table)
        self.assertIsNone(text)
        self.assertIn("material is missing", trouble)


if __name__ == "__main__":
    unittest.main()
