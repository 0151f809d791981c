"""Where the music starts: audio moved onto the grid's lines, and padding of an encoder taken off. No file
changes, only placement.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.core.numbers import MINUS
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, bar_number
from combpace.session import words
from combpace.session.decisions import Args, Change, Seconds, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart, TakeEntry
from combpace.session.document.stated import (
    BarStatement,
    LevelStatement,
    ReadingStatement,
    Statement,
    later,
)
from combpace.session.map_changes import ROUNDING_S
from combpace.session.reach import near_audio
from combpace.session.saying import moment_of, settled, statement_words, with_list, without
from combpace.session.state import SessionState

# An attack so near to the moment that was pointed at is meant.
REACH_S = 0.060
# A statement that comes to lie this near to a line is about that line.
ON_LINE_S = 0.020


class AudioArgs(Args):
    """This attack of a take (session time) goes to the line of that bar, the whole take with it."""

    take: TakeId
    time_s: Seconds
    bar: int = Field(ge=-10000, le=100000)


class DelayArgs(Args):
    """delay_s: what is taken off before the sound, by placement."""

    take: TakeId
    delay_s: float = Field(allow_inf_nan=False, ge=-1.0, le=1.0)


@decision("audio-to-bar", AudioArgs)
def audio_to_bar(state: SessionState, args: AudioArgs) -> Change:
    """Move the audio: an attack goes to the line of a bar, the whole take and its bundle with it; the grid
    stays.
    """
    entry, line = state.document.take(args.take), state.need_map()
    index = bar_index(args.bar)
    at = _attack(state, entry, near_audio(state, args.time_s))
    breathes = state.map_choice().kind == "own" and entry.role == "lead"
    if breathes:
        return _breathing_to_bar(state, entry, at, index)
    if entry.role != "lead" and entry.pace == "own" and state.own_pace(entry.id) is not None:
        # It follows at its own pace: its bars are counted on, its start is the line of its first bar.
        bars = index - _line_near(line, line.place(at))
        first = bar_number(bar_index(entry.first_bar) + bars)
        takes = tuple(
            replace(other, first_bar=first) if other.id == entry.id else other
            for other in state.document.takes
        )
        return Change(
            {"takes": forms.takes_part(takes)},
            f"Bar 1 of {entry.name} lies on bar {first}: it begins where that line is.",
        )
    target = line.second(line.bar_line(index))
    near_audio(state, target)
    return _moved(
        state, entry, target - at, f"The attack at {words.clock(at)} of {entry.name} lies on bar {args.bar}"
    )


@decision("take-off-delay", DelayArgs)
def take_off_delay(state: SessionState, args: DelayArgs) -> Change:
    """Take padding off before the sound: the take begins that much earlier, and what was late lies on the
    grid.
    """
    entry = state.document.take(args.take)
    row = state.rows.get(entry.id)
    rate = row.sample_rate_hz if row else None
    samples = f" ({round(args.delay_s * rate)} samples)" if rate else ""
    return _moved(
        state,
        entry,
        -args.delay_s,
        f"{1000 * args.delay_s:.1f} ms{samples} are taken off before {entry.name}",
        grid_too=True,
    )


def _far(by_s: float) -> str:
    """A move in words: milliseconds, from a second on in seconds."""
    return f"{words.signed_ms(1000 * by_s)} ms" if abs(by_s) < 1 else f"{by_s:+.3f} s".replace("-", MINUS)


def _line_near(line: TempoMap[Any], place: float) -> int:
    """Index of the bar whose line is nearest to a place."""
    bar = line.bar_of(place + 1e-6)
    return min((bar, bar + 1), key=lambda index: abs(line.bar_line(index) - place))


def _attack(state: SessionState, entry: TakeEntry, time_s: float) -> float:
    """The take's own attack nearest to a moment, or the moment."""
    times = np.asarray(state.onsets(entry.id).times) + entry.offset_s
    if not len(times):
        return time_s
    near = float(times[int(np.argmin(np.abs(times - time_s)))])
    return near if abs(near - time_s) <= REACH_S else time_s


