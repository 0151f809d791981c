"""A loop that follows a map: so many of its bars from a bar on, once or again and again, bar by bar through a
tempo that breathes.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import Quarters, SessionTimes, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import bar_number

# Where a loop comes round its end dies away and its start comes up in this, so that there is no step (the
# player does the same).
SEAM_OUT_S, SEAM_IN_S = 0.003, 0.0015
MOST_TIMES = 2000
# Of the session's beats none is nearer to the end than this, as a share of the beat: the end itself is a
# point.
LEAST_SHARE = 1e-6


@dataclass(frozen=True, slots=True)
class Laid:
    """Where a loop lies.

    time_map  seconds of the loop said again and again (`Repeated`) -> session seconds, from the first bar's
              line to the end
    times     how often it is heard, the last time perhaps in part
    """

    time_map: TimeMap
    times: int


def follow(
    loop_s: float,
    quarters: float,
    session_map: TempoMap[SessionTimes],
    first_bar: int,
    times: int | None = 1,
    until_bar: int | None = None,
) -> Laid:
    """Lay a loop on a map.

    loop_s     how long it is; quarters: how many quarters that are, its own beats being even
    first_bar  index of the bar on whose line it begins; until_bar: index of the bar before whose line it
               ends, instead of `times`
    Returns    a map with a point on each beat of the session, so that all bar lines within are met exactly
    Raises     ParameterError for an end that is not after the start, or more than MOST_TIMES rounds
    """
    if not (loop_s > 0 and quarters > 0):
        raise ParameterError("A loop needs a length and at least one beat. Nothing was written.")
    start = session_map.bar_line(first_bar)
    if until_bar is not None:
        end = session_map.bar_line(until_bar)
        if end <= start:
            raise ParameterError(
                f"Bar {bar_number(until_bar)} does not come after bar {bar_number(first_bar)}. "
                "Nothing was written."
            )
    else:
        if times is None or times < 1:
            raise ParameterError("A loop is heard at least once. Nothing was written.")
        end = start + times * quarters
    rounds = int(np.ceil((end - start) / quarters - 1e-9))
    if rounds > MOST_TIMES:
        raise ParameterError(
            f"That is {rounds} times; at most {MOST_TIMES} are written. Nothing was written."
        )
    places = {start, end, *(start + k * quarters for k in range(rounds))}
    index = first_bar
    while session_map.bar_line(index) < end:
        meter, line = session_map.meter_of(index), session_map.bar_line(index)
        beats = line + meter.beat_quarters * np.arange(round(meter.bar_quarters / meter.beat_quarters))
        places |= {float(place) for place in beats if start < place < end - LEAST_SHARE}
        index += 1
    at = np.array(sorted(places))
    at = at[np.concatenate([[True], np.diff(at) > LEAST_SHARE])]
    return Laid(
        TimeMap((at - start) * loop_s / quarters, np.asarray(session_map.to_seconds(Quarters(at)))), rounds
    )


class Repeated:
    """A `Source` that says a stretch of another one again and again, without a step where it comes round."""

    def __init__(self, source: Source, start: int, stop: int, times: int) -> None:
        """Frames [start, stop) of the source."""
        if not 0 <= start < stop <= source.frames:
            raise ParameterError("A loop lies within its file, and is not empty. Nothing was written.")
        self._source, self._start, self._length = source, start, stop - start
        self.frames = self._length * times
        self.channels, self.sample_rate_hz = source.channels, source.sample_rate_hz
        out, up = (
            min(round(seconds * source.sample_rate_hz), self._length // 4)
            for seconds in (SEAM_OUT_S, SEAM_IN_S)
        )
        self._out = (1.0 - np.arange(1, out + 1) / out).astype(np.float32) if out else np.zeros(0, np.float32)
        self._up = (np.arange(up) / up).astype(np.float32) if up else np.zeros(0, np.float32)

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`: the loop, round after round."""
        block = np.zeros((self.channels, max(0, stop - start)), np.float32)
        at = max(0, start)
        while at < min(stop, self.frames):
            turn, inside = divmod(at, self._length)
            end = min(stop, (turn + 1) * self._length)
            part = self._source.read(self._start + inside, self._start + inside + end - at).copy()
            self._faded(part, inside, turn)
            block[:, at - start : end - start] = part
            at = end
        return block

    def _faded(self, part: Samples, inside: int, turn: int) -> None:
        """Fade what lies at either end of a round; never the very first start nor the very last end."""
        count = part.shape[1]
        if turn > 0 and inside < len(self._up):
            stop = min(count, len(self._up) - inside)
            part[:, :stop] *= self._up[inside : inside + stop]
        first = self._length - len(self._out)
        if (turn + 1) * self._length < self.frames and inside + count > first:
            lo = max(inside, first)
            part[:, lo - inside :] *= self._out[lo - first : lo - first + (inside + count - lo)]


def as_long_as(source: Source, time_map: TimeMap) -> Source:
    """A source said again and again until a time map that reaches beyond its end is filled; the source itself
    for any other.
    """
    length = source.frames / source.sample_rate_hz
    rounds = rounds_of(time_map, length)
    return source if rounds < 2 else Repeated(source, 0, source.frames, rounds)


def rounds_of(time_map: TimeMap, length_s: float) -> int:
    """How often a source of this length is heard along a time map; 1 for one that stays within it, give or
    take a hundredth.
    """
    return (
        1
        if length_s <= 0 or float(time_map.source_s[-1]) < 1.01 * length_s
        else int(np.ceil(float(time_map.source_s[-1]) / length_s - 1e-6))
    )


def pace_again(pace: TempoMap[TakeTimes], loop_s: float, rounds: int) -> TempoMap[TakeTimes]:
    """The pace of a loop of whole bars (`loops.as_loop`) that is heard so many times: its knots again and
    again, each round on from the last.
    """
    start, end = pace.place(0.0), pace.place(loop_s)
    inside = [knot for knot in pace.knots if 0.0 <= knot.time_s < loop_s - 1e-9]
    size = end - start
    knots = [
        replace(knot, time_s=knot.time_s + turn * loop_s, quarters=knot.quarters + turn * size)
        for turn in range(rounds)
        for knot in inside
    ]
    return replace(pace, knots=(*knots, Knot(rounds * loop_s, start + rounds * size)))


def cut_at(time_map: TimeMap, end_s: float) -> TimeMap:
    """A time map up to a moment of the session; the map itself where it ends before."""
    source, target = np.asarray(time_map.source_s), np.asarray(time_map.target_s)
    if target[-1] <= end_s + 1e-9 or end_s <= target[0]:
        return time_map
    keep = target < end_s - 1e-6
    return TimeMap(
        np.append(source[keep], float(time_map.to_source(np.array([end_s]))[0])),
        np.append(target[keep], end_s),
    )
