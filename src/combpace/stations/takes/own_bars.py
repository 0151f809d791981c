"""A take with a pace of its own put right: its bar 1, its beats, half or double, its meter, how many bars it
has, its tempo.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from combpace.core.clocks import TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import parse_meter
from combpace.session import words
from combpace.session.decisions import Args, Change, InTakeArgs, Seconds, TakeId, decision, in_take
from combpace.session.document import parts as forms
from combpace.session.document.model import TakeEntry
from combpace.session.foresight import as_if
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
    part, said = f"pace:{entry.id}", f"said:{entry.id}"
    if args.what == "heard":
        return Change({part: None, said: None}, f"{entry.name} has the pace that was heard again.")
    if args.what in ("bars", "tempo"):
        new, note = _put_right(state, entry, args)
        return Change(
            {part: forms.pace_part(new), said: None},
            f"{note}; {_as_it_is(state, new, entry)}.",
            f"{part}:{args.what}",
        )
    if state.counted_pace(entry.id) is None:
        raise ParameterError(
            f"No pulse was found in {entry.name}; state how many bars it has, or its tempo. Nothing was "
            "changed."
        )
    name, given = _as_of_the_lead(state, entry, args)
    change = in_take(state, InTakeArgs(take=entry.id, name=name, args=given))
    made = as_if(state, change.parts).counted_pace(entry.id)
    now = "" if made is None else f" It is {_as_it_is(state, made, entry)}."
    return Change(change.parts, f"{change.note}{now}", f"{part}:{args.what}")


def _as_of_the_lead(state: SessionState, entry: TakeEntry, args: OwnArgs) -> tuple[str, dict[str, Any]]:
    """The decision on a lead's bars that puts a take's own right in the same way, and its arguments."""
    length = state.duration_s(entry.id)
    if args.what == "bar-1":
        if args.take_s is None or not 0.0 <= args.take_s <= length:
            raise ParameterError(
                f"Bar 1 of {entry.name} lies inside of it, between 0 and {length:.3f} s. Nothing was changed."
            )
        return "bar-1", {"time_s": args.take_s + entry.offset_s}
    if args.what == "beat":
        if args.value not in ("later", "earlier"):
            raise ParameterError("Its bars go one beat “earlier” or “later”. Nothing was changed.")
        return "one-beat", {"direction": args.value}
    if args.what == "meter":
        return "meter", {"meter": str(parse_meter(args.value))}
    try:
        return "scale", {"factor": int(args.value)}
    except ValueError as error:
        raise ParameterError(
            f"“{args.value}” is no factor; 2 and -2 are twice and half as fast. Nothing was changed."
        ) from error


def _put_right(state: SessionState, entry: TakeEntry, args: OwnArgs) -> tuple[TempoMap[TakeTimes], str]:
    """A pace by how many bars the take has, or by its tempo."""
    name, length = entry.name, state.duration_s(entry.id)
    pace = state.counted_pace(entry.id)
    meter = pace.meters[0] if pace else parse_meter("4/4")
    if args.what == "bars":
        count = words.read_number(args.value, "The number of bars", 0.25, MOST_BARS)
        checked_bpm(60.0 * count * meter.bar_quarters / max(length, 1e-3))
        return TempoMap(
            (Knot(0.0, 0.0), Knot(length, count * meter.bar_quarters)), (meter,)
        ), f"{name} is {count:g} bars long"
    bpm = words.read_number(args.value, "The tempo", 5, 1000)
    start = pace.second(0.0) if pace else 0.0
    quarters = checked_bpm(bpm * meter.beat_quarters)
    return TempoMap(
        (Knot(start, 0.0), Knot(start + 60.0 * 64 / quarters, 64.0)), (meter,)
    ), f"{name} runs at {bpm:g} BPM of its own"


def facts_of(state: SessionState, entry: TakeEntry) -> dict[str, Any] | None:
    """Bars and tempo of a take with its own pace, for its sentence; None where nothing is known."""
    pace = state.counted_pace(entry.id)
    if pace is None:
        return None
    bars = (pace.place(state.duration_s(entry.id)) - pace.place(0.0)) / pace.meters[0].bar_quarters
    span = pace.place(state.duration_s(entry.id)) - pace.place(0.0)
    bpm = 60.0 * span / max(state.duration_s(entry.id), 1e-6) / pace.meters[0].beat_quarters
    return {
        "bars": f"{bars:.2f}".rstrip("0").rstrip("."),
        "bpm": f"{bpm:.2f}",
        "meter": str(pace.meters[0]),
        "changed": state.is_corrected(entry.id),
    }


def _as_it_is(state: SessionState, pace: TempoMap[TakeTimes], entry: TakeEntry) -> str:
    length = state.duration_s(entry.id)
    bars = (pace.place(length) - pace.place(0.0)) / pace.meters[0].bar_quarters
    return f"{bars:.2f} bars of {pace.meters[0]} from bar {entry.first_bar} on"
