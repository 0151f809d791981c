"""What the numbers of a document from elsewhere can be: those that decisions take, and no others."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction
from math import isfinite
from typing import Any

from combpace.core.clocks import ClockT, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.parts.part import LENGTHS
from combpace.core.pieces.laying import FILLS, MEETINGS, MOST_FADE_S
from combpace.core.stretch import check_method
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import bar_index
from combpace.session.document import parts as forms
from combpace.session.document.model import Document, MapPart, TakeEntry, TakePieces
from combpace.session.document.stated import (
    BarStatement,
    LevelStatement,
    ReadingStatement,
    Statement,
    TempoStatement,
    stated_of,
)

# Seconds and quarters of a session, either way.
MOST_S, MOST_Q = 1e6, 1e6
MOST_BAR, MOST_BPM = 100_000, 1000.0
LEVELS_DB = (-60.0, 24.0)
MOST_PIECES, MOST_MARKS, MOST_KNOTS, MOST_STATEMENTS, MOST_PARTS = 20_000, 500_000, 500_000, 100_000, 500
MOST_FRAME, MOST_FADE_MS, MOST_CURVE_MS, MOST_POINTS = 2**40, 20_000.0, 3.6e6, 64
LONGEST_TEXT = 400
# So many statements are solved for; a hand makes hundreds. A take is read so many times as fast at most.
MOST_SOLVED, MOST_LEVEL = 5000, 64.0
# Fields of statements that are moments.
MOMENTS = ("time_s", "heard_s", "until_s")
# From a session's audio nothing lies farther, and takes lie no farther apart. Seconds.
FAR_S, MOST_SPAN_S = 3600.0, 200_000.0
# Nobody means less, and it must not be nothing: quarters a minute.
LEAST_BPM = 1e-3
_ID = re.compile(r"[0-9a-f]{16}")
_SHA = re.compile(r"[0-9a-f]{64}")


def check(document: Document, sounds: Mapping[str, tuple[int, int]]) -> None:
    """Raises ParameterError, saying what cannot be, for a document whose numbers no decision could have made.

    sounds  (frames, frames a second) of each take's decoded sound, by its id
    """
    for take in (*document.takes, *document.arrivals):
        _named(take)
    for made in document.pieces.values():
        for sha in (made.sha, *(one.own for one in made.pieces if one.own is not None)):
            _hashes(sha)
    for part in document.notes:
        if not _ID.fullmatch(part.id):
            raise ParameterError("a part has no proper id")
        _texts("a part", part.name)
        _hashes(part.sha)
    for text in (*document.refused, document.arriving):
        _texts("a text", text)
    check_numbers(document, sounds)
    for own in document.paces.values():
        _within("a pace", (own.knots[0].time_s, own.knots[-1].time_s))
    for edits in document.edits.values():
        _within("a mark", (*edits.added, *(new for _, new in edits.moved)))
    for pegs in document.pegs.values():
        _within("a peg", (peg.take_s for peg in pegs.pegs))


def check_numbers(document: Document, sounds: Mapping[str, tuple[int, int]]) -> None:
    """The same of its numbers alone: of what is kept here already names are as they are."""
    for take in (*document.takes, *document.arrivals):
        _take(take)
    _map(document.map)
    for own in document.paces.values():
        pace("a pace", own)
    for said in document.said.values():
        _said(said)
    for edits in document.edits.values():
        moments = (
            *edits.added,
            *edits.removed,
            *edits.locked,
            *(one for pair in edits.moved for one in pair),
        )
        _many("marks edited by hand", moments, MOST_MARKS)
        seconds("a mark", moments)
        # It checks itself, and raises.
        _ = edits.choice
    for choice in document.rules.values():
        check_method(choice.method)
        for rule in choice.rules:
            if rule.bars is not None:
                _bars("bars of a rule", rule.bars)
    for pegs in document.pegs.values():
        _many("pegs", pegs.pegs, MOST_MARKS)
        seconds("a peg", (*(peg.take_s for peg in pegs.pegs), *pegs.rides))
        seconds("a peg", (peg.session_s for peg in pegs.pegs if peg.session_s is not None))
        quarters("a peg", (peg.quarters for peg in pegs.pegs if peg.quarters is not None))
    for take_id, made in document.pieces.items():
        _pieces(made, sounds.get(take_id, (None, 0))[0])
    _many("parts", document.notes, MOST_PARTS)
    for part in document.notes:
        number("the number of a part", part.number, 0, MOST_PARTS)
        _bars("a part's bars", (part.first_bar, *(() if part.until_bar is None else (part.until_bar,))))
        number("how often a part is heard", part.times, 1, 2000)
        _one_of("what a part keeps", part.keeps, ("bar", "time"))
        _one_of("how long notes last", part.lengths, LENGTHS)
        seconds("a part's start", (part.offset_s,))
        number("a part's accents", part.accent, 0.0, 1.0)
        _many("edits of a part", part.edits, MOST_STATEMENTS)
        for edit in part.edits:
            quarters("an edit of a part", (edit.from_q, edit.to_q, *edit.starts))


def check_reach(
    document: Document, sounds: Mapping[str, tuple[int, int]], paces: Mapping[str, TempoMap[TakeTimes]]
) -> None:
    """The same of takes and map together: nothing lies farther from the audio than decisions let it, and it
    comes to no more bars than can be shown. paces: as the takes were heard, or corrected.
    """
    every = (*document.takes, *document.arrivals)
    length = {take_id: frames / rate for take_id, (frames, rate) in sounds.items()}
    first = min([0.0, *(take.offset_s for take in every)])
    end = max([0.0, *(take.offset_s + length.get(take.id, 0.0) for take in every)])
    if end - first > MOST_SPAN_S:
        raise ParameterError(f"its takes lie {(end - first) / 3600:,.0f} hours apart")
    chosen = document.map
    times = (getattr(one, name, None) for one in chosen.statements for name in MOMENTS)
    moments = [time for time in times if time is not None]
    moments += [] if chosen.bar_1_s is None else [chosen.bar_1_s]
    for moment in moments:
        number("a moment", moment, first - FAR_S, end + FAR_S)
    lines: list[TempoMap[Any]] = []
    if chosen.kind == "steady" and chosen.bpm is not None and chosen.bar_1_s is not None:
        lines.append(steady_map(chosen.bpm, chosen.bar_1_s, chosen.steady_meters))
    if chosen.given is not None:
        lines.append(forms.pace_from(chosen.given))
    for take in every:
        if take.id in paces:
            lines.append(paces[take.id].shifted(take.offset_s))
    for line in lines:
        bars = line.bar_of(line.place(end)) - min(0, line.bar_of(line.place(first)))
        if bars > MOST_BAR:
            raise ParameterError(f"it comes to {bars:,} bars")
        if not first - FAR_S <= line.second(0.0) <= end + FAR_S:
            raise ParameterError("bar 1 lies hours away from its takes")


def _within(what: str, values: Iterable[float]) -> None:
    """Moments of a take's own clock, no farther than an hour before it, and within what a session spans."""
    for value in values:
        number(what, value, -FAR_S, MOST_SPAN_S)


