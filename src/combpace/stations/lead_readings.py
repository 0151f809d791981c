"""The ways to count the lead, as cards and as a choice where the count is doubtful."""

from __future__ import annotations

from dataclasses import dataclass

from combpace.core.analysis.readings import Reading, alike
from combpace.session import words
from combpace.session.document.model import TakeEntry
from combpace.session.state import SessionState
from combpace.stations.station import Action, Place

# A count that is less sure than this is said to be.
SURE_COUNT = 0.7


@dataclass(frozen=True, slots=True)
class Way:
    """One reading as a card: its sentence, and what taking it does (None for the one in force)."""

    rank: int
    sentence: str
    do: Action | None


def ways(state: SessionState) -> list[Way]:
    """Readings of the lead, the one in force first; none where nothing else was heard."""
    lead = state.document.lead
    offered = state.readings(lead.id) if lead else ()
    if lead is None or len(offered) < 2:
        return []
    now = in_force(state, lead, offered)
    ordered = sorted(offered, key=lambda one: (one.rank != now, one.rank))
    likes = [next(other for other in ordered if _counted(other) == _counted(one)) for one in ordered]
    said = [sentence(one, like) for one, like in zip(ordered, likes, strict=True)]
    labels = [text.rpartition(",")[0] for text in said]
    return [
        Way(
            one.rank,
            # Two that are counted alike are told apart by where bar 1 lies.
            text
            if labels.count(label) == 1
            else f"{label}, bar 1 {words.first_line(one.pace.second(0.0) + lead.offset_s)}"
            f"{text[len(label) :]}",
            None if one.rank == now else Action("Use", "reading", {"rank": one.rank}),
        )
        for one, text, label in zip(ordered, said, labels, strict=True)
    ]


def in_force(state: SessionState, lead: TakeEntry, offered: tuple[Reading, ...]) -> int | None:
    """Rank of the reading that the lead is counted in, None where it was changed by hand since."""
    pace = state.own_pace(lead.id)
    if pace is None:
        return None
    found: int | None = state.once(
        "reading in force", lambda: next((one.rank for one in offered if alike(one.pace, pace)), None)
    )
    return found


def sentence(one: Reading, like: Reading | None = None) -> str:
    """ "5/4 at 108.0, 21 %"; beside one that is counted alike, on which of its beats the bars begin: "5/4 at
    108.0 from beat 3, 21 %".
    """
    from_beat = ""
    if like is not None and like is not one:
        meter = like.pace.meters[0]
        beat = round(like.pace.place(one.pace.second(0.0)) / meter.beat_quarters) % round(
            meter.bar_quarters / meter.beat_quarters
        )
        from_beat = f" from beat {beat + 1}" if beat else ""
    return f"{_counted(one)}{from_beat}, {100 * one.probability:.0f} %"


def _counted(one: Reading) -> str:
    return f"{one.meter} at {one.bpm:.1f}"


def doubt_places(state: SessionState) -> list[Place]:
    """First of all, while it is doubtful how the lead is counted and nobody decided it: the other ways. Enter
    takes none of them.
    """
    lead = state.document.lead
    if (
        lead is None
        or state.is_corrected(lead.id)
        or state.document.map.kind == "steady"
        or state.document.map.statements
    ):
        return []
    offered = ways(state)
    first = next((one for one in state.readings(lead.id) if one.rank == 1), None)
    if first is None or first.probability >= SURE_COUNT:
        return []
    choices = tuple(Action(way.sentence, way.do.name, way.do.args) for way in offered if way.do)
    title = f"{100 * first.probability:.0f} % sure how it is counted: {_counted(first)}"
    return [
        Place(
            "whole take",
            title,
            "choose another way to count it, or hear them in Pace",
            None,
            2000.0,
            None,
            None,
            choices,
            about="reading",
        )
    ]
