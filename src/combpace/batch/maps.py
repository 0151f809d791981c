"""Tempo maps without a session: from one form into another, and tidied."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from combpace.core.tempo.meters import bar_number
from combpace.core.tempo.tidy import tempo_changes, tidy
from combpace.media.mapforms import FoundMap, read_any, write_any


def convert_map(path: Path, out: Path) -> str:
    """Write a map in another form; returns what was done, in words. Raises MediaError."""
    found = read_any(path)
    write_any(found, out)
    return f"{out}: {_what(found)}{_assumed(found)}"


def tidy_map(path: Path, out: Path, within_ms: float, *, ramps: bool = False, on_beats: bool = False) -> str:
    """Write a map with the fewest tempo changes; returns what was done, in words. Raises MediaError,
    ParameterError.
    """
    found = read_any(path)
    line, said = tidy(
        found.line, float(found.line.times_s[0]), found.end_s, within_ms, ramps=ramps, on_beats=on_beats
    )
    write_any(replace(found, line=line), out)
    held = f"every bar line within {said.largest_ms:.1f} ms of where it was"
    return f"{out}: {said.changes_before} tempo changes became {said.changes}, {held}{_assumed(found)}"


def _what(found: FoundMap) -> str:
    bars = found.line.bar_of(found.line.place(found.end_s) - 1e-6)
    return (
        f"bars up to {bar_number(bars)}, {tempo_changes(found.line)} tempo changes, bar 1 at "
        f"{found.line.second(0.0):.3f} s"
    )


def _assumed(found: FoundMap) -> str:
    return f"; {found.said}" if found.said else ""
