"""Bars solved by the ear around what was said: beats keep their times, and which of them open bars is heard
again with every statement as a constraint.

Nothing of an earlier map enters but its beats: the same statements in any order give the same bars. A
statement changes what is doubtful and not what is sure. The bars of the map that was heard with nothing
stated are worth as much as they are sure, for each beat that they would move (`beats.bars.BarHints.lines`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence, Set
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage

from combpace.core.beats.activations import FRAMES_PER_S, Activations
from combpace.core.beats.bars import STATED, BarHints, BarReading, in_one_unit, placed, read_bars
from combpace.core.beats.decoder import Weights
from combpace.core.beats.meter_network import Pattern, hear_pattern, log_odds
from combpace.core.beats.redecode import solved_again
from combpace.core.beats.track import lay_on_onsets
from combpace.core.clocks import ClockT, FloatArray, Quarters
from combpace.core.errors import MapConflictError
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import nearest, one_row
from combpace.core.tempo.lines_moved import Counted, Edit, edited
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, bar_index
from combpace.core.tempo.recount import nearest_bar
from combpace.core.tempo.statements import Stated

# A moment that is stated lies on the beat nearest to it, no farther than this share of a beat.
ON_BEAT = 0.25
# A line that was heard belongs to a beat this near to it, as a share of a beat.
SAME_BEAT = 0.3
# So far from the nearest beat, in beats, a moment lies half-way between two.
OFF_BEAT = 0.4
# Two rows of beats speak for themselves as much as each other within this, log odds a beat; each is heard
# within so many frames.
AS_MUCH, WIDE = 0.15, 7
# A dotted beat, quarters.
DOTTED = 1.5
# So many beats on either side are what the networks see of one.
ABOUT_BEATS = 64
# Two lines that confirm one beat are the same moment within this, seconds.
SAME_S = 0.002


@dataclass(frozen=True, slots=True)
class Lines:
    """Bar lines as they were heard with nothing stated.

    times  seconds, on the map's clock, shape (n,), increasing; the first is bar 1
    sure   0-1, how sure each is, shape (n,)
    meters  of the bar that each opens
    """

    times: FloatArray
    sure: FloatArray
    meters: tuple[Meter, ...]


@dataclass(frozen=True, slots=True)
class Row:
    """What the networks said of a row of beats as it was heard.

    times    seconds, on the map's clock, shape (n,), increasing
    pattern  of each of them
    """

    times: FloatArray
    pattern: Pattern


def hear_row(pulse: Activations, pace: TempoMap[ClockT]) -> Row:
    """What the networks say of a map's own beats; pulse and map are on one clock."""
    _, times = beats_of(pace)
    return Row(times, hear_pattern(pulse, times))


def _pattern_of(times: FloatArray, row: Row, pulse: Callable[[], Activations]) -> Pattern:
    """What the networks say of beats: what they said where a beat was heard, and anew about those that were
    not.
    """
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    at = nearest(row.times, times)
    known = np.abs(row.times[at] - times) <= SAME_BEAT * gaps
    downbeat, meter = row.pattern.downbeat[at].copy(), row.pattern.meter[at].copy()
    edges = np.flatnonzero(np.diff(np.concatenate([[0], ~known, [0]]).astype(int)))
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        low, high = max(0, start - ABOUT_BEATS), min(len(times), stop + ABOUT_BEATS)
        anew = hear_pattern(pulse(), times[low:high])
        downbeat[start:stop] = anew.downbeat[start - low : stop - low]
        meter[start:stop] = anew.meter[start - low : stop - low]
    return Pattern(downbeat, meter, np.zeros_like(downbeat), row.pattern.apart[at])


