"""A map of one tempo, as a function of what was heard and what is stated.

Bar 1 lies exactly where it was stated, and so does what was put on a moment by hand: the first of these sets
the phase, the second the tempo where none is stated, and a third has to fit. A downbeat opens a bar, and may
lie beside its line by what the playing leaves the one tempo, but never by a quarter of a beat. Which beats
open bars the ear says (`bars_again`), where it kept anything.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from combpace.core.clocks import ClockT, Quarters, SessionTimes, TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo import anchors, bars_again, counting, recount
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter, bar_index
from combpace.core.tempo.solve import ON_BEAT, SAME_S, Heard
from combpace.core.tempo.statements import FARTHEST_BEATS, HOLDS_S, Stated, Tie, numbered

# Two moments set a tempo that was found where it differs by no more than this share.
SAME_TEMPO = 0.1
# Of longer music bars are counted on from what is said: about two hours, or decisions would take long.
MOST_HEARD_AGAIN = 15000
# What holds within this holds to the sample.
EXACT_S = HOLDS_S / 1000


@dataclass(frozen=True, slots=True)
class Under:
    """The take that is played under one tempo.

    heard       of it, on its own clock, with a map in the place of its pace
    offset_s    by how much the map's clock shows more than the take's
    duration_s  how long it is
    """

    heard: Heard[TakeTimes]
    offset_s: float
    duration_s: float


def one_tempo(
    base: TempoMap[SessionTimes], stated: Stated, under: Under | None = None
) -> TempoMap[SessionTimes]:
    """The map of one tempo that obeys what is stated, with its bars as the ear has them.

    base    tempo, bar 1 and meters with nothing stated
    Raises  MapConflictError, naming what cannot all hold
    """
    grid, named = untied(base, stated), places_named(base, stated)
    if _holds(grid, named, stated):
        return grid
    line = _as_stated(grid, named, stated, free_tempo=stated.tempo is None)
    return line if under is None else _by_ear(line, grid, stated, under)


def untied(base: TempoMap[SessionTimes], stated: Stated) -> TempoMap[SessionTimes]:
    """The tempo and meter that are stated, about bar 1 where it lies with nothing stated of lines."""
    bpm, meters = base.bpm_at(0.0), base.meters
    for time, factor in stated.levels:
        if time is not None:
            raise MapConflictError(
                "A steady map has one tempo, and cannot be read faster or slower from {0} on alone. Nothing "
                "was changed; follow the playing, or read all of it at another tempo.",
                time,
                follow=True,
            )
        meters = anchors.scaled_meters(replace(base, meters=meters), float(factor))
        bpm *= float(factor)
    if stated.everywhere is not None:
        # As many beats a minute, of another note value.
        bpm *= stated.everywhere.beat_quarters / meters[0].beat_quarters
        meters = (replace(stated.everywhere, bar=1),)
    bpm = bpm if stated.tempo is None else stated.tempo
    if (bpm, meters) == (base.bpm_at(0.0), base.meters):
        return base
    return steady_map(checked(bpm), base.second(0.0), meters)


def checked(bpm: float) -> float:
    """A tempo that a map can hold, quarters a minute. Raises MapConflictError."""
    if not MIN_BPM <= bpm <= MAX_BPM:
        raise MapConflictError(
            f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {bpm:g}. Nothing was changed."
        )
    return bpm


def place_heard(
    base: TempoMap[SessionTimes], stated: Stated, place: float, solution: TempoMap[SessionTimes]
) -> float:
    """Where a place of the solved map lies before anything is tied, seconds: what a tie to it is heard as."""
    named = places_named(base, stated)
    line, _, by = _grounded(untied(base, stated), named, stated, free_tempo=stated.tempo is None)
    return named.second(same_place(solution, place, line) - by)


def same_place(now: TempoMap[ClockT], place: float, other: TempoMap[ClockT]) -> float:
    """A place of one map in another: so far from the beat that is nearest to its own beat."""
    beat = now.beat_near(place)
    beside = place - beat if abs(place - beat) > ON_BEAT * now.meters[0].beat_quarters else 0.0
    return other.beat_near(other.place(now.second(beat))) + beside


def places_named(base: TempoMap[SessionTimes], stated: Stated) -> TempoMap[SessionTimes]:
    """The map by whose times ties name their places: a tempo that is stated renames none of them."""
    return untied(base, replace(stated, tempo=None))


def steady_as_stated(
    bpm: float, start_s: float, meters: tuple[Meter, ...], stated: Stated, *, free_tempo: bool
) -> TempoMap[Any]:
    """A steady map that obeys what was stated, counted on without the ear.

    bpm         quarters a minute
    start_s     where bar 1 lies if nothing says where
    meters      those of the map where none were stated
    free_tempo  the tempo was found and not stated: two moments that are stated set it
    Raises      MapConflictError, naming both, where one tempo cannot
    """
    meters = (replace(stated.everywhere, bar=1),) if stated.everywhere else meters
    grid: TempoMap[Any] = steady_map(bpm, start_s, meters)
    return _as_stated(grid, grid, stated, free_tempo=free_tempo)


def _as_stated(
    grid: TempoMap[Any], named: TempoMap[Any], stated: Stated, *, free_tempo: bool
) -> TempoMap[Any]:
    """A grid that obeys what was stated; named: the map by whose times ties name their places."""
    line, confirmed, _ = _grounded(grid, named, stated, free_tempo=free_tempo)
    if stated.downbeats and not (stated.bars or stated.ties):
        first = stated.downbeats[0]
        nearest = line.second(line.bar_line(recount.nearest_bar(line, line.place(first))))
        line = line.shifted(first - nearest)
    for time in stated.downbeats:
        at = line.beat_near(line.place(time))
        off_s = abs(line.second(at) - time)
        if off_s > FARTHEST_BEATS * 60.0 * line.meter_of(line.bar_of(at)).beat_quarters / line.bpm_at(at):
            beat = line.meters[0].beat_quarters
            raise MapConflictError(
                f"The downbeat confirmed at {{0}} and a steady {line.bpm_at(0.0) / beat:.2f} "
                f"BPM with bar 1 at {{1}} "
                f"cannot both hold: the downbeat would lie {1000 * off_s:.0f} ms from the nearest beat. "
                "The map is unchanged; take the downbeat back first, choose another tempo, or follow the "
                "playing.",
                time,
                line.second(0.0),
                follow=True,
            )
        before = line
        line, at = recount.with_downbeat(line, at, confirmed, numbered=bool(stated.bars))
        # Counting anew may have moved bar 1: what is confirmed is found again at its moment.
        confirmed = [line.place(before.second(place)) for place in confirmed]
        confirmed.append(at)
    return numbered(_with_changes(line, stated, confirmed), stated)


def _grounded(
    grid: TempoMap[Any], named: TempoMap[Any], stated: Stated, *, free_tempo: bool
) -> tuple[TempoMap[Any], list[float], float]:
    """(the map through every bar and moment that has to hold exactly, places of its stated bars, by how many
    quarters its places are more than those of the grid).
    """
    line, by = grid, 0.0
    fixed: list[tuple[str, float, float]] = []
    bars = sorted(stated.bars)
    for time, number in bars[:1] + bars[:0:-1]:
        place = line.bar_line(bar_index(number))
        line = _through(line, fixed, (f"bar {number}", place, time), free_tempo=free_tempo)
        fixed.append((f"bar {number}", place, time))
    confirmed = [place for _, place, _ in fixed]
    if bars:
        tie = next((tie for tie in stated.ties if abs(tie.time_s - bars[0][0]) < SAME_S), None)
        by = confirmed[0] - (
            grid.beat_near(grid.place(bars[0][0]))
            if tie is None
            else named.beat_near(named.place(tie.heard_s))
        )
    for tie in _ordered(stated):
        opens = any(abs(tie.time_s - time) < SAME_S for time in stated.downbeats)
        place = named.place(tie.heard_s)
        beat, unit = named.beat_near(place), named.meter_of(named.bar_of(place)).beat_quarters
        place = by + (beat if opens or abs(beat - place) < ON_BEAT * unit else place)
        name = "the downbeat" if opens else "the anchor"
        line = _through(line, fixed, (name, place, tie.time_s), free_tempo=free_tempo)
        fixed.append((name, place, tie.time_s))
    return line, confirmed, by


def _ordered(stated: Stated) -> list[Tie]:
    """Ties of other moments than bars: the two that lie farthest apart first, for they say the tempo best."""
    ties = [tie for tie in stated.ties if not any(abs(tie.time_s - time) < SAME_S for time, _ in stated.bars)]
    ties = sorted(ties, key=lambda tie: tie.time_s)
    return ties[:1] + ties[:0:-1]


def _through(
    line: TempoMap[Any],
    fixed: Sequence[tuple[str, float, float]],
    new: tuple[str, float, float],
    *,
    free_tempo: bool,
) -> TempoMap[Any]:
    """A map of one tempo through one moment more; each is (its name, its place, seconds)."""
    name, place, time = new
    off_s = line.second(place) - time
    if not fixed:
        return line.shifted(-off_s)
    if abs(off_s) <= (HOLDS_S if len(fixed) > 1 else EXACT_S):
        return line
    (pivot, about, at), *others = fixed
    bpm = 60.0 * (place - about) / (time - at) if abs(time - at) > EXACT_S else 0.0
    if not others and free_tempo and abs(bpm / line.bpm_at(0.0) - 1) <= SAME_TEMPO:
        return steady_map(checked(bpm), at - about / bpm * 60.0, line.meters)
    every = [(pivot, at), *((one, moment) for one, _, moment in others[:1]), (name, time)]
    named = [f"{one} at {{{k}}}" for k, (one, _) in enumerate(every)]
    names = f"{', '.join(named[:-1])} and {named[-1]}"
    holds = "all three hold" if others else "both hold"
    tempo = line.bpm_at(0.0) / line.meters[0].beat_quarters
    raise MapConflictError(
        f"{names[0].upper()}{names[1:]} cannot {'all' if others else 'both'} hold at "
        f"{'one tempo of' if free_tempo else 'the stated'} {tempo:.2f} BPM: {name} would lie at "
        f"{{{len(every)}}}. The map is unchanged; follow the playing: {holds}; or take one of "
        "them back.",
        *(moment for _, moment in every),
        line.second(place),
        follow=True,
    )


def _with_changes(
    line: TempoMap[ClockT], stated: Stated, confirmed: tuple[float, ...] | list[float]
) -> TempoMap[ClockT]:
    """Meters that hold from a moment on, each to the next one."""
    for time, meter in stated.changes:
        moments = [line.second(place) for place in confirmed]
        line = recount.with_meter_from(line, line.place(time), meter, confirmed)
        confirmed = [line.place(moment) for moment in moments]
    for start, stop, meter in stated.ranges:
        first = recount.nearest_bar(line, line.place(start))
        bars = max(1, round((line.place(stop) - line.bar_line(first)) / meter.bar_quarters))
        line = counting.meter_in(line, first, first + bars - 1, meter)
    return line


def _holds(line: TempoMap[SessionTimes], named: TempoMap[SessionTimes], stated: Stated) -> bool:
    """Whether all that is stated of lines holds in a map as it is."""
    if stated.ranges or stated.others or stated.changes:
        return False
    if stated.everywhere is not None and [str(one) for one in line.meters] != [str(stated.everywhere)]:
        return False
    for time, number in stated.bars:
        if abs(line.second(line.bar_line(bar_index(number))) - time) > EXACT_S:
            return False
    if any(abs(named.second(line.place(tie.time_s)) - tie.heard_s) > EXACT_S for tie in stated.ties):
        return False
    for time in stated.downbeats:
        place = line.place(time)
        at = line.second(line.bar_line(recount.nearest_bar(line, place)))
        if abs(at - time) > FARTHEST_BEATS * 60.0 * line.meters[0].beat_quarters / line.bpm_at(place):
            return False
    return True


def _by_ear(
    line: TempoMap[SessionTimes], grid: TempoMap[SessionTimes], stated: Stated, under: Under
) -> TempoMap[SessionTimes]:
    """A steady map with its bars as the ear has them; as it is where the ear has kept nothing, or no count
    goes through all of it.
    """
    heard = under.heard
    if heard.pulse is None or heard.row is None:
        return line
    try:
        pace, before = _on_beats(line, under), _on_beats(grid, under)
        if len(pace.knots) > MOST_HEARD_AGAIN:
            return line
        row, on_take = partial(heard.row, pace), stated.shifted(-under.offset_s)
        lines = bars_again.lines_of(before)
        made = bars_again.bars_again(pace, row, heard.pulse, lines, _on_lines(pace, on_take), even=True)
    except MapConflictError:
        if stated.others:
            raise
        return line
    bpm = line.bpm_at(0.0) * made.meters[0].beat_quarters / line.meters[0].beat_quarters
    return steady_map(bpm, made.second(0.0) + under.offset_s, made.meters)


def _on_lines(pace: TempoMap[TakeTimes], stated: Stated) -> Stated:
    """Statements about the beats nearest to their moments: one tempo leaves room beside its lines."""

    def to(time: float) -> float:
        return pace.second(pace.beat_near(pace.place(time)))

    return replace(stated.moved(to), ties=(), levels=(), tempo=None)


def _on_beats(line: TempoMap[SessionTimes], under: Under) -> TempoMap[TakeTimes]:
    """The part of a steady map that the take is heard in, with a knot on each beat, on the take's clock.
    Raises MapConflictError where that holds fewer than two.
    """
    first, last = line.place(under.offset_s), line.place(under.offset_s + under.duration_s)
    places = line.beats_between(first, last)
    if len(places) < 2:
        raise MapConflictError("The lead holds no two beats of this tempo. Nothing was changed.")
    times = np.asarray(line.to_seconds(Quarters(places))) - under.offset_s
    knots = tuple(
        Knot(float(time), float(place), confidence=0.5) for time, place in zip(times, places, strict=True)
    )
    return TempoMap(knots, line.meters)
