"""The drawings of the house, from their text: `.venv/bin/python -m bench.drawings [--check]`.

docs/drawings/NAME.txt becomes NAME.svg. `row: a what it is | b what it is` is a row of boxes, from above;
`a -> b` an arrow. --check writes nothing: exit status 1 where a drawing is not that of its text.
"""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass
from html import escape
from pathlib import Path

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "drawings"
WIDE, TALL, GAP_X, GAP_Y, EDGE = 236, 52, 28, 38, 16


@dataclass(frozen=True)
class Box:
    """A box: its name, what it is in a few words, and its upper left corner, px."""

    name: str
    words: str
    x: float
    y: float


def read(text: str) -> tuple[list[Box], list[tuple[str, str]], float, float]:
    """(boxes, arrows, width, height) of a drawing's text."""
    lines = [line.strip() for line in text.splitlines() if line.strip() and not line.startswith("#")]
    rows = [line.removeprefix("row:").split("|") for line in lines if line.startswith("row:")]
    most = max(len(row) for row in rows)
    width = 2 * EDGE + most * WIDE + (most - 1) * GAP_X
    boxes = []
    for k, row in enumerate(rows):
        left = (width - len(row) * WIDE - (len(row) - 1) * GAP_X) / 2
        for at, cell in enumerate(row):
            name, _, words = cell.strip().partition(" ")
            boxes.append(Box(name, words, left + at * (WIDE + GAP_X), EDGE + k * (TALL + GAP_Y)))
    arrows = [(a.strip(), b.strip()) for a, _, b in (line.partition("->") for line in lines if "->" in line)]
    return boxes, arrows, width, 2 * EDGE + len(rows) * TALL + (len(rows) - 1) * GAP_Y


def drawn(text: str) -> str:
    """The drawing as SVG; the same bytes for the same text."""
    boxes, arrows, width, height = read(text)
    places = {box.name: box for box in boxes}
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:g} {height:g}" '
        f'width="{width:g}" height="{height:g}" font-family="system-ui, sans-serif">',
        f'<rect width="{width:g}" height="{height:g}" fill="#FBF8F1"/>',
        '<marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="8" markerHeight="8" '
        'orient="auto"><path d="M0 0L8 4L0 8z" fill="#5C6675"/></marker>',
    ]
    for a, b in arrows:
        start, end = places[a], places[b]
        x1, y1, x2, y2 = start.x + WIDE / 2, start.y + TALL, end.x + WIDE / 2, end.y
        bend = (y2 - y1) / 2
        parts.append(
            f'<path d="M{x1:g} {y1:g}C{x1:g} {y1 + bend:g} {x2:g} {y2 - bend:g} {x2:g} {y2:g}" '
            'fill="none" stroke="#5C6675" stroke-width="1.3" marker-end="url(#tip)"/>'
        )
    for box in boxes:
        name = box.name.rstrip("_")
        parts.append(
            f'<rect x="{box.x:g}" y="{box.y:g}" width="{WIDE}" height="{TALL}" rx="3" fill="#FFFFFF" '
            'stroke="#1F2530" stroke-width="1.2"/>'
            f'<text x="{box.x + 12:g}" y="{box.y + 22:g}" font-size="15" font-weight="700" '
            f'fill="#1F2530">{escape(name)}</text>'
            f'<text x="{box.x + 12:g}" y="{box.y + 41:g}" font-size="12.5" '
            f'fill="#5C6675">{escape(box.words)}</text>'
        )
    return "\n".join([*parts, "</svg>"]) + "\n"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true")
    options = parser.parse_args()
    stale = 0
    for source in sorted(FOLDER.glob("*.txt")):
        made, target = drawn(source.read_text(encoding="utf-8")), source.with_suffix(".svg")
        if options.check:
            stale |= not target.exists() or target.read_text(encoding="utf-8") != made
        else:
            target.write_text(made, encoding="utf-8")
    return int(stale)


if __name__ == "__main__":
    sys.exit(main())
