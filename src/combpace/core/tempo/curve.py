"""A map edited as a curve of tempo: bars set to a tempo or a ramp, steps or ramps between anchors, a range
smoothed. Where no two anchors say between what, the fewest places do that keep every bar line near where it
is.

Anchors are exact, always. What follows a range that becomes longer or shorter goes along, up to the next
anchor, which takes up the difference.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from combpace.core.clocks import ClockT, FloatArray
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.map import LEAST_RAMP, MAX_BPM, MIN_BPM, MOST_RAMP, SAME_PLACE, Knot, TempoMap
from combpace.core.tempo.meters import bar_number
from combpace.core.tempo.tidy import tidy

# Between a changed range and the anchor after it the tempo may become so many times faster or slower.
MOST_SQUEEZED = 1.6
SHAPES = ("steps", "ramps")
# So near bar lines stay where no anchors say between what a tempo runs, unless said otherwise.
WITHIN_MS = 10.0
# Weights of a bar and its neighbours, each time a range is smoothed.
SMOOTHING = (0.25, 0.5, 0.25)


def with_tempo(
    pace: TempoMap[ClockT], first: int, last: int, bpm: float, to_bpm: float | None = None
) -> TempoMap[ClockT]:
    """Bars of indices first to last at one tempo, or along a ramp from one to another; quarters a minute.

    The line of the first of them stays. Up to the next anchor what follows goes along: with none all that
    follows moves, with one the bars before it take up the difference.
    Raises  ParameterError for bars in a wrong order or tempi that no map holds, MapConflictError where an
            anchor inside says otherwise
    """
    _check_bars(first, last)
    for value in (bpm, bpm if to_bpm is None else to_bpm):
        if not (np.isfinite(value) and MIN_BPM <= value <= MAX_BPM):
            raise ParameterError(
                f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {value:g}. Nothing "
                "was changed."
            )
    ramp = 1.0 if to_bpm is None else to_bpm / bpm
    if not LEAST_RAMP <= ramp <= MOST_RAMP:
        raise ParameterError(
            f"A ramp from {bpm:g} to {to_bpm:g} BPM is steeper than a map holds. Nothing was changed."
        )
    start: float = pace.bar_line(first)
    stop: float = pace.bar_line(last + 1)
    inside: Knot | None = next(
        (
            knot
            for knot in pace.knots
            if knot.fixed and start + SAME_PLACE < knot.quarters < stop - SAME_PLACE
        ),
        None,
    )
    pace = pace.with_knot(start).with_knot(stop)
    begin: float = pace.second(start)
    ended: float = pace.second(stop)
    bend = np.log(ramp)
    length = 60.0 * (stop - start) / bpm * (1.0 if abs(bend) < 1e-12 else bend / np.expm1(bend))
    shift: float = begin + float(length) - ended
    at_end: Knot | None = next(
        (knot for knot in pace.knots if knot.fixed and abs(knot.quarters - stop) <= SAME_PLACE), None
    )
    if abs(shift) > 1e-9 and (inside is not None or at_end is not None):
        held: Knot | None = inside or at_end
        assert held is not None
        bar, beat = pace.address(held.quarters + SAME_PLACE)
        raise MapConflictError(
            f"Bar {bar}{'' if abs(beat - 1) < 1e-6 else f'·{beat:g}'}, fixed at {held.time_s:.3f} "
            f"s, and {bpm:g} BPM in bars {bar_number(first)} to "
            f"{bar_number(last)} cannot both hold. The map is unchanged; remove that anchor first, "
            "or choose bars between two anchors."
        )
    before: list[Knot] = [knot for knot in pace.knots if knot.quarters < start - SAME_PLACE]
    here: Knot = next(knot for knot in pace.knots if abs(knot.quarters - start) <= SAME_PLACE)
    line: Knot = next(knot for knot in pace.knots if abs(knot.quarters - stop) <= SAME_PLACE)
    after: list[Knot] = [knot for knot in pace.knots if knot.quarters > stop + SAME_PLACE]
    following: Knot | None = next((knot for knot in after if knot.fixed), None)
    moved: list[Knot] = [replace(knot, time_s=_later(knot, ended, shift, following)) for knot in after]
    _check_squeeze(ended, shift, following)
    return pace.through([*before, replace(here, ramp=ramp), replace(line, time_s=ended + shift), *moved])


def shaped(
    pace: TempoMap[ClockT], first: int, last: int, shape: str, within_ms: float = WITHIN_MS
) -> TempoMap[ClockT]:
    """Between the anchors in bars of indices first to last (and the lines at both ends, where they are) one
    step or one ramp each.

    A ramp between two anchors runs from the tempo about the one to the tempo about the other; both are met
    exactly. With fewer than two anchors there is nothing to run between: then the fewest steps or ramps that
    keep every bar line within `within_ms` of where it is.
    """
    _check_bars(first, last)
    if shape not in SHAPES:
        raise ParameterError(
            f"Between anchors tempi are {' or '.join(SHAPES)}, not “{shape}”. Nothing was changed."
        )
    if not _has_anchors(pace, first, last):
        return _fewest(pace, first, last, within_ms, ramps=shape == "ramps")
    start: float = pace.bar_line(first)
    stop: float = pace.bar_line(last + 1)
    pace = pace.with_knot(start).with_knot(stop)
    ends: list[Knot] = [
        knot for knot in pace.knots if start - SAME_PLACE <= knot.quarters <= stop + SAME_PLACE
    ]
    kept: list[Knot] = [ends[0], *(knot for knot in ends[1:-1] if knot.fixed), ends[-1]]
    if shape == "ramps":
        ramps: list[float] = [
            *_ramps(np.array([knot.quarters for knot in kept]), np.array([knot.time_s for knot in kept])),
            kept[-1].ramp,
        ]
    else:
        ramps = [*([1.0] * (len(kept) - 1)), kept[-1].ramp]
    even: list[Knot] = [replace(knot, ramp=ramp) for knot, ramp in zip(kept, ramps, strict=True)]
    return pace.through(
        [*_outside(pace, start, stop, before=True), *even, *_outside(pace, start, stop, before=False)]
    )


def _has_anchors(pace: TempoMap[ClockT], first: int, last: int) -> bool:
    """Whether anchors say between what something runs: two of them inside of some bars."""
    start, stop = pace.bar_line(first), pace.bar_line(last + 1)
    inside = [
        knot for knot in pace.knots if knot.fixed and start + SAME_PLACE < knot.quarters < stop - SAME_PLACE
    ]
    return len(inside) >= 2


def _held_beside(pace: TempoMap[ClockT], first: int, last: int) -> TempoMap[ClockT]:
    """A map that goes on as it does beyond both ends of some bars, whatever becomes of the tempo at those
    ends.
    """
    before, after = pace.bar_line(first - 1), pace.bar_line(last + 2)
    if pace.quarters[0] > before:
        pace = pace.with_knot(before)
    return pace.with_knot(after) if pace.quarters[-1] < after else pace


def _fewest(
    pace: TempoMap[ClockT], first: int, last: int, within_ms: float, *, ramps: bool
) -> TempoMap[ClockT]:
    """The fewest steps or ramps in some bars that keep every bar line within a distance; both ends are
    exact.
    """
    start: float = pace.bar_line(first)
    stop: float = pace.bar_line(last + 1)
    pace = _held_beside(pace, first, last).with_knot(start).with_knot(stop)

    def at(knots: Sequence[Knot], place: float) -> Knot | None:
        return next((knot for knot in knots if abs(knot.quarters - place) <= SAME_PLACE), None)

    ends = [end for place in (start, stop) if (end := at(pace.knots, place)) is not None]
    held = replace(
        pace, knots=tuple(replace(knot, fixed=True) if knot in ends else knot for knot in pace.knots)
    )
    made, _ = tidy(held, held.second(start), held.second(stop), within_ms, ramps=ramps)
    inside: list[Knot] = [
        replace(at(ends, knot.quarters) or knot, ramp=knot.ramp)
        for knot in made.knots
        if start - SAME_PLACE <= knot.quarters <= stop + SAME_PLACE
    ]
    return pace.through(
        [*_outside(pace, start, stop, before=True), *inside, *_outside(pace, start, stop, before=False)]
    )


def smoothed(pace: TempoMap[ClockT], first: int, last: int, within_ms: float = WITHIN_MS) -> TempoMap[ClockT]:
    """Bars of indices first to last with their tempi evened out: each becomes half its own and a quarter of
    each neighbour's.

    Both ends and anchors between stay exact; what lies between bar lines becomes even. With fewer than two
    anchors no bar line moves by more than `within_ms`.
    """
    _check_bars(first, last)
    lines: list[float] = [pace.bar_line(index) for index in range(first, last + 2)]
    pace = _held_beside(pace, first, last).with_knot(lines[0]).with_knot(lines[-1])
    anchors: list[Knot] = [
        knot
        for knot in pace.knots
        if knot.fixed and lines[0] + SAME_PLACE < knot.quarters < lines[-1] - SAME_PLACE
    ]
    exact: list[float] = [lines[0], *(knot.quarters for knot in anchors), lines[-1]]
    made: list[Knot] = []
    low: float
    high: float
    for low, high in itertools.pairwise(exact):
        places = np.array(
            [low, *(line for line in lines if low + SAME_PLACE < line < high - SAME_PLACE), high]
        )
        times = np.array([pace.second(place) for place in places])
        even = _even(places, times)
        if not _has_anchors(pace, first, last):
            most = float(np.abs(even - times).max())
            even = times + (even - times) * min(1.0, within_ms / 1000.0 / max(most, 1e-9))
        made += [
            Knot(float(t), float(q), confidence=0.7) for t, q in zip(even[:-1], places[:-1], strict=True)
        ]
    # Both ends and anchors are knots that are there, and stay what they are.
    known: dict[float, Knot] = {round(knot.quarters, 9): knot for knot in pace.knots}
    held = {round(place, 9) for place in exact}
    made = [
        replace(known[key], ramp=1.0) if (key := round(knot.quarters, 9)) in held else knot for knot in made
    ]
    made.append(known[round(lines[-1], 9)])
    return pace.through(
        [
            *_outside(pace, lines[0], lines[-1], before=True),
            *made,
            *_outside(pace, lines[0], lines[-1], before=False),
        ],
    )


def _even(places: FloatArray, times: FloatArray) -> FloatArray:
    """Times whose tempi are smoothed, with the same ends."""
    if len(places) < 3:
        return times
    slowness = np.diff(times) / np.diff(places)
    smooth = np.convolve(np.pad(slowness, 1, mode="edge"), SMOOTHING, "valid")
    lengths = smooth * np.diff(places)
    return np.asarray(
        times[0] + np.concatenate([[0.0], np.cumsum(lengths)]) * (times[-1] - times[0]) / lengths.sum()
    )


def _ramps(places: FloatArray, times: FloatArray) -> list[float]:
    """The ramp of each span: from the tempo about its start to the one about its end; about an end it is the
    mean of both sides.
    """
    tempi = np.diff(places) / np.diff(times)
    about = np.concatenate([[tempi[0]], 0.5 * (tempi[1:] + tempi[:-1]), [tempi[-1]]])
    if len(tempi) > 1:
        # At both ends the course goes on as it came.
        about[0], about[-1] = tempi[0] ** 2 / about[1], tempi[-1] ** 2 / about[-2]
    return [float(np.clip(b / a, LEAST_RAMP, MOST_RAMP)) for a, b in itertools.pairwise(about)]


def _later(knot: Knot, from_s: float, shift: float, anchor: Knot | None) -> float:
    """A knot after a range: moved along, less and less up to the anchor that stays."""
    if anchor is None:
        return knot.time_s + shift
    if knot.quarters >= anchor.quarters - SAME_PLACE:
        return knot.time_s
    return knot.time_s + shift * (anchor.time_s - knot.time_s) / (anchor.time_s - from_s)


def _check_squeeze(from_s: float, shift: float, anchor: Knot | None) -> None:
    if anchor is None:
        return
    was = anchor.time_s - from_s
    left = was - shift
    if not was / MOST_SQUEEZED <= left <= was * MOST_SQUEEZED:
        raise MapConflictError(
            f"The bars before the anchor at {anchor.time_s:.3f} s would have {max(0.0, left):.2f} s "
            f"instead of {was:.2f} s. The map is unchanged; "
            "remove that anchor first, or choose more bars."
        )


def _outside(pace: TempoMap[ClockT], start: float, stop: float, *, before: bool) -> list[Knot]:
    if before:
        return [knot for knot in pace.knots if knot.quarters < start - SAME_PLACE]
    return [knot for knot in pace.knots if knot.quarters > stop + SAME_PLACE]


def _check_bars(first: int, last: int) -> None:
    if last < first:
        raise ParameterError(
            f"Bars {bar_number(first)} to {bar_number(last)} run backwards. Nothing was changed."
        )
