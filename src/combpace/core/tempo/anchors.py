"""Solving a map again around what the user fixed.

Beats change only between the nearest anchors left and right of a correction; with none on a side, the
correction fades out there over FADE_BARS when it is small, and goes to the end when it is a matter of phase.
Every beat between is laid again on the attacks, by dynamic programming over the attacks near its expected
time. Anchors are exact, always.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction

import numpy as np

from combpace.core.clocks import ClockT, Quarters
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import nearest
from combpace.core.tempo.lay import lay_beats
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, SAME_PLACE, Knot, TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number
from combpace.core.tempo.recount import (
    SAME_PLACE_Q,
    confirmed_in,
    is_line,
    nearest_bar,
    refilled,
    with_downbeat,
)
from combpace.core.tempo.tied import FADE_BARS, LARGEST_RATIO, PHASE_SHARE, UNMOVED_S, sureness

# What moves by less is not said: a tenth of a millisecond, rounded.
SHOWN_S = 5e-5
# Beats that were found fit in between anchors where they are so many times as long as the map's there.
SAME_PULSE = (0.8, 1.25)
# A knot within this of a place is the one that is meant, quarters.
HERE_Q = 0.02
# A found beat nearer to a new anchor than this share of a beat gives way to it.
CROWDED = 0.4
# How many times as many beats the same music may be read with.
SCALES = (Fraction(2), Fraction(3), Fraction(1, 2), Fraction(1, 3), Fraction(3, 2), Fraction(2, 3))


def fix_place(
    pace: TempoMap[ClockT], time_s: float, place: float, attacks: Onsets, *, locked: bool = False
) -> TempoMap[ClockT]:
    """Tie a musical place to a moment; the rest is solved again around all anchors.

    time_s   on the map's clock
    place    quarters; the beats on either side keep their count where no anchor stands in the way
    attacks  on the map's clock: what beats are laid on
    Raises   MapConflictError, naming both places, where no sensible tempo joins them
    """
    if not (np.isfinite(time_s) and np.isfinite(place)):
        raise ParameterError("A place and its time must be finite numbers; the map is unchanged.")
    beat = pace.meter_of(pace.bar_of(place)).beat_quarters
    left = _anchor_before(pace, place)
    right = _anchor_after(pace, place)
    _refuse_conflicts(pace, left, Knot(time_s, place, True), right)
    counted = round((place - pace.place(time_s)) / beat) * beat
    before: tuple[Knot, ...] = _side(pace, left, time_s, place, counted, beat, attacks, -1)
    after: tuple[Knot, ...] = _side(pace, right, time_s, place, counted, beat, attacks, +1)
    before = (*before[:-1], replace(before[-1], ramp=1.0)) if before else ()
    knots = (*before, Knot(time_s, place, True, locked), *after)
    return pace.through(knots)


def _side(
    pace: TempoMap[ClockT],
    anchor: Knot | None,
    time_s: float,
    place: float,
    counted: float,
    beat: float,
    attacks: Onsets,
    direction: int,
) -> tuple[Knot, ...]:
    """The knots on one side of a new anchor, in order; `anchor` is the next one there."""
    if anchor is None:
        return _open_side(pace, time_s, place, counted, beat, attacks, direction)
    lo, hi = (Knot(time_s, place), anchor) if direction > 0 else (anchor, Knot(time_s, place))
    kept: tuple[Knot, ...] = tuple(
        knot
        for knot in pace.knots
        if (
            knot.quarters >= anchor.quarters - SAME_PLACE
            if direction > 0
            else knot.quarters <= anchor.quarters + SAME_PLACE
        )
    )
    places = pace.beats_between(lo.quarters + 0.25 * beat, hi.quarters - 0.25 * beat)
    # The old course between both ends, bent linearly so that it meets them.
    old_lo, old_hi = pace.place(lo.time_s), pace.place(hi.time_s)
    course = pace.to_seconds(
        Quarters(old_lo + (places - lo.quarters) * (old_hi - old_lo) / (hi.quarters - lo.quarters))
    )
    expected = np.asarray(course, dtype=np.float64)
    period = (hi.time_s - lo.time_s) * beat / (hi.quarters - lo.quarters)
    times = lay_beats(expected, attacks, (lo.time_s, hi.time_s), period)
    sure = sureness(times, attacks)
    between: tuple[Knot, ...] = tuple(
        Knot(float(t), float(q), confidence=float(c)) for t, q, c in zip(times, places, sure, strict=True)
    )
    if direction > 0:
        return (*between, *kept)
    # A ramp ended where the next knot was: what is laid anew after the anchor has steps of its own.
    return (*kept[:-1], replace(kept[-1], ramp=1.0), *between)


def _open_side(
    pace: TempoMap[ClockT],
    time_s: float,
    place: float,
    counted: float,
    beat: float,
    attacks: Onsets,
    direction: int,
) -> tuple[Knot, ...]:
    """As `_side` where no other anchor stands on it."""

    def beyond(knot: Knot) -> bool:
        return direction * (knot.quarters - place) > SAME_PLACE

    # No anchor: the beats stay where they are but for the fade, and are only counted anew.
    knots = (
        [replace(knot, quarters=knot.quarters + counted) for knot in pace.knots]
        if counted
        else list(pace.knots)
    )
    knots = [
        knot
        for knot in knots
        if beyond(knot)
        and abs(knot.quarters - place) > CROWDED * beat
        and direction * (knot.time_s - time_s) > 0
    ]
    shift = time_s - pace.second(place - counted)
    period = 60.0 * beat / pace.bpm_at(place - counted)
    far = FADE_BARS * pace.meters[0].bar_quarters if abs(shift) <= PHASE_SHARE * period else np.inf
    if not knots or abs(shift) <= UNMOVED_S:
        return tuple(knots)
    distance = np.abs(np.array([knot.quarters for knot in knots]) - place)
    fade = np.clip(1.0 - distance / far, 0.0, 1.0) if np.isfinite(far) else np.ones(len(knots))
    expected = np.array([knot.time_s for knot in knots]) + shift * fade
    moved = fade > 0
    laid = lay_beats(expected, attacks, (time_s, None) if direction > 0 else (None, time_s), period)
    return tuple(
        replace(knot, time_s=float(time)) if goes else knot
        for knot, time, goes in zip(knots, laid, moved, strict=True)
    )


def set_bar_1(pace: TempoMap[ClockT], time_s: float, attacks: Onsets) -> TempoMap[ClockT]:
    """This moment is the line of bar 1: all bars are counted from here, anchors keep their times, confirmed
    downbeats open bars.
    """
    confirmed = confirmed_in(pace)
    counted, line = with_downbeat(pace, pace.beat_near(pace.place(time_s)), confirmed)
    moments = [pace.second(place) for place in confirmed]
    counted = counted.counted_from(line)
    places: list[float] = [counted.place(moment) for moment in moments]
    counted = refilled(counted, [place for place in places if place > SAME_PLACE_Q])
    for moment in moments:
        if not is_line(counted, counted.place(moment)):
            raise MapConflictError(
                "Bar 1 at {0} and the downbeat confirmed at {1} cannot both hold: the lead-in is counted in "
                "whole bars. The map is unchanged; take that downbeat back first.",
                time_s,
                moment,
            )
    taken = next((knot for knot in counted.knots if knot.fixed and abs(knot.quarters) < SAME_PLACE), None)
    if taken is not None and abs(taken.time_s - time_s) < 1e-6:
        return counted
    if taken is not None:
        counted = _without(counted, taken.quarters)
    return fix_place(counted, time_s, 0.0, attacks)


def release(
    pace: TempoMap[ClockT], place: float, attacks: Onsets, found: TempoMap[ClockT] | None = None
) -> TempoMap[ClockT]:
    """Remove an anchor: the beats between its neighbours go back to where they were found.

    found  the pace as it was heard; where its beats cannot be counted into the gap, beats are laid on the
           attacks anew
    """
    anchor = anchor_at(pace, place)
    if anchor is None:
        raise ParameterError("There is no anchor at this place; the map is unchanged.")
    if anchor.locked:
        raise ParameterError("This anchor is locked; unlock it first. The map is unchanged.")
    left, right = _anchor_before(pace, place), _anchor_after(pace, place)
    beat = pace.meter_of(pace.bar_of(place)).beat_quarters
    kept: tuple[Knot, ...] = tuple(
        k
        for k in pace.knots
        if (left and k.quarters <= left.quarters) or (right and k.quarters >= right.quarters)
    )
    restored: tuple[Knot, ...] | None = None
    if found is not None:
        restored = _as_found(pace, found, anchor, left, right, beat)
    between: tuple[Knot, ...] = (
        _laid_anew(pace, anchor, left, right, beat, attacks) if restored is None else restored
    )
    if restored is not None and left is not None:
        kept = tuple(replace(knot, ramp=1.0) if knot == left else knot for knot in kept)
    return pace.through(tuple(sorted((*kept, *between), key=lambda knot: knot.quarters)))


def _as_found(
    pace: TempoMap[ClockT],
    found: TempoMap[ClockT],
    anchor: Knot,
    left: Knot | None,
    right: Knot | None,
    beat: float,
) -> tuple[Knot, ...] | None:
    """The found beats between two anchors, counted from them; None where they do not fit in."""
    period = 60.0 * beat / float(np.median(pace.span_bpm))
    heard = float(np.median(np.diff(found.times_s)))
    if not SAME_PULSE[0] < heard / period < SAME_PULSE[1]:
        return None
    beats = [
        k
        for k in found.knots
        if (not left or k.time_s > left.time_s + 0.25 * period)
        and (not right or k.time_s < right.time_s - 0.25 * period)
    ]
    if not beats:
        return ()
    count = len(beats)
    reach = (count + 2) * max(meter.beat_quarters for meter in pace.meters)
    if left is not None:
        places = pace.beats_between(
            left.quarters + 0.25 * beat, right.quarters - 0.25 * beat if right else left.quarters + reach
        )
        places = places if right else places[:count]
    elif right is not None:
        places = pace.beats_between(right.quarters - reach, right.quarters - 0.25 * beat)[-count:]
    else:
        near = min(range(count), key=lambda k: abs(beats[k].time_s - anchor.time_s))
        here = pace.beat_near(anchor.quarters)
        before = pace.beats_between(here - reach, here - 0.25 * beat)
        after = pace.beats_between(here, here + reach)
        places = np.concatenate([before[len(before) - near :], after[: count - near]])
    if len(places) != count:
        return None
    return tuple(replace(knot, quarters=float(place)) for knot, place in zip(beats, places, strict=True))


def _laid_anew(
    pace: TempoMap[ClockT], anchor: Knot, left: Knot | None, right: Knot | None, beat: float, attacks: Onsets
) -> tuple[Knot, ...]:
    """Beats between two anchors where they are now, laid on the attacks; off-beat knots are dropped."""
    inside = [
        replace(knot, fixed=False, confidence=min(knot.confidence, 0.5))
        for knot in pace.knots
        if (not left or knot.quarters > left.quarters) and (not right or knot.quarters < right.quarters)
        if abs(knot.quarters - pace.beat_near(knot.quarters)) < 1e-6
    ]
    if not inside:
        return ()
    ends = (left.time_s if left else None, right.time_s if right else None)
    times = lay_beats(
        np.array([knot.time_s for knot in inside]), attacks, ends, 60.0 * beat / pace.bpm_at(anchor.quarters)
    )
    return tuple(replace(knot, time_s=float(time)) for knot, time in zip(inside, times, strict=True))


def lock(pace: TempoMap[ClockT], place: float, locked: bool) -> TempoMap[ClockT]:
    """Lock or unlock a place; locking a found beat makes it an anchor where it is."""
    near = min(pace.knots, key=lambda knot: abs(knot.quarters - place))
    if abs(near.quarters - place) > HERE_Q:
        pace = pace.with_knot(place)
        near = min(pace.knots, key=lambda knot: abs(knot.quarters - place))
    return pace.through(
        tuple(
            replace(knot, fixed=True, locked=locked, confidence=1.0) if knot == near else knot
            for knot in pace.knots
        ),
    )


def scale_tempo(
    pace: TempoMap[ClockT], factor: Fraction | int, place: float | None = None
) -> TempoMap[ClockT]:
    """So many times as many beats in the same time; anchors and beats keep their times.

    factor  2, 3, 1/2, 1/3, 3/2 or 2/3; -2 and -3 stand for 1/2 and 1/3
    place   from the bar line nearest to it on; None, or a line that is not after bar 1's, for the whole map
    Raises  ParameterError for any other factor
    """
    return read_as_fast(pace, scale_factor(factor), place)


def read_as_fast(pace: TempoMap[ClockT], times: Fraction, place: float | None = None) -> TempoMap[ClockT]:
    """As `scale_tempo`, by any factor."""
    index: int | None = None if place is None or nearest_bar(pace, place) <= 0 else nearest_bar(pace, place)
    line: float = 0.0 if index is None else pace.bar_line(index)
    if index is not None and pace.quarters[0] < line < pace.quarters[-1]:
        # The line where the counting changes is a point of the map, or the tempo would change before it.
        pace = pace.with_knot(line)
    before: tuple[Knot, ...] = tuple(
        knot for knot in pace.knots if index is not None and knot.quarters < line - SAME_PLACE
    )
    after: list[Knot] = [
        replace(knot, quarters=line + float(times) * (knot.quarters - line))
        for knot in pace.knots[len(before) :]
    ]
    scaled_pace = replace(pace, meters=scaled_meters(pace, float(times), index))
    made: TempoMap[ClockT] = scaled_pace.through((*before, *after))
    scaled: TempoMap[ClockT] = (
        made
        if made.has_ramps
        else made.through((*before, *_on_beats(made, after, line if index is not None else None)))
    )
    # A downbeat that was confirmed opens a bar also where bars are twice as long.
    moments = [pace.second(line) for line in confirmed_in(pace)]
    for k, moment in enumerate(moments):
        at = next(knot.quarters for knot in scaled.knots if knot.fixed and knot.time_s == moment)
        known: list[float] = [scaled.place(other) for other in moments[:k]]
        scaled, _ = with_downbeat(scaled, at, known if index is None else [line, *known])
    return scaled


def scale_factor(factor: Fraction | int) -> Fraction:
    """2, 3, 3/2, 2/3, 1/2 or 1/3; of a negative number its reciprocal. Raises ParameterError for any
    other.
    """
    times = Fraction(1, -int(factor)) if factor < 0 else Fraction(factor)
    if times not in SCALES:
        raise ParameterError(
            f"The tempo is read twice, three times, half, a third, 3/2 or 2/3 as fast, not {factor} "
            "times. Nothing was changed."
        )
    return times


def _on_beats(pace: TempoMap[ClockT], knots: Sequence[Knot], line: float | None) -> list[Knot]:
    """Knots of a part of a map on its counted beats: those that are there, those that a count between them
    needs; anchors wherever they are.
    """
    if len(knots) < 2:
        return list(knots)
    places = pace.beats_between(knots[0].quarters - SAME_PLACE_Q, knots[-1].quarters + SAME_PLACE_Q)
    have = np.array([knot.quarters for knot in knots])
    sure = np.interp(places, have, [knot.confidence for knot in knots])
    on_beat = (
        np.abs(places[None, :] - have[:, None]) < SAME_PLACE_Q
        if len(places)
        else np.zeros((len(have), 0), bool)
    )
    kept: list[Knot] = [
        knot
        for knot, here in zip(knots, on_beat, strict=True)
        if knot.fixed or here.any() or (line is not None and abs(knot.quarters - line) < SAME_PLACE_Q)
    ]
    fresh = ~on_beat.any(axis=0)
    times = pace.to_seconds(Quarters(places[fresh]))
    kept += [
        Knot(float(t), float(q), confidence=float(c))
        for t, q, c in zip(times, places[fresh], sure[fresh], strict=True)
    ]
    # Two knots at least: a part of a map that holds no beat keeps its ends.
    return sorted(kept, key=lambda knot: knot.quarters) if len(kept) > 1 else list(knots)


def scaled_meters(pace: TempoMap[ClockT], factor: float, start: int | None = None) -> tuple[Meter, ...]:
    """The meters where each bar from index `start` on (or all) becomes `factor` bars; of those that would
    share a bar the later one holds."""

    def to(index: int) -> int:
        first = 0 if start is None else start
        return round(first + (index - first) * factor) if start is None or index >= first else index

    bars = sorted({to(bar_index(meter.bar)): meter for meter in pace.meters}.items())
    # Where one between two alike is gone, the second changes nothing.
    changes = [bar for k, bar in enumerate(bars) if not k or str(bar[1]) != str(bars[k - 1][1])]
    return tuple(replace(meter, bar=bar_number(index)) for index, meter in changes)


def anchor_at(pace: TempoMap[ClockT], place: float) -> Knot | None:
    """The anchor at a musical place, if there is one."""
    return next((knot for knot in pace.knots if knot.fixed and abs(knot.quarters - place) < 1e-6), None)


def anchors(pace: TempoMap[ClockT]) -> tuple[Knot, ...]:
    """All anchors, in order."""
    return tuple(knot for knot in pace.knots if knot.fixed)


def largest_move_ms(
    old: TempoMap[ClockT], new: TempoMap[ClockT], until_s: float | None = None
) -> tuple[float, int, int] | None:
    """(ms, first bar number, last bar number) of the bar lines that a change moved, or None.

    until_s  where the music ends; a steady map runs on far beyond it
    """

    def ends(pace: TempoMap[ClockT]) -> tuple[int, int]:
        first, last = (pace.bar_of(float(place)) for place in (pace.quarters[0], pace.quarters[-1]))
        return first, last if until_s is None else max(first, min(last, pace.bar_of(pace.place(until_s)) - 1))

    # Lines are compared by time: a bar that only got another number did not move.
    (first, last), (start, stop) = ends(new), ends(old)
    old_lines = old.to_seconds(old.bar_lines(start, stop - start + 1))
    new_lines = new.to_seconds(new.bar_lines(first, last - first + 1))
    # Where there are more lines or fewer, those that came or went did not move either.
    few, many = (old_lines, new_lines) if len(old_lines) < len(new_lines) else (new_lines, old_lines)
    distance = np.abs(many[nearest(many, few)] - few) if len(many) and len(few) else np.zeros(len(few))
    if len(many) > 1:
        half = 0.5 * float(np.median(np.diff(many)))
        distance[(few < many[0] - half) | (few > many[-1] + half)] = 0.0
    moved = [int(k) for k in nearest(new_lines, few[distance > SHOWN_S])]
    if not moved:
        return None
    return 1000.0 * float(distance.max()), bar_number(first + moved[0]), bar_number(first + moved[-1])


def unfixed(pace: TempoMap[ClockT], here: Knot) -> TempoMap[ClockT]:
    """The same map without an anchor of it. Raises MapConflictError where it is locked."""
    if here.locked:
        raise MapConflictError(
            f"{_name(pace, here)} is locked at {{0}}; unlock it first. The map is unchanged.", here.time_s
        )
    return _without(pace, here.quarters)


def _without(pace: TempoMap[ClockT], place: float) -> TempoMap[ClockT]:
    return replace(
        pace,
        knots=tuple(replace(knot, fixed=False) if knot.quarters == place else knot for knot in pace.knots),
    )


def _anchor_before(pace: TempoMap[ClockT], place: float) -> Knot | None:
    return next(
        (knot for knot in reversed(pace.knots) if knot.fixed and knot.quarters < place - SAME_PLACE), None
    )


def _anchor_after(pace: TempoMap[ClockT], place: float) -> Knot | None:
    return next((knot for knot in pace.knots if knot.fixed and knot.quarters > place + SAME_PLACE), None)


def _refuse_conflicts(pace: TempoMap[ClockT], left: Knot | None, new: Knot, right: Knot | None) -> None:
    here = anchor_at(pace, new.quarters)
    if here is not None and here.locked and abs(here.time_s - new.time_s) > 1e-6:
        raise MapConflictError(
            f"{_name(pace, here)} is locked at {here.time_s:.3f} s; unlock it to move it. The map "
            "is unchanged."
        )
    typical = float(np.median(pace.span_bpm))
    for a, b in ((left, new), (new, right)):
        if a is None or b is None:
            continue
        gap_s, gap_q = b.time_s - a.time_s, b.quarters - a.quarters
        bpm = 60.0 * gap_q / gap_s if gap_s > 0 else np.inf
        if not (max(MIN_BPM, typical / LARGEST_RATIO) <= bpm <= min(MAX_BPM, typical * LARGEST_RATIO)):
            other = a if b is new else b
            pace_words = "at or before the same moment" if gap_s <= 0 else f"at {bpm:.0f} BPM between them"
            raise MapConflictError(
                f"{_name(pace, new)} at {{0}} and {_name(pace, other)}, fixed at {{1}}, cannot both hold: "
                f"they would lie {pace_words}. The map is unchanged; remove one of the two anchors first.",
                new.time_s,
                other.time_s,
            )


def _name(pace: TempoMap[ClockT], knot: Knot) -> str:
    bar, beat = pace.address(knot.quarters)
    return f"{'Bar' if beat == 1 else 'Place'} {bar}" + ("" if beat == 1 else f"·{beat:g}")
