"""The figures that README and docs state, made again: `.venv/bin/python -m bench.tables [--part NAME]
[--list] [--write]`.

A generated table stands between `<!-- table: COMMAND -->` and `<!-- end -->`. COMMAND is run from the root of
the project, and what it prints is compared with what stands there: each number that moved by more than the
noise of its bench is named. --write puts the new table into the page; without it nothing is changed. Exit
status 1 where a figure moved, or a command failed. A command whose material is missing says so itself and
ends with status 77: its table stays.
"""

from __future__ import annotations

import argparse
import re
import shlex
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from rig.shared import MISSING

ROOT = Path(__file__).resolve().parents[1]
BLOCK = re.compile(r"<!-- table: (?P<command>.+?) -->\n(?P<table>.*?)<!-- end -->", re.DOTALL)
NUMBER = re.compile(r"(?<![\w.])[-−]?\d*\.?\d+(?![\w.]*\w)")
FENCE = "```"
NO_MATERIAL = " (its material is missing)"
# Which benches a part is made of, and by what share their figures move from run to run: what is heard and
# stretched does not move at all, what takes time moves with the machine.
PARTS = {
    "ear": (("bench.accuracy", "bench.ear", "bench.pace"), 0.02),
    "stretch": (("bench.stretch",), 0.02),
    "effort": (("bench.effort",), 0.02),
    "fit": (("bench.fit",), 0.02),
    "batch": (("bench.batch",), 0.4),
    "feel": (("bench.feel",), 0.4),
    "campaign": (("bench.campaign",), 0.4),
    "tests": (("bench.coverage", "bench.mutants", "bench.promises"), 0.02),
}


@dataclass(frozen=True)
class Table:
    """A generated table: its page, the command that makes it, and what stands there."""

    page: Path
    command: str
    text: str

    @property
    def part(self) -> str:
        return next(
            (name for name, (rooms, _) in PARTS.items() if any(room in self.command for room in rooms)), ""
        )


def tables() -> list[Table]:
    """All of README and docs, page by page."""
    pages = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
    return [
        Table(page, found["command"], found["table"])
        for page in pages
        if page.name != "template.md"
        for found in BLOCK.finditer(page.read_text(encoding="utf-8"))
    ]


def numbers(text: str) -> list[list[float]]:
    """The numbers of each line of a table."""
    return [
        [float(one.replace("−", "-")) for one in NUMBER.findall(line)] for line in text.strip().splitlines()
    ]


def moved(old: str, new: str, share: float) -> list[str]:
    """Lines whose numbers are others by more than the noise: a share of the value, at least one in its last
    digit."""
    said = []
    before, after = old.strip().splitlines(), new.strip().splitlines()
    if len(before) != len(after):
        return [f"{len(before)} lines became {len(after)}"]
    for was, now in zip(before, after, strict=True):
        a, b = numbers(was), numbers(now)
        first, second = (a[0] if a else []), (b[0] if b else [])
        if len(first) != len(second) or any(
            abs(x - y) > max(share * abs(x), 0.011 if abs(x) < 10 else 0.11)
            for x, y in zip(first, second, strict=True)
        ):
            said.append(f"{was.strip()}\n      -> {now.strip()}")
    return said


def made(table: Table) -> tuple[str | None, str]:
    """(what its command prints, fenced as it was; None where it failed), and what it said otherwise."""
    words = shlex.split(table.command)
    ended = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=False)
    if ended.returncode not in (0, 1):
        return None, (ended.stderr or ended.stdout).strip()[-400:] + (
            NO_MATERIAL if ended.returncode == MISSING else ""
        )
    text = ended.stdout.strip() + "\n"
    return (f"{FENCE}\n{text}{FENCE}\n" if table.text.lstrip().startswith(FENCE) else text), ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=sorted(PARTS))
    parser.add_argument("--list", action="store_true", help="only name the tables")
    parser.add_argument("--write", action="store_true", help="put what moved into the pages")
    options = parser.parse_args()
    worst = 0
    for table in tables():
        if options.part and table.part != options.part:
            continue
        where = f"{table.page.relative_to(ROOT)}: {table.command}"
        if options.list:
            print(f"{table.part:9s} {where}")
            continue
        begun = time.monotonic()
        text, trouble = made(table)
        if text is None:
            # Without its material a table is neither right nor wrong: it stays.
            worst = max(worst, not trouble.endswith(NO_MATERIAL))
            print(f"{where}\n   not made: {trouble}", flush=True)
            continue
        share = PARTS[table.part][1] if table.part else 0.02
        changes = moved(table.text, text, share)
        worst = max(worst, bool(changes))
        print(f"{where}: {len(changes)} lines moved ({time.monotonic() - begun:.0f} s)", flush=True)
        for line in changes:
            print(f"   {line}", flush=True)
        if options.write and changes:
            page = table.page.read_text(encoding="utf-8")
            marked = f"<!-- table: {table.command} -->\n"
            page = page.replace(marked + table.text, marked + text)
            table.page.write_text(page, encoding="utf-8")
    return worst


if __name__ == "__main__":
    sys.exit(main())
