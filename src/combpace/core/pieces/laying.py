"""Pieces laid beside and over each other: a source made of stretches of another one, each as it was, with
short fades where they meet.

A crossfade ends at the cut: what the source has just before a piece comes in while the piece before it goes
out, and from the cut to the next fade every sample is the source's own.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.errors import ParameterError

# Laid by another version pieces sound otherwise: keys name it.
LAYING_VERSION = 1
FADE_S = 0.005
MOST_FADE_S = 0.5
FILLS, MEETINGS = ("nothing", "tail"), ("ends", "rings")
# A tail is made of the last stretch of this length before a piece ends, again and again; and falls at the
# rate it fell over this. Seconds.
GRAIN_S, FALL_OVER_S, TAIL_OVER_S = 0.060, 0.150, 0.008
# A tail falls by at least so much a second, so that it ends; and is over so far below its piece's end. dB.
LEAST_FALL_DB, SILENT_DB = 12.0, 60.0


@dataclass(frozen=True, slots=True)
class Piece:
    """Frames [start, stop) of a source, laid with `start` on frame `at` of the result; level in dB.

    fade_in, fade_out  own fades within the piece, frames, at most its length; None: the short ones where it
                       meets others
    curve              points (frames after `start`, dB) of a level of its own, in order: between them
                       straight in dB, 0 dB before the first, after the last as that
    own                its own copy of frames [start, stop), read instead of the source; None: the source
    """

    start: int
    stop: int
    at: int
    level_db: float = 0.0
    fade_in: int | None = None
    fade_out: int | None = None
    curve: tuple[tuple[int, float], ...] = ()
    own: Source | None = None

    @property
    def frames(self) -> int:
        return self.stop - self.start


@dataclass(frozen=True, slots=True)
class _Laid:
    """A piece as it is heard: result frames [at - lead, end), coming in over `rise` from there and going out
    over the last `fall`.

    tail: frames after `stop`.
    """

    piece: Piece
    lead: int
    rise: int
    end: int
    fall: int
    tail: int


class Pieces:
    """A `Source` of laid pieces; frame 0 is the result's zero. Any range reads the samples of the whole."""

    def __init__(
        self,
        source: Source,
        pieces: Sequence[Piece],
        *,
        fade_s: float = FADE_S,
        fill: str = "nothing",
        meeting: str = "ends",
    ) -> None:
        """fill: what follows a piece up to the next, "nothing" or its own "tail"; meeting: where the next
        begins earlier, it "ends" or "rings".
        """
        if fill not in FILLS or meeting not in MEETINGS:
            raise ParameterError(
                f"Fill with {' or '.join(FILLS)}; where two meet the earlier "
                f"{' or '.join(MEETINGS)}. Nothing was changed."
            )
        if not 0.0 <= fade_s <= MOST_FADE_S:
            raise ParameterError(
                f"A fade lasts 0 to {1000 * MOST_FADE_S:g} ms, not {1000 * fade_s:g} ms. Nothing was changed."
            )
        if any(not 0 <= piece.start < piece.stop <= source.frames for piece in pieces):
            raise ParameterError("A piece lies within its take, and is not empty. Nothing was changed.")
        self._source, self._given = source, list(pieces)
        self.channels, self.sample_rate_hz = source.channels, source.sample_rate_hz
        self._fade = round(fade_s * self.sample_rate_hz)
        self._laid = self._meet(sorted(pieces, key=lambda piece: piece.at), fill, meeting)
        self._starts = [one.piece.at - one.lead for one in self._laid]
        self._longest = max((one.end - one.piece.at + one.lead for one in self._laid), default=0)
        self.frames = max((one.end for one in self._laid), default=0)
        self._tails: dict[int, Samples] = {}

    def _meet(self, pieces: list[Piece], fill: str, meeting: str) -> list[_Laid]:
        laid: list[_Laid] = []
        starting = {(piece.start, piece.at): piece for piece in pieces}
        ended: dict[tuple[int, int], Piece] = {}
        # Where the next one begins that does not begin with it.
        at = [piece.at for piece in pieces]
        for piece in pieces:
            later = bisect_right(at, piece.at)
            following = at[later] if later < len(at) else None
            end = piece.at + piece.frames
            tail = 0
            if following is not None and (following < end if meeting == "ends" else False):
                end = following
            elif fill == "tail" and piece.fade_out is None and (following is None or following > end):
                longest = round(SILENT_DB / LEAST_FALL_DB * self.sample_rate_hz)
                tail = min(longest, (following if following is not None else end + longest) - end)
                end += tail
            # Pieces that follow each other in the source as they do here need no fade at all: nothing was cut
            # there.
            before, after = ended.get((piece.start, piece.at)), None
            if end == piece.at + piece.frames:
                ended[piece.stop, end] = piece
                after = starting.get((piece.stop, end))
            lead = 0 if before is not None and _goes_on(before, piece) else min(self._fade, piece.start)
            if piece.own is not None and lead:
                # Of its own sound nothing lies before it: it comes in within.
                lead = 0
                piece = (
                    piece
                    if piece.fade_in is not None
                    else replace(piece, fade_in=min(self._fade, piece.frames))
                )
            fall = 0 if after is not None and _goes_on(piece, after) else min(self._fade, end - piece.at)
            rise = lead
            if piece.fade_in is not None:
                lead, rise = 0, min(piece.fade_in, end - piece.at)
            if piece.fade_out is not None:
                fall = min(piece.fade_out, end - piece.at)
            laid.append(_Laid(piece, lead, rise, end, fall, tail))
        return laid

    def alone(self, number: int) -> Pieces:
        """One of the pieces by itself, by its number in the order in which they were given, from frame 0 on
        and exactly as long as it is.
        """
        piece = self._given[number]
        into = (
            piece.fade_in
            if piece.fade_in is not None
            else min(self._fade, piece.frames)
            if piece.start
            else 0
        )
        return Pieces(
            self._source, [replace(piece, at=0, fade_in=into)], fade_s=self._fade / self.sample_rate_hz
        )

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`: what the pieces make of it from one frame to another."""
        block = np.zeros((self.channels, max(0, stop - start)), np.float32)
        first = bisect_right(self._starts, start - self._longest - 1)
        for k in range(max(0, first - 1), bisect_right(self._starts, stop)):
            one = self._laid[k]
            lo, hi = max(start, one.piece.at - one.lead), min(stop, one.end)
            if hi > lo:
                block[:, lo - start : hi - start] += self._sound(k, one, lo, hi)
        return block

    def _sound(self, number: int, one: _Laid, lo: int, hi: int) -> Samples:
        """Result frames [lo, hi) of one piece."""
        piece = one.piece
        body = piece.at + piece.frames
        place = np.arange(lo, hi)
        made = np.zeros((self.channels, hi - lo), np.float32)
        if lo < body:
            made[:, : min(hi, body) - lo] = _sound_of(piece, self._source).read(
                piece.start + lo - piece.at, piece.start + min(hi, body) - piece.at
            )
        # The very end of a piece may hold the first rise of the next attack: a tail begins before it, and
        # comes in while that end goes out.
        over = min(round(TAIL_OVER_S * self.sample_rate_hz), piece.frames // 2)
        if one.tail and hi > body - over:
            tail = self._tails.get(number)
            if tail is None:
                tail = self._tails[number] = tail_of(
                    _sound_of(piece, self._source), piece.start, piece.stop - over, over + one.tail
                )
            share = (np.sin(0.5 * np.pi * np.clip((place - (body - over)) / max(1, over), 0, 1)) ** 2).astype(
                np.float32
            )
            heard = max(0, body - over - lo)
            made *= 1.0 - share
            made[:, heard:] += share[heard:] * tail[:, max(0, lo - body + over) : hi - body + over]
        gain = np.full(hi - lo, 10 ** (piece.level_db / 20.0))
        if piece.curve:
            gain *= 10 ** (self._curved(piece, place - piece.at) / 20.0)
        begins = piece.at - one.lead
        if one.rise and lo < begins + one.rise:
            gain *= np.sin(0.5 * np.pi * np.clip((place - begins) / one.rise, 0, 1)) ** 2
        if one.fall and hi > one.end - one.fall:
            gain *= np.sin(0.5 * np.pi * np.clip((one.end - place) / one.fall, 0, 1)) ** 2
        made *= gain.astype(np.float32)
        return made

    def _curved(self, piece: Piece, frames: IntArray) -> FloatArray:
        """The level of a piece's curve, dB; from 0 dB it goes over the short fade, so that it does not click;
        its last point holds.
        """
        at = [point for point, _ in piece.curve]
        level = [db for _, db in piece.curve]
        ramp = max(1, self._fade)
        found: FloatArray = np.interp(frames, [at[0] - ramp, *at], [0.0, *level])
        return found


class OwnSound:
    """A `Source` that has frames [start, start + its length) of another one, and silence everywhere else."""

    def __init__(self, sound: Source, start: int) -> None:
        self._sound, self._start = sound, start
        self.frames, self.channels, self.sample_rate_hz = (
            start + sound.frames,
            sound.channels,
            sound.sample_rate_hz,
        )

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`, of a piece that has a sound of its own."""
        return self._sound.read(start - self._start, stop - self._start)


def _sound_of(piece: Piece, source: Source) -> Source:
    return source if piece.own is None else piece.own


def _goes_on(one: Piece, after: Piece) -> bool:
    """Whether nothing is heard of the cut between two pieces that follow each other here as they do in the
    source.
    """
    curved = one.curve or after.curve
    return one.level_db == after.level_db and one.fade_out is None and after.fade_in is None and not curved


def tail_of(source: Source, start: int, stop: int, frames: int) -> Samples:
    """The decay of frames [start, stop) carried on at its own rate, shape (channels, frames): never another
    attack.

    The last stretch before the end again and again, each overlapping the one before where both are most
    alike, falling as the piece's end fell.
    """
    rate = source.sample_rate_hz
    grain = min(round(GRAIN_S * rate), (stop - start) // 2)
    if grain < 32 or frames <= 0:
        return np.zeros((source.channels, max(0, frames)), np.float32)
    sound = source.read(stop - 2 * grain, stop).astype(np.float64)
    last = sound[:, grain:]
    over = grain // 3
    # Where in the stretch before the last does it go on most like its end does.
    mono = sound.mean(axis=0)
    end = mono[2 * grain - over :]
    windows = np.lib.stride_tricks.sliding_window_view(mono[: 2 * grain - over], over)
    alike = windows @ end / np.sqrt(np.maximum(np.square(windows).sum(axis=1), 1e-20))
    join = int(np.argmax(alike)) + over
    period = sound[:, join:]
    if period.shape[1] <= over + 8:
        period = last
    fall_db = _fall_db_a_second(source, start, stop)
    fade = np.sin(0.5 * np.pi * np.arange(1, over + 1) / (over + 1)) ** 2
    made = np.zeros((source.channels, frames + period.shape[1] + over))
    # The first stretch goes on where the piece ended; later ones overlap by `over`.
    at = 0
    head = period.copy()
    while at < frames:
        made[:, at : at + head.shape[1]] += head
        step = head.shape[1] - over
        made[:, at + step : at + head.shape[1]] *= 1.0 - fade
        at += step
        head = period.copy()
        head[:, :over] *= fade
    level: FloatArray = 10 ** (-fall_db * np.arange(frames) / rate / 20.0)
    result: Samples = (made[:, :frames] * level).astype(np.float32)
    return result


def _fall_db_a_second(source: Source, start: int, stop: int) -> float:
    """How fast the end of a piece dies away, dB a second; at least LEAST_FALL_DB."""
    rate = source.sample_rate_hz
    span = min(round(FALL_OVER_S * rate), stop - start)
    sound = source.read(stop - span, stop).mean(axis=0).astype(np.float64)
    third = max(1, span // 3)
    levels = [10 * np.log10(float(np.mean(part**2)) + 1e-14) for part in (sound[:third], sound[-third:])]
    return float(max(LEAST_FALL_DB, (levels[0] - levels[1]) / ((span - third) / rate)))
