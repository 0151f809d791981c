"""What the user says of bars: which moment is which bar, what opens a bar, what is tied to what, in what
meter they are.
"""

from __future__ import annotations

from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, parse_meter
from combpace.core.tempo.recount import is_line, nearest_bar
from combpace.core.tempo.statements import numbered
from combpace.session import words
from combpace.session.decisions import Args, Change, Quarters, Seconds, decision
from combpace.session.document.model import (
    BarStatement,
    DownbeatStatement,
    MapPart,
    MeterStatement,
    Statement,
    TakeEntry,
    TempoStatement,
)
from combpace.session.heard_again import heard_again, steady_again
from combpace.session.map_changes import (
    SAME_MOMENT_S,
    breathing_change,
    meant,
    moment_of,
    need_line,
    renamed,
    stated_bars,
    steady_change,
    steady_line,
    steady_now,
    with_statement,
    without_statements,
)
from combpace.session.reach import near_audio, near_place
from combpace.session.state import SessionState

# Shift frees a drag; otherwise it catches on the nearest attack this near.
CATCH_S = 0.030
# A downbeat that is stated this near to an older one, in bars, means the same bar line.
SAME_LINE = 0.5
# Two stated bars between which the music would run so much faster or slower than it was heard: the older one
# is meant no more.
MOST_SQUEEZED = 1.2


class MomentArgs(Args):
    time_s: Seconds


class BarArgs(Args):
    time_s: Seconds
    bar: int = Field(ge=-10000, le=100000)


class PullArgs(Args):
    """free: the moment is meant as it stands; alone: no other bar line moves."""

    time_s: Seconds
    quarters: Quarters
    free: bool = False
    alone: bool = False


class PlaceArgs(Args):
    quarters: Quarters


class LockArgs(Args):
    quarters: Quarters
    locked: bool = True


class MeterArgs(Args):
    """bar: from the line of this bar on; without it for the whole map."""

    meter: str = Field(max_length=12)
    bar: int | None = None


@decision("bar-1", MomentArgs)
def bar_1(state: SessionState, args: MomentArgs) -> Change:
    """This moment of the session is the line of bar 1."""
    return bar_here(state, args.time_s, 1)


@decision("bar", BarArgs)
def bar(state: SessionState, args: BarArgs) -> Change:
    """This moment of the session is the line of that bar."""
    bar_index(args.bar)
    return bar_here(state, args.time_s, args.bar)


def bar_here(state: SessionState, time_s: float, number: int) -> Change:
    """The moment is the line of that bar, in every kind of map."""
    lead = state.need_lead()
    at = meant(state, lead, time_s)
    chosen = state.map_choice()
    same = [*_on_the_same_line(state, at, bars_too=True), *_renumbers(state, chosen, at, number)]
    chosen, replaced = with_statement(chosen, BarStatement(time_s=at, bar=number), same)
    if chosen.kind == "steady":
        said = (
            "Bar 1 is {bar_1}; all bars are counted from there."
            if number == 1
            else f"Bar {number} is at {words.clock(at)}."
        )
        line = steady_again(state, lead, chosen, steady_line(state, chosen, *steady_now(state)))
        return steady_change(state, chosen, line, said + replaced)
    pace = need_line(state, lead)
    freed = _freed(state, pace, chosen, lead, at)
    new = heard_again(state, lead, freed, chosen, at)
    if new is None:
        alone = len(stated_bars(chosen)) == 1
        new = anchors.set_bar(freed, at - lead.offset_s, number, state.onsets(lead.id), renumber=alone)
    return breathing_change(state, lead, pace, new, chosen, f"Bar {number} is at {words.clock(at)}", replaced)


