"""Chord: many notes at once.

Short segments between attacks are moved in whole pieces, as Strike does it. Elsewhere a phase vocoder: each
output frame takes the phase advance that the source itself makes over one hop before that place (two analyses
one hop apart), one rotation for all bins about a spectral peak (Laroche and Dolson 1999, identity phase
locking) and for all channels. At factor 1 it is the source, to rounding. The attack at a segment's start and
its end are the source's own.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.stretch.decay import of_notes
from combpace.core.stretch.decimated import decimation
from combpace.core.stretch.plan import Segment, course, kept_head
from combpace.core.stretch.release import let_go
from combpace.core.stretch.seam import STRIKE, fades
from combpace.core.stretch.seam import fill as seamed
from combpace.core.stretch.sustain import HIGHEST_HZ, Sustained

# Windows at 44.1 kHz are 4096 frames between attacks and 8192 where nothing strikes for LONG_FROM_S.
WINDOW_S, LONG_S, LONG_FROM_S = 0.0929, 0.1858, 1.2
OVERLAP = 4
# A strum is no slower in a slower song: so much after an attack stays as it is, and so much before the next.
HEAD_S, TAIL_S = 0.12, 0.012
# More may stay where the rest can give way: up to this share of the segment, and up to this long.
HEAD_SHARE, MOST_HEAD_S = 0.5, 0.5
# Where no attack begins or ends it, so much stays at that end.
EASED_S = 0.050
# Of a note that is let go inside, no more than this share of what comes before that stays.
BEFORE_LET_GO = 0.8
# So far below its note a pause is nothing to be told apart.
QUIET_DB = 35.0
# Segments shorter than this have no room for a window that tells notes apart.
SEAM_S = 0.2
SMALLEST_WINDOW = 256
# Frames of the vocoder that are made at a time.
BATCH = 32

Complex = NDArray[np.complex64]


def fill(source: Source, segment: Segment) -> Samples:
    """One segment, shape (channels, segment.length)."""
    if (
        segment.starts
        and segment.ends
        and (
            min(segment.have, segment.length) < SEAM_S * source.sample_rate_hz or _then_quiet(source, segment)
        )
    ):
        return seamed(source, segment, STRIKE)
    return vocoded(source, segment)


def _then_quiet(source: Source, segment: Segment) -> bool:
    """Whether a note is as long as it was and only a pause after it gives way: a window that reaches back
    would hear the note's end again.
    """
    if not segment.inner_source or abs(segment.inner_source[0] - segment.inner_target[0]) > 1:
        return False
    sound = np.abs(source.read(*segment.source))
    at = segment.inner_source[0]
    return bool(sound[:, at:].max(initial=0.0) < 10 ** (-QUIET_DB / 20) * sound[:, :at].max(initial=0.0))


def running_sustained(source: Sustained, segment: Segment) -> Samples | Running:
    """As `fill` for what holds nothing above HIGHEST_HZ and no attacks, as far as it is asked for where that
    can be.
    """
    made = _vocoded(source, segment, source.slow, HIGHEST_HZ)
    if made is None or segment.ends or segment.source[1] >= source.frames:
        return _whole(source, segment, made)
    return made


def vocoded(source: Source, segment: Segment) -> Samples:
    """A segment by the vocoder, shape (channels, segment.length); by seams where it is too short for one."""
    return _whole(source, segment, _vocoded(source, segment, source, source.sample_rate_hz / 2))


def _whole(source: Source, segment: Segment, made: Running | None) -> Samples:
    if made is None:
        return seamed(source, segment, STRIKE)
    return of_notes(source, segment, made.until(segment.length), made.way, "notes")


def _vocoded(source: Source, segment: Segment, slow: Source, highest_hz: float) -> Running | None:
    """What makes the segment by a vocoder; None where it is too short for one."""
    rate, have, length = source.sample_rate_hz, segment.have, segment.length
    shorter = min(have, length)
    most = min(round((MOST_HEAD_S if segment.starts else EASED_S) * rate), int(HEAD_SHARE * shorter))
    fixed = let_go(source, segment) if segment.starts else ()
    if fixed:
        most = min(most, int(BEFORE_LET_GO * min(fixed[0])))
    head = kept_head(segment, most, round(HEAD_S * rate), fixed)
    tail = min(round((TAIL_S if segment.ends else EASED_S) * rate), int(0.15 * shorter))
    window = 1 << round(np.log2((LONG_S if shorter > LONG_FROM_S * rate else WINDOW_S) * rate))
    while window > SMALLEST_WINDOW and shorter - head - tail <= window:
        window //= 2
    if shorter - head - tail <= 2 * window // OVERLAP:
        return None
    return Running(
        source, segment, slow, highest_hz, window, (head, tail), course(segment, head, 0, 0, fixed)
    )


def _rise(frames: int) -> Samples:
    rise: Samples = (np.sin(np.linspace(0, np.pi / 2, frames + 2)[1:-1]) ** 2).astype(np.float32)
    return rise


class Running:
    """A segment that is made from its start as far as it is asked for: what comes after a preview's end is
    not made for it.
    """

    def __init__(
        self,
        source: Source,
        segment: Segment,
        slow: Source,
        highest_hz: float,
        window: int,
        kept: tuple[int, int],
        way: tuple[FloatArray, FloatArray],
    ) -> None:
        """slow  the source at the rate that `decimation` gives for highest_hz, above which it holds nothing;
        the rest in frames of the source
        kept     how much stays as it is after the start and before the end
        way      points (output frame, source frame) of the segment's course
        """
        self._source, self._segment, self._slow, self.way = source, segment, slow, way
        self.head, self._tail = kept
        self._how = how = decimation(source.sample_rate_hz, highest_hz)
        # Slow frames lie on one grid for all of the source; the segment starts `late` frames after the one
        # before it.
        self._first, self._late = divmod(segment.source[0], how.by)
        window, have, length = window // how.by, segment.have, segment.length
        hop = window // OVERLAP
        self._bins = min(window // 2 + 1, int(highest_hz * window * how.by / source.sample_rate_hz) + 4)
        out_points, in_points = way
        # Before the head and after the end the course runs on at slope 1.
        far = 2.0 * window * how.by
        out_points = np.concatenate([[-far], out_points, [length + far]])
        in_points = np.concatenate([[-far], in_points, [have + far]])
        self._length = -(-(length + self._late) // how.by)
        before = (-(window // 2) - how.reach) // hop * hop
        self._centres = np.arange(before, self._length + how.reach + window // 2 + hop, hop)
        mapped = np.interp(how.by * self._centres - self._late, out_points, in_points)
        places = np.round((mapped + self._late) / how.by).astype(np.int64)
        # The sound before the segment is real, so that a window reaching over its start is what it was. An
        # attack at its end is never looked at: the last spectrum before it goes on, or the attack would be
        # heard ahead of its time.
        if segment.ends:
            places = np.minimum(places, max((have + self._late) // how.by - window // 2, int(places[0]) + 1))
        self._places, self._hop = places, hop
        self._shape = np.hanning(window + 1)[:window].astype(np.float32)
        # Frame 0 of what is made lies so far before the segment.
        self._margin = window // 2 - before
        self._made: Samples = np.zeros(
            (source.channels, self._margin + self._length + how.reach + window + 2 * hop), np.float32
        )
        self._gain = np.zeros(self._made.shape[1], np.float32)
        self._sound: Samples = np.zeros((source.channels, length), np.float32)
        self._moved = np.concatenate([[False], np.diff(places) != hop])
        self._before: Complex | None = None
        self._turn: Complex | None = None
        self._next = self._done = 0
        self._level = -how.reach
        # How much sound it holds, of all channels.
        self.size = self._made.size + self._sound.size

    def until(self, stop: int) -> Samples:
        """At least the first `stop` frames, shape (channels, segment.length); what lies after them is not yet
        sound.
        """
        length, by, reach = self._segment.length, self._how.by, self._how.reach
        stop = length if stop > length - self._tail else max(stop, self.head)
        while self._next < len(self._centres) and self._done < stop:
            self._make()
            # What no later window reaches is divided by what the windows add up to.
            last, upto = self._next >= len(self._centres), self._length + reach
            if not last:
                upto = int(np.clip(self._centres[self._next] - len(self._shape) // 2, self._level, upto))
            level = slice(self._margin + self._level, self._margin + upto)
            self._made[:, level] /= np.maximum(self._gain[level], np.float32(1e-3))
            self._level = upto
            done, now = (
                self._done,
                length if last else int(np.clip(by * (upto - reach) - self._late, self._done, length)),
            )
            if now > done:
                begin, end = (done + self._late) // by, -(-(now + self._late) // by)
                all_of_it = self._how.all(
                    self._made[:, self._margin + begin - reach : self._margin + end + reach]
                )
                at = done + self._late - by * begin
                self._sound[:, done:now] = all_of_it[:, at : at + now - done]
            if done < self.head <= now:
                self._begun(self._sound)
            self._done = now
            # All of it may be there before the last windows, which lie beyond its end.
            if now == length:
                self._ended(self._sound)
        return self._sound

    def _make(self) -> None:
        """The next frames of the vocoder."""
        window, hop, shape, bins = len(self._shape), self._hop, self._shape, self._bins
        batch = slice(self._next, min(self._next + BATCH, len(self._centres)))
        self._next = batch.stop
        places = self._places[batch]
        first, last = self._first + np.array([places.min() - window // 2 - hop, places.max() + window // 2])
        # Beyond an end of the source its mirror image is heard: what is mirrored is read, too.
        lo = min(int(first), 2 * self._slow.frames - int(last)) if last > self._slow.frames else int(first)
        sound = _mirrored(self._slow, lo, max(int(last), -int(first)))
        starts = self._first + places - window // 2 - lo
        spectra = _spectra(sound, starts, shape)[..., :bins]
        changed = self._moved[batch]
        if changed.any():
            earlier = _spectra(sound, starts[changed] - hop, shape)[..., :bins]
            regions = _regions(spectra[changed])
        taken = 0
        for k in range(len(spectra)):
            if changed[k]:
                if self._before is not None:
                    self._turn = _rotation(self._before, earlier[taken], regions[taken])
                taken += 1
            if self._turn is not None:
                spectra[k] *= self._turn
            self._before = spectra[k]
        frames = fft.irfft(spectra, window, axis=-1) * shape
        squared = shape * shape
        for k, centre in enumerate(self._centres[batch]):
            at = int(centre) - window // 2 + self._margin
            self._made[:, at : at + window] += frames[k]
            self._gain[at : at + window] += squared

    def _begun(self, sound: Samples) -> None:
        """The segment's start is the source's own."""
        head, first = self.head, self._segment.source[0]
        join = min(head // 2, round(0.004 * self._source.sample_rate_hz))
        own = self._source.read(first, first + head)
        gains = fades(own[:, head - join :], sound[:, head - join : head], _rise(join))
        sound[:, head - join : head] = (
            own[:, head - join :] * gains[0] + sound[:, head - join : head] * gains[1]
        )
        sound[:, : head - join] = own[:, : head - join]

    def _ended(self, sound: Samples) -> None:
        """And so is its end."""
        if self._tail:
            end, at = self._segment.source[1], self._segment.length - self._tail
            own = self._source.read(end - self._tail, end)
            gains = fades(sound[:, at:], own, _rise(self._tail))
            sound[:, at:] = sound[:, at:] * gains[0] + own * gains[1]


def _mirrored(source: Source, start: int, stop: int) -> Samples:
    """Frames [start, stop); what lies beyond an end of the source is its mirror image, or windows would see a
    step there.
    """
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
    """What turns this frame's phases so that it goes on from the frame before as the source does; shape
    (bins,).
    """
    advance = (before * np.conj(earlier)).sum(axis=0)
    spread = advance.copy()
    spread[1:] += advance[:-1]
    spread[:-1] += advance[1:]
    at_peak = spread[region]
    size = np.abs(at_peak)
    # In silence there is no phase to go on from: start anew, or it would stay silent for ever.
    turned: Complex = np.where(size > 1e-30, at_peak / np.maximum(size, 1e-30), 1).astype(np.complex64)
    return turned
