"""Arrivals: heard in session time, then kept or dropped; and what a session does with them."""

from __future__ import annotations

from typing import Any, Literal

from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.session import arrivals, fits, words
from combpace.session.decisions import Args, Change, TakeArgs, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import TakeEntry
from combpace.session.state import SessionState


class ArrivingArgs(Args):
    value: Literal["follow", "stay"]


@decision("arrival-keep", TakeArgs)
def arrival_keep(state: SessionState, args: TakeArgs) -> Change:
    """Make an arrival a take, as it was heard: from bar 1 to the session's end, or as it is, once from bar 1
    on.
    """
    entry = _arrival(state, args.take)
    line = state.need_map()
    until = fits.last_bar(state, entry)
    made = arrivals.kept(entry, until, line.second(0.0))
    how = (
        "as it is, once from bar 1 on"
        if entry.keeps == "time"
        else f"it follows the session from bar {entry.first_bar} until bar {until}, as it was heard"
    )
    parts: dict[str, Any] = {"takes": forms.takes_part((*state.document.takes, made))}
    heard, pace = state.analysis(entry.id), state.document.paces[entry.id]
    if heard is None or heard.pace is None or forms.pace_part(heard.pace) != forms.pace_part(pace):
        # The pace by which it is whole bars is its own from now on.
        parts[f"pace:{entry.id}"] = forms.pace_part(pace)
    return Change(parts, f"{entry.name} is kept: {how}. No other take moves.")


@decision("arrival-drop", TakeArgs)
def arrival_drop(state: SessionState, args: TakeArgs) -> Change:
    """Let an arrival go; undo brings it back."""
    entry = _arrival(state, args.take)
    return Change(
        {"takes": forms.takes_part(state.document.takes)},
        f"{entry.name} was dropped; undo brings it back.",
        dropped=(entry.id,),
    )


@decision("arriving", ArrivingArgs)
def arriving(state: SessionState, args: ArrivingArgs) -> Change:
    """What arrivals with a believable tempo of their own do: follow the map, or stay as they are. Takes that
    were kept before stay as they were.
    """
    said = "follow the map" if args.value == "follow" else "stay as they are"
    return Change(
        {"arriving": args.value},
        f"Arrivals with a tempo of their own {said}. Takes that are kept already do not change.",
    )


def _arrival(state: SessionState, take_id: str) -> TakeEntry:
    entry = state.document.take(take_id)
    if entry not in state.document.arrivals:
        raise ParameterError(
            f"{entry.name} is no arrival: it is a take already, or is still being read. Nothing was changed."
        )
    return entry


def arrival_lines(state: SessionState) -> list[dict[str, Any]]:
    """The band of arrivals: what each is, in words."""
    lines = []
    for entry in state.document.arrivals:
        steady = state.steady(entry.id)
        bars = arrivals.bars_of(state.document.paces[entry.id], state.rows[entry.id]) or 0
        tempo = f" at its own {steady['bpm']:.1f}" if steady else ""
        how = "stays as it is" if entry.keeps == "time" else f"follows the session from bar {entry.first_bar}"
        lines.append(
            {
                **picture.take_facts(state, entry.id),
                "keeps": entry.keeps,
                "said": f"{words.count(bars, 'bar')}{tempo}, {how}",
                "short": f"{words.count(bars, 'bar')}{tempo}",
            }
        )
    return lines
