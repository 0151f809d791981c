"""Changes of the session's map: every one of them leaves what was stated before standing, and says what it
moves.

A breathing map is the lead's own pace, solved again around what is fixed; a steady one is a tempo, where bar
1 lies, and meters. Statements are kept apart from both (`document.model.MapPart`), so that the map may change
its kind without losing one.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from combpace.core.analysis.take import HINT_REACH_S
from combpace.core.clocks import SessionTimes, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import nearest_onset
from combpace.core.tempo import anchors
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.recount import odd_bars
from combpace.core.tempo.statements import steady_as_stated
from combpace.session import words
from combpace.session.decisions import Change
from combpace.session.document import parts as forms
from combpace.session.document.model import (
    BarStatement,
    DownbeatStatement,
    MapPart,
    MeterStatement,
    Statement,
    TakeEntry,
    TempoStatement,
)
from combpace.session.reach import near_audio
from combpace.session.state import SessionState

# Statements nearer to each other than this are about the same moment.
SAME_MOMENT_S = 0.002
# So many odd bars are named in a sentence.
MOST_NAMED = 4
# An onset that starts a hair before its file's first frame lies on it.
ROUNDING_S = 0.0015


def meant(state: SessionState, lead: TakeEntry, time_s: float, reach_s: float = HINT_REACH_S) -> float:
    """The session time that a moment means: the lead's nearest attack within reach, or the moment itself.
    Raises ParameterError.
    """
    time_s = near_audio(state, time_s)
    onsets = state.onsets(lead.id).times
    near = nearest_onset(onsets, time_s - lead.offset_s, reach_s)
    found = time_s if near is None else float(onsets[near]) + lead.offset_s
    return lead.offset_s if abs(found - lead.offset_s) < ROUNDING_S and found < lead.offset_s else found


def need_pace(state: SessionState, lead: TakeEntry) -> TempoMap[TakeTimes]:
    """The lead's own pace. Raises ParameterError where there is none."""
    pace = state.own_pace(lead.id)
    if pace is None:
        raise ParameterError(
            f"{lead.name} has no pulse yet: it is still being listened to, or none was found; state "
            "a tempo instead. Nothing was changed."
        )
    return pace


def need_line(state: SessionState, lead: TakeEntry) -> TempoMap[TakeTimes]:
    """The map that corrections of a session that is not steady solve again, on the lead's clock: its own
    pace, or the map that was given.

    `breathing_change` keeps what comes of it where it belongs. Raises ParameterError where there is none.
    """
    chosen = state.map_choice()
    if chosen.kind == "given" and chosen.given is not None:
        return forms.pace_from(chosen.given).shifted(-lead.offset_s)
    return need_pace(state, lead)


def checked_bpm(value: float) -> float:
    """A tempo that a map can hold. Raises ParameterError."""
    if not MIN_BPM <= value <= MAX_BPM:
        raise ParameterError(
            f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {value:g}. Nothing was changed."
        )
    return value


# -- statements


def with_statement(chosen: MapPart, new: Statement, same: Iterable[Statement] = ()) -> tuple[MapPart, str]:
    """A map with one statement more, and what it replaces in words ("" for nothing): what is about the same
    place, or named in `same`.
    """
    gone = [old for old in chosen.statements if old in tuple(same) or _about_the_same(old, new)]
    kept = tuple(old for old in chosen.statements if old not in gone)
    said = [text for old in gone if old != new and (text := _replaced(old, new))]
    return chosen.model_copy(
        update={"statements": (*kept, new)}
    ), f" This replaces {' and '.join(said)}." if said else ""


def without_statements(chosen: MapPart, time_s: float) -> MapPart:
    """A map without what was stated of a moment."""
    kept = tuple(
        one for one in chosen.statements if (at := moment_of(one)) is None or abs(at - time_s) > SAME_MOMENT_S
    )
    return chosen.model_copy(update={"statements": kept})


def shifted_statements(chosen: MapPart, by_s: float) -> MapPart:
    """The same statements about moments that all come so much later."""

    def later(one: Statement) -> Statement:
        at = moment_of(one)
        return one if at is None else one.model_copy(update={"time_s": at + by_s})

    return chosen.model_copy(update={"statements": tuple(map(later, chosen.statements))})


def moment_of(one: Statement) -> float | None:
    """The moment that a statement is about, None for one about the whole."""
    return None if isinstance(one, TempoStatement) else one.time_s


def statement_words(one: Statement) -> str:
    """What a statement is about: "bar 5 at 0:08.213", "3/4 from 0:12.000 on"."""
    match one:
        case TempoStatement():
            return f"{one.bpm:g} BPM"
        case MeterStatement():
            return f"{one.meter}" + ("" if one.time_s is None else f" from {words.clock(one.time_s)} on")
        case BarStatement():
            return f"bar {one.bar} at {words.clock(one.time_s)}"
        case DownbeatStatement():
            return f"the downbeat at {words.clock(one.time_s)}"


def _about_the_same(old: Statement, new: Statement) -> bool:
    if isinstance(new, TempoStatement):
        return isinstance(old, TempoStatement)
    if isinstance(new, MeterStatement):
        if not isinstance(old, MeterStatement):
            return False
        return new.time_s is None or (old.time_s is not None and abs(old.time_s - new.time_s) < SAME_MOMENT_S)
    if isinstance(old, BarStatement | DownbeatStatement):
        same_bar = isinstance(old, BarStatement) and isinstance(new, BarStatement) and old.bar == new.bar
        return same_bar or abs(old.time_s - new.time_s) < SAME_MOMENT_S
    return False


