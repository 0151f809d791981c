"""Where a note is let go: that moment belongs to the map, as its attack does; how fast the sound then dies
does not.

Most of a chord stays as it is and the rest gives way; without more, a note of half a bar would then be let go
late where it is made shorter, and early where it is made longer.
"""

from __future__ import annotations

import numpy as np

from combpace.core.audio import Source
from combpace.core.stretch.plan import Segment
from combpace.core.stretch.remembered import once

# A note is let go where its level breaks off. Levels are taken over SPAN_S, every STEP_S.
STEP_S, SPAN_S = 0.005, 0.020
# Not so soon after its attack.
EARLIEST_S = 0.05
# It was held: within this time it fell by less than this.
BEFORE_S, HELD_DB = 0.060, 5.0
# It breaks off: within this time it falls by more than this.
AFTER_S, FALL_DB = 0.050, 14.0
# And it stays off: what comes later is softer than it was by this.
LEFT_DB = 10.0
# So much after that moment is as long as it was.
DYING_S = 0.060


def let_go(source: Source, segment: Segment) -> tuple[tuple[int, int], ...]:
    """Points (source frame, output frame) of a segment between which a note that was let go dies; () where
    none was.

    The first lies where the map has it, the sound between both is as long as it was.
    """
    start, stop = segment.source
    found: int = once(source, ("let go", start, stop), lambda: _found(source, start, stop))
    if not found:
        return ()
    to = round(
        float(
            np.interp(
                found, [0, *segment.inner_source, segment.have], [0, *segment.inner_target, segment.length]
            )
        )
    )
    dying = min(
        round(DYING_S * source.sample_rate_hz), (segment.have - found) // 2, (segment.length - to) // 2
    )
    return ((found, to), (found + dying, to + dying))


def _found(source: Source, start: int, stop: int) -> int:
    """Frames from the start until a note is let go; 0 where none is."""
    rate, have = source.sample_rate_hz, stop - start
    step = max(1, round(STEP_S * rate))
    span, before, after = (round(seconds / STEP_S) for seconds in (SPAN_S, BEFORE_S, AFTER_S))
    count = have // step
    if count < span + before + after:
        return 0
    sound = source.read(start, start + count * step)
    steps = np.add.reduceat(np.einsum("ij,ij->j", sound, sound), step * np.arange(count)).astype(np.float64)
    power = np.convolve(steps, np.ones(span), "valid")
    at = step * (np.arange(len(power)) + span // 2)
    level = 10 * np.log10(power + 1e-9 * power.max() + 1e-20)
    here = level[before:-after]
    fall, held = here - level[before + after :], level[: -before - after] - here
    loudest_later = np.maximum.accumulate(level[::-1])[::-1][before + after :]
    good = (
        (fall > FALL_DB)
        & (held < HELD_DB)
        & (loudest_later < here - LEFT_DB)
        & (at[before:-after] > EARLIEST_S * rate)
    )
    return int(at[before + int(np.argmax(np.where(good, fall - held, -np.inf)))]) if good.any() else 0