@decision("downbeat", MomentArgs)
def downbeat(state: SessionState, args: MomentArgs) -> Change:
    """This moment of the session is a downbeat."""
    lead = state.need_lead()
    at = meant(state, lead, args.time_s)
    chosen, same = state.map_choice(), _on_the_same_line(state, at, bars_too=False)
    _refuse_a_stated_line(state, chosen, at)
    chosen, replaced = with_statement(chosen, DownbeatStatement(time_s=at), same)
    if chosen.kind == "steady":
        line = steady_again(state, lead, chosen, steady_line(state, chosen, *steady_now(state)))
        index = nearest_bar(line, line.place(at))
        number, _ = line.address(line.bar_line(index) + 1e-6)
        off_ms = 1000 * (at - line.second(line.bar_line(index)))
        beside = "" if abs(off_ms) < 0.05 else f"; it lies {words.signed_ms(off_ms)} ms from its line"
        return steady_change(
            state, chosen, line, f"{words.clock(at)} is the downbeat of bar {number}{beside}.{replaced}"
        )
    pace = need_line(state, lead)
    freed = _freed(state, pace, chosen, lead, at)
    new = heard_again(state, lead, freed, chosen, at)
    if new is None:
        counted = bool(stated_bars(chosen))
        new = anchors.set_downbeat(freed, at - lead.offset_s, state.onsets(lead.id), numbered=counted)
        new = numbered(new, chosen.stated.shifted(-lead.offset_s))
    number, _ = new.address(new.place(at - lead.offset_s) + 1e-6)
    return breathing_change(
        state, lead, pace, new, chosen, f"{words.clock(at)} is the downbeat of bar {number}", replaced
    )


@decision("pull", PullArgs)
def pull(state: SessionState, args: PullArgs) -> Change:
    """Pull an attack onto a tooth: the tooth gets an anchor at the attack's time.

    A steady map moves as a whole, or turns about what was stated of it before.
    """
    lead = state.need_lead()
    place = near_place(state, args.quarters)
    at = near_audio(state, args.time_s) if args.free else meant(state, lead, args.time_s, CATCH_S)
    shown = words.place(state.need_map(), place)
    if state.map_choice().kind == "steady":
        return _pulled_steady(state, at, place, shown)
    pace = need_line(state, lead)
    solve = anchors.fix_line_alone if args.alone and is_line(pace, place) else anchors.fix_place
    new = solve(pace, at - lead.offset_s, place, state.onsets(lead.id))
    chosen = state.map_choice()
    before = anchors.anchor_at(pace, place)
    if before is not None:
        chosen = _moved(chosen, before.time_s + lead.offset_s, at)
    if is_line(new, place) and not any(_at(one, at) for one in chosen.statements):
        chosen, _ = with_statement(chosen, DownbeatStatement(time_s=at))
    return breathing_change(state, lead, pace, new, chosen, f"{shown} is fixed at {words.clock(at)}")


def _pulled_steady(state: SessionState, at: float, place: float, shown: str) -> Change:
    line, chosen = state.need_map(), state.map_choice()
    bpm, start, meters = steady_now(state)
    was = line.second(place)
    stated = next(
        (
            one
            for one in chosen.statements
            if isinstance(one, BarStatement) and abs(_line_of(line, one) - place) < 1e-6
        ),
        None,
    )
    pivot = next(
        (
            one
            for one in chosen.statements
            if isinstance(one, BarStatement | DownbeatStatement) and one != stated
        ),
        None,
    )
    if stated is not None or pivot is None:
        # What is pulled is all that says where the map lies: it moves as a whole.
        if stated is not None:
            chosen, _ = with_statement(chosen, BarStatement(time_s=at, bar=stated.bar))
        elif is_line(line, place):
            chosen, _ = with_statement(chosen, DownbeatStatement(time_s=at))
        moved = steady_line(state, chosen, bpm, start + at - was, meters)
        note = (
            f"The steady map moved by {words.signed_ms(1000 * (at - was))} ms, so that {shown} is on "
            "its attack."
        )
        return steady_change(state, chosen, moved, note)
    about = _line_of(line, pivot)
    if chosen.stated_bpm is not None:
        beat = line.meters[0].beat_quarters
        raise ParameterError(
            f"{words.place(line, about)} at {words.clock(pivot.time_s)} and the tempo of "
            f"{chosen.stated_bpm / beat:.2f} BPM are stated, and leave no "
            f"room to pull {shown} by {words.signed_ms(1000 * (at - was))} ms. Nothing was changed; "
            "nudge the tempo, or state bar 1 anew."
        )
    turned = 60.0 * (place - about) / (at - pivot.time_s) if abs(at - pivot.time_s) > 1e-6 else 0.0
    if abs(turned / bpm - 1) > 0.1:
        raise ParameterError(
            f"{shown} there would turn the tempo by more than a tenth about "
            f"{words.clock(pivot.time_s)}. Nothing was changed."
        )
    note = (
        f"The steady map turned about {words.clock(pivot.time_s)} to {{bpm}} BPM, so that {shown} is on "
        "its attack."
    )
    return steady_change(state, chosen, steady_line(state, chosen, turned, start, meters), note)


