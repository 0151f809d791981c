"""Chord: many notes at once.

Short segments between attacks are moved in whole pieces, as Strike does it. Elsewhere a phase vocoder: each output frame
takes the phase advance that the source itself makes over one hop before that place (two analyses one hop apart), one
rotation for all bins about a spectral peak (Laroche and Dolson 1999, identity phase locking) and for all channels. At
factor 1 it is the source, to rounding. The attack at a segment's start and its end are the source's own.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import IntArray
from combpace.core.stretch.decay import of_notes
from combpace.core.stretch.plan import Segment, course, kept_head
from combpace.core.stretch.seam import STRIKE, fades
from combpace.core.stretch.seam import fill as seamed

# Windows at 44.1 kHz are 4096 frames between attacks and 8192 where nothing strikes for LONG_FROM_S.
WINDOW_S, LONG_S, LONG_FROM_S = 0.0929, 0.1858, 1.2
OVERLAP = 4
HEAD_S, HEAD_SHARE, MOST_HEAD_S, TAIL_S, EASED_S = 0.015, 0.5, 0.5, 0.012, 0.050
# Segments shorter than this have no room for a window that tells notes apart.
SEAM_S = 0.2
SUSTAINED_HZ = 5000.0
SMALLEST_WINDOW = 256
BATCH = 64

Complex = NDArray[np.complex64]


def fill(source: Source, segment: Segment) -> Samples:
    """One segment, shape (channels, segment.length)."""
    if segment.starts and segment.ends and min(segment.have, segment.length) < SEAM_S * source.sample_rate_hz:
        return seamed(source, segment, STRIKE)
    return vocoded(source, segment)


def fill_sustained(source: Source, segment: Segment) -> Samples:
    """As `fill` for a source that holds nothing above SUSTAINED_HZ and no attacks."""
    return vocoded(source, segment, SUSTAINED_HZ)


def vocoded(source: Source, segment: Segment, highest_hz: float | None = None) -> Samples:
    rate, have, length = source.sample_rate_hz, segment.have, segment.length
    shorter = min(have, length)
    most = min(round((MOST_HEAD_S if segment.starts else EASED_S) * rate), int(HEAD_SHARE * shorter))
    head = kept_head(segment, most, round(HEAD_S * rate))
    tail = min(round((TAIL_S if segment.ends else EASED_S) * rate), int(0.15 * shorter))
    window = 1 << round(np.log2((LONG_S if shorter > LONG_FROM_S * rate else WINDOW_S) * rate))
    while window > SMALLEST_WINDOW and shorter - head - tail <= window:
        window //= 2
    hop = window // OVERLAP
    if shorter - head - tail <= 2 * hop:
        return seamed(source, segment, STRIKE)
    bins = window // 2 + 1 if highest_hz is None else min(window // 2 + 1, int(highest_hz * window / rate) + 4)
    made = _vocoder(source, segment, window, head, bins)
    if head:
        join = min(head // 2, round(0.004 * rate))
        own = source.read(segment.source[0], segment.source[0] + head)
        made[:, : head - join] = own[:, : head - join]
        gains = fades(own[:, head - join :], made[:, head - join : head], _rise(join))
        made[:, head - join : head] = own[:, head - join :] * gains[0] + made[:, head - join : head] * gains[1]
    if tail:
        own = source.read(segment.source[1] - tail, segment.source[1])
        gains = fades(made[:, length - tail :], own, _rise(tail))
        made[:, length - tail :] = made[:, length - tail :] * gains[0] + own * gains[1]
    return of_notes(source, segment, made, course(segment, head, 0))


def _rise(frames: int) -> Samples:
    rise: Samples = (np.sin(np.linspace(0, np.pi / 2, frames + 2)[1:-1]) ** 2).astype(np.float32)
    return rise


def _vocoder(source: Source, segment: Segment, window: int, head: int, bins: int) -> Samples:
    have, length = segment.have, segment.length
    hop = window // OVERLAP
    out_points, in_points = course(segment, head, 0)
    # Before the head and after the end the course runs on at slope 1.
    out_points = np.concatenate([[-2.0 * window], out_points, [length + 2.0 * window]])
    in_points = np.concatenate([[-2.0 * window], in_points, [have + 2.0 * window]])
    centres = np.arange(-(window // 2) // hop * hop, length + window // 2 + hop, hop)
    places = np.round(np.interp(centres, out_points, in_points)).astype(np.int64)
    # The sound before the segment is real, so that a window reaching over its start is what it was. An attack at its end
    # is never looked at: the last spectrum before it goes on, or the attack would be heard ahead of its time.
    if segment.ends:
        places = np.minimum(places, max(have - window // 2, int(places[0]) + 1))
    margin = 2 * window + hop
    sound = _mirrored(source, segment.source[0] - margin, segment.source[1] + margin)
    shape = np.hanning(window + 1)[:window].astype(np.float32)
    made: Samples = np.zeros((source.channels, length + 2 * window + 2 * hop), np.float32)
    gain = np.zeros(made.shape[1], np.float32)
    squared = shape * shape
    untouched = np.concatenate([[True], np.diff(places) == hop])
    before: Complex | None = None
    turn: Complex | None = None
    for first in range(0, len(centres), BATCH):
        batch = slice(first, min(first + BATCH, len(centres)))
        starts = places[batch] - window // 2 + margin
        spectra = _spectra(sound, starts, shape)[..., :bins]
        changed = ~untouched[batch]
        if changed.any():
            earlier = _spectra(sound, starts[changed] - hop, shape)[..., :bins]
            regions = _regions(spectra[changed])
        taken = 0
        for k in range(len(spectra)):
            if changed[k]:
                if before is not None:
                    turn = _rotation(before, earlier[taken], regions[taken])
                taken += 1
            if turn is not None:
                spectra[k] *= turn
            before = spectra[k]
        frames = fft.irfft(spectra, window, axis=-1) * shape
        for k, centre in enumerate(centres[batch]):
            at = int(centre) - window // 2 + window
            made[:, at : at + window] += frames[k]
            gain[at : at + window] += squared
    result: Samples = (made[:, window : window + length] / np.maximum(gain[window : window + length], np.float32(1e-3))).astype(np.float32)
    return result


def _mirrored(source: Source, start: int, stop: int) -> Samples:
    """Frames [start, stop); what lies beyond an end of the source is its mirror image, or windows would see a step there."""
    sound = source.read(start, stop)
    for side, beyond in ((-1, -start), (1, stop - source.frames)):
        count = min(beyond, sound.shape[1] - beyond - 1)
        if count > 0:
            edge = beyond if side < 0 else sound.shape[1] - beyond - 1
            if side < 0:
                sound[:, edge - count : edge] = sound[:, edge + 1 : edge + 1 + count][:, ::-1]
            else:
                sound[:, edge + 1 : edge + 1 + count] = sound[:, edge - count : edge][:, ::-1]
    return sound


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
