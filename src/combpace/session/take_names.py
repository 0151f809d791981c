"""Names of takes, and what a name says that a take is."""

from __future__ import annotations

import unicodedata

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
    """A file's name as a take's: a clean text, no folders, at most 120 characters."""
    return clean_text(name.replace("\\", "/").rsplit("/", 1)[-1]).strip()[:120] or "take"


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
