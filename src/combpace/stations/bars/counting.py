"""Where bars begin, put right as a whole: a beat later or earlier, a pickup, one bar of another length,
several in another meter.
"""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index, of_beats, parse_meter
from combpace.session import words
from combpace.session.decisions import BarsArgs, Change, Seconds, decision
from combpace.session.document.model import MapPart
from combpace.session.document.stated import BarStatement, DownbeatStatement, MeterStatement
from combpace.session.kinds import beats_on
from combpace.session.map_changes import (
    replaced_in,
    restated,
    stated_bars,
)
from combpace.session.reach import near_audio
from combpace.session.saying import SAME_MOMENT_S, with_statement, without
from combpace.session.state import SessionState
from combpace.stations.bars.decisions import bar_here, opens_bar

STEPS = {"later": 1, "earlier": -1}


class BeatArgs(BarsArgs):
    """bar: from its line on; without it for all bars."""

    direction: Literal["later", "earlier"]
    bar: int | None = None


class PickupArgs(BarsArgs):
    time_s: Seconds


class OddArgs(BarsArgs):
    """beats: how many that bar has; its usual number takes an odd bar out again."""

    bar: int
    beats: int = Field(ge=1, le=64)


class RangeArgs(BarsArgs):
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
        at = line.bar_line(bar_index(args.bar))
        for one in stated_bars(state.map_choice()):
            if abs(one.time_s - line.second(at)) < SAME_MOMENT_S:
                raise ParameterError(
                    f"Bar {one.bar} was stated at {words.clock(one.time_s)} and stays there. Nothing was "
                    "changed; say anew where it is."
                )
        note = f"From bar {args.bar} on all bar lines are one beat {args.direction}"
        moment = beats_on(line, at, step)
        return opens_bar(state, DownbeatStatement(time_s=moment, reach="from here on"), note)
    chosen, note = state.map_choice(), f"All bar lines are one beat {args.direction}"
    _refuse_confirmed(chosen, args.direction)
    if not stated_bars(chosen):
        first = max(0, line.bar_of(float(line.quarters[0]) + 0.99 * line.meters[0].bar_quarters))
        moment = beats_on(line, line.bar_line(first), step)
        return opens_bar(state, DownbeatStatement(time_s=moment, reach="everywhere"), note)
    # What the action names is excepted: a bar that was stated is the same bar, one beat on.
    replaced = ""
    for one in stated_bars(chosen):
        moved = BarStatement(
            time_s=beats_on(line, line.bar_line(bar_index(one.bar)), step),
            bar=one.bar,
            reach="everywhere",
        )
        chosen, said = with_statement(chosen, moved, (one,))
        replaced += said
    chosen, parts = replaced_in(state, chosen)
    return restated(state, chosen, note, replaced, parts=parts)


def _refuse_confirmed(chosen: MapPart, direction: str) -> None:
    downbeats = (one for one in chosen.statements if isinstance(one, DownbeatStatement))
    held = next((one for one in downbeats if one.reach != "everywhere"), None)
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
    line, index = state.need_map(), bar_index(args.bar)
    if index < 0:
        raise ParameterError("The lead-in is counted in whole bars; say from bar 1 on. Nothing was changed.")
    note = f"Bar {args.bar} has {words.count(args.beats, 'beat')}"
    return _ranged(state, index, 1, of_beats(line.meter_of(index), args.beats), note)


def _ranged(state: SessionState, first: int, bars: int, meter: Meter, note: str) -> Change:
    """So many bars in a meter; what follows is counted on from their end, up to the next confirmed
    downbeat.
    """
    chosen, line = state.map_choice(), state.need_map()
    start = line.bar_line(first)
    until = state.need_kind().until(line, start, bars, meter)
    begin = line.second(start)
    for time in chosen.stated.opening:
        if begin + SAME_MOMENT_S < time < until - SAME_MOMENT_S and not _opens(line, start, time, meter):
            raise MapConflictError(
                f"The downbeat confirmed at {words.clock(time)} would lie inside a bar. Nothing was changed; "
                "take it back first.",
                time,
            )
    old = [one for one in chosen.statements if isinstance(one, MeterStatement) and _begins(one, begin)]
    chosen = without(chosen, old)
    usual = str(meter) == str(line.meter_of(first + bars)) and (
        first == 0 or str(line.meter_of(first - 1)) == str(meter)
    )
    replaced = ""
    if not (usual and old):
        chosen, replaced = with_statement(
            chosen, MeterStatement(meter=str(meter), time_s=begin, until_s=until)
        )
    chosen, parts = replaced_in(state, chosen)
    return restated(state, chosen, note, replaced, parts=parts, odd=False)


def _begins(one: MeterStatement, time_s: float) -> bool:
    """Whether a meter of some bars was stated from a moment on."""
    return one.until_s is not None and one.time_s is not None and abs(one.time_s - time_s) < SAME_MOMENT_S


def _opens(line: TempoMap[SessionTimes], start: float, time_s: float, meter: Meter) -> bool:
    """Whether a moment opens one of the bars of a meter that are counted from a line on."""
    bars = (line.beats_from_bar_1(line.place(time_s)) - line.beats_from_bar_1(start)) / meter.beats
    return abs(bars - round(bars)) < 1e-3


@decision("meter-range", RangeArgs)
def meter_range(state: SessionState, args: RangeArgs) -> Change:
    """These bars are in another meter, so many of them; what follows keeps its own and is counted on from
    their end.
    """
    first, last, meter = bar_index(args.from_bar), bar_index(args.to_bar), parse_meter(args.meter)
    if last < first or first < 0:
        raise ParameterError(
            f"Bars {args.from_bar} to {args.to_bar} cannot have a meter of their own; begin with bar 1 or "
            "later. Nothing was changed."
        )
    note = (
        f"Bar {args.from_bar} is in {meter}"
        if first == last
        else f"Bars {args.from_bar} to {args.to_bar} are in {meter}"
    )
    return _ranged(state, first, last - first + 1, meter, note)
