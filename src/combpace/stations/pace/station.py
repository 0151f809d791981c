"""Pace: one tempo, or a map that breathes; the tempi on offer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from combpace.core.numbers import MINUS
from combpace.session import words
from combpace.session.map_facts import map_facts
from combpace.session.state import SessionState
from combpace.stations.lead_drift import drift_places
from combpace.stations.lead_readings import SURE_COUNT, ways
from combpace.stations.pace import decisions, offers, part_of_it, placing, stretching, tapping
from combpace.stations.station import Action, Next, Place, Station, Step, look_first

__all__ = ["PACE", "decisions", "pace_facts", "part_of_it", "placing", "stretching", "tapping"]

# Two tempi nearer than this, in BPM, are one.
SAME_BPM = 5e-4
MOST_LINES = 8
# The count of beats to the end holds for tempi this near to the one that was heard.
NEAR_TEMPO = 0.02


def finding(state: SessionState, focus: str | None) -> str:
    line = state.need_map()
    if state.one_tempo is not None:
        return f"steady {line.bpm_at(0.0) / line.meters[0].beat_quarters:.2f}"
    return f"breathing {words.bpm_range(line, max(0.0, line.second(0.0)), state.end_s())}"


def places(state: SessionState, focus: str | None) -> list[Place]:
    lead = state.document.lead
    facts = state.steady(lead.id) if lead else None
    if lead is None or not facts:
        return []
    found = [*drift_places(state), *offers.delay_places(state)]
    if state.document.map.stated_bpm is not None:
        # The user knows how it is counted.
        return found
    left = offers.leaves(state, facts)
    if state.one_tempo is not None and (facts["verdict"] != "steady" or left is not None):
        reason = (
            left.end if left is not None else f"beats scatter by {facts['scatter_ms']:.0f} ms about one tempo"
        )
        found.append(
            Place(
                "whole take" if left is None else f"bar {left.bar}",
                _verdict(state, facts),
                reason,
                None,
                7,
                Action("Follow it as played", "breathing", {}),
                about="wanders",
            )
        )
    best = next((candidate for candidate in facts["candidates"] if candidate["relation"] == "as read"), None)
    for candidate in facts["candidates"]:
        if (
            best
            and candidate["relation"] in ("half", "double")
            and candidate["evidence"] > 0.93 * best["evidence"]
        ):
            factor = 2 if candidate["relation"] == "double" else -2
            do = Action(f"Read it {'twice' if factor == 2 else 'half'} as fast", "scale", {"factor": factor})
            title, reason = (
                f"Could be {candidate['bpm']:.2f} BPM",
                f"{candidate['relation']} explains the attacks about as well",
            )
            reason += (
                ", and hats would play eighths in it"
                if offers.as_hats_have_it(state, candidate["bpm"])
                else ""
            )
            found.append(Place("whole take", title, reason, None, 3, do, about="reading"))
    return found


@dataclass(frozen=True, slots=True)
class TempoLine:
    """One tempo on offer.

    source  where it comes from; at_end: where the attacks at the end lie from its grid, in words, "" where
            that says nothing
    bar_1_s where its grid begins, session time, for hearing it
    do      what taking it does, None for the one in force
    """

    bpm: float
    source: str
    at_end: str
    bar_1_s: float
    do: Action | None


def pace_facts(state: SessionState) -> dict[str, Any] | None:
    """The verdict and the tempi on offer, or None while nothing was heard."""
    lead = state.document.lead
    heard = state.analysis(lead.id) if lead else None
    facts = state.steady(lead.id) if lead else None
    if lead is None or heard is None or not facts:
        return None
    pace = state.own_pace(lead.id)
    sure = float(np.mean([knot.confidence for knot in pace.knots])) if pace else 0.0
    # What was corrected, or runs at a tempo that was stated, is counted as the user has it.
    decided = state.is_corrected(lead.id) or state.document.map.kind == "steady"
    heard_as = heard.facts.get("counted")
    # Where the count is doubted, beats are doubtful for it and not for how they are played.
    doubted = not state.is_corrected(lead.id) and heard_as is not None and heard_as < SURE_COUNT
    stated = state.document.map.stated_bpm is not None
    return {
        "facts": facts,
        "sure": None if doubted or stated else round(100 * sure),
        "counted": None if decided or heard_as is None else round(100 * heard_as),
        "doubted": doubted and not decided,
        "lines": tempo_lines(state, facts),
        "verdict": _verdict(state, facts),
        "stated": stated,
        "map_advice": _advice(state, facts),
        "course": offers.course_words(state, facts),
        "hats": offers.hats_words(state, facts),
        "offer": offers.offer(state, facts),
        "limit": f"{state.document.map.limit_ms:g}",
    }


def _advice(state: SessionState, facts: Mapping[str, Any]) -> str:
    if state.document.map.stated_bpm is not None:
        return "the tempo is as you stated it" if state.one_tempo is not None else "the map follows it"
    if offers.leaves(state, facts) is not None:
        return "let the map follow it"
    return "one tempo will do" if facts["verdict"] == "steady" else "let the map follow it"


def tempo_lines(state: SessionState, facts: Mapping[str, Any]) -> list[TempoLine]:
    """Tempi on offer, the one in force first where it is none of the others. Only going steady makes a
    breathing map steady.
    """
    line = state.session_map()
    beat = line.meters[0].beat_quarters if line else 1.0
    steady = state.one_tempo is not None
    force = None if state.one_tempo is None else state.one_tempo / beat
    lead, fitted = state.need_lead(), facts["bpm"]
    start = facts["first_downbeat_s"] + lead.offset_s
    ends = offers.at_the_end(state, facts)

    def row(bpm: float, source: str, do: Action | None, *, counted: bool = True) -> TempoLine:
        return TempoLine(bpm, source, _at_end(ends(bpm)) if counted else "", start, do)

    def going(bpm: float) -> Action:
        return Action("Use" if steady else "Go steady", "steady", {"bpm": bpm})

    lines = [row(fitted, f"fitted ±{facts['plus_minus_bpm']:.4f}", going(fitted))]
    for name, step in (("tenth", 0.1), ("half", 0.5), ("whole", 1.0)):
        value = round(round(fitted / step) * step, 4)
        if value > 0 and all(abs(value - other.bpm) > 5e-5 for other in lines):
            lines.append(row(value, f"nearest {name}", going(value)))
    for value, source in offers.stated_lines(state):
        known = next((k for k, other in enumerate(lines) if abs(other.bpm - value) < SAME_BPM), None)
        near = abs(value / fitted - 1) < NEAR_TEMPO
        if known is None:
            lines.append(row(value, source, going(value), counted=near))
        else:
            lines[known] = replace(lines[known], source=f"{lines[known].source}, {source}")
    for candidate in facts["candidates"]:
        if candidate["relation"] != "as read" and len(lines) < MOST_LINES:
            hats = ", hats as eighths" if offers.as_hats_have_it(state, candidate["bpm"]) else ""
            source = f"{candidate['relation']}, explains {candidate['evidence'] * 100:.0f} %{hats}"
            lines.append(row(candidate["bpm"], source, _reading(candidate, steady=steady), counted=False))
    if force is None:
        return lines
    if not any(abs(other.bpm - force) < SAME_BPM for other in lines):
        lines.insert(
            0,
            row(
                force,
                "stated" if state.document.map.stated_bpm is not None else "as it was read",
                None,
                counted=abs(force / fitted - 1) < NEAR_TEMPO,
            ),
        )
    # One line is in force, whatever other ways lead to the same tempo.
    first = next(k for k, other in enumerate(lines) if abs(other.bpm - force) < SAME_BPM)
    return [
        replace(other, do=None) if k == first else other
        for k, other in enumerate(lines)
        if k == first or abs(other.bpm - force) >= SAME_BPM
    ]


def _reading(candidate: Mapping[str, Any], *, steady: bool) -> Action:
    """Another way to count keeps the kind of map."""
    if candidate["relation"] in ("half", "double"):
        return Action("Use", "scale", {"factor": 2 if candidate["relation"] == "double" else -2})
    if steady:
        return Action("Use", "steady", {"bpm": candidate["bpm"]})
    return Action("Use", "read-again", {"about_bpm": round(candidate["bpm"], 3)})


def _at_end(offset_ms: float | None) -> str:
    """Early is negative."""
    return (
        ""
        if offset_ms is None
        else words.signed_ms(offset_ms)
        if abs(offset_ms) < 1000
        else f"{offset_ms:+.0f}".replace("-", MINUS)
    )


def _verdict(state: SessionState, facts: Mapping[str, Any]) -> str:
    left = offers.leaves(state, facts)
    if left is not None:
        return f"The playing is steady up to bar {left.bar}"
    how = {
        "steady": "is steady",
        "wanders": "breathes",
        "speeds up": "speeds up",
        "slows down": "slows down",
    }[facts["verdict"]]
    return f"The playing {how}"


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    return {
        "pace": pace_facts(state),
        "bars": map_facts(state),
        "ways": ways(state),
        "notes": offers.note_lengths(state),
    }


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    lead = state.document.lead
    if lead is not None and state.own_pace(lead.id) is None and state.session_map() is None:
        return Next(
            f"No pulse was found in {lead.name}. Type its tempo above, or tap along while it plays.",
            Step("Tap along", command="tap"),
        )
    facts = state.steady(lead.id) if lead is not None else None
    made = offers.offer(state, facts) if facts else None
    if made is not None and made.do is not None:
        return None
    if found:
        return look_first(found, "place")
    return Next(
        "The pace is settled. See whether every bar line lies on its downbeat.", Step("On to Bars", go="bars")
    )


PACE = Station(
    "pace", "Pace", 2, finding, places, "pace/side.html", values, more="pace/more.html", next=next_step
)
