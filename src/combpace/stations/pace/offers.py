"""What Pace offers: one proposal in words, readings, stated tempi, padding before the sound, note lengths."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from combpace.core.analysis.hats import HIGHS, suggested_bpm
from combpace.core.analysis.lateness import lateness_s, left_by_an_encoder
from combpace.core.tempo.drift import late_s, leaves_at
from combpace.core.tempo.measure import end_offset, middle_tempo, note_lengths_ms
from combpace.core.tempo.meters import bar_number
from combpace.core.tempo.proposal import Proposal, propose
from combpace.media.stated import is_lossy
from combpace.session.state import SessionState
from combpace.stations.station import Action, Place

# Tempi nearer than this, in BPM, are one.
SAME_BPM = 5e-4


@dataclass(frozen=True, slots=True)
class Offer:
    """The one main proposal: "141: measured ...", and its button; `instead` where a rounder tempo does not
    hold: two buttons.
    """

    bpm: str
    why: str
    do: Action | None
    instead: tuple[Action, ...] = ()
    instead_why: str = ""


def at_the_end(state: SessionState, facts: Mapping[str, Any]) -> Callable[[float], float | None]:
    """Where the lead's attacks on the last beats lie from the grid of a tempo that begins with its bar 1, ms;
    measured.
    """
    lead = state.need_lead()
    pace = state.own_pace(lead.id)
    start = facts["first_downbeat_s"]
    return end_offset(
        state.struck(lead.id), None if pace is None else pace.times_s, start, 60.0 / facts["bpm"]
    )


def proposal_of(state: SessionState, facts: Mapping[str, Any]) -> Proposal:
    """The tempo that is proposed for one that is steady, by the limit of the session."""
    return propose(
        facts["bpm"],
        facts["plus_minus_bpm"],
        at_the_end(state, facts),
        state.document.map.limit_ms,
        stated_lines(state),
    )


def offer(state: SessionState, facts: Mapping[str, Any]) -> Offer | None:
    """The proposal with its button; None where the playing is not steady to its end."""
    if facts["verdict"] != "steady" or leaves(state, facts) is not None:
        return None
    found, line = proposal_of(state, facts), state.session_map()
    beat = line.meters[0].beat_quarters if line else 1.0
    force = None if state.one_tempo is None else state.one_tempo / beat
    shown = f"{round(found.bpm, 4):.8g}"
    do = (
        None
        if force is not None and abs(force - found.bpm) < SAME_BPM
        else Action(f"Use {shown}", "steady", {"bpm": round(found.bpm, 4)})
    )
    wished = found.wished
    if wished is None or wished.end_offset_ms is None:
        return Offer(shown, found.why, do)
    stretch = 100.0 * (found.bpm / wished.bpm - 1.0)
    way = "longer" if stretch > 0 else "shorter"
    both = (
        Action(f"The grid takes {shown}", "steady", {"bpm": round(found.bpm, 4)}),
        Action(f"Stretch the take to {wished.bpm:.6g}", "stretch-to", {"bpm": wished.bpm}),
    )
    instead = tuple(
        one
        for one in both
        if one.name == "stretch-to" or force is None or abs(force - one.args["bpm"]) >= SAME_BPM
    )
    limit = f"limit {state.document.map.limit_ms:g} ms"
    why = (
        f"{wished.bpm:.6g} BPM is not close enough: at the end attacks would lie "
        f"{abs(wished.end_offset_ms):.0f} ms from it ({limit}). "
        f"Made {abs(stretch):.2f} % {way}, the take runs at {wished.bpm:.6g} BPM."
    )
    return Offer(shown, found.why, do, instead, why)


def stated_lines(state: SessionState) -> list[tuple[float, str]]:
    """Tempi that the lead's file states: (BPM, where)."""
    lead = state.document.lead
    heard = state.analysis(lead.id) if lead else None
    return (
        [(one["bpm"], f"stated by its {one['source']}") for one in heard.facts.get("stated", ())]
        if heard
        else []
    )


# Hats play eighths at a tempo that lies so near to half of what they play in a minute.
NEAR_HATS = 0.04
TO_THE_BEAT = {
    1: "once to the beat: half the tempo would make them eighths",
    2: "two to the beat, as eighths do at this tempo",
    3: "three to the beat, as triplets do at this tempo",
    4: "four to the beat: twice the tempo would make them eighths",
}


def hats_of(state: SessionState) -> Mapping[str, Any] | None:
    """What rides in the highs of the lead; None where nothing does, or an earlier version listened."""
    lead = state.document.lead
    found: list[tuple[float, Mapping[str, Any]]] = []
    # Of the mics of a bundle the one that hears most of the highs says what plays in them.
    for mic in state.document.bundle_of(lead.id) if lead else ():
        heard = state.analysis(mic.id)
        hats = heard.facts.get("hats") if heard else None
        if heard is None or hats is None:
            continue
        highs = (
            float(heard.bands[:, HIGHS].sum() / max(1e-9, heard.bands.sum()))
            if heard.bands is not None
            else 0.0
        )
        found.append((highs, hats))
    return max(found, key=lambda one: one[0])[1] if found else None


