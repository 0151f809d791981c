"""Changes of the session's map: what is kept is what was stated, the map is solved for (`session.solving`),
and every change says what it moves.

A breathing map is the lead's own pace; a steady one is a tempo, where bar 1 lies, and meters; a given one has
knots of its own. Statements hold in each of them, so that the map may change its kind without losing one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from combpace.core.analysis.take import HINT_REACH_S
from combpace.core.clocks import SessionTimes, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import nearest_onset
from combpace.core.tempo import anchors
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.one_tempo import same_place
from combpace.core.tempo.recount import odd_bars
from combpace.session import words
from combpace.session.decisions import Change
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart, TakeEntry
from combpace.session.document.stated import (
    BarStatement,
    DownbeatStatement,
    LevelStatement,
    MeterStatement,
    MomentStatement,
    OtherStatement,
    Statement,
)
from combpace.session.foresight import as_if, lines_more, more_words
from combpace.session.reach import near_audio
from combpace.session.saying import moment_of, settled, with_list
from combpace.session.state import SessionState

# Statements of which the ear is asked where bars begin.
COUNTS = BarStatement | DownbeatStatement | MeterStatement | OtherStatement
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


def checked_bpm(value: float) -> float:
    """A tempo that a map can hold. Raises ParameterError."""
    if not MIN_BPM <= value <= MAX_BPM:
        raise ParameterError(
            f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {value:g}. Nothing was changed."
        )
    return value


def stated_bars(chosen: MapPart) -> tuple[BarStatement, ...]:
    """The bars that were stated."""
    return tuple(one for one in chosen.statements if isinstance(one, BarStatement))


# -- changes


def restated(
    state: SessionState,
    chosen: MapPart,
    what: str,
    more: str = "",
    *,
    parts: Mapping[str, Any] | None = None,
    odd: bool = True,
    gesture: str | None = None,
) -> Change:
    """The map with these statements: solved for, and said with its effect.

    parts   what is to change besides
    Raises  MapConflictError where no map holds all of it
    """
    kind = "own" if chosen.kind == "auto" else chosen.kind
    chosen = chosen.model_copy(update={"kind": kind})
    made = {"map": forms.map_part(chosen), **(parts or {})}
    new, old = solved_map(state, made), state.session_map()
    near_audio(state, new.second(0.0))
    beside = odd_words(new, old, chosen, last_bar(state, new)) if odd else ""
    effect = "" if old is None else f"; {effect_of(old, new, state.end_s())}"
    return Change(made, f"{_filled(what, new)}{effect}.{beside}{more}{_counted_on(state, chosen)}", gesture)


def _counted_on(state: SessionState, chosen: MapPart) -> str:
    """That nothing was heard again, where nothing is kept of what was heard."""
    lead = state.document.lead
    row = state.rows.get(lead.id) if lead is not None else None
    asked = any(not one.knotted and isinstance(one, COUNTS) for one in chosen.statements)
    if not asked or lead is None or row is None or chosen.kind == "given" or state.folder.keeps_pulse(row):
        return ""
    return (
        f" The bars are counted on from it, for nothing is kept of how {lead.name} was heard; listen to it "
        "again in Takes, and they are heard with it."
    )


def solved_map(state: SessionState, parts: Mapping[str, Any]) -> TempoMap[SessionTimes]:
    """The session's map as it would be with other parts. Raises MapConflictError where no map holds all that
    is stated then.
    """
    after = as_if(state, parts)
    after.check_stated()
    return after.need_map()


def replaced_in(state: SessionState, chosen: MapPart) -> tuple[MapPart, dict[str, Any]]:
    """A list of statements with what the knots that are kept no longer have to hold: (the map, parts)."""
    kept = [(one.what, moment_of(one)) for one in chosen.statements]
    gone = [one for one in state.map_choice().statements if (one.what, moment_of(one)) not in kept]
    return loosened(state, chosen, gone, back=False)


def loosened(
    state: SessionState, chosen: MapPart, gone: Iterable[Statement], *, back: bool
) -> tuple[MapPart, dict[str, Any]]:
    """The map without what knots that are kept hold of statements that leave: (the map, parts); back: beats
    there go back to where they were found.
    """
    moments = [time for one in gone if one.knotted and (time := moment_of(one)) is not None]
    kind = state.kind_of(state.map_choice())
    if not moments or kind is None:
        return chosen, {}
    fields, parts = kind.loosened(moments, back=back)
    return chosen.model_copy(update=fields), parts


def of_one_tempo(
    state: SessionState, chosen: MapPart, bpm: float, start_s: float, meters: tuple[Meter, ...]
) -> MapPart:
    """A map of one tempo in which everything that is stated is solved for.

    bpm, start_s  quarters a minute, and where bar 1 lies, before anything is stated of lines
    """
    near_audio(state, start_s)
    kept = tuple((meter.bar, meter.numerator, meter.denominator) for meter in meters)
    made = settled(chosen, False).model_copy(
        update={"kind": "steady", "bpm": checked_bpm(bpm), "bar_1_s": start_s, "meters": kept}
    )
    # How fast the lead is read is in the tempo already.
    read = [
        one.model_copy(update={"knotted": True}) if isinstance(one, LevelStatement) else one
        for one in made.statements
    ]
    return heard_anew(state, with_list(made, read))


def heard_anew(state: SessionState, chosen: MapPart) -> MapPart:
    """The same ties in a map of another kind, or on another ground: each about the place that it is about
    now.
    """
    now, kind = state.session_map(), state.kind_of(chosen)
    if now is None or kind is None or not chosen.stated.ties:
        return chosen
    named = kind.named(replace(chosen.stated, ties=()))

    def made(one: Statement) -> Statement:
        if not isinstance(one, MomentStatement) or one.heard_s is None:
            return one
        return one.model_copy(update={"heard_s": named.second(same_place(now, now.place(one.time_s), named))})

    return with_list(chosen, map(made, chosen.statements))


def last_bar(state: SessionState, line: TempoMap[Any], offset_s: float = 0.0) -> int:
    """Index of the bar in which the session's audio ends, on a map whose clock shows that much less than the
    session's.
    """
    return line.bar_of(line.place(state.end_s() - offset_s))


def effect_of(old: TempoMap[Any], new: TempoMap[Any], until_s: float | None = None) -> str:
    """What a change of a map moved, in words; until_s: where the music ends, of a map that runs on."""
    moved = anchors.largest_move_ms(old, new, until_s)
    if moved is None:
        more = 0 if until_s is None else lines_more(old, new, until_s)
        return f"{more_words(more)}, the others stay" if more else "no bar line moved"
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
    why = "all that you stated holds" if chosen.stated.others else "every downbeat you confirmed opens a bar"
    return f" {named[0].upper()}{named[1:]}, so that {why}."


def _filled(note: str, line: TempoMap[Any]) -> str:
    """A sentence with the {bpm} of a map, and with {bar_1} where its bar 1 lies."""
    bpm = f"{line.bpm_at(0.0) / line.meters[0].beat_quarters:.2f}"
    return note.replace("{bpm}", bpm).replace("{bar_1}", words.first_line(line.second(0.0)))


def renamed(meter: Meter) -> Meter:
    """The same meter for the whole map."""
    return replace(meter, bar=1)
