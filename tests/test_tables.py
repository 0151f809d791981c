"""Generated tables of the docs: each has a bench, and what moved by more than its noise is named."""

import unittest

from bench import tables


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


if __name__ == "__main__":
    unittest.main()
