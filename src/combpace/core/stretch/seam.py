"""Cut and Strike: sound is moved in whole pieces, and what is missing or too much is made up where it is
least heard.

A piece ends and another begins with a crossfade between two places of the source that differ least over its
length, in all channels at once, so that microphones keep their phase. The attack at the start and what leads
into the next one are never touched.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray
from combpace.core.stretch.decay import Kind, kept
from combpace.core.stretch.plan import Segment


@dataclass(frozen=True, slots=True)
class Seams:
    """How a segment may be cut up.

    head_s, tail_s  how much after its start and before its end stays as it is
    fade_s          length of a crossfade
    back_s          how far back one jump goes at most, where sound must be repeated
    lags            how many lengths of a jump are tried when several are needed
    late            0 to 1: how much of the segment's start is kept free of seams
    """

    head_s: float
    tail_s: float
    fade_s: float
    back_s: float
    lags: int
    late: float


# How much a difference of one sample to the next counts beside the sample itself.
BRIGHT = 4.0
# Levels are compared over this span.
LEVEL_S = 0.024
# What is repeated is made softer by this much at most, in nepers.
MOST_SOFTER = 4.5
# Where a segment only goes on, so much at either end stays as it is; never more than these shares of it.
INNER_S, MOST_HEAD, MOST_TAIL = 0.001, 0.4, 0.15
# How much a seam in what is loud costs beside one that does not fit.
LOUD = 0.05
CUT = Seams(head_s=0.025, tail_s=0.010, fade_s=0.010, back_s=0.030, lags=1, late=0.3)
STRIKE = Seams(head_s=0.025, tail_s=0.008, fade_s=0.016, back_s=0.060, lags=9, late=0.4)


def fill_cut(source: Source, segment: Segment) -> Samples:
    """One segment by short seams, as loops of struck sounds want it; shape (channels, segment.length)."""
    return fill(source, segment, CUT)


def fill_strike(source: Source, segment: Segment) -> Samples:
    """As `fill_cut`, with seams long enough for what rings after a stroke."""
    return fill(source, segment, STRIKE)


def fill_struck(source: Source, segment: Segment) -> Samples:
    """As `fill_strike`, of what is struck beside notes that last."""
    return fill(source, segment, STRIKE, "part")


def fill(source: Source, segment: Segment, seams: Seams, kind: Kind = "hit") -> Samples:
    """One segment, shape (channels, segment.length); points that only bend the map are met between seams."""
    sound = source.read(*segment.source)
    u = [0, *segment.inner_source, segment.have]
    v = [0, *segment.inner_target, segment.length]
    pieces = []
    for k in range(len(u) - 1):
        part = sound[:, u[k] : u[k + 1]]
        # A soft hit may lie on a point between: seams keep away from it as from any other.
        first, last = k > 0 or segment.starts, k < len(u) - 2 or segment.ends
        pieces.append(fitted(part, v[k + 1] - v[k], source.sample_rate_hz, seams, first, last, kind))
    return pieces[0] if len(pieces) == 1 else np.concatenate(pieces, axis=1)


def fitted(
    sound: Samples, length: int, rate: int, seams: Seams, starts: bool, ends: bool, kind: Kind
) -> Samples:
    """`sound` made `length` frames long; its edges are its own samples, longer so where an attack lies
    there.
    """
    have = sound.shape[1]
    if have == length:
        return sound
    shorter = min(have, length)
    head = min(round((seams.head_s if starts else INNER_S) * rate), int(MOST_HEAD * shorter))
    tail = min(round((seams.tail_s if ends else INNER_S) * rate), int(MOST_TAIL * shorter))
    fade = min(round(seams.fade_s * rate), int(0.25 * shorter))
    if fade < 2:
        # A few samples between two points: no room for any fade.
        at = np.minimum(np.arange(length) * have // max(1, length), have - 1)
        return sound[:, at]
    # What is bright is heard first: differences count by how bright they are.
    heard = sound + BRIGHT * np.diff(sound, axis=1, prepend=sound[:, :1])
    loud = np.square(heard, dtype=np.float64).sum(axis=0)
    if length > have:
        fade = max(2, min(fade, (have - tail - head) // 3))
    if length < have:
        jumps = _forward(heard, loud, have - length, (head, have - tail), fade, seams.late)
    else:
        jumps = _back(heard, loud, length - have, (head, have - tail), fade, seams, rate)
    made = _assembled(sound, jumps, fade, length)
    if length <= have:
        return made
    if ends:
        return kept(sound, made, _way(jumps, have, length), rate, kind)
    begin, level = _levels(loud, jumps, length - have, round(LEVEL_S * rate))
    made[:, begin : begin + len(level)] *= level
    return made


def _difference(sound: Samples, power: FloatArray, lag: int, fade: int) -> FloatArray:
    """Squared difference over a fade between the sound at p and at p + lag, per p; shape (frames - lag - fade
    + 1,).

    A part of the power is added: of two places that fit equally well the quieter one is less heard.
    """
    gap = (
        np.square(sound[:, lag:] - sound[:, : sound.shape[1] - lag], dtype=np.float64).sum(axis=0)
        if lag
        else np.zeros(sound.shape[1])
    )
    gap += LOUD * (power[lag:] + power[: len(power) - lag])
    total = np.concatenate([[0.0], np.cumsum(gap)])
    cost: FloatArray = total[fade:] - total[:-fade]
    return cost


def _forward(
    sound: Samples, power: FloatArray, drop: int, room: tuple[int, int], fade: int, late: float
) -> list[tuple[int, int]]:
    """One jump that leaves out `drop` frames: (leave at, go on at)."""
    cost = _difference(sound, power, drop, fade)
    last = min(len(cost) - 1, room[1] - drop - fade)
    first = min(last, max(room[0], int(room[0] + late * (last - room[0]))))
    at = first + int(np.argmin(cost[first : last + 1]))
    return [(at, at + drop)]


def _back(
    sound: Samples, power: FloatArray, more: int, room: tuple[int, int], fade: int, seams: Seams, rate: int
) -> list[tuple[int, int]]:
    """Jumps back that together repeat `more` frames: (leave at, go on at), in the order of the output."""
    first, last = room
    # A jump repeats the span it goes back over; its landing place must be past the attack, and what follows a
    # jump is at least as long as its fade.
    free = last - first - fade
    most = min(max(round(seams.back_s * rate), 2 * fade), free)
    count = -(-more // most)
    early = int(first + seams.late * free)
    jumps: list[tuple[int, int]] = []
    left, landed = more, first
    for rest in range(count, 0, -1):
        even = left // rest if rest > 1 else left
        spread = max(0, min(even // 3, most - even, even - fade)) if rest > 1 else 0
        lags = (
            np.unique(np.linspace(even - spread, even + spread, seams.lags).astype(int))
            if spread
            else np.array([even])
        )
        # The last of several must leave what can still be repeated.
        lags = lags[(lags >= 1) & (left - lags <= (rest - 1) * most) & (left - lags >= (rest - 1) * fade)]
        best = (np.inf, 0, 0)
        for lag in lags if len(lags) else [even]:
            hi = last - fade
            lo = min(max(early, first + int(lag), landed + fade), hi)
            cost = _difference(sound[:, lo - lag : hi + fade], power[lo - lag : hi + fade], int(lag), fade)
            j = int(np.argmin(cost))
            if cost[j] < best[0]:
                best = (float(cost[j]), lo + j, int(lag))
        _, at, lag = best
        landed = at - lag
        jumps.append((at, landed))
        left -= lag
    return jumps


def _way(jumps: list[tuple[int, int]], have: int, length: int) -> tuple[FloatArray, FloatArray]:
    """Points (output frame, source frame) of pieces one after the other."""
    out, there, read = [0.0], [0.0], 0
    for leave, go_on in jumps:
        at = out[-1] + leave - read
        out += [at, at]
        there += [float(leave), float(go_on)]
        read = go_on
    return np.array([*out, length]), np.array([*there, have])


def _levels(power: FloatArray, jumps: list[tuple[int, int]], more: int, span: int) -> tuple[int, Samples]:
    """(first frame, gains) of what is repeated where no attack follows: its level goes once from where the
    first jump leaves to where the last one left, instead of starting over. Sound is made softer for that,
    never louder."""
    begin, last = jumps[0][0], max(leave for leave, _ in jumps)
    end = last + more
    total = np.concatenate([[0.0], np.cumsum(power)])
    grid = np.arange(0, len(power), max(1, span // 4))
    lo, hi = np.clip(grid - span // 2, 0, len(power)), np.clip(grid + span // 2, 1, len(power))
    level = 0.5 * np.log((total[hi] - total[lo]) / (hi - lo) + 1e-12)
    read = np.concatenate(
        [
            np.arange(go_on, leave)
            for (_, go_on), leave in zip(jumps, [*(j[0] for j in jumps[1:]), last], strict=True)
        ]
    )
    wanted = np.interp(np.linspace(begin, last, end - begin), grid, level) - np.interp(read, grid, level)
    gains: Samples = np.exp(np.clip(wanted, -MOST_SOFTER, 0)).astype(np.float32)
    # Where one place is left for another the gain would jump with it; a fade has no corners either.
    smooth = min(span, len(gains) // 3)
    if smooth > 1:
        kernel = np.hanning(smooth + 2)[1:-1]
        edges = np.concatenate([np.ones(smooth), gains, np.ones(smooth)])
        gains = np.convolve(edges, kernel / kernel.sum(), "same")[smooth:-smooth].astype(np.float32)
    return begin, gains


def _assembled(sound: Samples, jumps: list[tuple[int, int]], fade: int, length: int) -> Samples:
    """The pieces one after the other; a fade begins where a piece is left."""
    made = np.empty((sound.shape[0], length), np.float32)
    rise = (np.sin(np.linspace(0, np.pi / 2, fade + 2)[1:-1]) ** 2).astype(np.float32)
    at = read = 0
    pending: tuple[Samples, FloatArray] | None = None
    have = sound.shape[1]
    for leave, go_on in [*jumps, (have, have)]:
        piece = sound[:, read:leave]
        count = min(piece.shape[1], length - at)
        made[:, at : at + count] = piece[:, :count]
        if pending is not None:
            over, gains = pending
            n = min(fade, count)
            made[:, at : at + n] = over[:, :n] * gains[0, :n] + piece[:, :n] * gains[1, :n]
        at += count
        if leave < have:
            pending = (
                sound[:, leave : leave + fade],
                fades(sound[:, leave : leave + fade], sound[:, go_on : go_on + fade], rise),
            )
        read = go_on
    return made


def fades(out: Samples, into: Samples, rise: Samples) -> FloatArray:
    """Gains of what is left and what begins, shape (2, n): together of constant power, however alike the two
    are.
    """
    both = float(
        np.sqrt(np.sum(np.square(out, dtype=np.float64)) * np.sum(np.square(into, dtype=np.float64)))
    )
    alike = float(np.clip(np.sum(out.astype(np.float64) * into) / both, 0, 1)) if both > 0 else 1.0
    fall = 1 - rise
    level = 1 / np.sqrt(fall * fall + rise * rise + 2 * alike * fall * rise)
    gains: FloatArray = np.stack([fall * level, rise * level]).astype(np.float32)
    return gains
