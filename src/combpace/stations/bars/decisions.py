"""What the user says of bars: which moment is which bar, what opens a bar, what is tied to what, in what
meter they are.
"""

from __future__ import annotations

from typing import Any

from pydantic import Field

from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, parse_meter
from combpace.core.tempo.recount import is_line, nearest_bar
from combpace.session import words
from combpace.session.decisions import BarsArgs, Change, Quarters, Seconds, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart
from combpace.session.document.stated import (
    AnchorStatement,
    BarStatement,
    DownbeatStatement,
    MeterStatement,
    MomentStatement,
    OtherStatement,
    Reach,
    Statement,
    TempoStatement,
    name_of,
)
from combpace.session.fixed import Fixed, fixed_at
from combpace.session.foresight import as_if
from combpace.session.map_changes import (
    loosened,
    meant,
    replaced_in,
    restated,
    stated_bars,
)
from combpace.session.marks import goes_along
from combpace.session.reach import near_audio, near_place
from combpace.session.reaches import taken
from combpace.session.saying import (
    KNOTS,
    SAME_MOMENT_S,
    settled,
    statement_words,
    with_list,
    with_statement,
    without,
)
from combpace.session.state import SessionState

# Shift frees a drag; otherwise it catches on the nearest attack this near.
CATCH_S = 0.030
# A downbeat that is stated this near to an older one, in bars, means the same bar line.
SAME_LINE = 0.5
# Two stated bars between which the music would run so much faster or slower than it was heard: the older one
# is meant no more.
MOST_SQUEEZED = 1.2


class MomentArgs(BarsArgs):
    time_s: Seconds


class DownbeatArgs(BarsArgs):
    """reach: how far it moves the bars that were heard; without it as the ear has it."""

    time_s: Seconds
    reach: Reach | None = None


class StatementArgs(BarsArgs):
    """id: as the picture's `statements` name it."""

    id: str = Field(max_length=60)


class BarArgs(BarsArgs):
    """reach: as of a downbeat."""

    time_s: Seconds
    bar: int = Field(ge=-10000, le=100000)
    reach: Reach | None = None


class PullArgs(BarsArgs):
    """free: the moment is meant as it stands; alone: no other bar line moves; leave: a mark that the line was
    put on stays where it is.
    """

    time_s: Seconds
    quarters: Quarters
    free: bool = False
    alone: bool = False
    leave: bool = False


class PlaceArgs(BarsArgs):
    quarters: Quarters


class LockArgs(BarsArgs):
    quarters: Quarters
    locked: bool = True


class MeterArgs(BarsArgs):
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
    return bar_here(state, args.time_s, args.bar, args.reach)


def bar_here(state: SessionState, time_s: float, number: int, reach: Reach | None = None) -> Change:
    """The moment is the line of that bar, in every kind of map."""
    at = meant(state, state.need_lead(), time_s)
    chosen = state.map_choice()
    same = [*_on_the_same_line(state, at, bars_too=True), *_renumbers(state, chosen, at, number)]
    chosen, replaced = with_statement(chosen, BarStatement(time_s=at, bar=number, reach=reach), same)
    said = f"Bar {number} is at {words.clock(at)}"
    if number == 1:
        said = "Bar 1 is {bar_1}; all bars are counted from there"
    chosen, parts = replaced_in(state, chosen)
    return restated(state, chosen, said, replaced, parts=parts)


@decision("downbeat", DownbeatArgs)
def downbeat(state: SessionState, args: DownbeatArgs) -> Change:
    """This moment of the session is a downbeat."""
    at = meant(state, state.need_lead(), args.time_s)
    return opens_bar(state, DownbeatStatement(time_s=at, reach=args.reach))


