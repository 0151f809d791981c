"""Notes that get more room die away as they did: in each band a stretched note is as loud as the source is as
long after its start.

A string or a bell is struck once and then left alone; how fast it dies away belongs to the instrument and not
to the tempo. Moved apart without more, its bright beginning would last longer too, and it would still be loud
when the next attack comes. What is held, as by breath, bow or key of an organ, does not die away, and stays
as it is.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from scipy import fft, ndimage

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray
from combpace.core.stretch.plan import Segment

BAND_EDGES_HZ = (250.0, 500, 1000, 2000, 4000, 8000)
WINDOW_S, OVERLAP = 0.0232, 4
# The first moments of a note are its attack, and no part of how it dies away.
ATTACK_S = 0.020
# A band that falls more slowly than this is held; so is a sound that falls more slowly than that. dB a
# second.
HELD_DB_S, WHOLE_DB_S = 8.0, 3.0
# What lies farther from a straight fall than this is no note that dies away.
APART_DB = 4.0
# A fall as steep as this within SMOOTH frames is a note that was let go: what comes after says nothing.
LET_GO_DB, SMOOTH = 14.0, 9
# A hit whose level grows so much, within a window, holds another stroke; what lies so far below its loudest
# moment is none.
STROKE_DB, FAINT_DB = 12.0, 45.0
# Never softer by more than this, and less than this is not worth a filter.
MOST_DB, LEAST_DB = 26.0, 0.7
# A segment that is longer by less is left alone; shorter ones are seen through shorter windows, this many at
# least.
LEAST_ROOM_S, FRAMES = 0.008, 5
BATCH = 64
# Before the next attack all is back at its own level within this, where the coming attack covers it.
BACK_S = 0.0015
# A chord that is strummed dies away from its last string on, its loudest moment within this share of the
# segment.
LATEST = 0.5

# What dies away: a hit, as its level was measured; what is struck beside notes that last, in one fall,
# whatever is struck within; notes whose pitch is held; one whose pitch moves.
Kind = Literal["hit", "part", "notes", "gliding"]


def of_notes(
    source: Source, segment: Segment, made: Samples, way: tuple[FloatArray, FloatArray], kind: Kind
) -> Samples:
    """`made` of a segment with the decay of its notes, where an attack or nothing follows; elsewhere the
    sound goes on as it is.

    made     shape (channels, frames); way: points (output frame, source frame) as `plan.course` gives them
    Returns  the same shape
    """
    if not segment.ends and segment.source[1] < source.frames:
        return made
    return kept(source.read(*segment.source), made, way, source.sample_rate_hz, kind)


def kept(own: Samples, made: Samples, way: tuple[FloatArray, FloatArray], rate: int, kind: Kind) -> Samples:
    """`made` with the decay of `own`.

    own, made  the segment in the source and stretched, (channels, frames)
    way        points (output frame, source frame) of how one was made of the other
    kind       of hits the level as it is counts, whatever curve it follows; of notes whether they die away at
               all is heard as loud as they are to the ear, high ones more than deep ones; one whose pitch
               moves is heard as a whole, because its partials move from band to band
    Returns    shape of `made`; its last sample is its own. `made` itself where nothing dies away or too
               little would change
    """
    window = max(32, 1 << round(np.log2(WINDOW_S * rate)))
    while window > 32 and own.shape[1] < FRAMES * window:
        window //= 2
    hop = window // OVERLAP
    if made.shape[1] - own.shape[1] < LEAST_ROOM_S * rate or own.shape[1] < FRAMES * window:
        return made
    # Frame k begins at k * hop of the sound with a window of padding before it.
    time = np.arange(-(window // 2), made.shape[1] + window // 2, hop, dtype=np.float64)
    gains = _gains(own, time, np.interp(time, *way), window, rate, kind)
    if gains is None:
        return made
    softer = _filtered(made, gains, window)
    share = np.ones(made.shape[1], np.float32)
    back = min(made.shape[1], max(2, round(BACK_S * rate)))
    # What no gain reaches stays to the bit as it is.
    share[: max(0, int(time[np.argmax((gains < 0).any(axis=1))]) - window // 2)] = 0
    share[-back:] = np.cos(np.linspace(0, np.pi / 2, back)) ** 2
    result: Samples = made + share * (softer - made)
    return result


def _gains(
    own: Samples, time: FloatArray, there: FloatArray, window: int, rate: int, kind: Kind
) -> FloatArray | None:
    """Gain in dB per frame of output and bin, shape (frames, window // 2 + 1); None where nothing dies
    away.
    """
    hop = window // OVERLAP
    shape = np.hanning(window + 1)[:window].astype(np.float32)
    starts = np.arange(0, own.shape[1] - window + 1, hop)
    view = np.lib.stride_tricks.sliding_window_view(own, window, axis=1)
    batches = [starts[first : first + BATCH] for first in range(0, len(starts), BATCH)]
    power = np.concatenate(
        [np.square(np.abs(fft.rfft(view[:, batch] * shape, axis=-1))).sum(axis=0) for batch in batches]
    )
    # The periods of a low string, or of a drum, are as long as a window or longer.
    smooth = max(1, 1 + round((WINDOW_S * rate - window) / hop)) if kind in ("hit", "part") else SMOOTH
    power = ndimage.uniform_filter1d(power, smooth, axis=0, mode="nearest")
    freqs = fft.rfftfreq(window, 1 / rate)
    edges = np.unique(np.searchsorted(freqs, [0.0, *(edge for edge in BAND_EDGES_HZ if edge < 0.45 * rate)]))
    bands = np.add.reduceat(power, edges, axis=1)
    whole = 10 * np.log10(power.sum(axis=1) + 1e-12)
    level = 10 * np.log10(bands + 1e-7 * bands.sum(axis=1).max() + 1e-12)
    at, out_s, in_s = (starts + window / 2) / rate, time / rate, there / rate
    if kind in ("hit", "part"):
        since_s = out_s if kind == "part" else _since_stroke(out_s, in_s, _strokes_within(at, whole))
        found = [_softer_hit(at, band, since_s, in_s) for band in level.T]
    else:
        heard = (
            whole
            if kind == "gliding"
            else 10 * np.log10(np.maximum(power @ np.square(freqs / 1000), 0) + 1e-12)
        )
        loudest = 0.0 if kind == "gliding" else float(at[np.argmax(heard[: max(1, int(LATEST * len(at)))])])
        valid = at > max(ATTACK_S, loudest)
        let_go = np.flatnonzero((whole[SMOOTH:] - whole[:-SMOOTH] < -LET_GO_DB) & valid[SMOOTH:])
        if len(let_go):
            valid &= at < at[let_go[0]]
        if valid.sum() < 6 or np.polyfit(at[valid], heard[valid], 1)[0] > -WHOLE_DB_S:
            return None
        found = [_softer(at[valid], band[valid], out_s, in_s) for band in level.T]
    if not any(gain.min() < -LEAST_DB for gain in found):
        return None
    centres = np.sqrt(
        np.maximum(freqs[edges], 0.5 * BAND_EDGES_HZ[0]) * np.append(freqs[edges[1:]], 0.5 * rate)
    )
    column = np.interp(np.log(np.maximum(freqs, 20)), np.log(centres), np.arange(len(centres)))
    low = np.minimum(column.astype(int), len(centres) - 1)
    part = column - low
    stack = np.array(found)
    gains: FloatArray = (
        stack[low] * (1 - part[:, None]) + stack[np.minimum(low + 1, len(centres) - 1)] * part[:, None]
    ).T
    return gains


def _strokes_within(seconds: FloatArray, level: FloatArray) -> FloatArray:
    """When further strokes of a hit begin to be heard, seconds of its sound: shape (strokes,)."""
    grown = level[OVERLAP:] - level[:-OVERLAP]
    heard = (
        (grown >= STROKE_DB) & (level[OVERLAP:] > level.max() - FAINT_DB) & (seconds[:-OVERLAP] > ATTACK_S)
    )
    begins = np.flatnonzero(heard & ~np.concatenate([[False], heard[:-1]]))
    return np.asarray(seconds[begins + OVERLAP - 1])


def _since_stroke(out_s: FloatArray, in_s: FloatArray, strokes_s: FloatArray) -> FloatArray:
    """How late in the source each moment of the output is to be as loud as: its own time; behind a further
    stroke as long after that as it lies there, and before one never later than it.
    """
    since = out_s.copy()
    for stroke_s in strokes_s:
        before = np.flatnonzero(in_s <= stroke_s)
        last = int(before[-1]) if len(before) else 0
        since[:last] = np.minimum(since[:last], np.maximum(stroke_s, in_s[:last]))
        since[last:] = out_s[last:] - (out_s[last] - in_s[last])
    return since


def _softer_hit(seconds: FloatArray, level: FloatArray, out_s: FloatArray, in_s: FloatArray) -> FloatArray:
    """As `_softer` for hits: the level that was measured; past its end it falls on as its later part did."""
    late = seconds >= 0.4 * seconds[-1]
    fall = min(0.0, float(np.polyfit(seconds[late], level[late], 1)[0])) if late.sum() > 3 else 0.0
    beyond = np.maximum(fall * np.maximum(out_s - seconds[-1], 0), -MOST_DB)
    softer: FloatArray = np.clip(
        np.interp(out_s, seconds, level) + beyond - np.interp(in_s, seconds, level), -MOST_DB, 0
    )
    return softer


def _softer(seconds: FloatArray, level: FloatArray, out_s: FloatArray, in_s: FloatArray) -> FloatArray:
    """How much softer a band is `out_s` after the start than it was at `in_s`, in dB at most 0, shape of
    both.

    Its level is a parabola that falls ever more slowly, or a line; later than it was seen it falls on as it
    fell last.
    """
    none: FloatArray = np.zeros(len(out_s))
    centre, end = float(seconds.mean()), float(seconds[-1])
    bend, slope, height = (float(value) for value in np.polyfit(seconds - centre, level, 2))
    if bend < 0 or 2 * bend * (end - centre) + slope > 0 or len(seconds) < 12:
        bend, (slope, height) = 0.0, (float(value) for value in np.polyfit(seconds - centre, level, 1))
    apart = level - (bend * (seconds - centre) ** 2 + slope * (seconds - centre) + height)
    if slope > -HELD_DB_S or float(np.std(apart)) > APART_DB:
        return none

    def curve(at: FloatArray) -> FloatArray:
        x = np.minimum(at, end) - centre
        last = 2 * bend * (end - centre) + slope
        value: FloatArray = bend * x * x + slope * x + last * np.maximum(at - end, 0)
        return value

    softer: FloatArray = np.clip(curve(out_s) - curve(in_s), -MOST_DB, 0)
    return softer


def _filtered(made: Samples, gains: FloatArray, window: int) -> Samples:
    """`made` through short spectra with these gains in dB per frame and bin."""
    hop = window // OVERLAP
    shape = np.hanning(window + 1)[:window].astype(np.float32)
    sound = np.pad(
        made, ((0, 0), (window, 2 * window)), "reflect" if made.shape[1] > 2 * window else "constant"
    )
    factor = (10 ** (gains / 20)).astype(np.float32)
    out: Samples = np.zeros_like(sound)
    total = np.zeros(sound.shape[1], np.float32)
    view = np.lib.stride_tricks.sliding_window_view(sound, window, axis=1)
    squared = shape * shape
    for first in range(0, len(gains), BATCH):
        starts = np.arange(first, min(first + BATCH, len(gains))) * hop
        frames = (
            fft.irfft(
                fft.rfft(view[:, starts] * shape, axis=-1) * factor[first : first + BATCH], window, axis=-1
            )
            * shape
        )
        for k, start in enumerate(starts):
            out[:, start : start + window] += frames[:, k]
            total[start : start + window] += squared
    inside = slice(window, window + made.shape[1])
    result: Samples = (out[:, inside] / np.maximum(total[inside], np.float32(1e-3))).astype(np.float32)
    return result
