"""What a sentence says of the session's map."""

from __future__ import annotations

from typing import Any

from combpace.core.tempo.meters import bar_number
from combpace.core.tempo.tidy import tempo_changes
from combpace.session import words
from combpace.session.fixed import fixed
from combpace.session.state import SessionState

# An attack so much of a bar before a line opens that bar.
EARLY_BARS = 1 / 8
KINDS, GIVEN = (("breathing", "breathing"), ("steady", "steady")), ("given", "its own")


def music_starts(state: SessionState) -> tuple[int, float] | None:
    """(bar index, session time of its line) of the first bar line on which the lead plays, pickups before it
    left out; None without attacks.
    """
    line, lead = state.session_map(), state.document.lead
    if line is None or lead is None:
        return None
    times = state.onsets(lead.id).times
    if not len(times):
        return None
    place = line.place(float(times[0]) + lead.offset_s)
    index = line.bar_of(place)
    behind = place - line.bar_line(index)
    if behind > EARLY_BARS * line.meter_of(index).bar_quarters:
        index += 1
    return index, line.second(line.bar_line(index))


def map_facts(state: SessionState) -> dict[str, Any] | None:
    """Bar 1, meters, tempo and anchors for a sentence with fields; None while there is no map."""
    line, lead = state.session_map(), state.document.lead
    if line is None or lead is None:
        return None
    steady = state.one_tempo is not None
    starts = music_starts(state)
    return {
        "music_bar": bar_number(starts[0]) if starts else None,
        # What comes before bar 1, in words: its bars are not numbered.
        "lead_in": words.count(-starts[0], "bar") if starts and starts[0] < 0 else "",
        "music_s": starts[1] if starts else None,
        "lead": lead.id,
        # To be typed over, and in words.
        "bar_1": words.clock(line.second(0.0)),
        "bar_1_lies": words.first_line(line.second(0.0)),
        "meter": str(line.meters[0]),
        "meters": words.meter_changes(line),
        "steady": steady,
        "kind": {"steady": "steady", "given": "given"}.get(state.map_choice().kind, "breathing"),
        "kinds": (*KINDS, GIVEN) if state.map_choice().kind == "given" else KINDS,
        "changes": tempo_changes(line),
        "ramps": line.has_ramps,
        "anchors": len(fixed(state)),
        "bpm": f"{line.bpm_at(0.0) / line.meters[0].beat_quarters:.4f}".rstrip("0").rstrip("."),
    }
