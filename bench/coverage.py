"""How much of the code the tests go through: `.venv/bin/python -m bench.coverage [--from FILE | --scripts]`.

Reads what was measured (.coverage), or runs all tests first where that is missing; then the
JavaScript tests with node's own coverage. Prints a table; exit status 1 where a room that has a bound is
below.
"""

from __future__ import annotations

import argparse
import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
# Share of lines, %.
PYTHON_LEAST, SCRIPT_LEAST = 88.0, 80.0
ROOMS = ("core", "session", "stations")
# Scripts that touch neither page nor wire; the rest is driven in the browser tests.
PURE = (
    "ranges.js",
    "store.js",
    "commands.js",
    "views/map.js",
    "views/comb_geometry.js",
    "views/piece_geometry.js",
    "views/pull.js",
    "views/darkness.js",
    "views/notes.js",
    "views/row_images.js",
    "views/together.js",
    "player/click.js",
    "player/player.js",
    "player/segments.js",
    "pages/names.js",
)
SCRIPTS = ROOT / "src" / "combpace" / "web" / "static" / "js"


def by_room(data: Path) -> dict[str, tuple[int, int]]:
    """(lines gone through, lines) of every room of the application."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder, "coverage.json")
        command = [sys.executable, "-m", "coverage", "json", "--data-file", str(data), "-q", "-o", str(out)]
        subprocess.run(command, cwd=ROOT, check=True)
        files = json.loads(out.read_text(encoding="utf-8"))["files"]
    found: dict[str, tuple[int, int]] = {}
    for name, one in files.items():
        parts = Path(name).parts
        if "combpace" not in parts:
            continue
        room = parts[parts.index("combpace") + 1].removesuffix(".py")
        seen, every = found.get(room, (0, 0))
        summary = one["summary"]
        found[room] = seen + summary["covered_lines"], every + summary["num_statements"]
    return found


def of_scripts() -> dict[str, float]:
    """Share of lines of each script that its tests go through, %."""
    tests = sorted(str(path) for path in (ROOT / "tests" / "js").glob("*.test.js"))
    ended = subprocess.run(
        ["node", "--test", "--experimental-test-coverage", *tests],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    )
    rows = re.findall(r"^[#ℹ] (\S+\.js)\s*\|\s*([\d.]+)", ended.stdout, re.MULTILINE)
    return {name: float(share) for name, share in rows}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--from", dest="data", type=Path, default=ROOT / ".coverage")
    parser.add_argument("--scripts", action="store_true", help="only the JavaScript tests, in seconds")
    options = parser.parse_args()
    if not options.scripts and not options.data.exists():
        tests = [sys.executable, "-m", "tests.at_once", "--cover", str(options.data)]
        subprocess.run(tests, cwd=ROOT, check=True)
    print("| room | lines | gone through, % | at least |\n|---|---|---|---|")
    low = []
    for room, (seen, every) in sorted(by_room(options.data).items() if not options.scripts else ()):
        share = 100 * seen / max(1, every)
        least = PYTHON_LEAST if room in ROOMS else None
        if least is not None and share < least:
            low.append(room)
        print(f"| {room} | {every} | {share:.1f} | {'' if least is None else f'{least:g}'} |")
    scripts = of_scripts()
    for name in PURE:
        share = next((value for path, value in scripts.items() if path.endswith(name)), 0.0)
        if share < SCRIPT_LEAST:
            low.append(name)
        print(f"| js/{name} | | {share:.1f} | {SCRIPT_LEAST:g} |")
    if low:
        print(f"\nBelow what is asked: {', '.join(low)}.")
    return 1 if low else 0


if __name__ == "__main__":
    sys.exit(main())
