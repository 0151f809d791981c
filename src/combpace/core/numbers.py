"""Numbers as people write them."""

from __future__ import annotations

MINUS = "\u2212"
UNITS = ("%", "ms", "BPM", "dB")


def number_of(text: object) -> float | None:
    """The number in a text, with decimal point or comma, with or without its unit; None where it is none."""
    clean = str(text).strip().replace(",", ".").replace(MINUS, "-")
    for unit in UNITS:
        clean = clean.removesuffix(unit)
    try:
        return float(clean.strip())
    except ValueError:
        return None