@decision("release", PlaceArgs)
def release(state: SessionState, args: PlaceArgs) -> Change:
    """Take an anchor, and with it what was stated of its moment, back."""
    lead, chosen = state.need_lead(), state.map_choice()
    shown = words.place(state.need_map(), args.quarters)
    if chosen.kind == "steady":
        line = state.need_map()
        here = next(
            (
                m
                for one in chosen.statements
                if (m := moment_of(one)) is not None and abs(_line_of(line, one) - args.quarters) < 0.02
            ),
            None,
        )
        if here is None:
            raise ParameterError(f"Nothing was stated at {shown}; the map is unchanged.")
        chosen = without_statements(chosen, here)
        return steady_change(
            state, chosen, steady_line(state, chosen, *steady_now(state)), f"{shown} is no longer stated."
        )
    pace = need_line(state, lead)
    heard = state.analysis(lead.id)
    anchor = anchors.anchor_at(pace, args.quarters)
    new = anchors.release(pace, args.quarters, state.onsets(lead.id), heard.pace if heard else None)
    if anchor is not None:
        chosen = without_statements(chosen, anchor.time_s + lead.offset_s)
    return breathing_change(state, lead, pace, new, chosen, f"{shown} is no longer fixed")


@decision("lock", LockArgs)
def lock(state: SessionState, args: LockArgs) -> Change:
    """It is right, lock it: the place becomes an anchor where it is, guarded against drag and delete."""
    lead, chosen = state.need_lead(), state.map_choice()
    if chosen.kind == "steady":
        raise ParameterError(
            "A steady map has one tempo and no anchors to lock; follow the lead's own pace first. "
            "Nothing was changed."
        )
    pace = need_line(state, lead)
    near_place(state, args.quarters)
    new = anchors.lock(pace, args.quarters, args.locked)
    at = new.second(args.quarters) + lead.offset_s
    if args.locked and is_line(new, args.quarters) and not any(_at(one, at) for one in chosen.statements):
        chosen, _ = with_statement(chosen, DownbeatStatement(time_s=at))
    what = f"{words.place(pace, args.quarters)} is {'locked where it is' if args.locked else 'unlocked'}"
    return breathing_change(state, lead, pace, new, chosen, what)


@decision("meter", MeterArgs)
def meter(state: SessionState, args: MeterArgs) -> Change:
    """Another meter, for the whole map or from the line of a bar on. Confirmed downbeats go on opening
    bars.
    """
    lead, chosen = state.need_lead(), state.map_choice()
    new_meter = parse_meter(args.meter)
    line = state.need_map()
    # From bar 1 on, or from before it, is everywhere.
    index = None if args.bar is None or bar_index(args.bar) <= 0 else bar_index(args.bar)
    if index is None:
        note, statement = f"The meter is {new_meter} for all bars", MeterStatement(meter=str(new_meter))
    else:
        at = near_audio(state, line.second(line.bar_line(index)))
        note, statement = (
            f"The meter is {new_meter} from bar {args.bar} on",
            MeterStatement(meter=str(new_meter), time_s=at),
        )
    chosen, replaced = with_statement(chosen, statement)
    if chosen.kind == "steady":
        bpm, start, meters = steady_now(state)
        if index is None:
            share = new_meter.beat_quarters / meters[0].beat_quarters
            bpm, meters = bpm * share, (renamed(new_meter),)
            chosen = _tempo_times(chosen, share)
        return steady_change(
            state, chosen, steady_line(state, chosen, bpm, start, meters), f"{note}.{replaced}"
        )
    pace = need_line(state, lead)
    new = heard_again(state, lead, pace, chosen)
    if new is not None:
        return breathing_change(state, lead, pace, new, chosen, note, replaced)
    if index is None:
        new = anchors.set_meter(pace, new_meter)
    else:
        later = [
            time
            for time, _ in chosen.stated.changes
            if time > line.second(line.bar_line(index)) + SAME_MOMENT_S
        ]
        until = pace.bar_line(nearest_bar(pace, pace.place(later[0] - lead.offset_s))) if later else None
        new = anchors.set_meter_from(pace, pace.bar_line(index), new_meter, until)
    new = numbered(new, chosen.stated.shifted(-lead.offset_s))
    return breathing_change(state, lead, pace, new, chosen, note, replaced)


