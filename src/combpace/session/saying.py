"""The list of what is stated of a map: what a new statement replaces, statements in words, moved, settled."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

from combpace.session import words
from combpace.session.document.model import MapPart
from combpace.session.document.stated import (
    AnchorStatement,
    BarStatement,
    DownbeatStatement,
    LevelStatement,
    MeterStatement,
    MomentStatement,
    OtherStatement,
    ReadingStatement,
    Statement,
    TempoStatement,
    later,
)

# Statements nearer to each other than this are about the same moment.
SAME_MOMENT_S = 0.002
# What stands in the list for knots in the place of what was heard.
KNOTS, KNOTS_WORDS = "knots", "beats and bars as they were corrected or given before"
FASTER = {
    Fraction(2): "twice", Fraction(3): "three times", Fraction(1, 2): "half", Fraction(1, 3): "a third",
    Fraction(3, 2): "one and a half times",
    Fraction(2, 3): "two thirds",
}  # fmt: skip


def with_statement(chosen: MapPart, new: Statement, same: Iterable[Statement] = ()) -> tuple[MapPart, str]:
    """A map with one statement more, and what it replaces in words ("" for nothing): what is about the same
    place, or named in `same`.
    """
    gone = [old for old in chosen.statements if old in tuple(same) or _about_the_same(old, new)]
    said = [text for old in gone if _unlike(old, new) and (text := _replaced(old, new))]
    return with_list(without(chosen, gone), [new], add=True), (
        f" This replaces {' and '.join(said)}." if said else ""
    )


def without(chosen: MapPart, gone: Iterable[Statement]) -> MapPart:
    """The map without some of its statements."""
    gone = tuple(gone)
    return with_list(chosen, [one for one in chosen.statements if one not in gone])


def with_list(chosen: MapPart, statements: Iterable[Statement], *, add: bool = False) -> MapPart:
    """The map with other statements, or with more."""
    before = chosen.statements if add else ()
    return chosen.model_copy(update={"statements": (*before, *statements)})


def settled(chosen: MapPart, yes: bool = True) -> MapPart:
    """The same statements, all held by the knots, or the tempo, that are kept; or to be solved for again."""

    def made(one: Statement) -> Statement:
        # What holds a moment already has its beat there.
        if yes and isinstance(one, MomentStatement) and one.heard_s is not None:
            one = one.model_copy(update={"heard_s": one.time_s})
        return one.model_copy(update={"knotted": yes})

    return with_list(chosen, map(made, chosen.statements))


def shifted(chosen: MapPart, by_s: float) -> MapPart:
    """The same statements about moments that all come so much later."""
    return with_list(chosen, [later(one, by_s) for one in chosen.statements])


def moment_of(one: Statement) -> float | None:
    """The moment that a statement is about, None for one about the whole."""
    time: float | None = getattr(one, "time_s", None)
    return time


def at_moment(chosen: MapPart, time_s: float) -> MomentStatement | None:
    """What was stated of the beat at a moment."""
    near = (one for one in chosen.statements if isinstance(one, MomentStatement))
    return next((one for one in near if abs(one.time_s - time_s) < SAME_MOMENT_S), None)


def statement_words(one: Statement) -> str:
    """What a statement is about: "bar 5 at 0:08.213", "3/4 from 0:12.000 on"."""
    match one:
        case TempoStatement():
            return f"{one.bpm:g} BPM"
        case MeterStatement():
            if one.time_s is None:
                return one.meter
            upto = "on" if one.until_s is None else f"to {words.clock(one.until_s)}"
            return f"{one.meter} from {words.clock(one.time_s)} {upto}"
        case BarStatement():
            return f"bar {one.bar} at {words.clock(one.time_s)}"
        case DownbeatStatement():
            reach = "" if one.reach is None else f", {one.reach}"
            return f"the downbeat at {words.clock(one.time_s)}{reach}"
        case AnchorStatement():
            return f"the anchor at {words.clock(one.time_s)}"
        case OtherStatement():
            return f"no downbeat at {words.clock(one.time_s)}"
        case ReadingStatement():
            return f"reading {one.rank}" if one.rank is not None else f"read near {one.about_bpm:g} BPM"
        case LevelStatement():
            how = FASTER.get(Fraction(one.factor), f"{one.factor} times")
            return f"{how} as fast" + ("" if one.time_s is None else f" from {words.clock(one.time_s)} on")


def _about_the_same(old: Statement, new: Statement) -> bool:
    match new:
        case TempoStatement() | ReadingStatement():
            return isinstance(old, type(new))
        case LevelStatement():
            return isinstance(old, LevelStatement) and _same_time(old.time_s, new.time_s)
        case MeterStatement():
            return isinstance(old, MeterStatement) and _same_bars(old, new)
    if isinstance(old, MomentStatement | OtherStatement):
        same_bar = isinstance(old, BarStatement) and isinstance(new, BarStatement) and old.bar == new.bar
        return same_bar or abs(old.time_s - new.time_s) < SAME_MOMENT_S
    return False


def _same_time(a: float | None, b: float | None) -> bool:
    return a is b if a is None or b is None else abs(a - b) < SAME_MOMENT_S


def _same_bars(old: MeterStatement, new: MeterStatement) -> bool:
    """Whether a meter says something of the same bars as another: all, those from one line on, or a range."""
    if new.time_s is None or old.time_s is None:
        return new.time_s is None
    if new.until_s is None:
        return abs(old.time_s - new.time_s) < SAME_MOMENT_S
    return new.time_s - SAME_MOMENT_S < old.time_s < new.until_s - SAME_MOMENT_S


def _unlike(old: Statement, new: Statement) -> bool:
    return old.model_copy(update={"knotted": new.knotted}) != new


def _replaced(old: Statement, new: Statement) -> str:
    match old:
        case TempoStatement() | ReadingStatement() | LevelStatement() | AnchorStatement():
            return ""
        case MeterStatement():
            return statement_words(old) if str(old.meter) != getattr(new, "meter", "") else ""
        case BarStatement():
            return statement_words(old)
    same = isinstance(new, BarStatement) and abs(old.time_s - new.time_s) < SAME_MOMENT_S
    moved = isinstance(new, DownbeatStatement) and abs(old.time_s - new.time_s) < SAME_MOMENT_S
    return "" if same or moved else statement_words(old)
