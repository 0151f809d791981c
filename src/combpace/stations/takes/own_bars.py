"""A take with a pace of its own put right: its bar 1, its beats, half or double, its meter, how many bars it
has, its tempo.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from combpace.core.clocks import TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors, counting
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import parse_meter
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import TakeEntry
from combpace.session.map_changes import checked_bpm
from combpace.session.state import SessionState

MOST_BARS = 4096


class OwnArgs(Args):
    """value: "later" or "earlier" (beat), a factor (scale), a meter, a number of bars or a tempo; take_s:
    where its bar 1 is, on its own clock.
    """

    take: TakeId
    what: Literal["bar-1", "beat", "scale", "meter", "bars", "tempo", "heard"]
    value: str = Field(default="", max_length=20)
    take_s: Seconds | None = None


@decision("own-bars", OwnArgs)
def own_bars(state: SessionState, args: OwnArgs) -> Change:
    """Put a take's own bars right; what follows the session by them follows at once."""
    entry = state.document.take(args.take)
    if entry.role == "lead":
        raise ParameterError(f"The map is read from {entry.name}; put it right in Bars. Nothing was changed.")
    if entry.pace != "own":
        raise ParameterError(
            f"{entry.name} shares the lead's pace; give it its own first. Nothing was changed."
        )
    part = f"pace:{entry.id}"
    if args.what == "heard":
        return Change({part: None}, f"{entry.name} has the pace that was heard again.")
    new, note = _put_right(state, entry, args)
    return Change(
        {part: forms.pace_part(new)}, f"{note}; {_as_it_is(state, new, entry)}.", f"{part}:{args.what}"
    )


def _put_right(state: SessionState, entry: TakeEntry, args: OwnArgs) -> tuple[TempoMap[TakeTimes], str]:
    name, length = entry.name, state.duration_s(entry.id)
    pace = _pace_of(state, entry)
    if args.what == "bars":
        count = words.read_number(args.value, "The number of bars", 0.25, MOST_BARS)
        meter = pace.meters[0] if pace else parse_meter("4/4")
        checked_bpm(60.0 * count * meter.bar_quarters / max(length, 1e-3))
        return TempoMap(
            (Knot(0.0, 0.0), Knot(length, count * meter.bar_quarters)), (meter,)
        ), f"{name} is {count:g} bars long"
    if args.what == "tempo":
        bpm = words.read_number(args.value, "The tempo", 5, 1000)
        meter = pace.meters[0] if pace else parse_meter("4/4")
        start = pace.second(0.0) if pace else 0.0
        quarters = checked_bpm(bpm * meter.beat_quarters)
        return TempoMap(
            (Knot(start, 0.0), Knot(start + 60.0 * 64 / quarters, 64.0)), (meter,)
        ), f"{name} runs at {bpm:g} BPM of its own"
    if pace is None:
        raise ParameterError(
            f"No pulse was found in {name}; state how many bars it has, or its tempo. Nothing was changed."
        )
    if args.what == "bar-1":
        if args.take_s is None or not 0.0 <= args.take_s <= length:
            raise ParameterError(
                f"Bar 1 of {name} lies inside of it, between 0 and {length:.3f} s. Nothing was changed."
            )
        return anchors.set_bar_1(
            pace, args.take_s, state.onsets(entry.id)
        ), f"Bar 1 of {name} is at {words.clock(args.take_s)} of it"
    if args.what == "beat":
        step = {"later": 1, "earlier": -1}.get(args.value)
        if step is None:
            raise ParameterError("Its bars go one beat “earlier” or “later”. Nothing was changed.")
        return counting.one_beat(pace, step), f"All bars of {name} are one beat {args.value}"
    if args.what == "meter":
        meter = parse_meter(args.value)
        return anchors.set_meter(pace, meter), f"{name} is in {meter}"
    try:
        factor = anchors.scale_factor(int(args.value))
    except ValueError as error:
        raise ParameterError(
            f"“{args.value}” is no factor; 2 and -2 are twice and half as fast. Nothing was changed."
        ) from error
    return anchors.scale_tempo(pace, factor), f"{name} is read {float(factor):g} times as fast"


def _pace_of(state: SessionState, entry: TakeEntry) -> TempoMap[TakeTimes] | None:
    """The take's own pace on its own count, before it is placed in the session."""
    heard = state.analysis(entry.id)
    found: TempoMap[TakeTimes] | None = state.document.paces.get(entry.id) or (heard.pace if heard else None)
    return found


def facts_of(state: SessionState, entry: TakeEntry) -> dict[str, Any] | None:
    """Bars and tempo of a take with its own pace, for its sentence; None where nothing is known."""
    pace = _pace_of(state, entry)
    if pace is None:
        return None
    bars = (pace.place(state.duration_s(entry.id)) - pace.place(0.0)) / pace.meters[0].bar_quarters
    span = pace.place(state.duration_s(entry.id)) - pace.place(0.0)
    bpm = 60.0 * span / max(state.duration_s(entry.id), 1e-6) / pace.meters[0].beat_quarters
    return {
        "bars": f"{bars:.2f}".rstrip("0").rstrip("."),
        "bpm": f"{bpm:.2f}",
        "meter": str(pace.meters[0]),
        "changed": entry.id in state.document.paces,
    }


def _as_it_is(state: SessionState, pace: TempoMap[TakeTimes], entry: TakeEntry) -> str:
    length = state.duration_s(entry.id)
    bars = (pace.place(length) - pace.place(0.0)) / pace.meters[0].bar_quarters
    return f"{bars:.2f} bars of {pace.meters[0]} from bar {entry.first_bar} on"
