"""Every reason in Look here is explained, and every explanation belongs to one."""

import ast
import unittest
from pathlib import Path

from combpace.stations.explained import EXPLAINED

STATIONS = Path(__file__).resolve().parents[2] / "src" / "combpace" / "stations"


class ExplainedTest(unittest.TestCase):
    def test_every_place_names_its_explanation(self) -> None:
        named = set()
        for path in STATIONS.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Place":
                    about = next((word.value for word in node.keywords if word.arg == "about"), None)
                    with self.subTest(file=path.name, line=node.lineno):
                        assert isinstance(about, ast.Constant)
                        self.assertIn(about.value, EXPLAINED)
                        named.add(about.value)
        self.assertEqual(named, set(EXPLAINED))

    def test_they_are_short_and_end(self) -> None:
        for name, one in EXPLAINED.items():
            with self.subTest(name=name):
                self.assertTrue(20 <= len(one.text.split()) <= 70, len(one.text.split()))
                self.assertTrue(one.text.endswith("."))
                self.assertFalse(one.title.endswith("."))
