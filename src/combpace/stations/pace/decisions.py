"""What the user says of the tempo: one for all, or as it was played; twice or half as fast; read again near
another.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from combpace.core.analysis.bundle import on_strokes_of
from combpace.core.analysis.steady_tempo import SteadyTempo, steady_tempo
from combpace.core.analysis.take import Hints, read
from combpace.core.beats.candidates import TempoSpan
from combpace.core.clocks import TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number
from combpace.core.tempo.recount import is_line, nearest_bar
from combpace.session import words
from combpace.session.decisions import Args, BarsArgs, Change, NoArgs, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart, TakeEntry
from combpace.session.document.stated import (
    BarStatement,
    DownbeatStatement,
    LevelStatement,
    ReadingStatement,
    TempoStatement,
)
from combpace.session.foresight import as_if
from combpace.session.map_changes import (
    checked_bpm,
    heard_anew,
    need_pace,
    odd_words,
    of_one_tempo,
    restated,
    solved_map,
)
from combpace.session.reach import near_audio
from combpace.session.saying import (
    FASTER,
    SAME_MOMENT_S,
    at_moment,
    settled,
    with_list,
    with_statement,
    without,
)
from combpace.session.state import SessionState

# How far from the tempo that the user names a pulse is looked for.
READ_WITHIN = 1.1
# Tempi are one where they differ by no more than this.
SAME_TEMPO = 0.02
# A reading whose bar 1 lies farther than this from where bar 1 was, in bars, is numbered as it was.
SAME_BAR_1 = 2.0


class SteadyArgs(Args):
    """bpm: counted beats a minute; without it what was stated before, or what fits the lead best. nudged: one
    gesture with the last.
    """

    bpm: str | float | None = None
    bar_1_s: str | float | None = None
    nudged: bool = False


class ScaleArgs(BarsArgs):
    """factor: 2, 3, "3/2" or "2/3" times as fast, -2 and -3 for half and a third; bar: from its line on;
    to_bar: up to the end of this one.
    """

    factor: int | Literal["3/2", "2/3"]
    bar: int | None = None
    to_bar: int | None = None


class ReadingArgs(Args):
    """rank: of the readings, 1 is the likeliest as analysed."""

    rank: int


class AboutArgs(Args):
    about_bpm: str | float


@decision("steady", SteadyArgs)
def steady(state: SessionState, args: SteadyArgs) -> Change:
    """One tempo for the session. A nudge turns the tempo about bar 1."""
    lead, now, chosen = state.need_lead(), state.session_map(), state.map_choice()
    was = state.kind_of(chosen) if now is not None else None
    was_steady = was is not None and not was.breathes
    meters = now.meters if now else (Meter(1, 4, 4),)
    beat = meters[0].beat_quarters
    bpm = None if args.bpm is None else words.read_number(args.bpm, "The tempo", 5, 1000)
    given = args.bar_1_s if isinstance(args.bar_1_s, float | int | None) else words.read_clock(args.bar_1_s)
    fitted = _fitted(state, lead)
    if bpm is not None:
        chosen, _ = with_statement(chosen, TempoStatement(bpm=checked_bpm(bpm * beat)))
    stated = None if chosen.stated_bpm is None else chosen.stated_bpm / beat
    tempo = stated if fitted is None else fitted.bpm
    if tempo is None:
        raise ParameterError("No pulse was found in the lead; state a tempo. Nothing was changed.")
    start = 0.0 if fitted is None else fitted.first_downbeat_s + lead.offset_s
    if given is not None:
        start = near_audio(state, float(given))
        chosen, _ = with_statement(chosen, BarStatement(time_s=start, bar=1))
    if not was_steady:
        chosen = of_one_tempo(state, chosen, tempo * beat, start, meters)
    elif stated is None:
        chosen = of_one_tempo(state, chosen, tempo * beat, chosen.bar_1_s or 0.0, chosen.steady_meters)
    from_now_on = (
        "" if was_steady or now is None else f" from now on, and no longer as {lead.name} was played"
    )
    note = f"The session runs at a steady {{bpm}} BPM{from_now_on}, bar 1 {{bar_1}}"
    return restated(state, chosen, note, gesture="tempo" if args.nudged else None)


def _fitted(state: SessionState, lead: TakeEntry) -> SteadyTempo | None:
    """How one tempo fits the lead as it is read now; None without a pulse."""
    pace = state.own_pace(lead.id)
    if pace is None:
        return None
    return steady_tempo(pace, state.struck(lead.id), state.duration_s(lead.id))


@decision("breathing", NoArgs)
def breathing(state: SessionState, args: NoArgs) -> Change:
    """The session's map is the lead's own pace, through everything that was stated."""
    lead = state.need_lead()
    need_pace(state, lead)
    chosen = settled(state.map_choice(), False).model_copy(update={"kind": "own"})
    chosen = heard_anew(state, chosen)
    parts: dict[str, object] = {"map": forms.map_part(chosen)}
    new, heard = solved_map(state, parts), state.base_pace(lead.id)
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
        parts, f"The map follows {lead.name} as it was played.{holds}{odd_words(new, heard, chosen)}{tempo}"
    )


@decision("scale", ScaleArgs)
def scale(state: SessionState, args: ScaleArgs) -> Change:
    """Read the same music twice (2), half (-2), three times (3), a third (-3), 3/2 or 2/3 as fast, all or
    from a bar on; the map's kind stays.
    """
    times = anchors.scale_factor(Fraction(args.factor) if isinstance(args.factor, str) else args.factor)
    chosen = state.map_choice()
    line = state.need_map()
    index = None if args.bar is None or bar_index(args.bar) <= 0 else bar_index(args.bar)
    after = None if args.to_bar is None else bar_index(args.to_bar) + 1
    first = index or 0
    where = "" if index is None else f" from bar {args.bar} on"
    if after is not None:
        bars = after - first
        if bars < 1:
            raise ParameterError(f"Bars {args.bar or 1} to {args.to_bar} run backwards. Nothing was changed.")
        if (bars * times).denominator != 1:
            raise ParameterError(
                f"{words.count(bars, 'bar')} read {FASTER[times]} as fast come to no whole number of bars. "
                "Nothing was changed; choose one bar more or fewer."
            )
        where = f" in bars {bar_number(first)} to {args.to_bar}"
    note = f"The tempo is read {FASTER[times]} as fast{where}"
    start, end = (None if at is None else line.second(line.bar_line(at)) for at in (index, after))
    everywhere = index is None and after is None
    chosen = _leveled(_with_tempo(chosen, float(times)) if everywhere else chosen, times, start, end)
    return restated(state, chosen, note)


def _leveled(chosen: MapPart, times: Fraction, from_s: float | None, until_s: float | None = None) -> MapPart:
    """The map read so many times as fast as it is, from a moment on, up to another, or everywhere; levels are
    kept as they are to what was heard.
    """
    levels = {
        one.time_s: Fraction(one.factor) for one in chosen.statements if isinstance(one, LevelStatement)
    }
    for edge in (from_s,) if until_s is None else (from_s, until_s):
        moments = sorted(levels, key=lambda time: -1e9 if time is None else time)
        if not any(_same(time, edge) for time in moments):
            before = [time for time in moments if edge is not None and (time is None or time < edge)]
            levels[edge] = levels[before[-1]] if before else Fraction(1)
    made: list[LevelStatement] = []
    now = Fraction(1)
    for time in sorted(levels, key=lambda time: -1e9 if time is None else time):
        goes_along = from_s is None or (time is not None and time >= from_s - SAME_MOMENT_S)
        if until_s is not None and time is not None and time >= until_s - SAME_MOMENT_S:
            goes_along = False
        factor = levels[time] * times if goes_along else levels[time]
        if factor != now:
            made.append(LevelStatement(factor=str(factor), time_s=time))
        now = factor
    others = [one for one in chosen.statements if not isinstance(one, LevelStatement)]
    return with_list(chosen, [*others, *made])


def _same(a: float | None, b: float | None) -> bool:
    return a is b if a is None or b is None else abs(a - b) < SAME_MOMENT_S


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
    taken, stated = offered[args.rank - 1], chosen.stated
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
    return _as_read(state, lead, chosen, ReadingStatement(rank=args.rank), note, more)


def _without_tempo(chosen: MapPart) -> MapPart:
    return without(chosen, [one for one in chosen.statements if isinstance(one, TempoStatement)])


def _as_read(
    state: SessionState, lead: TakeEntry, chosen: MapPart, read: ReadingStatement, note: str, more: str = ""
) -> Change:
    """The lead read in another way: a session that is steady, or would be by itself, stays steady; else the
    map follows it. A level was one of the reading before, and knots stood in its place.
    """
    levels = [one for one in chosen.statements if isinstance(one, LevelStatement)]
    chosen, _ = with_statement(settled(without(chosen, levels), False), read)
    chosen = chosen if chosen.kind == "steady" else chosen.model_copy(update={"kind": "own"})
    gone = {f"pace:{lead.id}": None}
    as_own = {"map": forms.map_part(chosen.model_copy(update={"kind": "own"})), **gone}
    solved_map(state, as_own)
    new = as_if(state, as_own).own_pace(lead.id)
    assert new is not None
    fitted = steady_tempo(new, state.struck(lead.id), state.duration_s(lead.id))
    kind = state.document.map.kind
    if kind != "steady" and (
        kind != "auto" or state.map_choice().kind != "steady" or fitted.verdict != "steady"
    ):
        return restated(state, chosen, note, more, parts=gone)
    beat, start = new.meters[0].beat_quarters, fitted.first_downbeat_s + lead.offset_s
    chosen = of_one_tempo(state, chosen, fitted.bpm * beat, start, new.meters)
    return restated(state, chosen, note, more, parts=gone)


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
    old, chosen = state.own_pace(lead.id), _with_anchors(state, lead, state.map_choice())
    stated = chosen.stated.shifted(-lead.offset_s)
    fixed = anchors.anchors(old) if old else ()
    for knot in fixed:
        if old is None or not is_line(old, knot.quarters):
            raise ParameterError(
                f"What is fixed at {words.clock(knot.time_s + lead.offset_s)} lies inside a bar and "
                "has no place in another reading; "
                "release it first. Nothing was changed."
            )
    span = TempoSpan(about_bpm / READ_WITHIN, about_bpm * READ_WITHIN)
    # All mics of a bundle are heard, as they were at first; what is stated is solved for in what is read.
    _, new, _, _ = read(activations, state.struck(lead.id), Hints(tempi=(span,)), state.duration_s(lead.id))
    if new is None:
        raise ParameterError(
            f"No pulse near {about_bpm:g} BPM was found in {lead.name}. Nothing was changed."
        )
    if len(state.document.bundle_of(lead.id)) > 1:
        new = on_strokes_of(new, state.onsets(lead.id))
    if old is not None and not stated.opening:
        new = _numbered_as_before(new, old)
    chosen = _without_tempo(chosen)
    note = f"{lead.name} is read again near {about_bpm:g} BPM"
    if fixed:
        note += f"; {words.count(len(fixed), 'anchor')} stayed in place"
    return _as_read(
        state, lead, chosen, ReadingStatement(about_bpm=about_bpm, pace=forms.pace_part(new)), note
    )


def _with_anchors(state: SessionState, lead: TakeEntry, chosen: MapPart) -> MapPart:
    """Anchors of knots that stand in the place of what was heard, as statements: they stay in another
    reading.
    """
    kept = state.document.paces.get(lead.id)
    for knot in anchors.anchors(kept) if kept is not None else ():
        at = knot.time_s + lead.offset_s
        if at_moment(chosen, at) is None:
            chosen, _ = with_statement(chosen, DownbeatStatement(time_s=at, locked=knot.locked))
    return chosen


def _numbered_as_before(new: TempoMap[TakeTimes], old: TempoMap[TakeTimes]) -> TempoMap[TakeTimes]:
    """A reading in which nothing says where bar 1 is: it stays at the line nearest to where it was."""
    before = old.second(0.0)
    index = nearest_bar(new, new.place(before))
    bar_s = 60.0 * new.meters[0].bar_quarters / new.bpm_at(0.0)
    return (
        new.counted_from(new.bar_line(index)) if abs(new.second(0.0) - before) > SAME_BAR_1 * bar_s else new
    )
