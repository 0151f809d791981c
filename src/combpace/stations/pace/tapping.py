"""Tapping along: what taps say while they come, and the decision that takes them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pydantic import Field

from combpace.core.analysis.hats import suggested_bpm
from combpace.core.clocks import take_times
from combpace.core.tempo.tap import Tapped, tapped
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, decision
from combpace.session.document.stated import BarStatement, TempoStatement
from combpace.session.map_changes import checked_bpm, of_one_tempo, restated
from combpace.session.reach import near_audio
from combpace.session.saying import with_statement
from combpace.session.state import SessionState

MOST_TAPS = 2000
RELATIONS = (
    (0.5, "half of"),
    (2.0, "twice"),
    (1 / 3, "a third of"),
    (2 / 3, "two thirds of"),
    (1.5, "one and a half times"),
    (3.0, "three times"),
)
# Tempi are half or double of each other within this share.
NEAR = 0.04


class TapArgs(Args):
    """times_s: session times of the taps, in any order."""

    times_s: list[Seconds] = Field(min_length=1, max_length=MOST_TAPS)


@dataclass(frozen=True, slots=True)
class Taps:
    """What taps say in a session: tempo, a bar line of bar 1 (session time), and the sentence."""

    found: Tapped
    bar_1_s: float
    sentence: str


def taps_say(state: SessionState, times_s: list[float]) -> Taps:
    """What taps come to. Raises ParameterError for too few of them."""
    lead = state.need_lead()
    for time in times_s:
        near_audio(state, time)
    found = tapped(take_times(np.array(times_s) - lead.offset_s), state.struck(lead.id))
    period = 60.0 / found.bpm
    first = found.beat_s + lead.offset_s
    line = state.session_map()
    # The beat on or nearest to the bar 1 that is known stays bar 1; without one the first tapped beat opens
    # it.
    bar_1 = first if line is None else first + period * round((line.second(0.0) - first) / period)
    return Taps(found, bar_1, _sentence(state, found))


def _sentence(state: SessionState, found: Tapped) -> str:
    slips = f", {words.count(found.slips, 'slip')} left out" if found.slips else ""
    said = f"{found.taps} taps{slips}: about {found.rough_bpm:.0f} BPM"
    if not found.attacks:
        return f"{said}, ± {found.plus_minus_bpm:.2f}; too few attacks lie near them to say it more exactly."
    said += f"; the attacks near them say {found.bpm:.3f} ± {found.plus_minus_bpm:.3f}"
    heard = state.analysis(state.need_lead().id)
    ride = heard.facts.get("hats") if heard else None
    if ride:
        suggested = found.bpm / suggested_bpm(ride["per_minute"])
        for factor, name in RELATIONS[:2]:
            if abs(suggested / factor - 1) < NEAR:
                return f"{said}, {name} what the hats suggest."
    facts = state.steady(state.need_lead().id)
    ratio = found.bpm / facts["bpm"] if facts else 1.0
    for factor, name in RELATIONS:
        if abs(ratio / factor - 1) < NEAR:
            return f"{said}, {name} what was heard."
    return f"{said}."


@decision("tap", TapArgs)
def tap(state: SessionState, args: TapArgs) -> Change:
    """Tempo and phase from taps, refined on the attacks near them."""
    said = taps_say(state, list(args.times_s))
    chosen, line = state.map_choice(), state.session_map()
    meters = chosen.steady_meters if line is None else line.meters
    quarters = said.found.bpm * meters[0].beat_quarters
    chosen, _ = with_statement(chosen, TempoStatement(bpm=checked_bpm(quarters)))
    moved = tuple(one for one in chosen.statements if not isinstance(one, BarStatement))
    gone = (
        ""
        if len(moved) == len(chosen.statements)
        else " What was stated of bar lines before gives way to the taps."
    )
    chosen, _ = with_statement(
        chosen.model_copy(update={"statements": moved}), BarStatement(time_s=said.bar_1_s, bar=1)
    )
    chosen = of_one_tempo(state, chosen, quarters, said.bar_1_s, meters)
    note = f"{said.sentence} The session runs at {{bpm}} BPM, bar 1 {{bar_1}}"
    return restated(state, chosen, note, gone)
