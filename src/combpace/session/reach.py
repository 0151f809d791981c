"""How far from a session's audio a moment, a bar or a musical place may lie: nothing that anybody means lies
farther.
"""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel

from combpace.core.errors import ParameterError
from combpace.core.tempo.meters import bar_index
from combpace.session import words
from combpace.session.state import SessionState

FARTHEST_S = 3600.0
# Where no map says when a bar begins.
MOST_BARS = 20_000
MOMENTS = ("time_s", "session_s", "from_s", "to_s", "start_s", "at_s", "times_s", "take_s")
BARS = ("bar", "from_bar", "to_bar", "first_bar", "until_bar")
PLACES = ("quarters", "at_q", "from_q", "to_q")


def near_audio(state: SessionState, time_s: float) -> float:
    """The moment, where it lies within an hour of the session's audio. Raises ParameterError elsewhere."""
    if not np.isfinite(time_s):
        raise ParameterError("A moment must be a finite number of seconds. Nothing was changed.")
    first = min((take.offset_s for take in state.document.takes), default=0.0)
    if not min(0.0, first) - FARTHEST_S <= time_s <= state.end_s() + FARTHEST_S:
        raise ParameterError(
            f"{words.clock(time_s)} lies more than an hour outside the session's audio, which ends "
            f"at {words.clock(state.end_s())}. "
            "Nothing was changed; give a moment nearer to it."
        )
    return time_s


def near_place(state: SessionState, quarters: float) -> float:
    """The musical place, where it lies within an hour of the session's audio. Raises ParameterError
    elsewhere.
    """
    near_audio(state, state.need_map().second(quarters))
    return quarters


def within_reach(state: SessionState, args: BaseModel) -> None:
    """Refuse arguments of any decision that name a moment, bar or place far outside. Raises
    ParameterError.
    """
    line = state.session_map()
    for name in type(args).model_fields:
        given = getattr(args, name)
        for value in given if isinstance(given, list) else [given]:
            if isinstance(value, bool) or not isinstance(value, (int, float)):
                continue
            if name in MOMENTS:
                near_audio(state, float(value))
            elif name in PLACES and line is not None:
                near_place(state, float(value))
            elif name in BARS and value != 0:
                if abs(value) > MOST_BARS:
                    raise ParameterError(
                        f"Bar {value:,} lies more than an hour outside the session's audio. Nothing "
                        "was changed; give a bar nearer to it."
                    )
                if line is not None:
                    near_audio(state, line.second(line.bar_line(bar_index(int(value)))))
