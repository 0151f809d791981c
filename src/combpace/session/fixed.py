"""What is fixed in the map in force: anchors of its knots, and moments that are stated of it."""

from __future__ import annotations

from dataclasses import dataclass

from combpace.core.tempo import anchors
from combpace.core.tempo.recount import nearest_bar
from combpace.session.document.stated import AnchorStatement, MomentStatement
from combpace.session.saying import SAME_MOMENT_S, at_moment
from combpace.session.state import SessionState

# A place is meant where one is named this near to it, in quarters.
NEAR_PLACE = 0.02


@dataclass(frozen=True, slots=True)
class Fixed:
    """A place that is fixed.

    place   quarters
    time_s  of the session
    said    what is stated of it; None where knots were given with it
    """

    place: float
    time_s: float
    locked: bool
    said: MomentStatement | None


def fixed(state: SessionState) -> list[Fixed]:
    """All that is fixed, in order."""
    line, chosen = state.need_map(), state.map_choice()
    found = [
        Fixed(knot.quarters, knot.time_s, knot.locked, at_moment(chosen, knot.time_s))
        for knot in anchors.anchors(line)
    ]
    for one in chosen.statements:
        # One tempo has no knots of its own at what it goes through.
        if isinstance(one, MomentStatement) and not any(
            abs(one.time_s - other.time_s) < SAME_MOMENT_S for other in found
        ):
            place = line.place(one.time_s)
            if not isinstance(one, AnchorStatement):
                place = line.bar_line(nearest_bar(line, place))
            found.append(Fixed(place, one.time_s, one.locked, one))
    return sorted(found, key=lambda one: one.place)


def fixed_at(state: SessionState, place: float) -> Fixed | None:
    """What is fixed at a place."""
    return next((one for one in fixed(state) if abs(one.place - place) < NEAR_PLACE), None)