def hats_words(state: SessionState, facts: Mapping[str, Any]) -> str:
    """ "The hats play four to the beat ...", of the beat as it is counted now; "" where they say nothing of
    it.
    """
    found = hats_of(state)
    if found is None:
        return ""
    to_the_beat = found["per_minute"] / facts["bpm"]
    whole = round(to_the_beat)
    if whole not in TO_THE_BEAT or abs(to_the_beat / whole - 1) > NEAR_HATS:
        return ""
    return f"Hats (what rides in the highs) play {TO_THE_BEAT[whole]}"


def as_hats_have_it(state: SessionState, bpm: float) -> bool:
    """Whether the hats would play eighths at a tempo."""
    found = hats_of(state)
    return found is not None and abs(suggested_bpm(found["per_minute"]) / bpm - 1) < NEAR_HATS


def delay_places(state: SessionState) -> list[Place]:
    """Padding before the sound of the lead, with the action that takes it off."""
    lead = state.document.lead
    heard = state.analysis(lead.id) if lead else None
    facts = heard.facts.get("steady") if heard else None
    if lead is None or heard is None or not facts or lead.offset_s != 0.0:
        return []
    first = float(heard.onsets.times[0]) if len(heard.onsets) else np.inf
    late = lateness_s(
        facts["bpm"], facts["plus_minus_bpm"], facts["first_downbeat_s"], facts["scatter_ms"], first
    )
    row = state.rows[lead.id]
    rate = row.sample_rate_hz or 0
    if late is None or not rate or not is_lossy(row.name) or not left_by_an_encoder(late, rate):
        return []
    guess = (
        "its header states what an encoder put before it, and that is off already; this is a guess"
        if heard.facts.get("padding")
        else "a guess"
    )
    reason = (
        f"{round(late * rate)} samples, perhaps an encoder's padding ({guess}); only the placement changes"
    )
    title = f"All attacks lie {1000 * late:.1f} ms late against a grid from the first frame"
    return [
        Place(
            lead.name,
            title,
            reason,
            None,
            40,
            Action(
                f"Take {1000 * late:.1f} ms off",
                "take-off-delay",
                {"take": lead.id, "delay_s": round(late, 6)},
            ),
            about="padding",
        )
    ]


def note_lengths(state: SessionState) -> dict[str, Any] | None:
    """Lengths of notes at the tempo in force, ms: rows of (name, straight, dotted, triplet); where it
    breathes at its middle tempo.
    """
    line = state.session_map()
    if line is None:
        return None
    middle = middle_tempo(line)
    rows = [(name, *(f"{length:.2f}" for length in lengths)) for name, *lengths in note_lengths_ms(middle)]
    return {"rows": rows, "bpm": f"{middle:.2f}", "breathes": state.one_tempo is None}


@dataclass(frozen=True, slots=True)
class Leaving:
    """Playing that keeps one tempo and leaves it before the end.

    bar   number of the first bar with beats that have left it
    ms    how much later (positive) or earlier than that tempo the attacks come at the end, as the table of
          tempi has it
    """

    bar: int
    ms: float

    @property
    def end(self) -> str:
        return f"at the end attacks come {abs(self.ms):.0f} ms {'later' if self.ms > 0 else 'earlier'}"


def leaves(state: SessionState, facts: Mapping[str, Any]) -> Leaving | None:
    """Where playing that is steady as a whole leaves its tempo for good; None where it keeps it."""
    pace = state.own_pace(state.need_lead().id)
    if facts["verdict"] != "steady" or pace is None:
        return None
    here = leaves_at(pace, facts["bpm"], facts["first_downbeat_s"])
    if here is None:
        return None
    late = late_s(pace, facts["bpm"], facts["first_downbeat_s"])
    at_end = at_the_end(state, facts)(facts["bpm"])
    return Leaving(
        bar_number(pace.bar_of(float(pace.quarters[here]))),
        1000 * float(late[-1]) if at_end is None else at_end,
    )


def course_words(state: SessionState, facts: Mapping[str, Any]) -> str:
    """How far and how: "within ±14 ms of one tempo", or "from 92 to 97 over the song, slowest in bar 14"."""
    lead = state.need_lead()
    pace = state.own_pace(lead.id)
    if pace is None or len(pace.knots) < 5:
        return ""
    if facts["verdict"] == "steady":
        late = late_s(pace, facts["bpm"], facts["first_downbeat_s"])
        left = leaves(state, facts)
        if left is not None:
            return f"from bar {left.bar} on beats leave its tempo; {left.end}"
        off = late - float(np.median(late))
        return f"within ±{max(1.0, 1000 * float(np.quantile(np.abs(off), 0.95))):.0f} ms of one tempo"
    tempi = [
        (index, _bar_bpm(pace, index))
        for index in range(
            pace.bar_of(float(pace.quarters[0])), pace.bar_of(float(pace.quarters[-1]) - 1e-6) + 1
        )
    ]
    slowest = min(tempi, key=lambda one: one[1])
    low, high = (float(np.quantile([bpm for _, bpm in tempi], share)) for share in (0.05, 0.95))
    return f"from {low:.0f} to {high:.0f} over the song, slowest in bar {bar_number(slowest[0])}"


def _bar_bpm(pace: Any, index: int) -> float:
    start, end = pace.second(pace.bar_line(index)), pace.second(pace.bar_line(index + 1))
    meter = pace.meter_of(index)
    return float(60.0 * meter.beats / (end - start))
