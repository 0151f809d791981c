"""Chord: a phase vocoder for many notes at once.

Each output frame takes the phase advance that the source itself makes over one hop before that place (two analyses one
hop apart), one rotation for all bins about a spectral peak (Laroche and Dolson 1999, identity phase locking) and for
all channels. At factor 1 it is the source, to rounding. The attack at a segment's start and its end are the source's own.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import IntArray
from combpace.core.stretch.plan import Segment, inner_course

WINDOW_S = 0.0929
OVERLAP = 8
HEAD_S = 0.015
SMALLEST_WINDOW = 256
BATCH = 128

Complex = NDArray[np.complex64]


def fill(source: Source, segment: Segment, s0: int, s1: int, length: int, lead: int) -> Samples:
    """One segment of `length` frames from source frames [s0, s1); `lead` frames before its attack are the source's own."""
    rate = source.sample_rate_hz
    have = s1 - s0
    if have == length and not segment.inner_source:
        return source.read(s0, s1)
    window = 1 << round(np.log2(WINDOW_S * rate))
    head = round(HEAD_S * rate) + lead if segment.starts else 0
    shorter = min(have, length)
    head = min(head, shorter // 3)
    while window > SMALLEST_WINDOW and shorter - head - (window // 2 if segment.ends else 0) <= window // 2:
        window //= 2
    tail = window // 2 if segment.ends else 0
    hop = window // OVERLAP
    if shorter - head - tail <= hop:
        return _resampled(source.read(s0, s1), length)
    return _vocoder(source, segment, (s0, s1, length, lead), window, head, tail)


def _vocoder(source: Source, segment: Segment, span: tuple[int, int, int, int], window: int, head: int, tail: int) -> Samples:
    s0, s1, length, lead = span
    have = s1 - s0
    hop = window // OVERLAP
    shifted = _with_lead(segment, lead)
    out_points, in_points = inner_course(shifted, have, length, head, tail)
    # Before the head and after the tail the course runs on at slope 1.
    out_points = np.concatenate([[-window], out_points, [length + window]])
    in_points = np.concatenate([[in_points[0] - window], in_points, [have + window]])
    centres = np.arange(-(window // 2) // hop * hop, length + window // 2, hop)
    course = np.round(np.interp(centres, out_points, in_points)).astype(np.int64)
    # The sound before the segment is real, so that a window reaching over its start is what it was; beyond an attack at
    # its end there is silence, or the attack would be heard twice.
    margin = window + window // 2 + hop
    sound = np.zeros((source.channels, have + 2 * margin), np.float32)
    until = s1 if segment.ends else s1 + margin
    sound[:, : until - s0 + margin] = source.read(s0 - margin, until)
    shape = np.hanning(window + 1)[:window].astype(np.float32)
    made = np.zeros((source.channels, length + 2 * window + hop), np.float32)
    gain = np.zeros(length + 2 * window + hop, np.float32)
    squared = shape * shape
    untouched = np.concatenate([[True], np.diff(course) == hop])
    before: Complex | None = None
    turn: Complex | None = None
    for first in range(0, len(centres), BATCH):
        batch = slice(first, min(first + BATCH, len(centres)))
        spectra = _spectra(sound, course[batch] - window // 2 + margin, shape)
        earlier = None
        if not untouched[batch].all():
            earlier = _spectra(sound, course[batch] - window // 2 + margin - hop, shape)
            regions = _regions(spectra)
        for k in range(len(spectra)):
            if not untouched[first + k] and before is not None and earlier is not None:
                turn = _rotation(before, earlier[k], regions[k])
            if turn is not None:
                spectra[k] *= turn
            before = spectra[k]
        frames = fft.irfft(spectra, window, axis=-1).astype(np.float32) * shape
        for k, centre in enumerate(centres[batch]):
            at = int(centre) - window // 2 + window
            made[:, at : at + window] += frames[k]
            gain[at : at + window] += squared
    result = made[:, window : window + length] / np.maximum(gain[window : window + length], 1e-3)
    # The head carries the attack: the source's own samples, joined where both are the same sound.
    own = min(head, have, length)
    if own:
        join = min(own // 2, round(0.004 * source.sample_rate_hz))
        direct = sound[:, margin : margin + own]
        result[:, : own - join] = direct[:, : own - join]
        ramp = np.linspace(0, 1, join, dtype=np.float32)
        result[:, own - join : own] = direct[:, own - join :] * (1 - ramp) + result[:, own - join : own] * ramp
    return np.asarray(result, dtype=np.float32)


def _with_lead(segment: Segment, lead: int) -> Segment:
    """The same inner points, counted from the segment's crossfade."""
    if not lead or not segment.inner_source:
        return segment
    return Segment(
        segment.source,
        segment.target,
        tuple(value + lead for value in segment.inner_source),
        tuple(value + lead for value in segment.inner_target),
        segment.starts,
        segment.ends,
    )


def _spectra(sound: Samples, starts: IntArray, shape: Samples) -> Complex:
    """Spectra of windows at each start, shape (frames, channels, bins)."""
    size = len(shape)
    view = np.lib.stride_tricks.sliding_window_view(sound, size, axis=1)
    starts = np.clip(starts, 0, view.shape[1] - 1)
    frames = view[:, starts].transpose(1, 0, 2) * shape
    return np.asarray(fft.rfft(frames, axis=-1), dtype=np.complex64)


def _regions(spectra: Complex) -> IntArray:
    """For each bin the index of the spectral peak it belongs to, shape (frames, bins)."""
    magnitude = (np.square(spectra.real) + np.square(spectra.imag)).sum(axis=1)
    bins = magnitude.shape[1]
    peak = np.ones(magnitude.shape, dtype=bool)
    for reach in (1, 2):
        peak[:, reach:] &= magnitude[:, reach:] >= magnitude[:, :-reach]
        peak[:, :-reach] &= magnitude[:, :-reach] > magnitude[:, reach:]
    peak[:, 0] |= ~peak.any(axis=1)
    index = np.arange(bins)
    far = 10 * bins
    below = np.maximum.accumulate(np.where(peak, index, -far), axis=1)
    above = np.minimum.accumulate(np.where(peak, index, far)[:, ::-1], axis=1)[:, ::-1]
    nearest: IntArray = np.where(index - below <= above - index, below, above)
    return nearest


def _rotation(before: Complex, earlier: Complex, region: IntArray) -> Complex:
    """What turns this frame's phases so that it goes on from the frame before as the source does; shape (bins,)."""
    advance = (before * np.conj(earlier)).sum(axis=0)
    spread = advance.copy()
    spread[1:] += advance[:-1]
    spread[:-1] += advance[1:]
    at_peak = spread[region]
    size = np.abs(at_peak)
    # In silence there is no phase to go on from: start anew, or it would stay silent for ever.
    turned: Complex = np.where(size > 1e-30, at_peak / np.maximum(size, 1e-30), 1).astype(np.complex64)
    return turned


def _resampled(sound: Samples, length: int) -> Samples:
    """A segment too short for any window: its start as it is, the rest cut or drawn out with a fade."""
    have = sound.shape[1]
    made = np.zeros((sound.shape[0], length), np.float32)
    keep = min(have, length)
    made[:, :keep] = sound[:, :keep]
    if have < length and have:
        # Go back and forth over the last part rather than fall silent.
        back = sound[:, ::-1][:, : min(have, length - have)]
        made[:, have : have + back.shape[1]] = back
    elif keep:
        fade = min(64, keep)
        # The end meets the next segment's crossfade at the source's own last samples.
        ramp = np.linspace(0, 1, fade, dtype=np.float32)
        made[:, keep - fade : keep] = made[:, keep - fade : keep] * (1 - ramp) + sound[:, have - fade :] * ramp
    return made
