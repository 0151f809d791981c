"""A take that one tempo fits, stretched to another as a whole: grid, count and fit in one step."""

from __future__ import annotations

from dataclasses import replace

from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import TempoMap
from combpace.session import words
from combpace.session.decisions import Args, Change, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import as_played_rule
from combpace.session.document.stated import LevelStatement, ReadingStatement, TempoStatement
from combpace.session.map_changes import checked_bpm, need_pace, of_one_tempo, restated
from combpace.session.saying import with_statement, without
from combpace.session.state import SessionState


class StretchArgs(Args):
    """bpm: counted beats a minute of the session, to which the lead is stretched."""

    bpm: str | float


@decision("stretch-to", StretchArgs)
def stretch_to(state: SessionState, args: StretchArgs) -> Change:
    """The grid takes a tempo and the lead is stretched to it by one factor everywhere: what is human in it
    stays.
    """
    lead, chosen = state.need_lead(), state.map_choice()
    pace = need_pace(state, lead)
    bpm = words.read_number(args.bpm, "The tempo", 5, 1000)
    fitted = steady_tempo(pace, state.struck(lead.id), state.duration_s(lead.id))
    if fitted.verdict != "steady":
        raise ParameterError(
            f"No single tempo fits {lead.name}, so no single factor stretches it; fit it beat by "
            "beat in Fit. Nothing was changed."
        )
    beat = pace.meters[0].beat_quarters
    # By its one tempo every beat lies on a line: one factor holds from the first frame to the last.
    straight = fitted.first_downbeat_s + 60.0 / fitted.bpm * pace.quarters / beat
    even = TempoMap(
        tuple(replace(knot, time_s=float(time)) for knot, time in zip(pace.knots, straight, strict=True)),
        pace.meters,
    )
    quarters = checked_bpm(bpm * beat)
    # What is kept as its pace is counted so already.
    read = [one for one in chosen.statements if isinstance(one, ReadingStatement | LevelStatement)]
    chosen, _ = with_statement(without(chosen, read), TempoStatement(bpm=quarters))
    start = fitted.first_downbeat_s + lead.offset_s
    start = start if state.one_tempo is None else state.need_map().second(0.0)
    chosen = of_one_tempo(state, chosen, quarters, start, pace.meters)
    share = 100.0 * (fitted.bpm / bpm - 1.0)
    note = (
        f"{lead.name} is made {abs(share):.2f} % {'longer' if share > 0 else 'shorter'}, from "
        f"{fitted.bpm:.3f} to {bpm:.8g} BPM; bar 1 {{bar_1}}"
    )
    timing = state.document.timing_take(lead.id)
    parts = {
        f"pace:{lead.id}": forms.pace_part(even),
        f"rule:{timing}": forms.rule_part(as_played_rule()),
    }
    return restated(state, chosen, note, parts=parts)
