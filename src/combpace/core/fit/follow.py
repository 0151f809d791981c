"""Where a moment of a take lies if no rule acts.

Takes that share the pace which the session's map was read from lie as they were played. Every other follows
the map at its own pace, the smooth course under its beats (`tempo.smooth`): what each onset lies beside that
is feel, and feel is the player's until a rule says otherwise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import FloatArray, Quarters, SessionTimes, TakeTimes, as_floats, take_times
from combpace.core.tempo.drift import leaves_at
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.smooth import smoothed

# What lies nowhere farther than this from where it was played lies as it was played.
AS_PLAYED_S = 0.001
# Along a ramp a quarter has so many points.
RAMP_POINTS = 8
# Slopes that differ by less are one.
STRAIGHT = 1e-9
# Two points this near are one, seconds.
SAME_S = 1e-9


@dataclass(frozen=True, slots=True)
class Follow:
    """Take time -> session time, piecewise linear, strictly increasing; beyond both ends it goes on as there.

    source_s, target_s  shape (n,), n >= 2, seconds
    as_played           by its placement alone: nothing is stretched
    """

    source_s: FloatArray
    target_s: FloatArray
    as_played: bool

    def __call__(self, times: FloatArray) -> FloatArray:
        """Session seconds of moments of the take, shape (n,)."""
        at, x, y = as_floats(times), self.source_s, self.target_s
        inside = np.interp(at, x, y)
        before, after = (y[1] - y[0]) / (x[1] - x[0]), (y[-1] - y[-2]) / (x[-1] - x[-2])
        found: FloatArray = np.where(
            at < x[0], y[0] + before * (at - x[0]), np.where(at > x[-1], y[-1] + after * (at - x[-1]), inside)
        )
        return found

    def at(self, time_s: float) -> float:
        """Session seconds of one moment."""
        return float(self(np.array([time_s]))[0])


def placed(offset_s: float, duration_s: float) -> Follow:
    """As it was played, so much later."""
    ends = np.array([0.0, max(duration_s, SAME_S)])
    return Follow(ends, ends + offset_s, True)


def following(
    pace: TempoMap[TakeTimes], session_map: TempoMap[SessionTimes], offset_s: float, duration_s: float
) -> Follow:
    """The map at a take's pace; as it was played, where that is the same within AS_PLAYED_S throughout.

    offset_s  where the take is placed
    """
    knots = session_map.quarters
    if session_map.has_ramps:
        first, last = float(pace.place(0.0)), float(pace.place(duration_s))
        knots = np.concatenate([knots, np.arange(np.floor(first), np.ceil(last), 1.0 / RAMP_POINTS)])
    turns = np.asarray(pace.to_seconds(Quarters(knots)))
    inside = np.concatenate([pace.times_s, turns])
    inside = inside[(inside > SAME_S) & (inside < duration_s - SAME_S)]
    source = np.unique(np.concatenate([[0.0], inside, [max(duration_s, 2 * SAME_S)]]))
    source = source[np.concatenate([[True], np.diff(source) > SAME_S])]
    target = np.asarray(session_map.to_seconds(pace.to_quarters(take_times(source))))
    if float(np.abs(target - source - offset_s).max()) <= AS_PLAYED_S:
        return placed(offset_s, duration_s)
    # What is straight needs no points.
    kept = [0, len(source) - 1]
    if len(source) > 2:
        slopes = np.diff(target) / np.diff(source)
        kept = [0, *(np.flatnonzero(np.abs(np.diff(slopes)) > STRAIGHT) + 1).tolist(), len(source) - 1]
    return Follow(source[kept], target[kept], False)


def follow_of(
    beats: TempoMap[TakeTimes],
    session_map: TempoMap[SessionTimes],
    offset_s: float,
    duration_s: float,
    *,
    shares: bool,
    loop: bool,
    steady: tuple[float, float] | None,
) -> Follow:
    """Where a take lies if no rule acts.

    beats     when its beats were struck, of as much of it as is heard, `duration_s` long
    offset_s  where it is placed
    shares    the session's map is the pace that it has
    loop      it is so many whole bars long
    steady    (counted beats a minute, seconds of its bar 1) where one tempo fits it, else None
    """
    if shares:
        return placed(offset_s, duration_s)
    pace = pace_of(beats, duration_s, loop=loop, steady=steady)
    return following(pace, session_map, offset_s, duration_s)


def one_tempo_of(
    pace: TempoMap[TakeTimes], verdict: str, bpm: float, bar_1_s: float
) -> tuple[float, float] | None:
    """(counted beats a minute, seconds of bar 1) where playing was called steady and keeps its tempo to its
    end; None where it breathes.
    """
    if verdict != "steady" or leaves_at(pace, bpm, bar_1_s) is not None:
        return None
    return bpm, bar_1_s


def pace_of(
    beats: TempoMap[TakeTimes], duration_s: float, *, loop: bool, steady: tuple[float, float] | None
) -> TempoMap[TakeTimes]:
    """The pace under a take's beats.

    loop     it is so many whole bars long: one tempo from its first frame to its last
    steady   (counted beats a minute, seconds of bar 1 on its own count) where one tempo fits it, else None
    """
    if loop:
        return _even(beats, 0.0, duration_s, beats.place(0.0), beats.place(duration_s))
    if steady is not None:
        bpm, start = steady
        quarter_s = 60.0 / (bpm * beats.meters[0].beat_quarters)
        # Its own bar 1 may lie elsewhere in the session: the count is that of the beats.
        beat = beats.meters[0].beat_quarters
        line = beat * round(beats.place(start) / beat)
        return _even(beats, start, start + 400.0 * quarter_s, line, line + 400.0)
    return smoothed(beats)


def _even(
    beats: TempoMap[TakeTimes], start_s: float, end_s: float, start: float, end: float
) -> TempoMap[TakeTimes]:
    """One tempo through two moments at two places."""
    return TempoMap((Knot(start_s, start), Knot(end_s, end)), beats.meters)
