"""Where bars begin, put right as a whole: a beat later or earlier, a pickup, one bar of another length,
several in another meter.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from combpace.core.clocks import SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors, counting
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index, parse_meter
from combpace.core.tempo.recount import confirmed_in
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, decision
from combpace.session.document.model import BarStatement, DownbeatStatement, MapPart, MeterStatement
from combpace.session.map_changes import (
    SAME_MOMENT_S,
    breathing_change,
    moment_of,
    need_line,
    stated_bars,
    steady_change,
    steady_line,
    steady_now,
    with_statement,
)
from combpace.session.reach import near_audio
from combpace.session.state import SessionState
from combpace.stations.bars.decisions import bar_here

STEPS = {"later": 1, "earlier": -1}


class BeatArgs(Args):
    """bar: from its line on; without it for all bars."""

    direction: Literal["later", "earlier"]
    bar: int | None = None


class PickupArgs(Args):
    time_s: Seconds


class OddArgs(Args):
    """beats: how many that bar has; its usual number takes an odd bar out again."""

    bar: int
    beats: int = Field(ge=1, le=64)


class RangeArgs(Args):
    """So many bars, from the first to the last, in a meter; what follows keeps its own."""

    meter: str = Field(max_length=12)
    from_bar: int
    to_bar: int


@decision("one-beat", BeatArgs)
def one_beat(state: SessionState, args: BeatArgs) -> Change:
    """All bar lines one beat later or earlier, or those from a bar on: the bar before it is so much longer or
    shorter.
    """
    step, line = STEPS[args.direction], state.need_map()
    if args.bar is not None and bar_index(args.bar) > 0:
        index = bar_index(args.bar) - 1
        note = f"From bar {args.bar} on all bar lines are one beat {args.direction}"
        return _recounted(state, index, line.meter_of(index).beats + step, note)
    lead, chosen = state.need_lead(), state.map_choice()
    beat = line.meters[0].beat_quarters
    note = f"All bar lines are one beat {args.direction}"
    if chosen.kind == "steady":
        bpm, start, meters = steady_now(state)
        by_s = step * 60.0 * beat / bpm
        chosen, replaced = _bars_moved(chosen, by_s)
        _refuse_confirmed(state, chosen, args.direction)
        return steady_change(
            state,
            chosen,
            steady_line(state, chosen, bpm, start + by_s, meters),
            f"{note}; bar 1 is {{bar_1}}.{replaced}",
        )
    pace = need_line(state, lead)
    freed = pace
    for one in stated_bars(chosen):
        freed = anchors.unfixed(freed, one.time_s - lead.offset_s, SAME_MOMENT_S)
    new = counting.one_beat(freed, step)
    # What the action names is excepted: a bar that was stated is the same bar, one beat on.
    replaced = ""
    for one in stated_bars(chosen):
        at = new.bar_line(bar_index(one.bar))
        new = anchors.lock(new, at, False)
        chosen, said = with_statement(
            chosen, BarStatement(time_s=new.second(at) + lead.offset_s, bar=one.bar), (one,)
        )
        replaced += said
    return breathing_change(state, lead, pace, new, chosen, note, replaced)


def _bars_moved(chosen: MapPart, by_s: float) -> tuple[MapPart, str]:
    replaced = ""
    for one in stated_bars(chosen):
        chosen, said = with_statement(chosen, BarStatement(time_s=one.time_s + by_s, bar=one.bar), (one,))
        replaced += said
    return chosen, replaced


def _refuse_confirmed(state: SessionState, chosen: MapPart, direction: str) -> None:
    held = next((one for one in chosen.statements if isinstance(one, DownbeatStatement)), None)
    if held is not None:
        raise ParameterError(
            f"The downbeat confirmed at {words.clock(held.time_s)} would lie inside a bar if all "
            f"lines were one beat {direction}. "
            "Nothing was changed; take it back first, or say from which bar on."
        )


@decision("pickup", PickupArgs)
def pickup(state: SessionState, args: PickupArgs) -> Change:
    """This is the pickup: bar 1 is the next bar line, and what lies before it is lead-in."""
    line, at = state.need_map(), near_audio(state, args.time_s)
    place = line.place(at)
    # A pickup on a line that was read wrong is still before the next one.
    following = line.second(line.bar_line(line.bar_of(place + 1e-6) + 1))
    return bar_here(state, following, 1)


@decision("odd-bar", OddArgs)
def odd_bar(state: SessionState, args: OddArgs) -> Change:
    """One bar of so many beats; all bars after it are counted on from its end, up to the next confirmed
    downbeat.
    """
    index = bar_index(args.bar)
    return _recounted(state, index, args.beats, f"Bar {args.bar} has {words.count(args.beats, 'beat')}")


def _recounted(state: SessionState, index: int, beats: int, note: str) -> Change:
    lead, chosen, line = state.need_lead(), state.map_choice(), state.need_map()
    old_end = line.second(line.bar_line(index + 1))
    following = line.meter_of(index + 1)
    if chosen.kind == "steady":
        confirmed = [
            line.bar_line(_nearest(line, moment))
            for one in chosen.statements
            if not isinstance(one, MeterStatement) and (moment := moment_of(one)) is not None
        ]
        new = counting.bar_of_beats(line, index, beats, confirmed)
        chosen = _with_odd(chosen, line, new, index, old_end, following)
        bpm, start, _ = steady_now(state)
        return steady_change(
            state, chosen, steady_line(state, chosen, bpm, start, new.meters), f"{note}.", odd=False
        )
    pace = need_line(state, lead)
    new_pace = counting.bar_of_beats(pace, index, beats, confirmed_in(pace))
    session: TempoMap[SessionTimes] = TempoMap(new_pace.shifted(lead.offset_s).knots, new_pace.meters)
    chosen = _with_odd(chosen, line, session, index, old_end, following)
    return breathing_change(state, lead, pace, new_pace, chosen, note, odd=False)


def _nearest(line: TempoMap[Any], moment: float) -> int:
    place = line.place(moment)
    index = line.bar_of(place + 1e-6)
    return index if place - line.bar_line(index) <= line.bar_line(index + 1) - place else index + 1


def _with_odd(
    chosen: MapPart,
    old: TempoMap[SessionTimes],
    new: TempoMap[SessionTimes],
    index: int,
    old_end: float,
    following: Meter,
) -> MapPart:
    """The bar's meter as a statement, and the usual one after it; what was stated of both lines before gives
    way.
    """
    start, end = new.second(new.bar_line(index)), new.second(new.bar_line(index + 1))
    before = [
        one
        for one in chosen.statements
        if not (
            isinstance(one, MeterStatement)
            and one.time_s is not None
            and _near(one.time_s, (start, end, old_end))
        )
    ]
    chosen = chosen.model_copy(update={"statements": tuple(before)})
    here = new.meter_of(index)
    if str(here) == str(following) and (index == 0 or str(new.meter_of(index - 1)) == str(here)):
        return chosen
    chosen, _ = with_statement(chosen, MeterStatement(meter=str(here), time_s=start))
    chosen, _ = with_statement(chosen, MeterStatement(meter=str(following), time_s=end))
    return chosen


def _near(time: float, moments: tuple[float, ...]) -> bool:
    return any(abs(time - moment) < SAME_MOMENT_S for moment in moments)


@decision("meter-range", RangeArgs)
def meter_range(state: SessionState, args: RangeArgs) -> Change:
    """These bars are in another meter, so many of them; what follows keeps its own and is counted on from
    their end.
    """
    lead, chosen, line = state.need_lead(), state.map_choice(), state.need_map()
    first, last, meter = bar_index(args.from_bar), bar_index(args.to_bar), parse_meter(args.meter)
    usual = line.meter_of(last + 1)
    note = (
        f"Bar {args.from_bar} is in {meter}"
        if first == last
        else f"Bars {args.from_bar} to {args.to_bar} are in {meter}"
    )
    if chosen.kind == "steady":
        new = counting.meter_in(line, first, last, meter)
        chosen = _between(chosen, new, first, last, meter, usual)
        bpm, start, _ = steady_now(state)
        return steady_change(
            state, chosen, steady_line(state, chosen, bpm, start, new.meters), f"{note}.", odd=False
        )
    pace = need_line(state, lead)
    new_pace = counting.meter_in(pace, first, last, meter)
    session: TempoMap[SessionTimes] = TempoMap(new_pace.shifted(lead.offset_s).knots, new_pace.meters)
    return breathing_change(
        state, lead, pace, new_pace, _between(chosen, session, first, last, meter, usual), note, odd=False
    )


def _between(
    chosen: MapPart, new: TempoMap[SessionTimes], first: int, last: int, meter: Meter, usual: Meter
) -> MapPart:
    """The meter of a range as statements at both of its ends; those in between give way."""
    start, end = new.second(new.bar_line(first)), new.second(new.bar_line(last + 1))
    kept = [
        one
        for one in chosen.statements
        if not (
            isinstance(one, MeterStatement)
            and one.time_s is not None
            and start - SAME_MOMENT_S < one.time_s < end + SAME_MOMENT_S
        )
    ]
    chosen = chosen.model_copy(update={"statements": tuple(kept)})
    chosen, _ = with_statement(chosen, MeterStatement(meter=str(meter), time_s=start))
    chosen, _ = with_statement(chosen, MeterStatement(meter=str(usual), time_s=end))
    return chosen
