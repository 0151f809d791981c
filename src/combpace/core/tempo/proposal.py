"""Which tempo to use: the roundest value that a measurement allows and the end of the audio bears out.

A tempo that the file states is the roundest, a whole number rounder than a half, a half than a tenth, a tenth
than a quarter (common practice: 59.9953 is 60, 140.9899 is 141, 140.45 is 140.5 and not 140, 119.7498 is
119.75).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

STEPS = ((1.0, "whole"), (0.5, "half"), (0.1, "tenth"), (0.25, "quarter"))
# What piles up at the end may lie so far from the grid unless the user says otherwise.
LIMIT_MS = 10.0
# A stated tempo farther off is another tempo.
SAID_NEAR_BPM = 0.5


@dataclass(frozen=True, slots=True)
class Offered:
    """A tempo on offer: counted beats a minute, where it comes from, where the attacks at the end would lie
    (None: not measured).
    """

    bpm: float
    source: str
    end_offset_ms: float | None


@dataclass(frozen=True, slots=True)
class Proposal:
    """The one that is proposed.

    why      in words, for people
    offered  all, the proposed one first
    wished   the roundest value near by that the end does not bear out, or None: grid or take has to give way
    """

    bpm: float
    why: str
    end_offset_ms: float | None
    offered: tuple[Offered, ...]
    wished: Offered | None = None


def propose(
    measured_bpm: float,
    plus_minus_bpm: float,
    end_offset_ms: Callable[[float], float | None],
    limit_ms: float = LIMIT_MS,
    stated: Sequence[tuple[float, str]] = (),
) -> Proposal:
    """Choose a tempo.

    measured_bpm, plus_minus_bpm  as it was measured, and half of its 95 % interval
    end_offset_ms                 where the attacks of the last bars lie from the grid of a tempo, measured;
                                  None where none are there
    limit_ms                      what may pile up there
    stated                        tempi that the file states, and where: as good as the roundest, where they
                                  hold
    """
    own = Offered(measured_bpm, "measured", end_offset_ms(measured_bpm))
    said = [
        (bpm, where)
        for bpm, where in stated
        if abs(bpm - measured_bpm) <= 3 * plus_minus_bpm and abs(bpm - measured_bpm) < SAID_NEAR_BPM
    ]
    named = [*said, *((value, f"nearest {name}") for value, name in _rounder(measured_bpm))]
    rounder = [
        Offered(value, name, end_offset_ms(value))
        for k, (value, name) in enumerate(named)
        if all(abs(value - other) > 1e-9 for other, _ in named[:k])
    ]
    inside = [one for one in rounder if abs(one.bpm - measured_bpm) <= plus_minus_bpm + 1e-9]
    holds = [one for one in inside if one.end_offset_ms is None or abs(one.end_offset_ms) <= limit_ms]
    # Where the end was measured, a rounder value that it bears out is believed a little beyond the interval
    # too.
    near = [one for one in rounder if one.end_offset_ms is not None and abs(one.end_offset_ms) <= limit_ms]
    best = (
        holds[0]
        if holds
        else near[0]
        if near and abs(near[0].bpm - measured_bpm) <= 3 * plus_minus_bpm
        else own
    )
    wished = next(
        (
            one
            for one in rounder
            if one.bpm != best.bpm
            and _round(one.bpm) > _round(best.bpm)
            and one.end_offset_ms is not None
            and abs(one.end_offset_ms) > limit_ms
        ),
        None,
    )
    about = f"measured {measured_bpm:.4f} ± {plus_minus_bpm:.4f}"
    end = (
        ""
        if best.end_offset_ms is None
        else f"; at the end of the audio attacks lie {abs(best.end_offset_ms):.1f} ms from the grid"
    )
    if best is own:
        why = f"{about}; no rounder value lies inside" + (" and holds to the end" if inside else "") + end
    else:
        why = f"{about}{end}"
    others = [one for one in (own, *rounder) if one is not best]
    return Proposal(best.bpm, why, best.end_offset_ms, (best, *others), wished)


def _rounder(bpm: float) -> list[tuple[float, str]]:
    """Values near a tempo, the roundest first; each once."""
    found: list[tuple[float, str]] = []
    for step, name in STEPS:
        value = round(round(bpm / step) * step, 4)
        if value > 0 and all(abs(value - other) > 1e-9 for other, _ in found):
            found.append((value, name))
    return found


def _round(bpm: float) -> int:
    """How round a value is: 4 for a whole number down to 0."""
    return next(
        (len(STEPS) - k for k, (step, _) in enumerate(STEPS) if abs(bpm / step - round(bpm / step)) < 1e-6), 0
    )
