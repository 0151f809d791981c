"""What is said of the lead's bars is heard again: the ear's own solver, given what the session knows.

What it needs is what was kept of the lead's pulse. Where nothing was, and in music that is too long, `None`
or the map itself comes back, and bars are counted on from what is said.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from functools import partial

import numpy as np

from combpace.core.beats.activations import Activations
from combpace.core.clocks import Quarters, SessionTimes, TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo import anchors, solve
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.recount import confirmed_in
from combpace.core.tempo.statements import Stated, breathing_as_stated
from combpace.session.analysis_store import TakeAnalysis
from combpace.session.document.model import MapPart, TakeEntry
from combpace.session.state import SessionState

# Of longer music bars are counted on from what is said: about 25 minutes, or decisions would take long.
MOST_HEARD_AGAIN = 3000


def heard_again(
    state: SessionState,
    lead: TakeEntry,
    pace: TempoMap[TakeTimes],
    chosen: MapPart,
    at: float | None = None,
) -> TempoMap[TakeTimes] | None:
    """The lead's pace as the ear has it with everything stated: what is doubtful follows a statement, what is
    sure stays (`core.tempo.solve`).

    pace  as it is now, without the anchors of what holds no more
    at    the moment of the session that is stated to be a beat, and becomes an anchor
    None  where the ear has kept nothing of it, the map is given, or no count goes through all of it
    """
    pulse = _pulse(state, lead)
    if pulse is None or chosen.kind == "given" or pace.has_ramps or len(pace.knots) > MOST_HEARD_AGAIN:
        return None
    stated, attacks = chosen.stated.shifted(-lead.offset_s), state.onsets(lead.id)
    try:
        made = pace if at is None else _with_beat(pace, at - lead.offset_s, attacks, pulse)
        confirmed = [pace.second(place) for place in confirmed_in(pace)]
        lines, row = _reference(state, lead, pulse)
        return solve.bars_again(made, row, pulse, lines, stated, confirmed)
    except MapConflictError:
        return None


def _pulse(state: SessionState, lead: TakeEntry) -> Callable[[], Activations] | None:
    """What was heard of the lead's pulse, read once where it is asked for; None where nothing was kept."""
    row = state.rows.get(lead.id)
    if row is None or not state.folder.keeps_pulse(row):
        return None
    found: list[Activations] = []

    def read() -> Activations:
        if not found:
            kept = state.folder.activations(row)
            assert kept is not None
            found.append(kept)
        return found[0]

    return read


def _with_beat(
    pace: TempoMap[TakeTimes], moment: float, attacks: Onsets, pulse: Callable[[], Activations]
) -> TempoMap[TakeTimes]:
    """A pace with a moment as a fixed beat; where it lies on none, beats are followed again there."""
    if solve.lies_on_beat(pace, moment) or solve.is_beside(pace, pulse(), moment):
        return anchors.fix_place(pace, moment, pace.beat_near(pace.place(moment)), attacks)
    made = solve.beats_again(pace, pulse(), attacks, [moment])
    return anchors.lock(made, made.place(moment), False)


def _reference(
    state: SessionState, lead: TakeEntry, pulse: Callable[[], Activations]
) -> tuple[solve.Lines, Callable[[], solve.Row]]:
    """The bars that are worth keeping, and what the networks said of their beats: those that were heard with
    nothing stated, where the map in force follows from them and from what was stated; else, for the user made
    it otherwise, those in force.
    """
    now, heard = state.own_pace(lead.id), state.analysis(lead.id)
    assert now is not None
    before = state.map_choice().stated.shifted(-lead.offset_s)
    confirmed = [now.second(place) for place in confirmed_in(now)]
    sha = state.rows[lead.id].analysis_sha
    for number, found in enumerate(_offered(state, lead.id, heard)):
        if not solve.same_beats(found, now):
            continue
        lines = solve.lines_of(found)
        row = partial(_row, state, ("row", sha, number), pulse, found)
        try:
            again = solve.bars_again(now, row, pulse, lines, before, confirmed)
        except MapConflictError:
            continue
        if solve.same_bars(again, now):
            return lines, row
    times = hashlib.sha256(now.times_s.tobytes()).hexdigest()
    return solve.lines_of(now), partial(_row, state, ("row", sha, times), pulse, now)


