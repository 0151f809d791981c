"""What a sentence says of the session's map."""

from __future__ import annotations

from typing import Any

from combpace.session import words
from combpace.session.state import SessionState


def map_facts(state: SessionState) -> dict[str, Any] | None:
    """Bar 1, meters, tempo and anchors for a sentence with fields; None while there is no map."""
    line, lead = state.session_map(), state.document.lead
    if line is None or lead is None:
        return None
    pace = state.own_pace(lead.id)
    steady = state.map_choice().kind == "steady"
    return {
        "bar_1": words.clock(line.second(0.0)),
        "meter": str(line.meters[0]),
        "meters": words.meter_changes(line),
        "steady": steady,
        "anchors": 0 if steady or pace is None else sum(knot.fixed for knot in pace.knots),
        "bpm": f"{line.bpm_at(0.0) / line.meters[0].beat_quarters:.4f}".rstrip("0").rstrip("."),
    }
