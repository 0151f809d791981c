"""Names of takes, and what a name says that a take is."""

from __future__ import annotations

import unicodedata


def clean_name(name: str) -> str:
    """A file's name as a take's: NFC, no folders, no control characters, at most 120 characters."""
    plain = unicodedata.normalize("NFC", name).replace("\\", "/").rsplit("/", 1)[-1]
    plain = "".join(letter for letter in plain if unicodedata.category(letter)[0] != "C").strip()
    return plain[:120] or "take"


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