def lines_of(pace: TempoMap[ClockT]) -> Lines:
    """The lines of a map from bar 1 to its last knot; each is as sure as the knot on it, else .5."""
    count = pace.bar_of(float(pace.quarters[-1]) + 1e-6) + 1
    places = np.asarray(pace.bar_lines(0, max(0, count - 1)))
    sure = np.full(len(places), 0.5)
    near = np.clip(np.searchsorted(pace.quarters, places), 0, len(pace.knots) - 1)
    for k, (place, at) in enumerate(zip(places, near, strict=True)):
        for one in (at - 1, at):
            if one >= 0 and abs(pace.knots[one].quarters - place) < 1e-6:
                sure[k] = pace.knots[one].confidence
    meters = tuple(pace.meter_of(index) for index in range(len(places)))
    return Lines(np.asarray(pace.to_seconds(Quarters(places))), sure, meters)


def same_beats(a: TempoMap[ClockT], b: TempoMap[ClockT]) -> bool:
    """Whether most counted beats of each of two maps lie near one of the other."""
    return one_row(beats_of(a)[1], beats_of(b)[1])


def same_bars(a: TempoMap[ClockT], b: TempoMap[ClockT]) -> bool:
    """Whether two maps have the same bars, in the same meters, at the same moments."""
    ours, theirs = lines_of(a), lines_of(b)
    return (
        ours.times.shape == theirs.times.shape
        and bool(np.all(np.abs(ours.times - theirs.times) < SAME_S))
        and [str(one) for one in ours.meters] == [str(one) for one in theirs.meters]
    )


def beats_of(pace: TempoMap[ClockT]) -> tuple[FloatArray, FloatArray]:
    """(places, seconds) of the counted beats from a map's first knot to its last."""
    first, last = float(pace.quarters[0]), float(pace.quarters[-1])
    places = pace.beats_between(first - 1e-6, last + 1e-6)
    return places, np.asarray(pace.to_seconds(Quarters(places)))


def lies_on_beat(pace: TempoMap[ClockT], time_s: float) -> bool:
    """Whether a moment lies so near to a counted beat of a map that it is that beat."""
    _, times = beats_of(pace)
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    near = int(np.argmin(np.abs(times - time_s)))
    return bool(abs(times[near] - time_s) <= ON_BEAT * gaps[near])


def is_beside(pace: TempoMap[ClockT], pulse: Activations, time_s: float) -> bool:
    """Whether a moment that lies on no beat says that all beats were read beside the pulse, and not only
    those about it: as much speaks for the pulse that goes through it; or it lies half-way between two, while
    no other is fixed and the meter never changes, for an ear that is wrong of a whole take counts off-beats,
    and one that is wrong in one place was wrong about a change.
    """
    _, times = beats_of(pace)
    near = int(np.argmin(np.abs(times - time_s)))
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    off = abs(float(times[near]) - time_s) / float(gaps[near if times[near] <= time_s else max(0, near - 1)])
    whole = len(pace.meters) == 1 and not any(knot.fixed for knot in pace.knots)
    return (off >= OFF_BEAT and whole) or speaks_as_much(pace, pulse, time_s)


def speaks_as_much(pace: TempoMap[ClockT], pulse: Activations, time_s: float) -> bool:
    """Whether as much speaks for the pulse that goes through a moment as for the map's, which does not: then
    all of it was read beside the beat, and not only what lies about the moment.

    time_s  between the first and the last beat; pulse is on the map's clock
    """
    _, times = beats_of(pace)
    near = int(np.argmin(np.abs(times - time_s)))
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    steps = np.arange(len(times)) + (time_s - times[near]) / gaps[near]
    inside = steps[(steps > 0) & (steps < len(times) - 1)]
    beside = np.interp(inside, np.arange(len(times)), times)
    if len(beside) < 2:
        return False
    odds = ndimage.maximum_filter1d(log_odds(pulse.beat.astype(np.float64), 10.0), WIDE)

    def said(moments: FloatArray) -> float:
        return float(odds[np.clip(np.round(moments * FRAMES_PER_S).astype(int), 0, len(odds) - 1)].mean())

    return said(beside) > said(times) - AS_MUCH


