"""What the user says of the tempo: one for all, or as it was played; twice or half as fast; read again near
another.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from combpace.core.analysis.bundle import on_strokes_of
from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.analysis.take import Hints, read
from combpace.core.beats.candidates import TempoSpan
from combpace.core.clocks import TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index
from combpace.core.tempo.recount import is_line, nearest_bar
from combpace.core.tempo.statements import numbered
from combpace.session import words
from combpace.session.decisions import Args, Change, NoArgs, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import BarStatement, MapPart, TakeEntry, TempoStatement
from combpace.session.heard_again import all_stated
from combpace.session.map_changes import (
    breathing_change,
    checked_bpm,
    effect_of,
    need_line,
    need_pace,
    odd_words,
    stated_bars,
    steady_change,
    steady_line,
    steady_now,
    with_statement,
)
from combpace.session.reach import near_audio
from combpace.session.state import SessionState

# How far from the tempo that the user names a pulse is looked for.
READ_WITHIN = 1.1
# Tempi are one where they differ by no more than this.
SAME_TEMPO = 0.02
# A reading whose bar 1 lies farther than this from where bar 1 was, in bars, is numbered as it was.
SAME_BAR_1 = 2.0
FASTER = {
    Fraction(2): "twice", Fraction(3): "three times", Fraction(1, 2): "half", Fraction(1, 3): "a third",
    Fraction(3, 2): "one and a half times",
    Fraction(2, 3): "two thirds",
}  # fmt: skip


class SteadyArgs(Args):
    """bpm: counted beats a minute; without it what was stated before, or what fits the lead best. nudged: one
    gesture with the last.
    """

    bpm: str | float | None = None
    bar_1_s: str | float | None = None
    nudged: bool = False


class ScaleArgs(Args):
    """factor: 2, 3, "3/2" or "2/3" times as fast, -2 and -3 for half and a third; bar: from its line on."""

    factor: int | Literal["3/2", "2/3"]
    bar: int | None = None


class ReadingArgs(Args):
    """rank: of the readings, 1 is the likeliest as analysed."""

    rank: int


class AboutArgs(Args):
    about_bpm: str | float


@decision("steady", SteadyArgs)
def steady(state: SessionState, args: SteadyArgs) -> Change:
    """One tempo for the session. A nudge turns the tempo about bar 1."""
    lead, now, chosen = state.need_lead(), state.session_map(), state.map_choice()
    was_steady = chosen.kind == "steady"
    meters = chosen.steady_meters if was_steady else now.meters if now else (Meter(1, 4, 4),)
    beat = meters[0].beat_quarters
    bpm = None if args.bpm is None else words.read_number(args.bpm, "The tempo", 5, 1000)
    given = args.bar_1_s if isinstance(args.bar_1_s, float | int | None) else words.read_clock(args.bar_1_s)
    pace = state.own_pace(lead.id)
    fitted = (
        steady_tempo(pace, state.struck(lead.id), state.duration_s(lead.id)) if pace is not None else None
    )
    if bpm is not None:
        chosen, _ = with_statement(chosen, TempoStatement(bpm=checked_bpm(bpm * beat)))
    elif chosen.stated_bpm is not None:
        bpm = chosen.stated_bpm / beat
    elif fitted is not None:
        bpm = fitted.bpm
    else:
        raise ParameterError("No pulse was found in the lead; state a tempo. Nothing was changed.")
    start = 0.0 if fitted is None else fitted.first_downbeat_s + lead.offset_s
    start = chosen.bar_1_s if was_steady and chosen.bar_1_s is not None else start
    if given is not None:
        start = near_audio(state, float(given))
        chosen, _ = with_statement(chosen, BarStatement(time_s=start, bar=1))
    line = steady_line(state, chosen, checked_bpm(bpm * beat), start, meters)
    note = f"The session runs at a steady {bpm:.2f} BPM, bar 1 {{bar_1}}."
    if now is not None and not was_steady:
        note = (
            f"The session runs at a steady {bpm:.2f} BPM from now on, and no longer as {lead.name} was "
            "played; bar 1 {bar_1}."
        )
    return steady_change(state, chosen, line, note, gesture="tempo" if args.nudged else None)


@decision("breathing", NoArgs)
def breathing(state: SessionState, args: NoArgs) -> Change:
    """The session's map is the lead's own pace, through everything that was stated."""
    lead = state.need_lead()
    pace = need_pace(state, lead)
    chosen = state.map_choice()
    new = all_stated(state, lead, pace, chosen.stated.shifted(-lead.offset_s))
    parts: dict[str, object] = {"map": forms.map_part(chosen.model_copy(update={"kind": "own"}))}
    if new != pace:
        parts[f"pace:{lead.id}"] = forms.pace_part(new)
    holds = (
        " What you stated holds in it."
        if chosen.stated.bars or chosen.stated.downbeats or chosen.stated.meters
        else ""
    )
    tempo = (
        f" {chosen.stated_bpm / new.meters[0].beat_quarters:.2f} BPM is kept for when it is steady again."
        if chosen.stated_bpm
        else ""
    )
    return Change(
        parts, f"The map follows {lead.name} as it was played.{holds}{odd_words(new, pace, chosen)}{tempo}"
    )


@decision("scale", ScaleArgs)
def scale(state: SessionState, args: ScaleArgs) -> Change:
    """Read the same music twice (2), half (-2), three times (3), a third (-3), 3/2 or 2/3 as fast, all or
    from a bar on; the map's kind stays.
    """
    times = anchors.scale_factor(Fraction(args.factor) if isinstance(args.factor, str) else args.factor)
    lead, chosen = state.need_lead(), state.map_choice()
    share = float(times)
    from_here = "" if args.bar is None or args.bar <= 1 else f" from bar {args.bar} on"
    note = f"The tempo is read {FASTER[times]} as fast{from_here}"
    if chosen.kind == "steady":
        if args.bar is not None:
            raise ParameterError(
                "A steady map has one tempo; follow the lead's own pace first, or read all of it "
                "at another. Nothing was changed."
            )
        bpm, start, _ = steady_now(state)
        chosen = _with_tempo(chosen, share)
        meters = anchors.scaled_meters(state.need_map(), share)
        return steady_change(
            state, chosen, steady_line(state, chosen, bpm * share, start, meters), f"{note}: {{bpm}} BPM."
        )
    pace = need_line(state, lead)
    place = None if args.bar is None else pace.bar_line(bar_index(args.bar))
    new = numbered(anchors.scale_tempo(pace, times, place), chosen.stated.shifted(-lead.offset_s))
    return breathing_change(
        state, lead, pace, new, _with_tempo(chosen, share) if place is None else chosen, note
    )


def _with_tempo(chosen: MapPart, share: float) -> MapPart:
    return (
        chosen
        if chosen.stated_bpm is None
        else with_statement(chosen, TempoStatement(bpm=checked_bpm(chosen.stated_bpm * share)))[0]
    )


class LimitArgs(Args):
    """ms: what may pile up at the end of the audio before a rounder tempo is no longer proposed."""

    ms: str | float


@decision("limit", LimitArgs)
def limit(state: SessionState, args: LimitArgs) -> Change:
    """How much may pile up at the end under a rounder tempo."""
    value = words.read_number(args.ms, "The limit", 0.1, 10000)
    chosen = state.document.map.model_copy(update={"limit_ms": value})
    return Change(
        {"map": forms.map_part(chosen)},
        f"A rounder tempo is proposed while it is off by no more than {value:g} ms at the end. "
        "Nothing moved.",
    )


@decision("reading", ReadingArgs)
def reading(state: SessionState, args: ReadingArgs) -> Change:
    """Count the lead in another of the ways that were heard: map, meter and bar 1 follow; what was stated
    holds in it.
    """
    lead, chosen = state.need_lead(), state.map_choice()
    offered = state.readings(lead.id)
    if not 1 <= args.rank <= len(offered):
        many = f"has {words.count(len(offered), 'reading')}" if offered else "has no other readings"
        raise ParameterError(f"{lead.name} {many}; number {args.rank} is none of them. Nothing was changed.")
    taken, old = offered[args.rank - 1], state.own_pace(lead.id)
    stated = chosen.stated.shifted(-lead.offset_s)
    new = all_stated(state, lead, taken.pace, stated)
    more = ""
    if stated.everywhere is not None and str(stated.everywhere) != taken.meter:
        more += f" The {stated.everywhere} that you stated stays, though this reading has {taken.meter}."
    if (
        chosen.stated_bpm is not None
        and abs(chosen.stated_bpm / taken.pace.meters[0].beat_quarters / taken.bpm - 1) > SAME_TEMPO
    ):
        beat = state.need_map().meters[0].beat_quarters
        more += f" The {chosen.stated_bpm / beat:.2f} BPM that you stated contradict it and no longer hold."
        chosen = _without_tempo(chosen)
    note = (
        f"{lead.name} is counted in {taken.meter} at {taken.bpm:.1f} BPM, reading {taken.rank} of "
        f"{len(offered)}"
    )
    return _as_read(state, lead, old or new, new, chosen, note, more)


def _without_tempo(chosen: MapPart) -> MapPart:
    return chosen.model_copy(
        update={"statements": tuple(one for one in chosen.statements if not isinstance(one, TempoStatement))}
    )


def _as_read(
    state: SessionState,
    lead: TakeEntry,
    old: TempoMap[TakeTimes],
    new: TempoMap[TakeTimes],
    chosen: MapPart,
    note: str,
    more: str = "",
) -> Change:
    """The lead read in another way: a session that is steady, or would be by itself, stays steady; else the
    map follows it.
    """
    chosen = chosen if chosen.kind == "steady" else chosen.model_copy(update={"kind": "own"})
    fitted = steady_tempo(new, state.struck(lead.id), state.duration_s(lead.id))
    kind = state.document.map.kind
    if kind != "steady" and (
        kind != "auto" or state.map_choice().kind != "steady" or fitted.verdict != "steady"
    ):
        return breathing_change(state, lead, old, new, chosen, note, more)
    beat, start = new.meters[0].beat_quarters, fitted.first_downbeat_s + lead.offset_s
    bpm = fitted.bpm * beat if chosen.stated_bpm is None else chosen.stated_bpm
    change = steady_change(
        state,
        chosen,
        steady_line(state, chosen, checked_bpm(bpm), start, new.meters),
        f"{note}; {effect_of(old, new)}.{more}",
    )
    return Change({**change.parts, f"pace:{lead.id}": forms.pace_part(new)}, change.note)


@decision("read-again", AboutArgs)
def read_again(state: SessionState, args: AboutArgs) -> Change:
    """Read the lead's pulse again near a tempo that the user knows; what was stated and fixed stays where it
    is.
    """
    about_bpm = words.read_number(args.about_bpm, "The tempo", 30, 300)
    lead = state.need_lead()
    heard, activations = (
        state.analysis(lead.id),
        state.folder.activations(state.rows[lead.id]) if lead.id in state.rows else None,
    )
    if heard is None or activations is None:
        raise ParameterError(
            f"{lead.name} was heard by an earlier version of the program; listen to it again in "
            "Takes first. Nothing was changed."
        )
    old, chosen = state.own_pace(lead.id), state.map_choice()
    stated = chosen.stated.shifted(-lead.offset_s)
    fixed = anchors.anchors(old) if old else ()
    for knot in fixed:
        if old is None or not is_line(old, knot.quarters):
            raise ParameterError(
                f"What is fixed at {words.clock(knot.time_s + lead.offset_s)} lies inside a bar and "
                "has no place in another reading; "
                "release it first. Nothing was changed."
            )
    held = sorted({*(knot.time_s for knot in fixed), *stated.downbeats} - {time for time, _ in stated.bars})
    inside = [time for time in held if 0.0 <= time <= state.duration_s(lead.id)]
    span = TempoSpan(about_bpm / READ_WITHIN, about_bpm * READ_WITHIN)
    # All mics of a bundle are heard, as they were at first; what is fixed was put there by hand and stays to
    # the sample.
    bars = tuple((time, bar) for time, bar in stated.bars if 0.0 <= time <= state.duration_s(lead.id))
    hints = Hints(bars=bars[:1], downbeats=tuple(inside), meter=stated.everywhere, tempi=(span,), exact=True)
    _, new, _, _ = read(activations, state.struck(lead.id), hints, state.duration_s(lead.id))
    if new is None:
        raise ParameterError(
            f"No pulse near {about_bpm:g} BPM was found in {lead.name}. Nothing was changed."
        )
    if len(state.document.bundle_of(lead.id)) > 1:
        new = on_strokes_of(new, state.onsets(lead.id))
    if old is not None and not stated_bars(chosen) and not held:
        new = _numbered_as_before(new, old)
    new = all_stated(state, lead, new, stated)
    for knot in fixed:
        if knot.locked:
            new = anchors.lock(new, new.place(knot.time_s), True)
    chosen = _without_tempo(chosen)
    note = f"{lead.name} is read again near {about_bpm:g} BPM"
    if fixed:
        note += f"; {words.count(len(fixed), 'anchor')} stayed in place"
    return _as_read(state, lead, old or new, new, chosen, note)


def _numbered_as_before(new: TempoMap[TakeTimes], old: TempoMap[TakeTimes]) -> TempoMap[TakeTimes]:
    """A reading in which nothing says where bar 1 is: it stays at the line nearest to where it was."""
    before = old.second(0.0)
    index = nearest_bar(new, new.place(before))
    bar_s = 60.0 * new.meters[0].bar_quarters / new.bpm_at(0.0)
    return (
        new.counted_from(new.bar_line(index)) if abs(new.second(0.0) - before) > SAME_BAR_1 * bar_s else new
    )
