"""Takes above each other: who plays the same places, and how far apart they sound as the session stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import FloatArray, session_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.stack import Note, shared, stack
from combpace.core.tempo.grid import parse_grid
from combpace.session import fits
from combpace.session.document.model import TakeEntry
from combpace.session.state import SessionState

# Two takes that share so many of their attacks play the same: doubles, a voice and what goes with it.
DOUBLES = 0.5


@dataclass(frozen=True, slots=True)
class Stack:
    """takes: the lead first; of a bundle the one take that it moves by. times: of each its attacks on its own
    clock; sounds: where they sound.
    """

    takes: tuple[TakeEntry, ...]
    times: tuple[FloatArray, ...]
    sounds: tuple[FloatArray, ...]
    notes: tuple[Note, ...]

    def at(self, take_id: str) -> int | None:
        """Where a take stands; None where it is not in the stack."""
        return next((k for k, take in enumerate(self.takes) if take.id == take_id), None)

    def share(self, a: int, b: int) -> float:
        return shared(self.notes, [len(times) for times in self.times], a, b)


def stacked(seen: SessionState, on: str) -> Stack:
    """All takes with a map and attacks, above each other on a grid. Raises ParameterError for what is no
    grid.
    """
    grid = parse_grid(on)
    found: Stack = seen.once("stack", lambda: _stacked(seen, str(grid)), str(grid))
    return found


def _stacked(seen: SessionState, on: str) -> Stack:
    line = seen.session_map()
    ids = dict.fromkeys(seen.document.timing_take(take.id) for take in seen.document.takes)
    takes, times, sounds = [], [], []
    for take_id in sorted(ids, key=lambda one: seen.document.take(one).role != "lead"):
        marks = np.asarray(fits.marks_of(seen, take_id).times)
        if not len(marks):
            continue
        takes.append(seen.document.take(take_id))
        times.append(marks)
        sounds.append(sounding(seen, take_id, marks))
    if line is None:
        return Stack(tuple(takes), tuple(times), tuple(sounds), ())
    notes = stack([session_times(one) for one in sounds], line, parse_grid(on))
    return Stack(tuple(takes), tuple(times), tuple(sounds), tuple(notes))


def sounding(seen: SessionState, take_id: str, times: FloatArray) -> FloatArray:
    """Where moments of a take sound in the session as it stands: through its fit where it is fitted, else as
    it was placed.
    """
    if fits.is_fitted(seen, take_id):
        try:
            return np.asarray(fits.take_fit(seen, take_id).fit.time_map.to_target(times))
        except ParameterError:
            pass
    return np.asarray(seen.moments(take_id, times))
