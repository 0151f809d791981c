"""Cut: sound is moved, never stretched. What gets shorter is faded out early; what gets longer repeats its quietest bit."""

from __future__ import annotations

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.stretch.plan import Segment

FADE_OUT_S = 0.005
BIT_S, JOIN_S = 0.030, 0.008


def fill(source: Source, segment: Segment, s0: int, s1: int, length: int, lead: int) -> Samples:
    """One segment of `length` frames from source frames [s0, s1); the first ones are the source's own."""
    rate = source.sample_rate_hz
    sound = source.read(s0, s1)
    have = s1 - s0
    if have == length:
        return sound
    if have > length:
        made = sound[:, :length].copy()
        if segment.ends:
            fade = min(round(FADE_OUT_S * rate), length // 2)
            made[:, length - fade :] *= np.linspace(1, 0, fade, dtype=np.float32)
        return made
    if not segment.ends:
        return np.pad(sound, ((0, 0), (0, length - have)))
    return _lengthened(sound, length, rate)


def _lengthened(sound: Samples, length: int, rate: int) -> Samples:
    """Repeat the quietest bit of the second half, joined by crossfades, until the length is reached; the end stays the end."""
    have = sound.shape[1]
    join = min(round(JOIN_S * rate), have // 6)
    bit = min(round(BIT_S * rate), max(have // 3, join + 1))
    if join < 8 or bit <= join:
        made = np.zeros((sound.shape[0], length), np.float32)
        made[:, :have] = sound
        if have:
            fade = min(64, have)
            made[:, have - fade : have] *= np.linspace(1, 0, fade, dtype=np.float32)
        return made
    energy = np.concatenate([[0.0], np.cumsum(np.square(sound, dtype=np.float64).sum(axis=0))])
    first = min(have // 2, have - bit - join)
    starts = np.arange(first, have - bit - join + 1, max(1, join // 2))
    at = int(starts[np.argmin(energy[starts + bit + join] - energy[starts])])
    ramp = np.linspace(0, 1, join, dtype=np.float32)
    missing = length - have
    pieces = [sound[:, : at + bit]]
    while missing > 0:
        step = min(bit, missing)
        # Going back by `step` frames: the sound before that point is faded in over what would have come next.
        back = at + bit - step
        over = sound[:, at + bit : at + bit + join] * (1 - ramp) + sound[:, back : back + join] * ramp
        rest = sound[:, back + join : at + bit] if step > join else sound[:, :0]
        piece = np.concatenate([over, rest], axis=1)[:, :step]
        pieces.append(piece)
        missing -= step
    head = np.concatenate(pieces, axis=1)
    # Whatever the last step was, the tail goes on from the end of the bit.
    tail = sound[:, at + bit :]
    made = np.concatenate([head, tail], axis=1)[:, :length]
    seam = head.shape[1]
    if seam + join <= made.shape[1] and join <= at + bit:
        last = pieces[-1]
        carried = np.concatenate([last, sound[:, at + bit : at + bit + join]], axis=1)[:, -join:]
        made[:, seam : seam + join] = carried * (1 - ramp) + made[:, seam : seam + join] * ramp
    return np.ascontiguousarray(made)