def beats_again(
    pace: TempoMap[ClockT], pulse: Activations, attacks: Onsets, held: Sequence[float]
) -> TempoMap[ClockT]:
    """The map with moments that are beats: where one lies beside its beats, they are followed again about it,
    and the rest stays.

    held     seconds, on the map's clock, which is that of `pulse` and `attacks`
    Returns  the map as it is where each lies on a beat already; else a knot on every beat, bars to be counted
             anew
    Raises   MapConflictError where so much disagrees that the take is to be read as a whole
    """
    if all(lies_on_beat(pace, time) for time in held):
        return pace
    _, times = beats_of(pace)
    inside = (times >= 0) & (times * FRAMES_PER_S < len(pulse.beat))
    times = times[inside]
    if len(times) < 2 or not all(times[0] < time < times[-1] for time in held):
        raise MapConflictError("What is stated lies outside the beats that were heard. Nothing was changed.")
    fixed: list[Knot] = [knot for knot in pace.knots if knot.fixed]
    exact = np.array(sorted({*held, *(knot.time_s for knot in fixed)}))
    odds = log_odds(pulse.beat.astype(np.float64), 10.0)
    row = solved_again(odds, times * FRAMES_PER_S, exact * FRAMES_PER_S, (), Weights())
    if row is None:
        raise MapConflictError(
            "What is stated lies so far from the beats that were heard that all of it would have to be read "
            "again. Nothing was changed."
        )
    rough = row / FRAMES_PER_S
    laid, carried = lay_on_onsets(rough, attacks)
    was = {round(knot.time_s, 9): knot for knot in pace.knots}
    stated = {int(np.argmin(np.abs(rough - time))): float(time) for time in exact}
    knots: list[Knot] = []
    for k, time in enumerate(rough):
        at = stated.get(k, float(time))
        knot = was.get(round(at, 9))
        if knot is None and (k in stated or np.abs(times - at).min() < 1e-9):
            knot = Knot(at, 0.0, confidence=0.5)
        elif knot is None:
            knot = Knot(float(laid[k]), 0.0, confidence=float(carried[k]))
        if not knots or knot.time_s > knots[-1].time_s + 1e-4:
            knots.append(knot)
    knots = [replace(knot, quarters=float(k), ramp=1.0) for k, knot in enumerate(knots)]
    return replace(pace, knots=tuple(knots), meters=(Meter(1, 4, 4),))


def bars_again(
    pace: TempoMap[ClockT],
    row: Callable[[], Row],
    pulse: Callable[[], Activations],
    heard: Lines,
    stated: Stated,
    confirmed: Sequence[float] = (),
    *,
    even: bool = False,
) -> TempoMap[ClockT]:
    """The same beats, counted into bars anew so that everything stated holds; as they were heard where that
    holds by itself.

    pace       on the clock of the others; what is stated lies on beats of it
    row        what the networks said of the beats that were heard, of others they are asked with `pulse`:
               both only where bars are to be heard again
    heard      the bars as they were heard
    confirmed  more moments that open bars: those of anchors on lines
    even       all beats are of one length, and of one note value
    Returns    knots with their times, anchors and locks; places and meters are new
    Raises     MapConflictError where a statement lies on no beat, two lie on one, or what is stated leaves
               no room for a count
    """
    places, times = beats_of(pace)
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    said = _on_beats(times, gaps, stated, confirmed)
    near = [int(np.argmin(np.abs(times - time))) for time in heard.times]
    on_beat = np.abs(times[near] - heard.times) <= SAME_BEAT * gaps[near]
    there = [int(k) for k in np.flatnonzero(on_beat)]
    lines = Counted(
        tuple(near[k] for k in there),
        tuple(heard.meters[k] for k in there),
        tuple(float(heard.sure[k]) for k in there),
    )
    moved = bool(said.edits) and bool(there)
    if moved:
        lines = edited(lines, said.edits, said.opens, len(times))
    led = _led_in(lines)
    if (moved or bool(np.all(on_beat))) and said.opens <= set(lines.starts) | led and said.holds_in(lines):
        reading = BarReading(lines.starts, lines.meters, np.zeros(0), np.zeros(0))
    elif (
        not moved
        and (not even or not stated.downbeats)
        and (all_shifted := _in_one_meter(len(times), said.opens, heard, said)) is not None
    ):
        # Of one tempo, a bar that is stated says where all are counted from.
        reading = all_shifted
    else:
        reading = _by_ear(pace, (times, gaps), row, pulse, heard, said, lines, even=even, moved=moved)
    if not said.opens <= set(reading.starts) | led:
        raise MapConflictError("However the bars are counted, not all that you stated open one.")
    made = _counted(pace, places, times, reading, stated, heard)
    for beat in sorted(said.opens):
        place = made.place(float(times[beat]))
        if abs(made.second(made.bar_line(nearest_bar(made, place))) - times[beat]) > SAME_S:
            raise MapConflictError(
                "The downbeat at {0} lies before bar 1, and the lead-in is counted in whole bars. Nothing "
                "was changed; state bar 1 anew first.",
                float(times[beat]),
            )
    return made


