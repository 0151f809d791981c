"""What a take in pieces sounds like: any segment, also slowed, also as a cut would make it that is only
tried.
"""

from __future__ import annotations

from contextlib import ExitStack

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import StretchedSource
from combpace.media.encode import at_rate
from combpace.playback.preview import SEGMENT_S
from combpace.playback.sound import stereo
from combpace.session import pieces
from combpace.session.decisions import considered
from combpace.session.foresight import as_if
from combpace.session.state import SessionState

SLOWEST = 0.5


class _Slowed:
    """Pieces drawn out, with the files that they are read from held open; both go when nobody asks for them
    any more.
    """

    def __init__(self, seen: SessionState, take_id: str, speed: float) -> None:
        self._held = ExitStack()
        laid = self._held.enter_context(pieces.opened(seen, take_id))
        rate = pieces.rate_of(seen, take_id)
        end = max(laid.frames, 1) / rate
        attacks = np.unique(
            [piece.at / rate for piece in pieces.laid(seen, take_id) if 0 < piece.at < laid.frames]
        )
        drawn_out = TimeMap(np.array([0.0, end]), np.array([0.0, end / speed])).through(attacks)
        self.source = StretchedSource(laid, drawn_out, "chord")


def segment(seen: SessionState, take_id: str, rate: int, number: int, speed: float) -> Samples:
    """Segment `number` (SEGMENT_S long, on the session's clock divided by the speed) of a take in pieces, one
    or two channels.
    """
    if not SLOWEST <= speed <= 1.0:
        raise ParameterError("The speed lies between 50 and 100 %.")
    frames = round(SEGMENT_S * rate)
    if speed == 1.0:
        with pieces.opened(seen, take_id) as laid:
            return _read(at_rate(laid, rate), number, frames)
    slowed: _Slowed = seen.folder.once(
        ("slowed pieces", pieces.key_of(seen, take_id), speed), lambda: _Slowed(seen, take_id, speed)
    )
    return _read(at_rate(slowed.source, rate), number, frames)


def _read(source: Source, number: int, frames: int) -> Samples:
    return stereo(source.read(number * frames, (number + 1) * frames))


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
