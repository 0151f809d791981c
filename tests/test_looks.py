"""Colours can be read: WCAG 2.1, 1.4.3 (contrast ratio of at least 4.5:1 for text, relative luminance as
defined there).
"""

import re
import unittest
from pathlib import Path

CSS = (Path(__file__).parents[1] / "src/combpace/web/static/css/combpace.css").read_text(encoding="utf-8")
TEXT = (
    ("ink", "ground"),
    ("ink", "panel"),
    ("ink", "field-ground"),
    ("ink", "chosen"),
    ("quiet", "ground"),
    ("quiet", "panel"),
    ("problem", "ground"),
    ("ground", "ink"),
)
# Marks and ribbons are graphics: 3:1 (WCAG 2.1, 1.4.11).
GRAPHICS = (
    ("wave", "ground"),
    ("onset", "ground"),
    ("field", "ground"),
    ("squeezed", "ground"),
    ("spread", "ground"),
)


def theme(name: str) -> dict[str, str]:
    block = re.search(rf'\[data-theme="{name}"\]\s*\{{(.*?)\}}', CSS, re.DOTALL)
    assert block
    return dict(re.findall(r"--([\w-]+):\s*(#[0-9A-Fa-f]{6})", block[1]))


def luminance(colour: str) -> float:
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(a: str, b: str) -> float:
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


class ContrastTest(unittest.TestCase):
    def test_black_on_white_is_21(self) -> None:
        self.assertAlmostEqual(contrast("#000000", "#FFFFFF"), 21.0)  # WCAG 2.1

    def test_text_and_marks(self) -> None:
        for name in ("day", "night"):
            colours = theme(name)
            for pairs, least in ((TEXT, 4.5), (GRAPHICS, 3.0)):
                for front, back in pairs:
                    with self.subTest(theme=name, front=front, back=back):
                        self.assertGreaterEqual(contrast(colours[front], colours[back]), least)
