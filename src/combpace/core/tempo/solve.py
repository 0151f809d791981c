"""The one map of a take: a function of what was heard of it and of what was stated.

Beats as they were heard, followed again where a stated moment lies on none of them; counted into bars again
with every statement as a constraint (`bars_again`), or, where the ear kept nothing, counted on from what is
stated (`recount`); then bent through every moment that was stated, all at once (`tied`). No earlier map
enters: the same statements in any order give the same map, and what holds changes nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from typing import Any, Generic

import numpy as np

from combpace.core.beats.activations import Activations
from combpace.core.clocks import ClockT, FloatArray
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo import anchors, bars_again, counting, recount
from combpace.core.tempo.bars_again import Row
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.statements import Stated, Tie, numbered
from combpace.core.tempo.tied import tied

# A tie within this share of a beat of a beat is about that beat.
ON_BEAT = 0.02
# A tie is about a statement of this moment, seconds.
SAME_S = 0.002


@dataclass(frozen=True, slots=True)
class Heard(Generic[ClockT]):
    """What is known of a take before anything is stated, on one clock.

    pace     its beats and bars as they were heard, or a map that was given in their place
    attacks  as they were detected
    pulse    what the networks heard of its pulse; None where nothing was kept: bars are counted on then
    row      what they said of the beats of a map
    """

    pace: TempoMap[ClockT]
    attacks: Onsets
    pulse: Callable[[], Activations] | None = None
    row: Callable[[TempoMap[ClockT]], Row] | None = None


def solved(heard: Heard[ClockT], stated: Stated) -> TempoMap[ClockT]:
    """The map. Raises MapConflictError, naming what is stated, where none holds all of it."""
    base = leveled(heard.pace, stated.levels)
    if stated == Stated(levels=stated.levels, tempo=stated.tempo):
        return base
    beats = untied(heard, stated)
    meant = _meant(beats, stated)
    try:
        counted = _counted(heard, base, beats, stated.moved(meant))
    except MapConflictError as error:
        raise error.at(partial(_said_of, stated, meant)) from error
    return _tied(counted, stated, meant, heard.attacks)


def untied(heard: Heard[ClockT], stated: Stated) -> TempoMap[ClockT]:
    """The beats before anything is tied to a moment: as heard, at the level that was stated, followed again
    where a stated moment lies on none of them.
    """
    beats = leveled(heard.pace, stated.levels)
    if heard.pulse is None:
        return beats
    held = [tie.time_s for tie in stated.ties]
    said = [time for time in stated.opening if not any(abs(time - one) < SAME_S for one in held)]
    # Where anything that is stated lies on a beat, not all of them were read beside the pulse.
    right = bool(held) or any(bars_again.lies_on_beat(beats, time) for time in said)
    for time in said:
        if not _inside(beats, time) or bars_again.lies_on_beat(beats, time):
            continue
        if not right and bars_again.is_beside(beats, heard.pulse(), time):
            beats = _shifted(beats, time, heard.attacks)
        else:
            beats = _again(beats, heard, time)
    return beats


def place_heard(
    heard: Heard[ClockT], stated: Stated, place: float, solution: TempoMap[ClockT] | None = None
) -> float:
    """Where a place of the solved map lies before anything is tied, seconds: what a tie to it is heard as.

    solution  that map, where it is known
    """
    beats, now = untied(heard, stated), solution or solved(heard, stated)
    _, times = bars_again.beats_of(beats)
    places, _ = bars_again.beats_of(now)
    if len(places) != len(times):
        return beats.second(beats.place(now.second(place)))
    steps = np.arange(len(places))
    if places[0] <= place <= places[-1]:
        return float(np.interp(np.interp(place, places, steps), steps, times))
    # Beyond both ends the beats run on as they do there.
    end, gap = (0, times[1] - times[0]) if place < places[0] else (-1, times[-1] - times[-2])
    unit = now.meter_of(now.bar_of(float(places[end]) + 1e-6)).beat_quarters
    return float(times[end] + gap * (place - places[end]) / unit)


def leveled(pace: TempoMap[ClockT], levels: Sequence[tuple[float | None, Fraction]]) -> TempoMap[ClockT]:
    """The map read so many times as fast as it was heard, everywhere or from moments on."""
    now = Fraction(1)
    for time, factor in sorted(levels, key=lambda level: -np.inf if level[0] is None else level[0]):
        step = factor / now
        if step != 1:
            place = None if time is None else pace.bar_line(recount.nearest_bar(pace, pace.place(time)))
            pace = anchors.read_as_fast(pace, step, place)
        now = factor
    return pace


def _inside(beats: TempoMap[ClockT], time: float) -> bool:
    return bool(beats.times_s[0] < time < beats.times_s[-1])


def _shifted(beats: TempoMap[ClockT], time: float, attacks: Onsets) -> TempoMap[ClockT]:
    """All beats beside where they were, so that one lies on the moment."""
    moved = anchors.fix_place(beats, time, beats.beat_near(beats.place(time)), attacks)
    return _free_but(moved, beats)


def _again(beats: TempoMap[ClockT], heard: Heard[ClockT], time: float) -> TempoMap[ClockT]:
    """Beats followed again about a moment, where the pulse allows it."""
    assert heard.pulse is not None
    try:
        made = bars_again.beats_again(beats, heard.pulse(), heard.attacks, [time])
    except MapConflictError:
        return _shifted(beats, time, heard.attacks)
    return made


def _free_but(made: TempoMap[ClockT], was: TempoMap[ClockT]) -> TempoMap[ClockT]:
    """A map without anchors but those that another has."""
    fixed = {knot.time_s for knot in was.knots if knot.fixed}
    return replace(made, knots=tuple(replace(knot, fixed=knot.time_s in fixed) for knot in made.knots))


def _meant(beats: TempoMap[ClockT], stated: Stated) -> Callable[[float], float]:
    """Which beat a moment is about, as that beat's time before anything is tied; of what lies on none, and
    has no tie that says it, the nearest.
    """
    _, times = bars_again.beats_of(beats)
    opening = stated.opening

    def to(time: float) -> float:
        tie = next((one for one in stated.ties if abs(one.time_s - time) < SAME_S), None)
        wanted = time if tie is None else tie.heard_s
        near = float(times[int(np.argmin(np.abs(times - wanted)))])
        if tie is not None and _beyond(times, wanted):
            return wanted
        return near if any(abs(time - one) < SAME_S for one in opening) else wanted

    return to


def _said_of(stated: Stated, meant: Callable[[float], float], beat_s: float) -> float:
    """The moment that was stated of a beat."""
    every = (*stated.opening, *stated.others, *(time for time, _ in stated.changes))
    return next((time for time in every if abs(meant(time) - beat_s) < SAME_S), beat_s)


def _deaf(*_: Any) -> Any:
    """Nothing was kept of what the ear heard, or it is asked for a map that was drawn."""
    raise MapConflictError(
        "Not all that is stated can hold in bars that are only counted on: nothing is kept of what was heard "
        "there. Nothing was changed; take one of them back."
    )


def _beyond(times: FloatArray, time: float) -> bool:
    """Whether a moment lies before the first or after the last of some beats, and is none of them."""
    return bool(time < 1.5 * times[0] - 0.5 * times[1] or time > 1.5 * times[-1] - 0.5 * times[-2])


def _counted(
    heard: Heard[ClockT], base: TempoMap[ClockT], beats: TempoMap[ClockT], stated: Stated
) -> TempoMap[ClockT]:
    """The beats counted into bars so that everything stated holds; `stated` lies on them."""
    confirmed = [base.second(place) for place in recount.confirmed_in(base)]
    moves = bool(stated.others or stated.reach or stated.ranges)
    hears = heard.pulse is not None and heard.row is not None and not beats.has_ramps
    inside = _within(stated, beats)
    if inside is not None and (hears or moves):
        pulse, row = (heard.pulse, heard.row) if hears else (_deaf, _deaf)
        assert pulse is not None and row is not None
        try:
            lines = bars_again.lines_of(base)
            return bars_again.bars_again(beats, lambda: row(base), pulse, lines, inside, confirmed)
        except MapConflictError:
            if stated.others or stated.reach:
                raise
    return by_count(beats, stated, heard.attacks)


def _within(stated: Stated, beats: TempoMap[ClockT]) -> Stated | None:
    """What is stated, where all of it lies among the beats; None where something lies beyond them."""
    # A line beyond the beats that was put where it is counts no bars.
    _, times = bars_again.beats_of(beats)
    tied_s = {tie.heard_s for tie in stated.ties if _beyond(times, tie.heard_s)}
    stated = replace(
        stated,
        downbeats=tuple(
            time for time in stated.downbeats if not any(abs(time - one) < SAME_S for one in tied_s)
        ),
    )
    period = float(np.median(np.diff(beats.times_s)))
    first, last = float(beats.times_s[0]) - period, float(beats.times_s[-1]) + period
    moments = [*stated.opening, *stated.others, *(time for time, _ in stated.changes)]
    return stated if all(first < time < last for time in moments) else None


def by_count(beats: TempoMap[ClockT], stated: Stated, attacks: Onsets) -> TempoMap[ClockT]:
    """The beats counted on from what is stated, without the ear. They keep their times, but where two bars
    are stated so that another number of beats lies between them.

    stated  on beats of the map
    Raises  MapConflictError where no count holds all of it, or where only the ear could say
    """
    if stated.others:
        raise MapConflictError(
            "Where no bar begins lies outside of the beats that were heard. Nothing was changed; say where "
            "one begins instead."
        )
    if stated.everywhere is not None:
        beats = recount.with_meter(beats, stated.everywhere, recount.confirmed_in(beats))
    was, held = beats, [beats.second(place) for place in recount.confirmed_in(beats)]
    for k, (time, number) in enumerate(sorted(stated.bars)):
        line = beats.bar_line(bar_index(number))
        if k and abs(beats.second(line) - time) > SAME_S:
            beats = _free_but(anchors.fix_place(_fixed(beats, held), time, line, attacks), was)
        elif not k:
            beats = _opened(beats, time, held, numbered=False)
            beats = numbered(beats, stated)
        held.append(time)
    for time in stated.downbeats:
        beats = _opened(beats, time, held, numbered=bool(stated.bars))
        held.append(time)
    for time, meter in stated.changes:
        beats = recount.with_meter_from(beats, beats.place(time), meter, [beats.place(at) for at in held])
    for start, stop, meter in stated.ranges:
        first = recount.nearest_bar(beats, beats.place(start))
        length = 60.0 * meter.bar_quarters / beats.bpm_at(beats.place(start) + 1e-6)
        bars = max(1, round((stop - start) / length))
        beats = counting.meter_in(beats, first, first + bars - 1, meter)
    return numbered(beats, stated)


def _fixed(beats: TempoMap[ClockT], held: Sequence[float]) -> TempoMap[ClockT]:
    for time in held:
        beats = anchors.lock(beats, beats.beat_near(beats.place(time)), False)
    return beats


def _opened(
    beats: TempoMap[ClockT], time: float, held: Sequence[float], *, numbered: bool
) -> TempoMap[ClockT]:
    """The map in which the beat at a moment opens a bar, and every one that is held still does."""
    made, _ = recount.with_downbeat(
        beats, beats.beat_near(beats.place(time)), [beats.place(at) for at in held], numbered=numbered
    )
    return made


def _tied(
    counted: TempoMap[ClockT], stated: Stated, meant: Callable[[float], float], attacks: Onsets
) -> TempoMap[ClockT]:
    """The counted map through every moment that was stated."""
    ties: dict[float, Knot] = {}
    alone: list[float] = []
    bars = {time: counted.bar_line(bar_index(number)) for time, number in stated.bars}
    for tie in (*stated.ties, *(Tie(time, meant(time)) for time in stated.opening)):
        if any(abs(tie.time_s - knot.time_s) < SAME_S for knot in ties.values()):
            continue
        bar = next((line for time, line in bars.items() if abs(time - tie.time_s) < SAME_S), None)
        opens = any(abs(time - tie.time_s) < SAME_S for time in stated.downbeats)
        place = counted.place(meant(tie.time_s) if opens else tie.heard_s)
        place = _place_of(counted, place, opens=opens) if bar is None else bar
        locked = any(abs(time - tie.time_s) < SAME_S for time in stated.locked)
        ties[tie.time_s] = Knot(tie.time_s, place, True, locked)
        if tie.alone:
            alone.append(place)
    return tied(counted, list(ties.values()), attacks, alone)


def _place_of(counted: TempoMap[ClockT], place: float, *, opens: bool) -> float:
    """The place that a tie is about: a beat where it opens a bar, or was heard on one."""
    beat = counted.beat_near(place)
    if opens:
        return beat
    unit = counted.meter_of(counted.bar_of(place)).beat_quarters
    return beat if abs(beat - place) < ON_BEAT * unit else place
