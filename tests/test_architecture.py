"""The rooms and who may import whom (docs/architecture.md)."""

import ast
import re
import subprocess
import sys
import unittest
from functools import cache
from pathlib import Path

from bench import drawings

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "combpace"
# A room may import itself and these.
ALLOWED = {
    "core": set(),
    "machine": set(),
    "media": {"core", "machine", "__init__"},
    "store": {"core"},
    "demo": {"core", "media"},
    "settings": {"core"},
    "session": {"core", "machine", "media", "store", "settings"},
    "playback": {"core", "media", "session", "workers"},
    "drawing": {"core", "media", "store", "session"},
    "workers": {"core", "machine", "__init__"},
    "jobs": {"core", "machine", "store", "session", "settings", "workers"},
    "batch": {"core", "media", "session", "workers"},
    "stations": {"core", "media", "store", "session", "playback", "drawing", "jobs", "demo", "workers"},
    "web": {
        "core",
        "machine",
        "media",
        "store",
        "session",
        "playback",
        "drawing",
        "jobs",
        "stations",
        "settings",
        "batch",
        "workers",
        "__init__",
    },
    "commands": {
        "core",
        "machine",
        "media",
        "session",
        "batch",
        "drawing",
        "settings",
        "workers",
        "stations",
        "store",
    },
    "cli": {"core", "media", "session", "batch", "settings", "web", "commands"},
}
# What the heart may use beside the standard library.
PURE = {"numpy", "scipy", "combpace"}
FORBIDDEN_IN_CORE = {
    "os",
    "pathlib",
    "sqlite3",
    "socket",
    "time",
    "datetime",
    "random",
    "urllib",
    "http",
    "subprocess",
    "threading",
    "tempfile",
}
NOBODY = ("utils", "helpers", "manager", "common")
MOST_LINES = 600
# A function is no longer, its docstring left out; but for these, which are one list or one loop.
MOST_OF_A_FUNCTION = 60
LONG = {"follow", "features", "boiler_house", "upgrade"}


@cache
def nodes(path: Path) -> tuple[ast.AST, ...]:
    """All nodes of a module."""
    return tuple(ast.walk(ast.parse(path.read_text(encoding="utf-8"))))


@cache
def imports(path: Path) -> frozenset[str]:
    """What a module imports, by full names."""
    found: set[str] = set()
    for node in nodes(path):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
            if node.module == "combpace":
                found |= {f"combpace.{alias.name}" for alias in node.names if alias.name[0].islower()}
    return frozenset(found)


def with_tests(path: Path) -> set[str]:
    """Names of a module's classes that have tests of their own."""
    return {
        node.name
        for node in nodes(path)
        if isinstance(node, ast.ClassDef)
        and any(isinstance(one, ast.FunctionDef) and one.name.startswith("test_") for one in node.body)
    }


class ArrowsTest(unittest.TestCase):
    def test_imports_follow_the_plan(self) -> None:
        wrong = []
        for path in SOURCE.rglob("*.py"):
            room = path.relative_to(SOURCE).parts[0].removesuffix(".py")
            if room == "__init__":
                continue
            for name in imports(path):
                parts = name.split(".")
                if parts[0] == "combpace" and len(parts) > 1 and parts[1] not in ALLOWED[room] | {room}:
                    wrong.append(f"{path.relative_to(SOURCE)} imports {name}")
        self.assertEqual(wrong, [])

    def test_the_heart_is_pure(self) -> None:
        import sys

        wrong = []
        for path in (SOURCE / "core").rglob("*.py"):
            for name in imports(path):
                top = name.split(".")[0]
                # The sentence alone is a model: documents, decisions, recipes and options are made from it.
                if path.relative_to(SOURCE / "core").as_posix() == "fit/rule.py" and top == "pydantic":
                    continue
                if top in FORBIDDEN_IN_CORE or (top not in PURE and top not in sys.stdlib_module_names):
                    wrong.append(f"{path.name} imports {name}")
        self.assertEqual(wrong, [])

    def test_the_server_imports_nothing_that_only_workers_need(self) -> None:
        # Each of these takes half a second and more; workers fork from a process that has them.
        code = "import sys, combpace.web.serve; print([n for n in sys.argv[1:] if n in sys.modules])"
        heavy = ["scipy.signal", "scipy.stats", "distributed", "jax", "combpace.batch.folder"]
        done = subprocess.run(
            [sys.executable, "-c", code, *heavy], capture_output=True, text=True, check=True
        )
        self.assertEqual(done.stdout.strip(), "[]")

    def test_measurements_and_tests_share_the_rig_and_go_in_no_circle(self) -> None:
        for room, others in (("rig", {"tests", "bench"}), ("bench", {"tests"})):
            for path in (ROOT / room).rglob("*.py"):
                self.assertFalse({name.split(".")[0] for name in imports(path)} & others, path)

    def test_handlers_hold_no_numpy(self) -> None:
        for path in (SOURCE / "web").rglob("*.py"):
            self.assertNotIn("numpy", {name.split(".")[0] for name in imports(path)}, path)

    def test_all_sql_is_in_the_store(self) -> None:
        # A session of the database may be handed on; questions are asked in the store alone.
        for path in SOURCE.rglob("*.py"):
            if "store" not in path.relative_to(SOURCE).parts:
                wrong = {
                    name
                    for name in imports(path)
                    if name.startswith("sqlalchemy") and name != "sqlalchemy.orm"
                }
                self.assertFalse(wrong, path)
                self.assertNotIn("select(", path.read_text(encoding="utf-8").replace(".select(", ""), path)

    def test_stations_do_not_import_each_other(self) -> None:
        stations = SOURCE / "stations"
        packages = {path.name for path in stations.iterdir() if path.is_dir()}
        for package in packages - {"__pycache__"}:
            for path in (stations / package).glob("*.py"):
                names = {
                    name.split(".")[2] for name in imports(path) if name.startswith("combpace.stations.")
                }
                self.assertFalse(names & (packages - {package}), path)

    def test_only_the_registry_asks_which_station_it_is(self) -> None:
        for path in [*SOURCE.rglob("*.py"), *SOURCE.rglob("*.html"), *SOURCE.rglob("static/js/**/*.js")]:
            if path.name != "registry.py":
                text = path.read_text(encoding="utf-8")
                self.assertIsNone(re.search(r"\bstation (===?|!==?) |\bhere\.id (==|!=) \"", text), path)