def said_of(
    times: FloatArray, row: Row, pulse: Callable[[], Activations], stated: Stated
) -> tuple[Pattern, BarHints]:
    """(what the networks say of beats, what is stated of them); it lies on beats."""
    gaps = np.diff(times, append=2 * times[-1] - times[-2])
    said = _on_beats(times, gaps, stated, ())
    return _pattern_of(times, row, pulse), BarHints(said.meters, said.opens, said.others)


def _led_in(lines: Counted) -> set[int]:
    """Beats that open bars of the lead-in: it is counted back from bar 1 in whole bars."""
    if not lines.starts:
        return set()
    return set(range(lines.starts[0], -1, -lines.meters[0].beats))


@dataclass(frozen=True, slots=True)
class _Said:
    """What is stated, as indices of beats.

    opens, others  beats that open bars, and that do not
    meters         (from beat, meter or None: as it is heard), in order
    edits          what is stated to move the lines that were heard
    """

    opens: frozenset[int]
    others: frozenset[int]
    meters: tuple[tuple[int, Meter | None], ...]
    edits: tuple[Edit, ...]

    def holds_in(self, lines: Counted) -> bool:
        """Whether bars are in the meters that were stated, each from its beat to the next one's, and nothing
        opens one that is stated to open none.
        """
        if self.others & set(lines.starts):
            return False
        for k, (start, meter) in enumerate(self.meters):
            stop = self.meters[k + 1][0] if k + 1 < len(self.meters) else np.inf
            if start > 0 and start not in lines.starts:
                return False
            inside = [
                str(one) for at, one in zip(lines.starts, lines.meters, strict=True) if start <= at < stop
            ]
            if meter is not None and any(one != str(meter) for one in inside):
                return False
        return True


def _on_beats(times: FloatArray, gaps: FloatArray, stated: Stated, confirmed: Sequence[float]) -> _Said:
    """What is stated, as indices of beats. Raises MapConflictError where it lies on none, or two on one."""
    held = sorted({*stated.opening, *confirmed})
    opens = {_beat(times, gaps, time) for time in held}
    if len(opens) < sum(1 for k, time in enumerate(held) if not k or time - held[k - 1] > SAME_S):
        twice = [time for k, time in enumerate(held) if k and time - held[k - 1] > SAME_S]
        both = next(
            time
            for time in twice
            if _beat(times, gaps, time) == _beat(times, gaps, held[held.index(time) - 1])
        )
        raise MapConflictError(
            "{0} and {1} are one beat, and cannot both open a bar. Nothing was changed; take one of them "
            "back.",
            held[held.index(both) - 1],
            both,
        )
    others = {_beat(times, gaps, time) for time in stated.others}
    for beat in sorted(opens & others):
        raise MapConflictError(
            "That {0} opens a bar, and that it opens none, cannot both hold. Nothing was changed; take one "
            "of the two back.",
            float(times[beat]),
        )
    spans = [
        (_beat(times, gaps, start), _beat(times, gaps, stop, beyond=True), meter)
        for start, stop, meter in stated.ranges
    ]
    for start, stop, meter in spans:
        if stop <= start:
            raise MapConflictError(
                f"The bars in {meter} from {{0}} on hold no beat of this count. Nothing was changed; take "
                "them back.",
                float(times[start]),
            )
    edits = [Edit("range", start, stop, meter) for start, stop, meter in spans]
    edits += [Edit(reach, _beat(times, gaps, time)) for time, reach in stated.reach]
    edits += [Edit("none", beat) for beat in sorted(others)]
    return _Said(frozenset(opens), frozenset(others), _meters(times, gaps, stated, spans), tuple(edits))


