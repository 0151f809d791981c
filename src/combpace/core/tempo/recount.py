"""Counting beats into bars anew, about the downbeats that are confirmed.

Nothing here moves a moment: every knot keeps its time, and with it every beat. A downbeat that the user
confirmed opens a bar whatever comes after; where the count between two of them does not come out, one bar of
another length stands before the second.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from combpace.core.clocks import ClockT, SessionTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo.map import SAME_PLACE, TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number

# Places of one map, computed in different ways, are the same within this; a thousandth of the smallest grid.
SAME_PLACE_Q = 1e-6
# Names of one bar of odd length, in quarters: the coarsest note value that divides it.
UNITS = (1, 2, 4, 8, 16, 32, 64)
MOST_BEATS = 64
# A bar that is stated so far from a beat, as a share of it, lies between two: on the nearest half quarter.
BETWEEN_BEATS, HALF_Q = 0.3, 0.5
Bar = tuple[float, Meter]


def counted_as(
    pace: TempoMap[ClockT], line: TempoMap[SessionTimes], said_s: Sequence[float], offset_s: float
) -> TempoMap[ClockT]:
    """A take's pace counted as another map counts it: bars or downbeats that were stated in it say which of
    the take's beats is meant. Without this a fit would bring the beat that was heard as bar 1 there.

    said_s   moments that were stated, session seconds; offset_s: where the take begins in the session
    Returns  the same beats, so many later or earlier in the count
    """
    beat = pace.meters[0].beat_quarters
    off = float(np.median([line.place(time) - pace.place(time - offset_s) for time in said_s]))
    by = beat * round(off / beat)
    if abs(off - by) > BETWEEN_BEATS * beat:
        # What was said lies between the beats that were heard.
        by = HALF_Q * round(off / HALF_Q)
    return pace.counted_later(by)


def nearest_bar(pace: TempoMap[ClockT], place: float) -> int:
    """Index of the bar whose line lies nearest to a musical place."""
    index = pace.bar_of(place)
    return index if place - pace.bar_line(index) <= pace.bar_line(index + 1) - place else index + 1


def is_line(pace: TempoMap[ClockT], place: float) -> bool:
    """Whether a place is the line of a bar."""
    return abs(place - pace.bar_line(nearest_bar(pace, place))) < SAME_PLACE_Q


def confirmed_in(pace: TempoMap[ClockT]) -> tuple[float, ...]:
    """Places of the anchors that stand on bar lines: downbeats that the user confirmed."""
    return tuple(knot.quarters for knot in pace.knots if knot.fixed and is_line(pace, knot.quarters))


def with_downbeat(
    pace: TempoMap[ClockT], place: float, confirmed: Sequence[float], *, numbered: bool = True
) -> tuple[TempoMap[ClockT], float]:
    """Count so that a place opens a bar and every confirmed place still does.

    place      quarters, on a counted beat
    confirmed  quarters, on bar lines
    numbered   the number of a bar was stated; else bar 1 goes to the first downbeat, where the lead-in's
               whole bars leave no room
    Returns    (the map counted anew, the place in its count: other than before only where bar 1 is not
               confirmed)
    Raises     MapConflictError where what is confirmed before bar 1 leaves no room
    """
    if is_line(pace, place):
        return pace, place
    first = min([place, *confirmed])
    if not numbered and first < -SAME_PLACE_Q and confirmed:
        pace, place, confirmed = pace.counted_from(first), place - first, [line - first for line in confirmed]
        if abs(place) < SAME_PLACE_Q:
            # Bars are counted from the new one on; the confirmed ones after it stand where they stood.
            return refilled(pace, confirmed), 0.0
    left: float | None = max((line for line in confirmed if line < place - SAME_PLACE_Q), default=None)
    right: float | None = min((line for line in confirmed if line > place + SAME_PLACE_Q), default=None)
    if (left is not None and left < -SAME_PLACE_Q) or (
        left is None and place < -SAME_PLACE_Q and any(abs(line) < SAME_PLACE_Q for line in confirmed)
    ):
        raise MapConflictError(_before_bar_1(pace, place))
    shift: float = 0.0
    if left is None:
        # Nothing before it is confirmed: the bars there are counted back from it, and bar 1 moves with them.
        shift = (
            place
            if place < -SAME_PLACE_Q and right is not None
            else place - pace.bar_line(nearest_bar(pace, place))
        )
    moved: TempoMap[ClockT] = pace.counted_from(shift) if shift else pace
    at: float = place - shift
    if right is None and at < SAME_PLACE_Q:
        return moved, at
    before: list[Bar] = [
        bar for bar in bars_until(moved, at) if bar[0] < (at if left is None else left) - SAME_PLACE_Q
    ]
    if left is not None:
        before += filled(left, at, pace.meter_of(pace.bar_of(left + SAME_PLACE_Q)))
    after: list[Bar] = _tail(moved, at)
    if right is not None:
        after = filled(at, right - shift, pace.meter_of(pace.bar_of(place + SAME_PLACE_Q)))
        after += bars_from(pace, right, shift)
    made = replace(moved, meters=meters_of([*before, *after]))
    if not is_line(made, at):
        raise MapConflictError(
            f"However the bars are counted, none begins at {_name(pace, place)}. The map is "
            "unchanged; state the meter there first."
        )
    return made, at


def refilled(pace: TempoMap[ClockT], confirmed: Sequence[float]) -> TempoMap[ClockT]:
    """Bars counted from bar 1 on so that every confirmed place opens one."""
    done: list[float] = [0.0]
    for line in sorted(confirmed):
        pace, _ = with_downbeat(pace, line, done)
        done.append(line)
    return pace


def with_meter(pace: TempoMap[ClockT], meter: Meter, confirmed: Sequence[float]) -> TempoMap[ClockT]:
    """Another meter for the whole map: beats keep their times, bars are counted anew from bar 1 and from each
    confirmed downbeat.

    Where bar 1 is not confirmed it moves to the beat nearest to where it was that lies whole bars before the
    first that is.
    Raises  MapConflictError where a downbeat is confirmed before bar 1 and not whole bars away
    """
    unit, length = meter.beat_quarters, meter.bar_quarters
    lines: list[float] = sorted(pace.beats_from_bar_1(line) * unit for line in confirmed)
    shift: float = 0.0
    if lines and not any(abs(line) < SAME_PLACE_Q for line in lines):
        first = lines[0]
        shift = first if first < 0 else first - round(first / length) * length
    for line in lines:
        away = (line - shift) / length
        if away < -SAME_PLACE_Q and abs(away - round(away)) > SAME_PLACE_Q:
            raise MapConflictError(_before_bar_1(pace, min(confirmed)))
    knots = tuple(
        replace(knot, quarters=pace.beats_from_bar_1(knot.quarters) * unit - shift) for knot in pace.knots
    )
    ends: list[float] = [0.0, *(line - shift for line in lines if line - shift > SAME_PLACE_Q)]
    bars: list[Bar] = [bar for a, b in itertools.pairwise(ends) for bar in filled(a, b, meter)]
    return replace(pace, knots=knots, meters=meters_of([*bars, (ends[-1], meter)]))


def with_meter_from(
    pace: TempoMap[ClockT], place: float, meter: Meter, confirmed: Sequence[float], until: float | None = None
) -> TempoMap[ClockT]:
    """Another meter from the bar line nearest to a place on, to the end or to the line at `until`, where what
    stands there stays.

    Beats keep their times, in a steady map quarters do. From bar 1 on, or from before it, without `until`,
    this is `with_meter`.
    """
    index = nearest_bar(pace, place)
    if index <= 0 and until is None and not pace.is_steady:
        return with_meter(pace, meter, confirmed)
    line: float = pace.bar_line(max(index, 0))
    begun, unit = pace.beats_from_bar_1(line), meter.beat_quarters

    def counted(at: float) -> float:
        """A place after the line, in the new count."""
        if pace.is_steady:
            # One tempo: quarters stay as long as they are.
            return at
        if until is None or at <= until:
            return line + (pace.beats_from_bar_1(at) - begun) * unit
        return counted(until) + at - until

    knots = tuple(
        replace(knot, quarters=counted(knot.quarters)) if knot.quarters > line or not line else knot
        for knot in pace.knots
    )
    ends: list[float] = [
        line,
        *(
            counted(at)
            for at in sorted(confirmed)
            if at > line + SAME_PLACE_Q and (until is None or at < until - SAME_PLACE_Q)
        ),
    ]
    if until is not None:
        ends.append(counted(until))
    bars: list[Bar] = [bar for bar in bars_until(pace, line) if bar[0] < line - SAME_PLACE_Q]
    bars += [bar for a, b in itertools.pairwise(ends) for bar in filled(a, b, meter)]
    rest: list[Bar] = [(ends[-1], meter)] if until is None else bars_from(pace, until, until - counted(until))
    return replace(pace, knots=knots, meters=meters_of([*bars, *rest]))


def filled(start: float, end: float, meter: Meter) -> list[Bar]:
    """Bars of a meter from one line to another; what is left over is one bar of another length, the last of
    them.
    """
    count = int((end - start) / meter.bar_quarters + SAME_PLACE_Q)
    rest = end - start - count * meter.bar_quarters
    if rest < SAME_PLACE_Q:
        return [(start + k * meter.bar_quarters, meter) for k in range(count)]
    if rest < 0.5 * meter.bar_quarters - SAME_PLACE_Q and count:
        # Less than half a bar is no bar of its own: the one before is so much longer.
        count, rest = count - 1, rest + meter.bar_quarters
    return [
        *((start + k * meter.bar_quarters, meter) for k in range(count)),
        (end - rest, _of_length(rest, meter)),
    ]


def odd_bars(
    pace: TempoMap[ClockT], usual: Meter | None = None, until: int | None = None
) -> list[tuple[int, int, Meter]]:
    """(first bar number, last one, meter) of bars that are there to make a count come out.

    usual  the meter that was stated for the whole map: every bar of another one up to index `until`. Without
           it: one or two single bars that differ from the bars on both sides of them, which are alike, and
           from what most bars are
    """
    found: list[tuple[int, int, Meter]] = []
    most = _most_common(pace)
    for k, here in enumerate(pace.meters):
        following = pace.meters[k + 1] if k + 1 < len(pace.meters) else None
        last = bar_index(following.bar) - 1 if following else until
        if usual is not None:
            odd = str(here) != str(usual) and last is not None and last >= bar_index(here.bar)
        else:
            odd = str(here) != most and _is_between_alike(pace, k)
        if odd and last is not None:
            found.append((here.bar, bar_number(last), here))
    return found


def _is_between_alike(pace: TempoMap[ClockT], k: int) -> bool:
    """Whether the k-th meter is that of one bar, alone or beside one other, with the same meter on both
    sides.
    """
    meters = pace.meters
    for first, count in ((k, 1), (k, 2), (k - 1, 2)):
        after = first + count
        if first < 1 or after >= len(meters) or str(meters[first - 1]) != str(meters[after]):
            continue
        if bar_index(meters[after].bar) - bar_index(meters[first].bar) == count:
            return True
    return False


def _most_common(pace: TempoMap[ClockT]) -> str:
    """The meter of most bars up to the last change; what goes on at the end wins where two are equal."""
    bars: dict[str, int] = {str(pace.meters[-1]): 1}
    for here, following in itertools.pairwise(pace.meters):
        bars[str(here)] = bars.get(str(here), 0) + bar_index(following.bar) - bar_index(here.bar)
    return max(bars, key=lambda name: bars[name])


def meters_of(bars: Sequence[Bar]) -> tuple[Meter, ...]:
    """The meters of bars that follow each other from bar 1 on; the last goes on."""
    meters: list[Meter] = []
    for index, (_, meter) in enumerate(bars):
        if not meters or str(meters[-1]) != str(meter):
            meters.append(replace(meter, bar=bar_number(index)))
    return tuple(meters)


def _of_length(quarters: float, like: Meter) -> Meter:
    """A meter of one bar so long, named by the unit of another one where that divides it."""
    for unit in (like.denominator, *UNITS):
        beats = quarters * unit / 4
        if abs(beats - round(beats)) < SAME_PLACE_Q and 1 <= round(beats) <= MOST_BEATS:
            return Meter(1, round(beats), unit)
    raise MapConflictError(f"No meter is {quarters:g} quarter notes long. The map is unchanged.")


def bars_until(pace: TempoMap[ClockT], until: float) -> list[Bar]:
    """The bars from bar 1 on whose lines lie up to a place."""
    bars: list[Bar] = []
    index = 0
    while (line := pace.bar_line(index)) <= until + SAME_PLACE_Q:
        bars.append((line, pace.meter_of(index)))
        index += 1
    return bars


def bars_from(pace: TempoMap[ClockT], line: float, shift: float) -> list[Bar]:
    """The bars of a map from one of its lines to its last change of meter, at places less by a shift."""
    index = nearest_bar(pace, line)
    last = max(index, bar_index(pace.meters[-1].bar))
    return [(pace.bar_line(k) - shift, pace.meter_of(k)) for k in range(index, last + 1)]


def _tail(pace: TempoMap[ClockT], place: float) -> list[Bar]:
    """Bars counted on from a place to the last change of meter; later changes go to the lines nearest to
    where they were.
    """
    moved = pace.counted_from(place)
    return [
        (place + line, meter)
        for line, meter in bars_until(moved, moved.bar_line(bar_index(moved.meters[-1].bar)))
    ]


def _name(pace: TempoMap[ClockT], place: float) -> str:
    bar, beat = pace.address(place + SAME_PLACE)
    return f"{bar}·{round(beat, 2):g}"


def _before_bar_1(pace: TempoMap[ClockT], place: float) -> str:
    return (
        f"Bar 1 and a downbeat at {_name(pace, place)} before it cannot both hold: the lead-in is "
        "counted in whole bars. "
        "The map is unchanged; state bar 1 anew first."
    )
