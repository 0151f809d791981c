"""How far a stated bar moves the bars that were heard: which way was taken, and which others there are.

Of one downbeat that was missed several maps are likely: only that bar is wrong, all from it on, or all. The
ear takes one; the user may say which.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from combpace.core.clocks import Quarters
from combpace.core.errors import CombPaceError
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.statements import REACHES
from combpace.session.document.stated import BarStatement, DownbeatStatement, Statement
from combpace.session.saying import with_list, without
from combpace.session.state import SessionState

# Of music of more beats the ways are not tried.
MOST_TRIED = 6000
# Lines within this are the same, seconds.
SAME_S = 1e-6


def taken(state: SessionState, one: Statement) -> str | None:
    """The way that was taken with a stated bar; None where all ways come to the same, or it is none of
    them.
    """
    if not isinstance(one, BarStatement | DownbeatStatement):
        return None
    if one.reach is not None:
        return one.reach
    ways = _ways(state, one)
    same = [reach for reach, line in ways.items() if _alike(state, line, state.need_map())]
    return same[0] if same and len(same) < len(ways) else None


def others(state: SessionState, one: Statement) -> tuple[str, ...]:
    """The ways with a stated bar that would make another map of it than the one in force."""
    if not isinstance(one, BarStatement | DownbeatStatement):
        return ()
    now, found = state.need_map(), list[TempoMap[Any]]()
    said = []
    for reach, line in _ways(state, one).items():
        if not any(_alike(state, line, other) for other in (now, *found)):
            found.append(line)
            said.append(reach)
    return tuple(said)


def _ways(state: SessionState, one: BarStatement | DownbeatStatement) -> dict[str, TempoMap[Any]]:
    if len(state.need_map().knots) > MOST_TRIED:
        # Each would take as long as the decision.
        return {}
    found: dict[str, TempoMap[Any]] = state.once("reaches", lambda: _made(state, one), one)
    return found


def _made(state: SessionState, one: BarStatement | DownbeatStatement) -> dict[str, TempoMap[Any]]:
    found: dict[str, TempoMap[Any]] = {}
    chosen = state.map_choice()
    for reach in REACHES:
        every = [one.model_copy(update={"reach": reach}) if old == one else old for old in chosen.statements]
        try:
            found[reach] = state.map_by(with_list(chosen, every))
        except CombPaceError:
            continue
    try:
        plain = state.map_by(without(chosen, [one]))
    except CombPaceError:
        return found
    if "everywhere" in found and len(found["everywhere"].meters) > len(plain.meters):
        # Held by what else is stated, a bar came out longer or shorter: not all of them moved.
        del found["everywhere"]
    return found


def _alike(state: SessionState, a: TempoMap[Any], b: TempoMap[Any]) -> bool:
    """Whether two maps have the same lines, up to the end of the music."""

    def lines(line: TempoMap[Any]) -> np.ndarray:
        last = line.bar_of(line.place(state.end_s()))
        first = min(0, line.bar_of(line.place(0.0)))
        places = np.array([line.bar_line(index) for index in range(first, last + 1)])
        return np.asarray(line.to_seconds(Quarters(places)))

    ours, theirs = lines(a), lines(b)
    return ours.shape == theirs.shape and bool(np.all(np.abs(ours - theirs) < SAME_S))
