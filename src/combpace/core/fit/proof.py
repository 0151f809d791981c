"""Proof of a render: its attacks found again by their own sound where they were to be.

An attack as it was played is looked for in the render by normalised cross-correlation; only where nothing
there is like it, by where the sound rises.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray
from combpace.core.onsets.refine import StartFinder

# An attack is looked for this near to where it was to be.
NEAR_S = 0.040
# An attack as it was played: from so long before its start to so long after it. It is looked for this near to
# where it was to be, first in blocks of so many frames, then to a share of one frame.
HEAD_BEFORE_S, HEAD_AFTER_S, AGAIN_S, COARSE = 0.010, 0.040, 0.050, 4
# Seen closely: so many frames on either side.
CLOSE = 2 * COARSE + 4
# Between frames it is read in such steps, from so many frames on either side.
FINE, SINC_FRAMES = np.linspace(-1.0, 1.0, 81), 8
# What is as like it as this is that attack, what is as like as THE_SAME is its copy; places nearly as like as
# the best, as a share, are weighed.
ALIKE, THE_SAME, AS_LIKE = 0.6, 0.95, 0.8
# Seen roughly, what is as like as this share of the best is looked at closely, so many places at most.
ROUGHLY, MOST_TOPS = 0.5, 8
# On its place within this (common practice: nobody hears less).
WITHIN_S = 0.003
# A rise is seen in blocks, as so much more energy after a moment than before it.
BLOCK_S, RISE_S, RISE_DB = 0.002, 0.010, 3.0
# A mark is on its attack where the sound rises this near to it.
AT_MARK_S, CLEAR_DB = 0.004, 12.0


@dataclass(frozen=True, slots=True)
class Measured:
    """Where one attack came to lie: seconds of the render's clock; measured_s and off_ms None where none was
    found.

    alike  how like it is to the attack as it was played, 0-1; None where only a rise was looked for
    """

    wanted_s: float
    measured_s: float | None
    off_ms: float | None
    alike: float | None = None


def proof(
    rendered: Source,
    wanted_s: Sequence[float],
    first_s: float = 0.0,
    played: Source | None = None,
    played_s: Sequence[float] = (),
) -> list[Measured]:
    """Measure the attacks of a render near where they were to be.

    wanted_s  on the session's clock
    first_s   session time of the render's first frame
    played    what was rendered, played_s: when each attack starts in it
    Returns   one each, in their order
    """
    wanted = np.asarray(wanted_s, dtype=np.float64)
    length = rendered.frames / rendered.sample_rate_hz
    inside = (wanted - first_s >= 0.0) & (wanted - first_s < length)
    found, alike = np.full(len(wanted), np.nan), np.zeros(len(wanted))
    if played is not None:
        for k in np.flatnonzero(inside):
            at = float(played_s[int(k)])
            found[k], alike[k] = _again(rendered, played, float(wanted[k]) - first_s, at)
            found[k] += _beside_its_mark(played, at)
    left = inside & (alike < ALIKE)
    rough = np.array(
        [
            _rise(rendered, float(time - first_s)) if here else np.nan
            for time, here in zip(wanted, left, strict=True)
        ]
    )
    heard = np.isfinite(rough)
    found[left] = np.nan
    if heard.any():
        found[heard] = StartFinder(rendered).starts(rough[heard])
    made = []
    for target, at, like in zip(wanted, found + first_s, alike, strict=True):
        here = bool(np.isfinite(at)) and abs(at - target) <= AGAIN_S
        made.append(
            Measured(
                float(target),
                float(at) if here else None,
                float(1000.0 * (at - target)) if here else None,
                None if played is None else float(like),
            )
        )
    return made


def _again(rendered: Source, played: Source, time_s: float, played_s: float) -> tuple[float, float]:
    """(where an attack of what was played lies in the render, how like it is) near a moment; (NaN, 0) for
    silence.
    """
    rate = rendered.sample_rate_hz
    before, after, reach = (round(part * rate) for part in (HEAD_BEFORE_S, HEAD_AFTER_S, AGAIN_S))
    start = round(played_s * rate)
    head = _sharp(played.read(start - before - 1, start + after))
    first = round(time_s * rate) - before - reach
    sound = _sharp(rendered.read(first - 1, first + len(head) + 2 * reach))
    rough = _likeness(_coarse(sound), _coarse(head))
    if not rough.max(initial=0.0) > 0:
        return float("nan"), 0.0
    refined = [_refined(sound, head, at * COARSE) for at in _tops(rough, ROUGHLY * float(rough.max()))]
    most = max(like for _, like in refined)
    # What rings repeats itself a period later: where nothing is the same, of places that are nearly as like
    # the one where it rises most.
    likely = [one for one in refined if one[1] >= (most if most > THE_SAME else AS_LIKE * most)]
    at, like = max(likely, key=lambda one: _rises(sound, round(one[0]) + before, before))
    # The excerpt begins on a frame, the attack a share of one later.
    return (first + at + before + played_s * rate - start) / rate, like


def _beside_its_mark(played: Source, played_s: float) -> float:
    """By how much an attack starts later than its mark, seconds: 0 where the sound rises at the mark, for
    what is strummed rises again and again, and where no other rise near it is clear.
    """
    rate = played.sample_rate_hz
    first, reach = round((played_s - AT_MARK_S - RISE_S) * rate), round(RISE_S * rate)
    sound = played.read(first, first + 2 * (reach + round(AT_MARK_S * rate))).mean(axis=0).astype(np.float64)
    total = np.concatenate([[0.0], np.cumsum(np.square(sound) + 1e-12)])
    at = np.arange(reach, len(sound) - reach)
    before, after = total[at] - total[at - reach], total[at + reach] - total[at]
    if float((10 * np.log10(after / before)).max(initial=0.0)) > RISE_DB:
        return 0.0
    rough = _rise(played, played_s, CLEAR_DB)
    if not np.isfinite(rough):
        return 0.0
    start = float(StartFinder(played).starts(np.array([rough]))[0])
    return start - played_s if abs(start - played_s) <= NEAR_S else 0.0


def _refined(sound: FloatArray, head: FloatArray, at: int) -> tuple[float, float]:
    """(where in a sound, to a share of a frame, an excerpt lies near a frame; how like it is there)"""
    low = max(0, at - CLOSE)
    near = sound[low : low + len(head) + 2 * CLOSE]
    if len(near) < len(head):
        return float(low), 0.0
    at_frame, like = _top(_likeness(near, head))
    return low + at_frame, max(0.0, like)


def _sharp(samples: Samples) -> FloatArray:
    """A sound as one channel, its attack before what rings: each sample less the one before."""
    found: FloatArray = np.diff(samples.mean(axis=0).astype(np.float64))
    return found


def _tops(likeness: FloatArray, least: float) -> list[int]:
    """Places of local maxima of at least so much, the best first."""
    inner = likeness[1:-1]
    tops = np.flatnonzero((inner >= likeness[:-2]) & (inner > likeness[2:]) & (inner >= least)) + 1
    best = tops[np.argsort(-likeness[tops])[:MOST_TOPS]]
    return [int(one) for one in best] or [int(np.argmax(likeness))]


def _rises(sound: FloatArray, at: int, reach: int) -> float:
    """By how much a sound is louder just after a place than just before it, as a ratio of energies."""
    before = float(np.square(sound[max(0, at - reach) : at]).mean()) if at > 0 else 0.0
    after = sound[at : at + reach]
    return (float(np.square(after).mean()) if len(after) else 0.0) / (before + 1e-12)


def _coarse(sound: FloatArray) -> FloatArray:
    whole = len(sound) // COARSE * COARSE
    found: FloatArray = sound[:whole].reshape(-1, COARSE).mean(axis=1)
    return found


def _likeness(sound: FloatArray, head: FloatArray) -> FloatArray:
    """Normalised cross-correlation of a shorter sound at every place within a longer one, -1 to 1."""
    dot = np.correlate(sound, head, mode="valid")
    total = np.concatenate([[0.0], np.cumsum(sound**2)])
    power = total[len(head) :] - total[: -len(head)]
    floor = 1e-4 * max(float(power.max(initial=0.0)), 1e-12)
    found: FloatArray = dot / np.sqrt(np.maximum(power, floor) * max(float(head @ head), 1e-12))
    return found


def _top(likeness: FloatArray) -> tuple[float, float]:
    """(where a likeness is greatest, to a share of a frame; how great it is), read between frames by a
    windowed sinc.
    """
    at = int(np.argmax(likeness))
    lags = np.arange(max(0, at - SINC_FRAMES), min(len(likeness), at + SINC_FRAMES + 1))
    if not lags[0] < at < lags[-1]:
        return float(at), float(likeness[at])
    between = _SINC[:, lags - at + SINC_FRAMES] @ likeness[lags]
    best = int(np.argmax(between))
    return at + float(FINE[best]), float(between[best])


def _sinc() -> FloatArray:
    apart = FINE[:, None] - np.arange(-SINC_FRAMES, SINC_FRAMES + 1)[None, :]
    window = 0.5 + 0.5 * np.cos(np.pi * np.clip(apart / (SINC_FRAMES + 1), -1.0, 1.0))
    found: FloatArray = np.sinc(apart) * window
    return found


_SINC = _sinc()


def _rise(rendered: Source, time_s: float, least_db: float = RISE_DB) -> float:
    """Where the sound rises most within NEAR_S of a moment; NaN where it does not rise by so much."""
    rate = rendered.sample_rate_hz
    block, first = max(1, round(BLOCK_S * rate)), round((time_s - NEAR_S - RISE_S) * rate)
    count = round(2 * (NEAR_S + RISE_S) / BLOCK_S)
    sound = rendered.read(first, first + count * block).mean(axis=0).astype(np.float64)
    power = np.square(sound).reshape(count, block).mean(axis=1) + 1e-12
    reach = round(RISE_S / BLOCK_S)
    total = np.concatenate([[0.0], np.cumsum(power)])
    middles = np.arange(reach, count - reach)
    before, after = (
        (total[middles] - total[middles - reach]) / reach,
        (total[middles + reach] - total[middles]) / reach,
    )
    # What rises most in energy, of what rises clearly.
    gain = np.where(10 * np.log10(after / before) > least_db, after - before, 0.0)
    return float("nan") if gain.max() <= 0 else (first + (reach + int(np.argmax(gain))) * block) / rate


def share_within(found: Sequence[Measured], within_s: float = WITHIN_S) -> float:
    """The share of attacks that lie on their place, of those that were looked for; 1 for none."""
    return (
        float(np.mean([one.off_ms is not None and abs(one.off_ms) <= 1000.0 * within_s for one in found]))
        if found
        else 1.0
    )