def _moved(
    state: SessionState, entry: TakeEntry, by_s: float, what: str, *, grid_too: bool = False
) -> Change:
    """A take and its bundle placed so much later. What was stated of the lead's moments goes along, counted
    on the lines it comes to.
    """
    together = {other.id for other in state.document.bundle_of(entry.id)}
    takes = tuple(
        replace(other, offset_s=other.offset_s + by_s) if other.id in together else other
        for other in state.document.takes
    )
    parts: dict[str, Any] = {"takes": forms.takes_part(takes)}
    lead, chosen, more = state.document.lead, state.map_choice(), ""
    if lead is not None and lead.id in together:
        carried, lost = _carried(state, chosen, by_s, grid_too=grid_too)
        made = with_list(chosen, carried)
        if grid_too and chosen.bar_1_s is not None:
            # What was read from the attacks goes with them.
            made = made.model_copy(update={"bar_1_s": chosen.bar_1_s + by_s})
        elif not grid_too:
            made = _as_it_lies(state, made)
        if made.statements or state.document.map.kind != "auto" or not grid_too:
            parts["map"] = forms.map_part(made)
        more = (
            f" What you stated of {words.listed(lost)} no longer holds: where that lies now the grid has no "
            "bar line."
            if lost
            else ""
        )
    others = f", its bundle of {len(together)} with it" if len(together) > 1 else ""
    return Change(parts, f"{what}: the whole take moved by {_far(by_s)}{others}.{more}")


def _as_it_lies(state: SessionState, chosen: MapPart) -> MapPart:
    """The map as it lies now, whatever it was read from; what is stated of it goes on holding."""
    if state.one_tempo is None:
        return chosen
    line = state.need_map()
    meters = tuple((meter.bar, meter.numerator, meter.denominator) for meter in line.meters)
    ground = {"kind": "steady", "bpm": state.one_tempo, "bar_1_s": line.second(0.0), "meters": meters}
    return settled(chosen).model_copy(update=ground)


def _carried(
    state: SessionState, chosen: MapPart, by_s: float, *, grid_too: bool
) -> tuple[tuple[Statement, ...], list[str]]:
    """(statements about moments that come so much later, those that are lost in words): the grid stays, so
    that a bar gets the number of its line.
    """
    line = state.need_map()
    kept: list[Statement] = []
    lost: list[str] = []
    for one in chosen.statements:
        at = moment_of(one)
        if at is None:
            kept.append(one)
            continue
        there = at + by_s
        index = line.bar_of(line.place(there) + 1e-6 + 0.25)
        on_line = abs(line.second(line.bar_line(index)) - there) <= ON_LINE_S
        moved = later(one, by_s)
        if grid_too:
            kept.append(moved)
            continue
        if not on_line:
            lost.append(statement_words(one))
            continue
        moved = later(moved, line.second(line.bar_line(index)) - there)
        kept.append(
            moved.model_copy(update={"bar": bar_number(index)}) if isinstance(moved, BarStatement) else moved
        )
    return tuple(kept), lost


def _breathing_to_bar(state: SessionState, lead: TakeEntry, at: float, index: int) -> Change:
    """The lines of a breathing map are the lead's own: its bars are counted on, and bar 1 stays where it
    was.
    """
    pace = state.own_pace(lead.id)
    if pace is None:
        raise ParameterError(f"{lead.name} has no pulse yet. Nothing was changed.")
    here = _line_near(pace, pace.place(at - lead.offset_s))
    bars = index - here
    if abs(pace.second(pace.bar_line(here)) - (at - lead.offset_s)) > max(REACH_S, ON_LINE_S):
        raise ParameterError(
            f"The attack at {words.clock(at)} opens no bar of this breathing map; say first that it "
            "is a downbeat (D). Nothing was changed."
        )
    counted = replace(
        pace,
        knots=tuple(
            replace(knot, quarters=knot.quarters + bars * pace.meters[0].bar_quarters) for knot in pace.knots
        ),
    )
    meters = tuple(
        replace(meter, bar=meter.bar if meter.bar == 1 else bar_number(bar_index(meter.bar) + bars))
        for meter in pace.meters
    )
    counted = replace(counted, meters=meters)
    by_s = pace.second(0.0) - counted.second(0.0)
    by_s = 0.0 if abs(by_s) < ROUNDING_S / 1000 else by_s
    together = {other.id for other in state.document.bundle_of(lead.id)}
    takes = tuple(
        replace(other, offset_s=other.offset_s + by_s) if other.id in together else other
        for other in state.document.takes
    )
    chosen = settled(state.document.map)
    carried: list[Statement] = []
    for one in chosen.statements:
        changed = later(one, by_s)
        carried.append(
            changed.model_copy(update={"bar": bar_number(bar_index(changed.bar) + bars)})
            if isinstance(changed, BarStatement)
            else changed
        )
    # What is kept as its pace is counted so already.
    read = [one for one in carried if isinstance(one, ReadingStatement | LevelStatement)]
    parts: dict[str, Any] = {
        "takes": forms.takes_part(takes),
        f"pace:{lead.id}": forms.pace_part(counted),
        "map": forms.map_part(without(with_list(chosen, carried), read)),
    }
    note = f"The attack at {words.clock(at)} of {lead.name} lies on bar {bar_number(index)}"
    bar_1 = words.clock(counted.second(0.0) + lead.offset_s + by_s)
    return Change(parts, f"{note}; bar 1 stays at {bar_1}, the whole take moved by {_far(by_s)}.")