# -- which statements are about one line


def _on_the_same_line(state: SessionState, at: float, *, bars_too: bool) -> list[Statement]:
    """Older statements of another moment that mean the bar line that is meant now: a downbeat within half a
    bar.
    """
    line = state.session_map()
    if line is None:
        return []
    place = line.place(at)
    reach = SAME_LINE * line.meter_of(line.bar_of(place)).bar_quarters
    kinds = BarStatement | DownbeatStatement if bars_too else DownbeatStatement
    return [
        one
        for one in state.document.map.statements
        if isinstance(one, kinds) and abs(line.place(one.time_s) - place) < reach - 1e-6
    ]


def _refuse_a_stated_line(state: SessionState, chosen: MapPart, at: float) -> None:
    """A downbeat within half a beat of a bar whose line was stated would move that line: only another
    statement of the bar does.
    """
    line = state.session_map()
    for one in stated_bars(chosen):
        if (
            line is None
            or abs(line.place(one.time_s) - line.place(at))
            < 0.5 * line.meter_of(line.bar_of(line.place(at))).beat_quarters
        ):
            raise ParameterError(
                f"{words.clock(at)} and bar {one.bar}, stated at {words.clock(one.time_s)}, are one "
                "bar line, and it stays where it was stated. "
                f"Nothing was changed; to move it, say anew which attack is bar {one.bar}."
            )


def _renumbers(state: SessionState, chosen: MapPart, at: float, number: int) -> list[Statement]:
    """Stated bars that cannot be meant any more: this one is numbered so that far more or fewer bars would
    lie between.
    """
    line = state.session_map()
    if line is None:
        return []
    here = nearest_bar(line, line.place(at))
    gone: list[Statement] = []
    for one in stated_bars(chosen):
        counted, meant_now = (
            here - nearest_bar(line, line.place(one.time_s)),
            bar_index(number) - bar_index(one.bar),
        )
        if counted != meant_now and (
            counted * meant_now <= 0 or not 1 / MOST_SQUEEZED < meant_now / counted < MOST_SQUEEZED
        ):
            gone.append(one)
    return gone


def _freed(state: SessionState, pace: TempoMap, chosen: MapPart, lead: TakeEntry, at: float) -> TempoMap:  # type: ignore[type-arg]
    """A pace without the anchors of statements that hold no more, but for the one at the moment itself."""
    kept = [moment_of(one) for one in chosen.statements]
    for old in state.document.map.statements:
        moment = moment_of(old)
        if (
            moment is not None
            and isinstance(old, BarStatement | DownbeatStatement)
            and moment not in kept
            and abs(moment - at) > SAME_MOMENT_S
        ):
            pace = anchors.unfixed(pace, moment - lead.offset_s, SAME_MOMENT_S)
    return pace


def _moved(chosen: MapPart, old_s: float, new_s: float) -> MapPart:
    """The statement about one moment, made about another."""
    moved = tuple(
        one.model_copy(update={"time_s": new_s})
        if _at(one, old_s) and isinstance(one, BarStatement | DownbeatStatement)
        else one
        for one in chosen.statements
    )
    return chosen.model_copy(update={"statements": moved})


def _at(one: Statement, time_s: float) -> bool:
    moment = moment_of(one)
    return moment is not None and not isinstance(one, MeterStatement) and abs(moment - time_s) < SAME_MOMENT_S


def _line_of(line: TempoMap, one: Statement) -> float:  # type: ignore[type-arg]
    """Place of the bar line that a statement is about."""
    moment = moment_of(one)
    return line.bar_line(nearest_bar(line, line.place(moment if moment is not None else 0.0)))


def _tempo_times(chosen: MapPart, share: float) -> MapPart:
    """A stated tempo where what is counted changes by a factor."""
    made = tuple(
        TempoStatement(bpm=one.bpm * share) if isinstance(one, TempoStatement) else one
        for one in chosen.statements
    )
    return chosen.model_copy(update={"statements": made})
