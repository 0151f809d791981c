"""Line: one voice or string at a time, by its periods.

Such a sound is a wave form that changes slowly while its phase runs on. The output's phase runs on at the
pitch that the source has at the mapped moment; each output sample is the source where its phase is the same,
in the period before and the one after that moment, faded from one to the next. Pitch and its bends follow the
map exactly, nothing smears, and at factor 1 it is the source. In the spirit of pitch-synchronous overlap and
add (Moulines and Charpentier 1990), sample by sample instead of grain by grain.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.stretch.decay import of_notes
from combpace.core.stretch.pitch import of_loudest_partial, periods
from combpace.core.stretch.plan import PRE_S, Segment, course, kept_head
from combpace.core.stretch.release import let_go
from combpace.core.stretch.remembered import once
from combpace.core.stretch.seam import fades

# What stays as it is: after the start of a segment, and before its end, where it turns into the source's own
# samples.
HEAD_S, TAIL_S = 0.0105, 0.004
# After its head a gliding pitch is back where the map has it within this time.
BACK_S = 0.010
# A longer note has no longer consonant. From this factor on a hiss at the start of a segment stays as it is.
HISS_FROM = 1.12
# A hiss is what lies above this; it stands out from what follows by so much. Levels are taken each
# HISS_STEP_S.
HISS_HZ, HISS_DB, HISS_STEP_S = 2000.0, 10.0, 0.004
# It is over when it has come so near to what follows, has fallen by so much, or has lasted so long.
HISS_LEFT_DB, HISS_FALL_DB, HISS_S = 3.0, 25.0, 0.08
# A string is not quite periodic: a blend of two of its periods dulls it. So where the pitch stays within
# these cents for this share of a segment, more of the note is left as it is, and periods change over
# quickly.
STEADY_CENTS, STEADY_SHARE = 8.0, 0.75
STEADY_FRAMES = 9
# Asked between these shares of the segment, where the sound is so much like itself one period on.
INSIDE, VOICED = (0.1, 0.9), 0.8
# Of an octave.
CENTS = 1200
# No tail is longer than this share of a segment.
MOST_TAIL = 0.3
STEADY_HEAD, STEADY_LEAST_S, STEADY_TAIL_S, STEADY_WIDTH = 0.6, 0.03, 0.012, 0.3
# Before its end a segment may hold the next attack already: what is bright is EARLY_TIMES as strong within
# EARLY_S of it as before.
EARLY_S, EARLY_STEP_S, EARLY_TIMES = 0.006, 0.001, 4.0
# Places are read this long at a time.
BATCH_S = 0.4
MARGIN = 64


def fill(source: Source, segment: Segment) -> Samples:
    """One segment, shape (channels, segment.length)."""
    rate, have, length = source.sample_rate_hz, segment.have, segment.length
    shorter = min(have, length)
    s0 = segment.source[0]
    # From memory where there is one: pitch does not depend on where a segment goes.
    at, period, steady = once(source, ("pitch", segment.source), lambda: _pitched(source, segment.source))
    fixed = let_go(source, segment) if steady and segment.starts else ()
    if steady and segment.starts:
        most = int(STEADY_HEAD * (min(fixed[0]) if fixed else shorter))
        head, back, width = kept_head(segment, most, round(STEADY_LEAST_S * rate), fixed), 0, STEADY_WIDTH
    else:
        head, back, width = (
            min(round(HEAD_S * rate), shorter // 3),
            round(BACK_S * rate),
            STEADY_WIDTH if steady else 1.0,
        )
    tail = min(round((STEADY_TAIL_S if steady else TAIL_S) * rate), int(MOST_TAIL * shorter))
    way = course(segment, head, 0, back, fixed, round(PRE_S * rate))
    made = _run(source, segment, (at, period), way, (head, length), width)
    made[:, :head] = source.read(s0, s0 + head)
    hiss = min(_hiss(source, segment), shorter // 3) if segment.starts and length > HISS_FROM * have else 0
    if hiss > head:
        own_way = course(segment, hiss, 0, back, (), round(PRE_S * rate))
        # Where the two ways have met again.
        meet = int(own_way[0][2]) if len(own_way[0]) > 3 else length
        bright = _run(source, segment, (at, period), own_way, (hiss, meet), width)
        bright[:, :hiss] = source.read(s0, s0 + hiss)
        made[:, :meet] += _above(bright - made[:, :meet], rate, meet - hiss)
    if tail:
        own = source.read(segment.source[1] - tail, segment.source[1])
        rise = (np.sin(np.linspace(0, np.pi / 2, tail + 2)[1:-1]) ** 2).astype(np.float32)
        gains = fades(made[:, length - tail :], own, rise)
        made[:, length - tail :] = made[:, length - tail :] * gains[0] + own * gains[1]
    return of_notes(source, segment, made, way, "notes" if steady else "gliding")


def _run(
    source: Source,
    segment: Segment,
    pitched: tuple[IntArray, FloatArray],
    way: tuple[FloatArray, FloatArray],
    span: tuple[int, int],
    width: float,
) -> Samples:
    """Frames `span` of the output along a way of points (output frame, source frame), zeros before them, of
    periods at frames of the source; shape (channels, end of the span)."""
    (at, period), (first, length), s0, have = pitched, span, segment.source[0], segment.have
    # Phase of the source per frame, in periods, from some periods before what is made until as many after the
    # segment.
    reach = int(period.max()) + 2
    origin = max(0, first - 2 * reach) - reach
    grid = np.arange(origin, have + reach + 1)
    pace = 1 / np.interp(grid + s0, at, period)
    phase = np.concatenate([[0.0], np.cumsum(0.5 * (pace[1:] + pace[:-1]))])
    # Up to the first frame the output is the source: both have the same phase there.
    phase -= phase[first - origin]
    place = np.interp(np.arange(first, length), *way)
    # Frames of the grid are one apart: reading between them needs no search.
    whole = np.minimum(place.astype(np.int64), have + reach - 1)
    part_of, whole = place - whole, whole - origin
    pitch = pace[whole] + part_of * (pace[whole + 1] - pace[whole])
    wanted = np.concatenate([[0.0], np.cumsum(0.5 * (pitch[1:] + pitch[:-1]))])
    there = phase[whole] + part_of * (phase[whole + 1] - phase[whole])
    # Between the period before (0) and the one after (1).
    between = there - wanted
    between -= np.floor(between)
    share = np.clip((between - 0.5) / width + 0.5, 0, 1)
    share = share * share * (3 - 2 * share) if width < 1 else share
    there -= between
    before = np.interp(there, phase, grid)
    there += 1
    sides = [(before, 1 - share), (np.interp(there, phase, grid), share)]
    if segment.ends:
        # The next attack is not heard ahead of its time: what would be read beyond the end is read a period
        # earlier.
        reach_in, until = 0.5 * float(period.min()), have - _early(source, segment)
        inside = []
        for place, weight in sides:
            late = np.flatnonzero(place > until - reach_in)
            beyond = weight[late] * (1 - np.clip((until - place[late]) / reach_in, 0, 1))
            earlier, share_of = np.zeros(len(place)), np.zeros(len(place))
            earlier[late] = np.interp(np.interp(place[late], grid, phase) - 1, phase, grid)
            share_of[late] = beyond
            weight[late] -= beyond
            inside += [(place, weight), (earlier, share_of)]
        sides = inside
    made = np.zeros((source.channels, length), np.float32)
    step = round(BATCH_S * source.sample_rate_hz)
    for begin in range(first, length, step):
        end = min(begin + step, length)
        part = slice(begin - first, end - first)
        made[:, begin:end] = _read(source, s0, [(place[part], weight[part]) for place, weight in sides])
    return made


def _above(sound: Samples, rate: int, fade: int) -> Samples:
    """What of `sound` lies above HISS_HZ, faded out over its last `fade` frames."""
    # Half a second to import: only where sound is made.
    from scipy import signal

    width = 2 * round(0.001 * rate) + 1
    high = -signal.firwin(width, min(HISS_HZ, 0.4 * rate), fs=rate)
    high[width // 2] += 1
    bright: Samples = signal.oaconvolve(sound, high[None], mode="same", axes=1).astype(np.float32)
    fade = min(fade, sound.shape[1])
    bright[:, -fade:] *= np.cos(np.linspace(0, np.pi / 2, fade, dtype=np.float32)) ** 2
    return bright


def _pitched(source: Source, span: tuple[int, int]) -> tuple[IntArray, FloatArray, bool]:
    """Frames, periods there, and whether one pitch is held."""
    at, period, alike = periods(source, *span)
    steady = _is_steady(at - span[0], period, alike, span[1] - span[0])
    if steady:
        # One pitch is held: what single frames differ by is noise.
        period = ndimage.uniform_filter1d(ndimage.median_filter(period, STEADY_FRAMES), STEADY_FRAMES)
        period = of_loudest_partial(source, span, at, period)
    return at, period, steady


def _read(source: Source, s0: int, sides: list[tuple[FloatArray, FloatArray]]) -> Samples:
    """The source between frames, at several places faded into each other: (places, weights) each of shape
    (n,); shape (channels, n).
    """
    used: list[tuple[slice | IntArray, FloatArray, FloatArray]] = []
    for place, weight in sides:
        index = np.flatnonzero(weight)
        if len(index) == len(weight):
            used.append((slice(None), place, weight))
        elif len(index):
            used.append((index, place[index], weight[index]))
    lo = int(np.floor(min(float(place.min()) for _, place, _ in used))) - MARGIN
    hi = int(np.ceil(max(float(place.max()) for _, place, _ in used))) + MARGIN
    sound = source.read(s0 + lo, s0 + hi)
    knots = ndimage.spline_filter1d(sound, 3, axis=1, output=np.float64)
    made = np.zeros((sound.shape[0], len(sides[0][0])), np.float32)
    for where, place, weight in used:
        read = splines_between(knots, place - lo)
        read *= weight
        made[:, where] += read
    return made


def splines_between(knots: FloatArray, place: FloatArray) -> FloatArray:
    """Cubic splines of all channels at places between their knots (Unser 1999), shape (channels, places).

    As `ndimage.map_coordinates`, which works out the same four weights for each channel anew: half the time
    for two channels.
    """
    at = place.astype(np.int64)
    t = place - at
    u = 1 - t
    first, last = u * u * u, t * t * t
    second = 4 - 3 * t * t * (1 + u)
    made: FloatArray = knots.take(at - 1, axis=1) * first
    for shift, weight in enumerate((second, 6 - first - second - last, last)):
        more = knots.take(at + shift, axis=1)
        more *= weight
        made += more
    made *= 1 / 6
    return made


def _hiss(source: Source, segment: Segment) -> int:
    """How many frames the hiss or crack lasts that a segment starts with; 0 where there is none."""
    step = max(2, round(HISS_STEP_S * source.sample_rate_hz))
    count = min(segment.have, 4 * round(HISS_S * source.sample_rate_hz)) // step
    within = round(HISS_S / HISS_STEP_S)
    if count < 2 * within:
        return 0
    sound = source.read(segment.source[0], segment.source[0] + count * step)
    bright = np.square(np.diff(sound, 2, axis=1, prepend=sound[:, :1], append=sound[:, -1:])).sum(axis=0)
    level = 10 * np.log10(bright.reshape(count, step).mean(axis=1) + 1e-15)
    top = int(np.argmax(level[:within]))
    later = float(np.median(level[within:]))
    if level[top] < later + HISS_DB:
        return 0
    over = level[top:] < max(later + HISS_LEFT_DB, level[top] - HISS_FALL_DB)
    return step * (int(np.argmax(over)) + top) if over.any() else 0


def _early(source: Source, segment: Segment) -> int:
    """How many frames before its end a segment already holds the next attack, where a mark lies after it: 0
    or EARLY_S.
    """
    rate = source.sample_rate_hz
    step = max(1, round(EARLY_STEP_S * rate))
    late = round(EARLY_S / EARLY_STEP_S)
    frames = 3 * late * step
    if segment.have < 2 * frames:
        return 0
    sound = source.read(segment.source[1] - frames - 2, segment.source[1])
    power = np.square(np.diff(sound, 2, axis=1)).sum(axis=0).reshape(3 * late, step).sum(axis=1)
    return late * step if power[-late:].max() > EARLY_TIMES * power[:-late].max() else 0


def _is_steady(at: IntArray, period: FloatArray, alike: FloatArray, have: int) -> bool:
    """Whether one pitch is held through most of a segment."""
    inside = (at > INSIDE[0] * have) & (at < INSIDE[1] * have) & (alike > VOICED)
    if inside.sum() < 3:
        return False
    cents = CENTS * np.log2(period[inside])
    return bool(np.mean(np.abs(cents - np.median(cents)) < STEADY_CENTS) > STEADY_SHARE)
