"""Several anchors as one: locked, unlocked, released, or shifted by the same time."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors as solving
from combpace.core.tempo.map import Knot
from combpace.session import words
from combpace.session.decisions import BarsArgs, Change, Quarters, decision
from combpace.session.map_changes import restated
from combpace.session.saying import at_moment, with_list, without
from combpace.session.state import SessionState
from combpace.stations.bars.decisions import locked_at, released, tie

# An anchor is meant where a place is named this near to it, in quarters.
NEAR_PLACE = 0.02
DONE = {"lock": "locked", "unlock": "unlocked", "release": "released"}


class AnchorsArgs(BarsArgs):
    """quarters: their places; or those in bars from_bar to to_bar. ms: by how much they are shifted, later
    positive.
    """

    what: Literal["lock", "unlock", "release", "shift"]
    quarters: list[Quarters] = Field(default=[], max_length=5000)
    from_bar: int | None = None
    to_bar: int | None = None
    ms: float = Field(default=0.0, allow_inf_nan=False, ge=-5000, le=5000)


@decision("anchors", AnchorsArgs)
def anchors(state: SessionState, args: AnchorsArgs) -> Change:
    """Lock, unlock, release or shift several anchors as one; those that are locked are neither released nor
    shifted.
    """
    chosen = state.map_choice()
    if chosen.kind == "steady":
        raise ParameterError(
            "A steady map has one tempo and no anchors; follow the lead's own pace first. Nothing "
            "was changed."
        )
    meant = [knot for knot in solving.anchors(state.need_map()) if _is_meant(state, args, knot)]
    free = [knot for knot in meant if not knot.locked]
    if not meant:
        raise ParameterError("No anchor is chosen. Nothing was changed.")
    if args.what in ("release", "shift") and not free:
        raise ParameterError(
            f"{words.count(len(meant), 'anchor')} chosen, all locked; unlock them first. Nothing was changed."
        )
    if args.what in ("lock", "unlock"):
        chosen = locked_at(state, chosen, [knot.quarters for knot in meant], args.what == "lock")
        return restated(state, chosen, f"{words.count(len(meant), 'anchor')} {DONE[args.what]}")
    if args.what == "release":
        chosen, parts = released(state, chosen, [knot.time_s for knot in free])
        said = f"{words.count(len(free), 'anchor')} released{_left(meant, free)}"
        return restated(state, chosen, said, parts=parts)
    if args.ms == 0:
        raise ParameterError("Say by how many milliseconds they are shifted. Nothing was changed.")
    for knot in free:
        moved, old = tie(state, knot.quarters, knot.time_s + args.ms / 1000.0), at_moment(chosen, knot.time_s)
        chosen = with_list(without(chosen, [] if old is None else [old]), [moved], add=True)
    said = f"{words.count(len(free), 'anchor')} shifted by {words.signed_ms(args.ms)} ms{_left(meant, free)}"
    return restated(state, chosen, said)


def _is_meant(state: SessionState, args: AnchorsArgs, knot: Knot) -> bool:
    if args.from_bar is not None and args.to_bar is not None:
        line = state.need_map()
        bar, _ = line.address(knot.quarters + 1e-6)
        return args.from_bar <= bar <= args.to_bar
    return any(abs(knot.quarters - place) < NEAR_PLACE for place in args.quarters)


def _left(meant: list[Knot], free: list[Knot]) -> str:
    locked = len(meant) - len(free)
    return f", {locked} locked ones stay" if locked else ""
