"""File names: unique, NFC, without reserved characters, at most 120 bytes of UTF-8."""

from __future__ import annotations

import re
import unicodedata

_RESERVED = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]+')
_DEVICES = {
    "con",
    "prn",
    "aux",
    "nul",
    "conin$",
    "conout$",
    # Superscripts count as digits there (Microsoft, "Naming Files, Paths, and Namespaces").
    *(f"{port}{n}" for port in ("com", "lpt") for n in "0123456789¹²³"),
}
MOST = 120


def clipped(text: str, most: int = MOST) -> str:
    """As much of a text as fits into so many bytes of UTF-8, in whole characters: what combines with a letter
    goes with it.
    """
    data = text.encode("utf-8", "ignore")
    if len(data) <= most:
        return text
    short = data[: max(0, most)].decode("utf-8", "ignore")
    while short and unicodedata.combining(text[len(short)]):
        short = short[:-1]
    return short


def file_name(stem: str, suffix: str, taken: set[str] | None = None) -> str:
    """A safe name; a number is added where `taken` (lower-case names, updated) already has it. It is no
    device of another system, and begins with nothing that a command takes for an option.
    """
    clean = _RESERVED.sub(" ", unicodedata.normalize("NFC", stem))
    clean = " ".join(clean.split()).strip(". ").lstrip("-. ") or "untitled"
    if clean.partition(".")[0].strip().lower() in _DEVICES:
        # Whatever stands behind a point, there it is the device still.
        clean = f"file {clean}"
    clean = clipped(clean, MOST - len(suffix.encode())).rstrip(". ")
    name, number = clean + suffix, 2
    while taken is not None and name.lower() in taken:
        tail = f" {number}{suffix}"
        name, number = clipped(clean, MOST - len(tail.encode())) + tail, number + 1
    if taken is not None:
        taken.add(name.lower())
    return name