def _row(
    state: SessionState,
    key: tuple[object, ...],
    pulse: Callable[[], Activations],
    pace: TempoMap[TakeTimes],
) -> solve.Row:
    """What the networks said of a pace's beats, kept under its name."""
    found: solve.Row = state.folder.once(key, partial(_heard_row, pulse, pace))
    return found


def _heard_row(pulse: Callable[[], Activations], pace: TempoMap[TakeTimes]) -> solve.Row:
    return solve.hear_row(pulse(), pace)


def _offered(state: SessionState, take_id: str, heard: TakeAnalysis | None) -> Iterator[TempoMap[TakeTimes]]:
    """A take's pace as it was heard, then its other readings."""
    if heard is not None and heard.pace is not None:
        yield heard.pace
    yield from (reading.pace for reading in state.readings(take_id))


def all_stated(
    state: SessionState, lead: TakeEntry, pace: TempoMap[TakeTimes], stated: Stated
) -> TempoMap[TakeTimes]:
    """Another pace of the lead through everything stated, on its clock: bars as the ear has them with it, or
    by their count where it has kept nothing. Raises MapConflictError where no map does.
    """
    pulse = _pulse(state, lead)
    if pulse is not None and not pace.has_ramps and len(pace.knots) <= MOST_HEARD_AGAIN:
        attacks, made = state.onsets(lead.id), pace
        try:
            for time in sorted({*(time for time, _ in stated.bars), *stated.downbeats}):
                made = _with_beat(made, time, attacks, pulse)
            confirmed = [pace.second(place) for place in confirmed_in(pace)]
            row, lines = partial(_heard_row, pulse, pace), solve.lines_of(pace)
            return solve.bars_again(made, row, pulse, lines, stated, confirmed)
        except MapConflictError:
            pass
    return breathing_as_stated(pace, stated, state.onsets(lead.id))


def steady_again(
    state: SessionState, lead: TakeEntry, chosen: MapPart, line: TempoMap[SessionTimes]
) -> TempoMap[SessionTimes]:
    """A steady map that obeys what is stated, with its bars as the ear has them; as it is where the ear has
    kept nothing, or no count goes through all of it.
    """
    pulse, now = _pulse(state, lead), state.session_map()
    if pulse is None or now is None or not now.is_steady:
        return line
    try:
        duration = state.duration_s(lead.id)
        pace, before = _on_beats(line, lead, duration), _on_beats(now, lead, duration)
        if len(pace.knots) > MOST_HEARD_AGAIN:
            return line
        row, stated = partial(_heard_row, pulse, pace), chosen.stated.shifted(-lead.offset_s)
        made = solve.bars_again(pace, row, pulse, solve.lines_of(before), stated, even=True)
    except MapConflictError:
        return line
    bpm = line.bpm_at(0.0) * made.meters[0].beat_quarters / line.meters[0].beat_quarters
    return steady_map(bpm, made.second(0.0) + lead.offset_s, made.meters)


def _on_beats(line: TempoMap[SessionTimes], lead: TakeEntry, duration_s: float) -> TempoMap[TakeTimes]:
    """The part of a steady map that the lead is heard in, with a knot on each beat, on the lead's clock.
    Raises MapConflictError where that holds fewer than two.
    """
    first, last = line.place(lead.offset_s), line.place(lead.offset_s + duration_s)
    places = line.beats_between(first, last)
    if len(places) < 2:
        raise MapConflictError("The lead holds no two beats of this tempo. Nothing was changed.")
    times = np.asarray(line.to_seconds(Quarters(places))) - lead.offset_s
    knots = tuple(
        Knot(float(time), float(place), confidence=0.5) for time, place in zip(times, places, strict=True)
    )
    return TempoMap(knots, line.meters)