def opens_bar(state: SessionState, new: DownbeatStatement, note: str = "") -> Change:
    """A downbeat as a statement; note: what is said in the stead of its bar."""
    at, chosen = new.time_s, state.map_choice()
    same = _on_the_same_line(state, at, bars_too=False)
    _refuse_a_stated_line(state, chosen, at)
    chosen, replaced = with_statement(chosen, new, same)
    chosen, parts = replaced_in(state, chosen)
    change = restated(state, chosen, "", replaced, parts=parts)
    line = _map_of(state, change)
    index = nearest_bar(line, line.place(at))
    number, _ = line.address(line.bar_line(index) + 1e-6)
    said = note or f"{words.clock(at)} is the downbeat of bar {number}{_reach_words(state, change, new)}"
    off_ms = 1000 * (at - line.second(line.bar_line(index)))
    beside = "" if abs(off_ms) < 0.05 else f"; it lies {words.signed_ms(off_ms)} ms from its line"
    return Change(change.parts, f"{said}{beside}{change.note}")


def _reach_words(state: SessionState, change: Change, new: DownbeatStatement) -> str:
    """Which way was taken with it, where another would make another map."""
    reach = taken(as_if(state, change.parts), new)
    return "" if reach is None else f", {reach}"


def _map_of(state: SessionState, change: Change) -> TempoMap:  # type: ignore[type-arg]
    return as_if(state, change.parts).need_map()


@decision("not-downbeat", MomentArgs)
def not_downbeat(state: SessionState, args: MomentArgs) -> Change:
    """No bar begins at this moment of the session: the line nearest to it, within half a beat, is none."""
    line, chosen = state.need_map(), state.map_choice()
    time = near_audio(state, args.time_s)
    opens = line.second(line.bar_line(nearest_bar(line, line.place(time))))
    beat_s = 60.0 * line.meter_of(line.bar_of(line.place(time))).beat_quarters / line.bpm_at(line.place(time))
    at = opens if abs(opens - time) < 0.5 * beat_s else meant(state, state.need_lead(), time)
    for one in stated_bars(chosen):
        if abs(one.time_s - at) < SAME_MOMENT_S:
            raise ParameterError(
                f"{words.clock(at)} was stated to be bar {one.bar}. Nothing was changed; take that back "
                "first."
            )
    chosen, replaced = with_statement(chosen, OtherStatement(time_s=at))
    chosen, parts = replaced_in(state, chosen)
    return restated(state, chosen, f"No bar begins at {words.clock(at)}", replaced, parts=parts)


@decision("take-back", StatementArgs)
def take_back(state: SessionState, args: StatementArgs) -> Change:
    """Take one statement back: the map is as if it had never been made."""
    chosen, lead = state.map_choice(), state.need_lead()
    if args.id == KNOTS and lead.id in state.document.paces:
        loose = settled(chosen, False)
        return restated(
            state, loose, f"{lead.name} has the bars that were heard again", parts={f"pace:{lead.id}": None}
        )
    one = next((one for one in chosen.statements if name_of(one) == args.id), None)
    if one is None:
        raise ParameterError("This is no longer stated. Nothing was changed.")
    said = _first_upper(statement_words(one))
    if isinstance(one, MomentStatement) and one.locked:
        raise ParameterError(f"{said} is locked; unlock it first. Nothing was changed.")
    return taken_back(state, one, f"{said} is no longer stated")


def _first_upper(text: str) -> str:
    return text[:1].upper() + text[1:]


def taken_back(state: SessionState, one: Statement, what: str) -> Change:
    """The map without one statement; knots that were made with it let it go."""
    chosen, parts = loosened(state, without(state.map_choice(), [one]), [one], back=True)
    return restated(state, chosen, what, parts=parts)


@decision("pull", PullArgs)
def pull(state: SessionState, args: PullArgs) -> Change:
    """Pull an attack onto a tooth: the tooth gets an anchor at the attack's time.

    A steady map moves as a whole, or turns about what was stated of it before.
    """
    place = near_place(state, args.quarters)
    free = near_audio(state, args.time_s)
    at = free if args.free else meant(state, state.need_lead(), args.time_s, CATCH_S)
    now, chosen = state.need_map(), state.map_choice()
    shown = words.place(now, place)
    before = fixed_at(state, place)
    if before is not None and before.locked and abs(before.time_s - at) > 1e-6:
        raise MapConflictError(
            f"{shown} is locked at {words.clock(before.time_s)}; unlock it to move it. Nothing was changed."
        )
    alone = args.alone and is_line(now, place)
    tied_to = tie(state, place, at, alone=alone)
    old = None if before is None else before.said
    chosen = with_list(without(chosen, [] if old is None else [old]), [tied_to], add=True)
    edits = None if args.leave else goes_along(state, old, at)
    parts = {} if edits is None else {f"onsets:{state.need_lead().id}": forms.edits_part(edits)}
    along = "" if edits is None else " The mark that it was put on went along."
    return restated(state, chosen, f"{shown} is fixed at {words.clock(at)}", along, parts=parts)


