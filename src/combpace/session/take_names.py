"""Names of takes, and what a name says that a take is."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection

from combpace.media.names import clipped

# Joiners that words of some scripts and pictures made of several need.
_KEPT = "\u200c\u200d"


def clean_text(text: str) -> str:
    """NFC, without control characters: none that turns the direction of what stands beside it, no half
    characters.
    """
    return "".join(
        letter
        for letter in unicodedata.normalize("NFC", text)
        if letter in _KEPT or unicodedata.category(letter)[0] != "C"
    )


def clean_name(name: str) -> str:
    """A file's name as a take's: a clean text, no folders, at most 120 bytes of UTF-8."""
    return clipped(clean_text(name.replace("\\", "/").rsplit("/", 1)[-1]).strip()) or "take"


def unused_name(name: str, used: Collection[str]) -> str:
    """The name, or with the first number from 2 on that makes it one of its own."""
    number, made = 2, name
    while made in used:
        made, number = f"{name} {number}", number + 1
    return made


def kept_name(name: str, how: str, used: Collection[str]) -> str:
    """What a take is called that is kept as it sounded: "kit fitted"; kept once more, "kit fitted 2"."""
    return unused_name(f"{re.sub(rf' {how}( [0-9]+)?$', '', name)} {how}", used)


def guessed_kind(name: str) -> str:
    """What a name says that a take is."""
    low = name.lower()
    for kind, hints in (
        ("loop", ("loop",)),
        ("drums", ("drum", "kit", "kick", "snare", "hat", "tub", "washboard", "perc", "overhead", "beat")),
        ("single line", ("bass", "lead", "melody")),
        ("chords", ("organ", "piano", "keys", "chord", "guitar", "pad", "strum")),
        ("voice", ("voice", "vocal", "sung", "choir")),
        ("full mix", ("mix", "master")),
    ):
        if any(hint in low for hint in hints):
            return kind
    return "unknown"