def _named(take: TakeEntry) -> None:
    # Whose row is there has a proper id; what has none is a take that is not there.
    _texts("a take", take.id, take.source or "", take.name, take.bundle or "")


def _take(take: TakeEntry) -> None:
    _one_of("the role of a take", take.role, ("lead", "follower"))
    _one_of("the pace of a take", take.pace, ("lead", "own"))
    seconds("a take's start", (take.offset_s,))
    _bars("a take's bars", (take.first_bar, *(() if take.until_bar is None else (take.until_bar,))))
    for bpm in (take.from_bpm, take.to_bpm):
        if bpm is not None:
            number("a tempo", bpm, LEAST_BPM, 4 * MOST_BPM)


def _map(chosen: MapPart) -> None:
    if chosen.bpm is not None:
        # A steady map counts quarters; what is typed counts beats, of up to three quarters.
        number("a tempo", chosen.bpm, LEAST_BPM, 4 * MOST_BPM)
    if chosen.bar_1_s is not None:
        seconds("bar 1", (chosen.bar_1_s,))
    # Meters check themselves where they are read.
    _many("meters", chosen.steady_meters, MOST_STATEMENTS)
    number("what may pile up", chosen.limit_ms, 0.0, 1e5)
    _said(chosen.statements)
    if chosen.given is not None:
        pace("a given map", forms.pace_from(chosen.given))


