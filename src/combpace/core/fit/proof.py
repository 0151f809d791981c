"""Proof of a render: its attacks measured again where they were to be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Source
from combpace.core.onsets.refine import StartFinder

# An attack is looked for this near to where it was to be.
NEAR_S = 0.040
# On its place within this (common practice: nobody hears less).
WITHIN_S = 0.003
# A rise is seen in blocks, as so much more energy after a moment than before it.
BLOCK_S, RISE_S, RISE_DB = 0.002, 0.010, 3.0


@dataclass(frozen=True, slots=True)
class Measured:
    """Where one attack came to lie: seconds of the render's clock; measured_s and off_ms None where none was
    found.
    """

    wanted_s: float
    measured_s: float | None
    off_ms: float | None


def proof(rendered: Source, wanted_s: Sequence[float], first_s: float = 0.0) -> list[Measured]:
    """Measure the attacks of a render near where they were to be.

    wanted_s  on the session's clock
    first_s   session time of the render's first frame
    Returns   one each, in their order
    """
    wanted = np.asarray(wanted_s, dtype=np.float64)
    length = rendered.frames / rendered.sample_rate_hz
    inside = (wanted - first_s >= 0.0) & (wanted - first_s < length)
    found = np.full(len(wanted), np.nan)
    rough = np.array(
        [
            _rise(rendered, float(time - first_s)) if here else np.nan
            for time, here in zip(wanted, inside, strict=True)
        ]
    )
    heard = np.isfinite(rough)
    if heard.any():
        found[heard] = StartFinder(rendered).starts(rough[heard]) + first_s
    made = []
    for target, at in zip(wanted, found, strict=True):
        here = bool(np.isfinite(at)) and abs(at - target) <= NEAR_S
        made.append(
            Measured(
                float(target), float(at) if here else None, float(1000.0 * (at - target)) if here else None
            )
        )
    return made


def _rise(rendered: Source, time_s: float) -> float:
    """Where the sound rises most within NEAR_S of a moment; NaN where it does not rise by RISE_DB."""
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
    gain = np.where(10 * np.log10(after / before) > RISE_DB, after - before, 0.0)
    return float("nan") if gain.max() <= 0 else (first + (reach + int(np.argmax(gain))) * block) / rate


def share_within(found: Sequence[Measured], within_s: float = WITHIN_S) -> float:
    """The share of attacks that lie on their place, of those that were looked for; 1 for none."""
    return (
        float(np.mean([one.off_ms is not None and abs(one.off_ms) <= 1000.0 * within_s for one in found]))
        if found
        else 1.0
    )
