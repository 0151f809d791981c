"""Grooves: taken from a session's bars; the library that all sessions of a data folder share.

A groove of the library is one JSON file, grooves/ID.json in the data folder; one that was removed waits in
grooves/removed. A session that uses a groove keeps its own copy, so that nothing done to the library changes
a session.
"""

from __future__ import annotations

import json
import os
import re
import tempfile
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from combpace.core.analysis.bundle import levels_of
from combpace.core.clocks import FloatArray, take_times
from combpace.core.errors import NotFoundError, ParameterError
from combpace.core.fit.groove import (
    LONGEST_NAME,
    Groove,
    groove_document,
    groove_from,
    names_apart,
    take_groove,
)
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.meters import bar_index
from combpace.session import fits, notes
from combpace.session.data_folder import DataFolder
from combpace.session.stack import sounding
from combpace.session.state import SessionState
from combpace.store.models import new_id

_ID = re.compile(r"[0-9a-f]{8,32}")
MOST_GROOVES = 2000


@dataclass(frozen=True, slots=True)
class Kept:
    """A groove of the library."""

    id: str
    groove: Groove


class GrooveLibrary:
    """The grooves of one data folder, in order of their names."""

    def __init__(self, folder: DataFolder) -> None:
        self._place = folder.settings.data_dir / "grooves"

    def all(self) -> list[Kept]:
        """What is kept; a file that is no groove is passed over."""
        found = []
        for path in sorted(self._place.glob("*.json")) if self._place.is_dir() else []:
            try:
                found.append(Kept(path.stem, groove_from(json.loads(path.read_text(encoding="utf-8")))))
            except (ParameterError, ValueError, OSError):
                continue
        return sorted(found, key=lambda one: one.groove.name.casefold())

    def get(self, groove_id: str) -> Groove:
        """Raises NotFoundError where there is none."""
        return groove_from(json.loads(self._path(groove_id).read_text(encoding="utf-8")))

    def add(self, groove: Groove) -> Kept:
        """Keep a groove, under a name that no other has."""
        others = self.all()
        if len(others) >= MOST_GROOVES:
            raise ParameterError(
                f"The library holds {MOST_GROOVES} grooves and takes no more; remove some first. "
                "Nothing was kept."
            )
        kept = Kept(
            new_id(), replace(groove, name=names_apart(groove.name, [one.groove.name for one in others]))
        )
        self._write(kept)
        return kept

    def rename(self, groove_id: str, name: str) -> Kept:
        """Raises ParameterError for an empty name or one that another groove has."""
        clean = " ".join(name.split())[:LONGEST_NAME]
        if not clean:
            raise ParameterError("A groove needs a name. Nothing was changed.")
        if any(one.groove.name.casefold() == clean.casefold() and one.id != groove_id for one in self.all()):
            raise ParameterError(f"There is a groove called {clean} already. Nothing was changed.")
        kept = Kept(groove_id, replace(self.get(groove_id), name=clean))
        self._write(kept)
        return kept

    def remove(self, groove_id: str) -> Groove:
        """Put a groove aside; `restore` brings it back."""
        path, groove = self._path(groove_id), self.get(groove_id)
        aside = self._place / "removed"
        aside.mkdir(exist_ok=True)
        path.replace(aside / path.name)
        return groove

    def restore(self, groove_id: str) -> Kept:
        if not _ID.fullmatch(groove_id) or not (self._place / "removed" / f"{groove_id}.json").is_file():
            raise NotFoundError("This groove was not removed, or is gone for good.")
        (self._place / "removed" / f"{groove_id}.json").replace(self._place / f"{groove_id}.json")
        back = self.get(groove_id)
        return self.rename(
            groove_id, names_apart(back.name, [one.groove.name for one in self.all() if one.id != groove_id])
        )

    def _path(self, groove_id: str) -> Path:
        path = self._place / f"{groove_id}.json"
        if not _ID.fullmatch(groove_id) or not path.is_file():
            raise NotFoundError("This groove is not in the library, or no longer. Nothing was changed.")
        return path

    def _write(self, kept: Kept) -> None:
        self._place.mkdir(exist_ok=True)
        handle, name = tempfile.mkstemp(dir=self._place, suffix=".part")
        try:
            with os.fdopen(handle, "w", encoding="utf-8") as out:
                json.dump(groove_document(kept.groove), out, indent=1)
            Path(name).replace(self._place / f"{kept.id}.json")
        except OSError:
            Path(name).unlink(missing_ok=True)
            raise


def groove_taken(
    seen: SessionState, take_id: str, bars: tuple[int, int], on: str, name: str, pattern_bars: int = 1
) -> Groove:
    """The groove of bars (by number) as a take or part sounds in the session now, of a bundle by the marks of
    all its mics. Raises ParameterError.
    """
    line = seen.need_map()
    if 0 in bars or bar_index(bars[0]) > bar_index(bars[1]):
        raise ParameterError(f"Bars {bars[0]} to {bars[1]} do not exist in this order. Nothing was taken.")
    within = (bar_index(bars[0]), bar_index(bars[1]))
    said = f"bar {bars[0]}" if bars[0] == bars[1] else f"bars {bars[0]}–{bars[1]}"
    part = next((one for one in seen.document.notes if one.id == take_id), None)
    if part is not None:
        heard = notes.heard(seen, part.id)
        starts = np.array([note.start_s for note in heard])
        # As loud as amplitude goes with velocity.
        levels = 20.0 * np.log10(np.array([max(1, note.velocity) for note in heard]) / 127.0)
        return take_groove(
            starts, levels, line, within, parse_grid(on), name.strip() or f"{part.name}, {said}", pattern_bars
        )
    line = seen.under() or line
    timing = seen.document.timing_take(take_id)
    marks, mics = fits.marks_and_mics(seen, timing)
    times = np.asarray(marks.times)
    if not len(times):
        raise ParameterError(
            f"{seen.document.take(timing).name} has no marks, so it has no groove. Nothing was taken."
        )
    entry = seen.document.take(take_id)
    usual = f"{entry.bundle or entry.name}, {said}"
    moments = sounding(seen, timing, times)
    return take_groove(
        moments,
        _levels(seen, timing, times, mics),
        line,
        within,
        parse_grid(on),
        name.strip() or usual,
        pattern_bars,
    )


def _levels(seen: SessionState, timing: str, times: FloatArray, mics: list[str]) -> FloatArray:
    """How loud each stroke is in the mic whose mark it is, dB."""
    levels = np.zeros(len(times))
    with ExitStack() as held:
        for mic in dict.fromkeys(mics):
            own = np.array([one == mic for one in mics])
            source = held.enter_context(seen.folder.source(seen.rows[mic]))
            late = seen.document.take(timing).offset_s - seen.document.take(mic).offset_s
            levels[own] = levels_of(
                source,
                Onsets(take_times(times[own] + late), np.ones(int(own.sum())), np.ones(int(own.sum()))),
            )
    return levels