def _meters(
    times: FloatArray, gaps: FloatArray, stated: Stated, spans: Sequence[tuple[int, int, Meter]]
) -> tuple[tuple[int, Meter | None], ...]:
    """Meters from beats on; within a range its own, after it what held there before."""
    changes: list[tuple[int, Meter | None]] = [
        (_beat(times, gaps, time), meter) for time, meter in stated.changes
    ]
    if stated.everywhere is not None:
        changes.insert(0, (0, stated.everywhere))

    def there(beat: int) -> Meter | None:
        return next((meter for at, meter in reversed(changes) if at <= beat), None)

    for start, stop, meter in sorted(spans, key=lambda span: span[0]):
        after = there(stop)
        changes = [one for one in changes if not start <= one[0] <= stop]
        changes.append((start, meter))
        if stop < len(times):
            changes.append((stop, after))
        changes.sort(key=lambda change: change[0])
    return tuple(changes)


def _by_ear(
    pace: TempoMap[ClockT],
    beats: tuple[FloatArray, FloatArray],
    row: Callable[[], Row],
    pulse: Callable[[], Activations],
    heard: Lines,
    said: _Said,
    lines: Counted,
    *,
    even: bool,
    moved: bool,
) -> BarReading:
    """Bars by the bar model: what is stated leaves no other state, the lines as they were heard, or as the
    user moved them, are worth as much as they are sure.
    """
    times, gaps = beats
    opened = times[list(lines.starts)] if moved else heard.times
    there = np.maximum(0, np.searchsorted(opened, times + 0.5 * gaps, "right") - 1)
    named = lines.meters if moved else heard.meters
    usual = tuple(named[k] for k in there) if named else ()
    opens = said.opens
    first = int(np.argmin(np.abs(times - heard.times[0]))) if len(heard.times) else -1
    everywhere = bool(said.meters) and said.meters[0][0] == 0
    if not opens and everywhere and lines.starts[:1] == (first,) and first not in said.others:
        # Another meter alone leaves bar 1 where it was heard.
        opens = frozenset({first})
    unit = pace.meters[0].beat_quarters if even else None
    kept = tuple(zip(lines.starts, lines.sure, strict=True))
    hints = BarHints(said.meters, opens, said.others, kept, usual, unit)
    reading = read_bars(_pattern_of(times, row(), pulse), hints, STATED, posterior=False)
    if any(meter is not None for _, meter in said.meters):
        return reading
    return in_one_unit(_in_heard_units(reading, heard, times), times)


def _in_one_meter(count: int, opens: Set[int], heard: Lines, said: _Said) -> BarReading | None:
    """Bars of the one meter that was heard throughout, all begun on another beat, where everything stated
    holds in them; None where it does not. An ear that hears no change is oftener wrong about where all bars
    begin than about a change that it did not hear.
    """
    names = {str(meter) for meter in heard.meters}
    if len(names) != 1 or said.meters or not opens:
        return None
    meter = heard.meters[0]
    phases = {beat % meter.beats for beat in opens}
    if len(phases) > 1:
        return None
    starts = tuple(range(phases.pop(), count, meter.beats))
    if said.others & set(starts):
        return None
    return BarReading(starts, (meter,) * len(starts), np.zeros(0), np.zeros(0))