def tie(
    state: SessionState, place: float, at: float, *, alone: bool = False, locked: bool = False
) -> MomentStatement:
    """The statement that ties a place of the map in force to a moment; what is stated of that place already,
    about another moment.
    """
    now, chosen = state.need_map(), state.map_choice()
    here = fixed_at(state, place)
    old = None if here is None else here.said
    heard_s = old.heard_s if old is not None else None
    if heard_s is None:
        heard_s = state.need_kind().heard_s(chosen.stated, place, now)
    about = {"time_s": at, "heard_s": heard_s, "alone": alone, "locked": locked, "knotted": False}
    if old is not None:
        return old.model_copy(update=about)
    if is_line(now, place):
        return DownbeatStatement(time_s=at, heard_s=heard_s, alone=alone, locked=locked)
    return AnchorStatement(time_s=at, heard_s=heard_s, alone=alone, locked=locked)


@decision("release", PlaceArgs)
def release(state: SessionState, args: PlaceArgs) -> Change:
    """Take an anchor, and with it what was stated of its moment, back."""
    shown = words.place(state.need_map(), args.quarters)
    here = fixed_at(state, args.quarters)
    if here is None:
        raise ParameterError(f"Nothing is fixed at {shown}; the map is unchanged.")
    if here.locked:
        raise ParameterError(f"{shown} is locked; unlock it first. The map is unchanged.")
    chosen, parts = released(state, state.map_choice(), [here])
    return restated(state, chosen, f"{shown} is no longer fixed", parts=parts)


def released(state: SessionState, chosen: MapPart, gone: list[Fixed]) -> tuple[MapPart, dict[str, Any]]:
    """The map without what fixes these places: (the map, parts)."""
    said = [one.said for one in gone if one.said is not None]
    # Knots that were given hold what nobody stated, too.
    held = [one.said or DownbeatStatement(time_s=one.time_s, knotted=True) for one in gone]
    return loosened(state, without(chosen, said), held, back=True)


@decision("lock", LockArgs)
def lock(state: SessionState, args: LockArgs) -> Change:
    """It is right, lock it: the place becomes an anchor where it is, guarded against drag and delete."""
    near_place(state, args.quarters)
    line = state.need_map()
    shown = words.place(line, args.quarters)
    chosen = locked_at(state, state.map_choice(), [args.quarters], args.locked)
    return restated(state, chosen, f"{shown} is {'locked where it is' if args.locked else 'unlocked'}")


def locked_at(state: SessionState, chosen: MapPart, places: list[float], locked: bool) -> MapPart:
    """The map with anchors at places where they are, guarded or not."""
    line = state.need_map()
    for place in places:
        there = fixed_at(state, place)
        place = place if there is None else there.place
        old = None if there is None else there.said
        here = line.second(place)
        new = tie(state, place, here, alone=old is not None and old.alone, locked=locked)
        chosen = with_list(without(chosen, [] if old is None else [old]), [new], add=True)
    return chosen


@decision("meter", MeterArgs)
def meter(state: SessionState, args: MeterArgs) -> Change:
    """Another meter, for the whole map or from the line of a bar on. Confirmed downbeats go on opening
    bars.
    """
    chosen = state.map_choice()
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
    if index is None:
        # As many beats a minute, of another note value.
        chosen = _tempo_times(chosen, new_meter.beat_quarters / line.meters[0].beat_quarters)
    chosen, parts = replaced_in(state, chosen)
    return restated(state, chosen, note, replaced, parts=parts)


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


def _tempo_times(chosen: MapPart, share: float) -> MapPart:
    """A stated tempo where what is counted changes by a factor."""
    made = tuple(
        TempoStatement(bpm=one.bpm * share) if isinstance(one, TempoStatement) else one
        for one in chosen.statements
    )
    return chosen.model_copy(update={"statements": made})
