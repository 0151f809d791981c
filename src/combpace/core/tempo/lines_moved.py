"""Bars as they were heard, moved as the user means it: all of them, those from one on, or one alone.

What a downbeat moves is open: the same beat may be wrong in one bar, from there on, or throughout. Where that
is stated, the bars that were heard are counted on from it so, and only then is what else is stated solved
for.
"""

from __future__ import annotations

from collections.abc import Sequence, Set
from dataclasses import dataclass

from combpace.core.tempo.meters import Meter, of_beats

# A bar that was moved as the user said counts as so sure.
MEANT = 1.0


@dataclass(frozen=True, slots=True)
class Counted:
    """Bars as beats: index of the beat that opens each, increasing; the meter and how sure each is, 0-1."""

    starts: tuple[int, ...]
    meters: tuple[Meter, ...]
    sure: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Edit:
    """How lines move.

    what   one of `statements.REACHES` for a downbeat; "range": bars of `meter` from beat `at` to `stop`;
           "none": no bar begins there, the one before goes on
    """

    what: str
    at: int
    stop: int = 0
    meter: Meter | None = None


def edited(lines: Counted, edits: Sequence[Edit], opens: Set[int], count: int) -> Counted:
    """Bars with what the user moved: first what is meant everywhere, then the rest in order of time, last the
    lines that are none.

    opens   beats that are stated to open bars: up to the next of them lines are counted on
    count   how many beats there are
    """
    starts, meters, sure = list(lines.starts), list(lines.meters), list(lines.sure)
    order = {"everywhere": 0, "none": 2}
    for one in sorted(edits, key=lambda edit: (order.get(edit.what, 1), edit.at)):
        if not starts:
            break
        near = min(range(len(starts)), key=lambda k: abs(starts[k] - one.at))
        if one.what == "none":
            if starts[near] == one.at and len(starts) > 1:
                del starts[near], meters[near], sure[near]
            continue
        if one.what == "everywhere":
            by = one.at - starts[near]
            kept = [k for k in range(len(starts)) if 0 <= starts[k] + by < count]
            starts = [starts[k] + by for k in kept]
            meters, sure = [meters[k] for k in kept], [MEANT] * len(kept)
            continue
        ends = min((beat for beat in opens if beat > max(one.at, one.stop - 1)), default=count)
        if one.what == "range":
            assert one.meter is not None
            inside = list(range(one.at, one.stop, one.meter.beats))
            after = min(near + len(inside), len(starts))
            by = one.stop - starts[after] if after < len(starts) else 0
            tail = list(range(after, len(starts)))
            new = [(beat, one.meter) for beat in inside]
            before = [k for k in range(near) if starts[k] < one.at]
        else:
            by = one.at - starts[near]
            tail = list(range(near + 1, len(starts)))
            new = [(one.at, meters[near])]
            before = [k for k in range(near) if starts[k] < one.at]
            by = by if one.what == "from here on" else 0
        moved = [(starts[k] + by, meters[k]) for k in tail if new[-1][0] < starts[k] + by < ends]
        kept = [k for k in tail if starts[k] >= ends and ends < count]
        if kept and starts[kept[0]] != ends:
            moved.append((ends, meters[kept[0]]))
        rows = [
            *((starts[k], meters[k], sure[k]) for k in before),
            *((beat, meter, MEANT) for beat, meter in [*new, *moved]),
            *((starts[k], meters[k], sure[k]) for k in kept),
        ]
        starts, meters, sure = (list(column) for column in zip(*rows, strict=True))
    return Counted(tuple(starts), _named(starts, meters), tuple(sure))


def _named(starts: Sequence[int], meters: Sequence[Meter]) -> tuple[Meter, ...]:
    """Meters of bars that are as long as they lie; a bar that came out longer or shorter is named so."""
    made = []
    for k, meter in enumerate(meters):
        beats = starts[k + 1] - starts[k] if k + 1 < len(starts) else meter.beats
        made.append(of_beats(meter, beats))
    return tuple(made)