def _replaced(old: Statement, new: Statement) -> str:
    match old:
        case TempoStatement():
            return ""
        case MeterStatement():
            return statement_words(old) if str(old.meter) != getattr(new, "meter", "") else ""
        case BarStatement():
            return statement_words(old)
        case DownbeatStatement():
            same = isinstance(new, BarStatement) and abs(old.time_s - new.time_s) < SAME_MOMENT_S
            return "" if same else statement_words(old)


def stated_bars(chosen: MapPart) -> tuple[BarStatement, ...]:
    return tuple(one for one in chosen.statements if isinstance(one, BarStatement))


# -- changes


def breathing_change(
    state: SessionState,
    lead: TakeEntry,
    old: TempoMap[TakeTimes],
    new: TempoMap[TakeTimes],
    chosen: MapPart,
    what: str,
    more: str = "",
    *,
    odd: bool = True,
) -> Change:
    """The lead's new pace, or the given map solved again, said with its effect; the session's map follows
    it.
    """
    near_audio(state, new.second(0.0) + lead.offset_s)
    beside = odd_words(new, old, chosen, last_bar(state, new, lead.offset_s)) if odd else ""
    parts: dict[str, Any]
    if chosen.kind == "given":
        parts = {
            "map": forms.map_part(
                chosen.model_copy(update={"given": forms.pace_part(new.shifted(lead.offset_s))})
            )
        }
    else:
        parts = {
            f"pace:{lead.id}": forms.pace_part(new),
            "map": forms.map_part(chosen.model_copy(update={"kind": "own"})),
        }
    return Change(parts, f"{what}; {effect_of(old, new)}.{beside}{more}")


def last_bar(state: SessionState, line: TempoMap[Any], offset_s: float = 0.0) -> int:
    """Index of the bar in which the session's audio ends, on a map whose clock shows that much less than the
    session's.
    """
    return line.bar_of(line.place(state.end_s() - offset_s))


def effect_of(old: TempoMap[Any], new: TempoMap[Any]) -> str:
    """What a change of a map moved, in words."""
    moved = anchors.largest_move_ms(old, new)
    if moved is None:
        return "no bar line moved"
    if moved[1] == moved[2]:
        return f"bar {moved[1]} moved by {moved[0]:.1f} ms"
    return f"bars {moved[1]} to {moved[2]} moved by up to {moved[0]:.1f} ms"


def odd_runs(line: TempoMap[Any], chosen: MapPart, until: int | None = None) -> list[tuple[int, int, Meter]]:
    """Bars of another length than the meter that was stated, or than their neighbours: (first, last,
    meter).
    """
    return odd_bars(line, None if chosen.stated.changes else chosen.stated.everywhere, until)


def odd_words(
    new: TempoMap[Any], old: TempoMap[Any] | None, chosen: MapPart, until: int | None = None
) -> str:
    """What stands in a map so that a count comes out, and did not stand there before: "Bar 5 is 3/4, so that
    ...".
    """
    known = (
        set()
        if old is None
        else {(first, last, str(meter)) for first, last, meter in odd_runs(old, chosen, until)}
    )
    odd = [
        (first, last, meter)
        for first, last, meter in odd_runs(new, chosen, until)
        if (first, last, str(meter)) not in known
    ]
    if not odd:
        return ""
    named = ", ".join(
        f"bar {first} is {meter}" if first == last else f"bars {first} to {last} are {meter}"
        for first, last, meter in odd[:MOST_NAMED]
    )
    named += f" and {len(odd) - MOST_NAMED} more" if len(odd) > MOST_NAMED else ""
    return f" {named[0].upper()}{named[1:]}, so that every downbeat you confirmed opens a bar."


def steady_line(
    state: SessionState, chosen: MapPart, bpm: float, start_s: float, meters: tuple[Meter, ...]
) -> TempoMap[SessionTimes]:
    """The steady map that obeys every statement of `chosen`: quarters a minute, and where bar 1 lies where
    nothing is stated.
    """
    return steady_as_stated(
        checked_bpm(bpm),
        near_audio(state, start_s),
        meters,
        chosen.stated,
        free_tempo=chosen.stated_bpm is None,
    )


def steady_change(
    state: SessionState,
    chosen: MapPart,
    line: TempoMap[SessionTimes],
    note: str,
    gesture: str | None = None,
    *,
    odd: bool = True,
) -> Change:
    """A steady map as the session's; `note` may name {bpm} of it, and with {bar_1} where its bar 1 lies."""
    near_audio(state, line.second(0.0))
    meters = tuple((meter.bar, meter.numerator, meter.denominator) for meter in line.meters)
    bpm = line.bpm_at(0.0)
    # Read back from far knots a tempo differs in the last digits from what was stated.
    bpm = chosen.stated_bpm if chosen.stated_bpm is not None and abs(chosen.stated_bpm - bpm) < 1e-7 else bpm
    made = chosen.model_copy(
        update={"kind": "steady", "bpm": bpm, "bar_1_s": line.second(0.0), "meters": meters}
    )
    said = note.replace("{bpm}", f"{bpm / line.meters[0].beat_quarters:.2f}").replace(
        "{bar_1}", words.first_line(line.second(0.0))
    )
    beside = odd_words(line, state.session_map(), chosen, last_bar(state, line)) if odd else ""
    return Change({"map": forms.map_part(made)}, said + beside, gesture)


def steady_now(state: SessionState) -> tuple[float, float, tuple[Meter, ...]]:
    """(quarters a minute, where bar 1 lies, meters) of a session that is steady."""
    choice = state.map_choice()
    return choice.bpm or 120.0, choice.bar_1_s or 0.0, choice.steady_meters


def renamed(meter: Meter) -> Meter:
    """The same meter for the whole map."""
    return replace(meter, bar=1)
