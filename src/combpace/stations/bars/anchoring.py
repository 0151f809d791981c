"""Several anchors as one: locked, unlocked, released, or shifted by the same time."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.session import words
from combpace.session.decisions import BarsArgs, Change, Quarters, decision
from combpace.session.fixed import NEAR_PLACE, Fixed, fixed
from combpace.session.map_changes import restated
from combpace.session.saying import with_list, without
from combpace.session.state import SessionState
from combpace.stations.bars.decisions import locked_at, released, tie

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
    meant = [one for one in fixed(state) if _is_meant(state, args, one)]
    free = [one for one in meant if not one.locked]
    if not meant:
        raise ParameterError("No anchor is chosen. Nothing was changed.")
    if args.what in ("release", "shift") and not free:
        raise ParameterError(
            f"{words.count(len(meant), 'anchor')} chosen, all locked; unlock them first. Nothing was changed."
        )
    if args.what in ("lock", "unlock"):
        chosen = locked_at(state, chosen, [one.place for one in meant], args.what == "lock")
        return restated(state, chosen, f"{words.count(len(meant), 'anchor')} {DONE[args.what]}")
    if args.what == "release":
        chosen, parts = released(state, chosen, free)
        said = f"{words.count(len(free), 'anchor')} released{_left(meant, free)}"
        return restated(state, chosen, said, parts=parts)
    if args.ms == 0:
        raise ParameterError("Say by how many milliseconds they are shifted. Nothing was changed.")
    for one in free:
        moved = tie(state, one.place, one.time_s + args.ms / 1000.0)
        chosen = with_list(without(chosen, [] if one.said is None else [one.said]), [moved], add=True)
    said = f"{words.count(len(free), 'anchor')} shifted by {words.signed_ms(args.ms)} ms{_left(meant, free)}"
    return restated(state, chosen, said)


def _is_meant(state: SessionState, args: AnchorsArgs, one: Fixed) -> bool:
    if args.from_bar is not None and args.to_bar is not None:
        line = state.need_map()
        bar, _ = line.address(one.place + 1e-6)
        return args.from_bar <= bar <= args.to_bar
    return any(abs(one.place - place) < NEAR_PLACE for place in args.quarters)


def _left(meant: list[Fixed], free: list[Fixed]) -> str:
    locked = len(meant) - len(free)
    return f", {locked} locked ones stay" if locked else ""
