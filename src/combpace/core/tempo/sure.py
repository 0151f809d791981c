"""How sure the bars of a map are, given what was stated: a line that was confirmed says something of those
beside it, and one that came with a statement is no surer than what the ear says of it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from combpace.core.beats.bars import sure_of
from combpace.core.beats.confidence import bar_confidence, bar_features
from combpace.core.clocks import ClockT, FloatArray, Quarters
from combpace.core.errors import MapConflictError
from combpace.core.tempo import bars_again
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.recount import is_line
from combpace.core.tempo.solve import Heard, leveled
from combpace.core.tempo.statements import Stated

# A stated line is right.
STATED_SURE = 1.0


def sure_given(line: TempoMap[ClockT], heard: Heard[ClockT], stated: Stated) -> FloatArray | None:
    """How sure each line is.

    line     the map in force, on the clock of the others
    Returns  0-1 for the line of each bar from bar 1 to its last beat; None where the ear kept nothing, or the
             map runs beside its beats
    """
    if heard.pulse is None or heard.row is None or line.has_ramps:
        return None
    places, times = bars_again.beats_of(line)
    first, last = 0, line.bar_of(float(line.quarters[-1]) + 1e-6)
    lines = np.asarray(line.bar_lines(first, last + 1))
    starts = np.searchsorted(places, lines - 1e-6)
    inside = (starts < len(places)) & (np.abs(places[np.minimum(starts, len(places) - 1)] - lines) < 1e-6)
    if len(times) < 2 or not inside.any():
        return None
    try:
        row = heard.row(leveled(heard.pace, stated.levels))
        pattern, hints = bars_again.said_of(times, row, heard.pulse, _on(line, times, stated))
    except MapConflictError:
        return None
    meters = [line.meter_of(int(index)) for index in np.flatnonzero(inside)]
    reading = sure_of(pattern, hints, [int(start) for start in starts[inside]], meters)
    beats = np.interp(places, line.quarters, [knot.confidence for knot in line.knots])
    beats = _but_lines(beats, starts[inside])
    found = np.full(len(lines), 0.5)
    found[inside] = np.minimum(bar_confidence(bar_features(pattern, reading, beats)), beats[starts[inside]])
    at = np.asarray(line.to_seconds(Quarters(lines)))
    for time in stated.opening:
        near = int(np.argmin(np.abs(at - time)))
        if abs(at[near] - time) < bars_again.SAME_S:
            found[near] = STATED_SURE
    return found


def _but_lines(beats: FloatArray, starts: np.ndarray) -> FloatArray:
    """How sure beats are that lie on lines is how sure their neighbours are: a knot there says how sure the
    bar was.
    """
    opens = np.zeros(len(beats), bool)
    opens[starts] = True
    if opens.all():
        return beats
    index = np.arange(len(beats))
    beats = beats.copy()
    beats[opens] = np.interp(index[opens], index[~opens], beats[~opens])
    return beats


def _on(line: TempoMap[ClockT], times: FloatArray, stated: Stated) -> Stated:
    """Statements about the beats nearest to their moments; a beat within a bar that was put where it is opens
    none.
    """

    def to(time: float) -> float:
        return float(times[int(np.argmin(np.abs(times - time)))])

    within: list[float] = [
        tie.time_s for tie in stated.ties if not is_line(line, line.beat_near(line.place(tie.time_s)))
    ]
    others = tuple(sorted({*stated.others, *within}))
    return replace(stated, others=others, ties=(), levels=(), reach=(), tempo=None).moved(to)
