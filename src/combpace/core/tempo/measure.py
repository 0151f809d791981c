"""A range of audio measured: its edges on attacks and zero crossings, its bars counted, its tempo, and
whether it loops cleanly.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import ClockT, FloatArray, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.statistics import HALF_95, nearest, spread_about
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.proposal import LIMIT_MS, Proposal, propose

# An edge goes to an attack so near, and never farther than half a beat: a key that was held is late.
REACH_S = 0.120
ZERO_CROSSING_S = 0.001
# How exactly the start of an attack is known at best: some samples.
EDGE_S = 0.00015
# About the seam: level and slope over some samples, the spectrum over this time.
SPECTRUM_S = 0.020
LEAST_MOMENTS, MOST_MOMENTS = 8, 200
# The join may be as rough as the roughest of so many ordinary moments.
CLEAN_SHARE = 0.05
# A moment this nearly as rough as the join counts: what is loudest joins to what is loudest, and noise
# differs.
AS_ROUGH = 0.9
# Bars of the end that are asked, in beats.
LAST_BEATS = 8
MOST_BARS = 1000
# Edges go to attacks no farther than this share of the range.
REACH_RANGE = 0.45
# Of two pairs of edges the one nearer to whole beats by this counts, then the one nearer to where they were.
DECIDES_BEATS, MOVED = 0.01, 0.4
# What cannot be is dearer than anything else.
NEVER = 1e9
# A range that holds so much more or less than whole bars, and more than three times what is not known of it,
# is not read as whole bars.
ODD_BARS = 0.05
# An attack within this share of a beat is the beat's.
ON_BEAT = 0.12


@dataclass(frozen=True, slots=True)
class Seam:
    """How a range joins its own start: the share of ordinary moments near by that are rougher than the join,
    0-1.
    """

    score: float
    clean: bool


@dataclass(frozen=True, slots=True)
class Measured:
    """A range of a take.

    from_s, to_s   its edges, take time
    bars           how many it holds; beats_per_bar counted beats in each
    bpm            bars x beats x 60 / length; plus_minus_bpm half of its 95 % interval
    heard_bars     how many it holds by the rough tempo, None without one: no whole number where the edges are
                   no bar lines; heard_bpm that tempo
    whole          False where nobody said how many bars it is, and by the rough tempo it is none that is
                   whole: then `bars` is only the nearest number, and `next_s` the bar line that would make it
                   whole, take time
    """

    from_s: float
    to_s: float
    bars: int
    beats_per_bar: int
    bpm: float
    plus_minus_bpm: float
    seam: Seam
    proposal: Proposal
    heard_bars: float | None = None
    heard_bpm: float | None = None
    whole: bool = True
    next_s: float | None = None


def measure_along(
    source: Source,
    onsets: Onsets,
    pace: TempoMap[TakeTimes] | None,
    edges: tuple[float, float] | None,
    bars: int | None = None,
    limit_ms: float = LIMIT_MS,
    *,
    catch: bool = True,
) -> Measured:
    """Measure a range of a take whose pace is known, or of one without a pulse.

    edges    take time; None: the first frame to the last, as they stand
    catch    whether edges go to attacks
    Raises   as `measure`
    """
    whole = edges is None
    from_s, to_s = edges or (0.0, source.frames / source.sample_rate_hz)
    rough, beats_per_bar = None, 4
    if pace is not None and np.isfinite(from_s) and np.isfinite(to_s):
        meter = pace.meter_of(pace.bar_of(pace.place(from_s) + 0.25))
        beats_per_bar = meter.beats
        # A bar's beats are counted at the tempo of the range itself.
        rough = float(
            (pace.place(to_s) - pace.place(from_s)) / meter.beat_quarters * 60.0 / max(to_s - from_s, 1e-9)
        )
    found = measure(
        source,
        onsets,
        from_s,
        to_s,
        rough_bpm=rough,
        beats_per_bar=beats_per_bar,
        bars=bars,
        catch=catch and not whole,
        whole=whole,
        limit_ms=limit_ms,
        beats_s=None if pace is None else pace.times_s,
    )
    if found.whole or pace is None or found.heard_bars is None:
        return found
    start = pace.place(found.from_s)
    bar = pace.meter_of(pace.bar_of(start + 0.25)).bar_quarters
    return replace(found, next_s=pace.second(start + np.ceil(found.heard_bars) * bar))


def measure(
    source: Source,
    onsets: Onsets,
    from_s: float,
    to_s: float,
    *,
    rough_bpm: float | None,
    beats_per_bar: int = 4,
    bars: int | None = None,
    catch: bool = True,
    whole: bool = False,
    limit_ms: float = LIMIT_MS,
    beats_s: FloatArray | None = None,
) -> Measured:
    """Measure a range that was marked roughly.

    rough_bpm      counted beats a minute, what bars are counted with; None where nothing was heard: then
                   `bars` is needed
    whole          the range is the whole file, whose ends are exact
    catch          edges go to attacks and zero crossings; else they are meant as they stand
    beats_s        beats of the whole take, for what happens at its end; None where there are none
    Raises         ParameterError for edges that are no range, or where the bars cannot be counted
    """
    length = source.frames / source.sample_rate_hz
    if not (np.isfinite(from_s) and np.isfinite(to_s) and 0.0 <= from_s < to_s <= length + 0.5):
        raise ParameterError(
            f"A range lies inside the audio, which is {length:.3f} s long, and ends after it "
            "starts. Nothing was changed."
        )
    if bars is not None and not 1 <= bars <= MOST_BARS:
        raise ParameterError(f"A range holds 1 to {MOST_BARS} bars, not {bars}. Nothing was changed.")
    if bars is None and rough_bpm is None:
        raise ParameterError(
            "No tempo is known to count the bars with: say how many bars this is. Nothing was changed."
        )
    period = 60.0 / rough_bpm if rough_bpm else (to_s - from_s) / (beats_per_bar * (bars or 1))
    if catch:
        from_s, to_s = _caught(
            source, onsets, from_s, min(to_s, length), period, bars and bars * beats_per_bar
        )
    heard_bars = None if rough_bpm is None else (to_s - from_s) / period / beats_per_bar
    stated = bars is not None
    if bars is None:
        bars = max(1, round((to_s - from_s) / period / beats_per_bar))
    count = bars * beats_per_bar
    bpm = 60.0 * count / (to_s - from_s)
    # The ends of a file are what they are; edges on attacks, also by hand, are as exact as attacks.
    spread = 0.5 / source.sample_rate_hz if whole else max(EDGE_S, _scatter(onsets, from_s, to_s, count))
    plus_minus = HALF_95 * bpm * np.sqrt(2.0) * spread / (to_s - from_s)
    ends = end_offset(onsets, beats_s, from_s, period)
    return Measured(
        from_s=from_s,
        to_s=to_s,
        bars=bars,
        beats_per_bar=beats_per_bar,
        bpm=bpm,
        plus_minus_bpm=float(plus_minus),
        seam=seam(source, onsets, from_s, to_s),
        proposal=propose(bpm, float(plus_minus), ends, limit_ms),
        heard_bars=heard_bars,
        heard_bpm=rough_bpm,
        whole=stated
        or heard_bars is None
        or abs(heard_bars - bars) <= max(ODD_BARS, 3.0 * heard_bars * float(plus_minus) / bpm),
    )


def _caught(
    source: Source, onsets: Onsets, from_s: float, to_s: float, period_s: float, beats: int | None
) -> tuple[float, float]:
    """Both edges on attacks: of those within reach the pair whose length is nearest to whole beats, then the
    nearest to where they were.
    """
    reach = min(REACH_S, 0.5 * period_s, REACH_RANGE * (to_s - from_s))
    times = np.asarray(onsets.times, dtype=np.float64)

    def near(time: float) -> FloatArray:
        found = times[np.abs(times - time) <= reach]
        return found if len(found) else np.array([time])

    starts, ends = near(from_s), near(to_s)
    length = (ends[None, :] - starts[:, None]) / period_s
    whole = np.maximum(np.round(length), 1.0) if beats is None else float(beats)
    moved = (np.abs(starts - from_s)[:, None] + np.abs(ends - to_s)[None, :]) / reach
    cost = (
        np.round(np.abs(length - whole) / DECIDES_BEATS) + MOVED * moved + np.where(length <= 0, NEVER, 0.0)
    )
    row, column = np.unravel_index(int(np.argmin(cost)), cost.shape)
    return zero_crossing(source, float(starts[row])), zero_crossing(source, float(ends[column]))


def zero_crossing(source: Source, time_s: float) -> float:
    """The zero crossing nearest to a moment within 1 ms, seconds; the moment itself, on a frame, where there
    is none.
    """
    rate = source.sample_rate_hz
    middle, reach = round(time_s * rate), max(1, round(ZERO_CROSSING_S * rate))
    first = max(0, middle - reach)
    sound = source.read(first, min(source.frames, middle + reach + 1)).mean(axis=0)
    crossing = np.flatnonzero(np.signbit(sound[1:]) != np.signbit(sound[:-1])) + 1
    silent = np.flatnonzero(sound == 0.0)
    places = np.concatenate([crossing, silent])
    if not len(places):
        return middle / rate
    return float(first + places[int(np.argmin(np.abs(first + places - time_s * rate)))]) / rate


def _scatter(onsets: Onsets, from_s: float, to_s: float, beats: int) -> float:
    """Robust spread of the attacks on beats inside a range about its own grid, seconds."""
    times = np.asarray(onsets.times, dtype=np.float64)
    period = (to_s - from_s) / beats
    inside = times[(times > from_s + 0.5 * period) & (times < to_s - 0.5 * period)]
    phase = (inside - from_s) / period
    off = (phase - np.round(phase)) * period
    off = off[np.abs(off) < ON_BEAT * period]
    return spread_about(off, float(np.median(off))) if len(off) >= 4 else 0.0


def end_offset(
    onsets: Onsets, beats_s: FloatArray | None, from_s: float, period_s: float
) -> Callable[[float], float | None]:
    """How far the attacks on the last beats lie from the grid of a tempo that starts at a moment.

    beats_s  of the whole take, shape (n,), increasing; period_s: of a beat
    Returns  a function of the tempo in BPM: ms, or None where there is nothing to measure it by
    """
    if beats_s is None or len(beats_s) < 2 or not len(onsets):
        return lambda bpm: None
    times = np.asarray(onsets.times, dtype=np.float64)
    near = times[nearest(times, beats_s)]
    struck = np.abs(near - beats_s) < ON_BEAT * period_s
    later = struck & (beats_s > from_s + 0.5 * period_s)
    last, count = near[later][-LAST_BEATS:], None
    if len(last) < 2:
        return lambda bpm: None
    # Beats are counted through the take by its own beats, so that the count is never a beat off at the end.
    own = beats_s[later][-LAST_BEATS:]
    at = np.interp(own, beats_s, np.arange(len(beats_s)))
    zero = float(np.interp(from_s, beats_s, np.arange(len(beats_s)), left=(from_s - beats_s[0]) / period_s))
    count = np.round(at - zero)

    def offset_ms(bpm: float) -> float:
        return float(1000.0 * np.median(last - (from_s + count * 60.0 / bpm)))

    return offset_ms


def seam(source: Source, onsets: Onsets, from_s: float, to_s: float) -> Seam:
    """How rough the join of a range's end to its start is, against ordinary moments in it and near by.

    Of level, slope and spectrum each is compared; what is roughest counts.
    """
    rate, size = source.sample_rate_hz, max(16, round(SPECTRUM_S * source.sample_rate_hz))
    a, b = round(from_s * rate), round(to_s * rate)
    times = np.asarray(onsets.times, dtype=np.float64)
    margin = to_s - from_s
    near = times[(times > from_s - margin) & (times < to_s + margin)]
    regular = np.linspace(from_s, to_s, 2 * LEAST_MOMENTS + 1)[1:-1]
    moments = np.unique(np.concatenate([np.round(near * rate), np.round(regular * rate)]).astype(np.int64))[
        :MOST_MOMENTS
    ]
    moments = moments[(moments > size) & (moments < source.frames - size)]
    join = _roughness(source, b, a, size)
    ordinary = np.array([_roughness(source, int(at), int(at), size) for at in moments])
    if not len(ordinary):
        return Seam(0.0, False)
    shares = np.mean(ordinary >= join[None, :] * AS_ROUGH, axis=0)
    score = float(shares.min())
    return Seam(score, score >= CLEAN_SHARE)


def _roughness(source: Source, before: int, after: int, size: int) -> FloatArray:
    """What jumps where sound up to one frame is followed by sound from another on: level, slope, spectrum;
    shape (3,).
    """
    left = np.asarray(source.read(before - size, before).mean(axis=0), dtype=np.float64)
    right = np.asarray(source.read(after, after + size).mean(axis=0), dtype=np.float64)
    loud = np.sqrt(np.mean(left[-size // 4 :] ** 2) + np.mean(right[: size // 4] ** 2)) + 1e-5
    window = np.hanning(size)
    bands = [
        np.log(
            1e-4
            + np.add.reduceat(
                np.abs(np.fft.rfft(part * window)), np.unique(np.geomspace(1, size // 2, 12).astype(int))
            )
        )
        for part in (left, right)
    ]
    slope = (right[1] - right[0]) - (left[-1] - left[-2])
    return np.array(
        [abs(right[0] - left[-1]) / loud, abs(slope) / loud, float(np.mean(np.abs(bands[0] - bands[1])))]
    )


# Names of note values, by the part of a whole note that they are.
NOTES = ((1, "1/1"), (2, "1/2"), (4, "1/4"), (8, "1/8"), (16, "1/16"), (32, "1/32"), (64, "1/64"))


def note_lengths_ms(quarters_a_minute: float) -> list[tuple[str, float, float, float]]:
    """Lengths of notes at a tempo: (name, straight, dotted, triplet) each, ms."""
    whole = 4 * 60_000.0 / quarters_a_minute
    return [(name, whole / part, 1.5 * whole / part, 2 / 3 * whole / part) for part, name in NOTES]


def middle_tempo(line: TempoMap[ClockT]) -> float:
    """The median of a map's tempi between its knots, quarters a minute."""
    return float(np.median(np.diff(line.quarters) / np.diff(line.times_s))) * 60.0
