"""The rooms and who may import whom (docs/architecture.md)."""

import ast
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "combpace"
ALLOWED = {
    "core": {"core"},
    "media": {"core", "media", "__init__"},
    "store": {"store"},
    "demo": {"core", "media", "demo"},
    "services": {"core", "media", "store", "services", "demo", "settings"},
    "web": {"core", "media", "store", "services", "web", "settings", "__init__"},
    "cli": {"core", "media", "services", "settings", "web"},
    "settings": {"core"},
}
# What the heart may use beside the standard library.
PURE = {"numpy", "scipy", "combpace"}
FORBIDDEN_IN_CORE = {"os", "pathlib", "sqlite3", "socket", "time", "datetime", "random", "urllib", "http", "subprocess", "threading", "tempfile"}
NOBODY = ("utils", "helpers", "manager", "common")
MOST_LINES = 600


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
            if node.module == "combpace":
                found |= {f"combpace.{alias.name}" for alias in node.names if alias.name[0].islower()}
    return found


class ArrowsTest(unittest.TestCase):
    def test_imports_follow_the_plan(self) -> None:
        wrong = []
        for path in SOURCE.rglob("*.py"):
            room = path.relative_to(SOURCE).parts[0].removesuffix(".py")
            if room == "__init__":
                continue
            for name in imports(path):
                parts = name.split(".")
                if parts[0] == "combpace" and len(parts) > 1 and parts[1] not in ALLOWED[room]:
                    wrong.append(f"{path.relative_to(SOURCE)} imports {name}")
        self.assertEqual(wrong, [])

    def test_the_heart_is_pure(self) -> None:
        import sys

        wrong = []
        for path in (SOURCE / "core").rglob("*.py"):
            for name in imports(path):
                top = name.split(".")[0]
                if top in FORBIDDEN_IN_CORE or (top not in PURE and top not in sys.stdlib_module_names):
                    wrong.append(f"{path.name} imports {name}")
        self.assertEqual(wrong, [])

    def test_handlers_hold_no_numpy_and_no_sql_text(self) -> None:
        for path in (SOURCE / "web").rglob("*.py"):
            self.assertNotIn("numpy", {name.split(".")[0] for name in imports(path)}, path)


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

    def test_docs_list_every_room(self) -> None:
        text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        for path in [*SOURCE.iterdir(), *(SOURCE / "core").glob("*.py"), *(SOURCE / "services").glob("*.py"), *(SOURCE / "media").glob("*.py")]:
            name = path.name if path.is_file() else f"{path.name}/"
            if name.startswith(("__", "py.typed")) or (path.is_dir() and not any(path.glob("*.py"))):
                continue
            self.assertIn(name.removesuffix(".py"), text, f"docs/architecture.md does not mention {name}")