def _in_heard_units(reading: BarReading, heard: Lines, times: FloatArray) -> BarReading:
    """Bars whose beats are of a note value that was not heard are named by one that was, the one in which the
    tempo goes on best: two eighths beside 7/8 are 2/8, and no 6/8 at three times the tempo.
    """
    units = {meter.beat_quarters for meter in heard.meters if meter.beat_quarters != DOTTED}
    lengths = np.diff(heard.times) / np.array([meter.bar_quarters for meter in heard.meters[:-1]])
    if not units or not len(lengths) or any(meter.beat_quarters == DOTTED for meter in heard.meters):
        return reading
    quarter = float(np.median(lengths))
    meters = list(reading.meters)
    for k, (start, meter) in enumerate(zip(reading.starts, reading.meters, strict=True)):
        if meter.beat_quarters == DOTTED:
            gap = float(times[min(start + 1, len(times) - 1)] - times[min(start, len(times) - 2)])
            best = min(units, key=lambda unit: abs(np.log2(gap / (unit * quarter))))
            meters[k] = Meter(1, meter.beats, round(4 / best))
    return replace(reading, meters=tuple(meters))


def _beat(times: FloatArray, gaps: FloatArray, time: float, *, beyond: bool = False) -> int:
    """Index of the beat at a moment; beyond: it may lie one beat and more behind the last."""
    if beyond and time > times[-1] + 0.5 * gaps[-1]:
        return len(times)
    near = int(np.argmin(np.abs(times - time)))
    if abs(times[near] - time) > ON_BEAT * gaps[near]:
        raise MapConflictError("What is stated at {0} lies on no beat of the map. Nothing was changed.", time)
    return near


def _counted(
    pace: TempoMap[ClockT],
    places: FloatArray,
    times: FloatArray,
    reading: BarReading,
    stated: Stated,
    heard: Lines,
) -> TempoMap[ClockT]:
    """The map with these bars; bar 1 where it was stated, else at the line nearest to where it was heard."""
    starts, meters = list(reading.starts), list(reading.meters)
    lead_in = 0
    if stated.bars:
        time, number = stated.bars[0]
        here = int(np.argmin(np.abs(times - time)))
        # In the lead-in bars are counted back from the first.
        bars = starts.index(here) if here in starts else (here - starts[0]) // meters[0].beats
        first = bars - bar_index(number)
        if first >= len(starts):
            raise MapConflictError(
                f"With bar {number} at {{0}} bar 1 would lie behind the last beat that was heard. Nothing "
                "was changed; say which bar it is from bar 1 on.",
                time,
            )
        # Bars before the first that was read are counted back in its meter.
        lead_in, first = max(0, -first), max(0, first)
    else:
        first = int(np.argmin(np.abs(times[starts] - heard.times[0]))) if len(heard.times) else 0
        earliest = min(stated.downbeats, default=np.inf)
        while first and times[starts[first]] > earliest + SAME_S:
            first -= 1
    starts, meters = starts[first:], meters[first:]
    after, named = placed(len(times), tuple(starts), tuple(meters))
    beat = named[0].beat_quarters
    # A knot between beats keeps its share of the way; beyond both ends places run on.
    steps = np.interp(pace.quarters, places, np.arange(len(places)))
    moved = np.interp(steps, np.arange(len(after)), after)
    low, high = pace.quarters < places[0], pace.quarters > places[-1]
    moved[low] = after[0] + (pace.quarters[low] - places[0])
    moved[high] = after[-1] + (pace.quarters[high] - places[-1])
    knots = tuple(
        Knot(knot.time_s, float(q), knot.fixed, knot.locked, knot.confidence, knot.ramp)
        for knot, q in zip(pace.knots, moved, strict=True)
    )
    made = replace(pace, knots=knots, meters=named)
    if lead_in:
        made = made.counted_from(-lead_in * named[0].beats * beat)
    for time, number in stated.bars[1:]:
        if abs(made.second(made.bar_line(bar_index(number))) - time) > SAME_S:
            raise MapConflictError(
                f"Bar {stated.bars[0][1]} at {{0}} and bar {number} at {{1}} cannot both hold with the beats "
                "that are heard between them. Nothing was changed; take one of the two back.",
                stated.bars[0][0],
                time,
            )
    return made
