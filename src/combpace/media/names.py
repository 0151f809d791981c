"""File names: unique, NFC, without reserved characters, at most 120 characters."""

from __future__ import annotations

import re
import unicodedata

_RESERVED = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]+')
_DEVICES = {
    "con",
    "prn",
    "aux",
    "nul",
    *(f"com{n}" for n in range(1, 10)),
    *(f"lpt{n}" for n in range(1, 10)),
}
MOST = 120


def file_name(stem: str, suffix: str, taken: set[str] | None = None) -> str:
    """A safe name; a number is added where `taken` (lower-case names, updated) already has it."""
    clean = _RESERVED.sub(" ", unicodedata.normalize("NFC", stem))
    clean = " ".join(clean.split()).strip(". ") or "untitled"
    if clean.lower() in _DEVICES:
        clean += " file"
    clean = clean[: MOST - len(suffix)].rstrip(". ")
    name, number = clean + suffix, 2
    while taken is not None and name.lower() in taken:
        tail = f" {number}{suffix}"
        name, number = clean[: MOST - len(tail)] + tail, number + 1
    if taken is not None:
        taken.add(name.lower())
    return name
