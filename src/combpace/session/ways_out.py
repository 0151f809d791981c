"""What may be done where statements cannot all hold: each of those that the refusal names taken back, or the
playing followed, which may hold them all.
"""

from __future__ import annotations

from typing import Any

from combpace.core.errors import MapConflictError
from combpace.session.document.stated import Statement, TempoStatement, name_of
from combpace.session.saying import SAME_MOMENT_S, moment_of, statement_words
from combpace.session.state import SessionState


def ways_out(state: SessionState, error: MapConflictError) -> list[dict[str, Any]]:
    """Decisions, each as {"words", "do", "args"}, after any of which the one that was refused may be tried
    again.
    """
    every = state.map_choice().statements
    about = [one for time in error.moments for one in every if _is_at(one, time)]
    if error.follow:
        about += [one for one in every if isinstance(one, TempoStatement) and state.one_tempo is not None]
    found = [
        {"words": f"Take back {statement_words(one)}", "do": "take-back", "args": {"id": name_of(one)}}
        for one in dict.fromkeys(about)
        if not getattr(one, "locked", False)
    ]
    lead = state.document.lead
    if error.follow and state.one_tempo is not None and lead is not None and state.own_pace(lead.id):
        found.append({"words": "Follow the playing", "do": "breathing", "args": {}})
    return found


def _is_at(one: Statement, time_s: float) -> bool:
    at = moment_of(one)
    return at is not None and abs(at - time_s) < SAME_MOMENT_S
