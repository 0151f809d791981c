"""What a take in pieces sounds like: also slowed, also as a cut would make it that is only tried."""

from __future__ import annotations

from contextlib import ExitStack

import numpy as np

from combpace.core.audio import Source
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import StretchedSource
from combpace.session.decisions import considered
from combpace.session.foresight import as_if
from combpace.session.pieces import LaidSound, opened_sound
from combpace.session.state import SessionState


class Laid:
    """Pieces on the session's clock (divided by the speed), with the files that they are read from held open;
    both go when nobody asks for them any more. Not for two threads: files have a position.
    """

    def __init__(self, sound: LaidSound, speed: float) -> None:
        self._held = ExitStack()
        laid = self._held.enter_context(opened_sound(sound))
        self.source: Source = laid
        if speed != 1.0:
            rate = laid.sample_rate_hz
            end = max(laid.frames, 1) / rate
            attacks = np.unique([piece.at / rate for piece, _ in sound.pieces if 0 < piece.at < laid.frames])
            drawn_out = TimeMap(np.array([0.0, end]), np.array([0.0, end / speed])).through(attacks)
            self.source = StretchedSource(laid, drawn_out, "chord")


def tried(seen: SessionState, version: int, args: dict[str, object]) -> SessionState:
    """The session as a cut would make it that is only tried: nothing of it is kept. Raises as the decision
    does.
    """
    key = ("tried cut", seen.opened.row.id, version, repr(sorted(args.items(), key=lambda one: one[0])))

    def make() -> SessionState:
        state, change = considered(seen.folder, seen.opened.row.id, "cut-and-lay", version, args)
        return as_if(state, change.parts)

    found: SessionState = seen.folder.once(key, make)
    return found