def _said(statements: Sequence[Statement]) -> None:
    """What is stated, of a map or of a take's own bars."""
    _many("statements", tuple(statements), MOST_STATEMENTS)
    _many("statements to solve for", tuple(one for one in statements if not one.knotted), MOST_SOLVED)
    for one in statements:
        for name in MOMENTS:
            if (time := getattr(one, name, None)) is not None:
                seconds("a stated moment", (time,))
        if isinstance(one, BarStatement):
            _bars("a stated bar", (one.bar,))
        if isinstance(one, TempoStatement):
            number("a stated tempo", one.bpm, LEAST_BPM, 4 * MOST_BPM)
        if isinstance(one, LevelStatement):
            number("how fast it is read", float(Fraction(one.factor)), 1 / MOST_LEVEL, MOST_LEVEL)
        if isinstance(one, ReadingStatement):
            if one.rank is not None:
                number("a reading", one.rank, 1, MOST_STATEMENTS)
            if one.pace is not None:
                pace("a reading", forms.pace_from(one.pace))
    # Meters check themselves where they are read.
    stated_of(statements)


def pace(what: str, line: TempoMap[ClockT]) -> None:
    """The same of one row of beats."""
    _many(f"knots of {what}", line.knots, MOST_KNOTS)
    # They follow each other: the outer ones tell of all.
    seconds(what, (line.knots[0].time_s, line.knots[-1].time_s))
    quarters(what, (line.knots[0].quarters, line.knots[-1].quarters))
    _bars(f"bars of {what}", (meter.bar for meter in line.meters))


def _pieces(made: TakePieces, frames: int | None) -> None:
    _many("pieces", made.pieces, MOST_PIECES)
    number("a fade", made.fade_ms, 0.0, 1000 * MOST_FADE_S)
    _one_of("what follows a piece", made.fill, FILLS)
    _one_of("what happens where two meet", made.meeting, MEETINGS)
    number("the strength that cuts", made.stronger, 0.0, 1.0)
    if made.first_frame is not None:
        number("a first frame", made.first_frame, -MOST_FRAME, MOST_FRAME)
    most = MOST_FRAME if made.first_frame is not None or frames is None else frames
    for one in made.pieces:
        if not 0 <= one.start < one.stop <= most:
            raise ParameterError(f"a piece cannot go from frame {one.start} to {one.stop}")
        quarters("a piece", (value for value in (one.quarters,) if value is not None))
        seconds("a piece", (value for value in (one.session_s,) if value is not None))
        seconds("a piece", (value for value in (one.home,) if value is not None))
        number("a level", one.level_db, *LEVELS_DB)
        for fade in (one.fade_in_ms, one.fade_out_ms):
            if fade is not None:
                number("a fade", fade, 0.0, MOST_FADE_MS)
        _many("points of a level", one.curve, MOST_POINTS)
        for ms, db in one.curve:
            number("a point of a level", ms, 0.0, MOST_CURVE_MS)
            number("a level", db, *LEVELS_DB)
        if any(a[0] > b[0] for a, b in zip(one.curve, one.curve[1:], strict=False)):
            raise ParameterError("points of a level do not follow each other")


# -- one number, one text


def number(what: str, value: float, least: float, most: float) -> None:
    """Raises ParameterError for a number that is none, or lies outside."""
    if not isfinite(value) or not least <= value <= most:
        raise ParameterError(f"{what} cannot be {value!r}"[:200])


def seconds(what: str, values: Iterable[float]) -> None:
    """The same of moments."""
    for value in values:
        number(what, value, -MOST_S, MOST_S)


def quarters(what: str, values: Iterable[float]) -> None:
    """The same of musical places."""
    for value in values:
        number(what, value, -MOST_Q, MOST_Q)


def _bars(what: str, values: Iterable[int]) -> None:
    for value in values:
        number(what, value, -MOST_BAR, MOST_BAR)
        bar_index(value)


def _many(what: str, values: tuple[object, ...], most: int) -> None:
    if len(values) > most:
        raise ParameterError(f"{len(values):,} {what} are more than the {most:,} that a session takes")


def _one_of(what: str, value: str, known: Iterable[str]) -> None:
    if value not in known:
        raise ParameterError(f"{what} cannot be “{value[:40]}”")


def _texts(what: str, *values: str) -> None:
    if any(len(value) > LONGEST_TEXT for value in values):
        raise ParameterError(f"the name of {what} is longer than {LONGEST_TEXT} characters")


def _hashes(value: str) -> None:
    if not _SHA.fullmatch(value):
        raise ParameterError("a sound has no proper hash")