class DrawingsTest(unittest.TestCase):
    def test_drawings_are_those_of_their_texts_and_their_arrows_those_of_the_plan(self) -> None:
        for source in sorted(drawings.FOLDER.glob("*.txt")):
            with self.subTest(drawing=source.stem):
                made = drawings.drawn(source.read_text(encoding="utf-8"))
                self.assertEqual(source.with_suffix(".svg").read_text(encoding="utf-8"), made)
        boxes, arrows, _, _ = drawings.read((drawings.FOLDER / "rooms.txt").read_text(encoding="utf-8"))
        self.assertEqual({box.name for box in boxes}, set(ALLOWED) - {"demo", "settings"})
        for a, b in arrows:
            self.assertIn(b, ALLOWED[a], f"{a} -> {b}")


class RoomsTest(unittest.TestCase):
    def test_names_and_sizes(self) -> None:
        for path in [*SOURCE.rglob("*.py"), *SOURCE.rglob("static/js/**/*.js")]:
            self.assertNotIn(path.stem, NOBODY, path)
            self.assertLessEqual(len(path.read_text(encoding="utf-8").splitlines()), MOST_LINES, path)

    def test_views_do_not_fetch_and_the_wire_does_not_draw(self) -> None:
        for path in (SOURCE / "web/static/js/views").glob("*.js"):
            text = path.read_text(encoding="utf-8")
            self.assertNotIn("fetch(", text.replace("fetchWeave(", ""), path)
            self.assertNotIn("api/client", text.replace('import("../api', ""), path)
        for path in (SOURCE / "web/static/js/api").glob("*.js"):
            self.assertNotIn("document.", path.read_text(encoding="utf-8"), path)

    def test_functions_are_short(self) -> None:
        long = set()
        for path in SOURCE.rglob("*.py"):
            for node in nodes(path):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    continue
                first, said = node.body[0], 0
                if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                    said = (first.end_lineno or 0) - first.lineno + 1
                if (node.end_lineno or 0) - node.lineno + 1 - said > MOST_OF_A_FUNCTION:
                    long.add(node.name)
        self.assertEqual(long, LONG)

    def test_no_test_runs_twice(self) -> None:
        # A class with tests of its own is no parent, and nobody imports it: all of them would run again.
        tests = {path: with_tests(path) for path in (ROOT / "tests").rglob("test_*.py")}
        every = set().union(*tests.values())
        twice = []
        for path, own in tests.items():
            for node in nodes(path):
                if isinstance(node, ast.ClassDef):
                    twice += [(path.name, base.id) for base in node.bases if getattr(base, "id", "") in own]
                elif isinstance(node, ast.ImportFrom) and (node.module or "").startswith("tests."):
                    twice += [(path.name, one.name) for one in node.names if one.name in every]
        self.assertEqual(twice, [])

    def test_docs_list_every_room(self) -> None:
        text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        for path in SOURCE.rglob("*"):
            parts = path.relative_to(SOURCE).parts
            if {"static", "templates", "migrations", "__pycache__"} & set(parts) or path.name.startswith(
                "__"
            ):
                continue
            if path.is_dir() or (path.suffix == ".py" and parts[0] != "web"):
                self.assertRegex(
                    text, rf"\b{path.stem}\b", f"docs/architecture.md does not mention {'/'.join(parts)}"
                )
