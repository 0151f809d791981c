"""What a rule cannot place: onsets that ride, two for one place, and those that go far; each with a place to
which it could be pulled instead.
"""

from __future__ import annotations

from collections import Counter

import numpy as np

from combpace.core.clocks import FloatArray, Quarters, take_times
from combpace.core.fit.ranges import NONE, governed
from combpace.session import fits, words
from combpace.session.state import SessionState
from combpace.stations.station import Action, Place

# An onset that goes farther than this share of the grid may be meant for the next place.
FAR_SHARE = 1 / 3
# So many of one kind are listed one by one; more are one place.
MOST_LISTED = 12
# Of these the own place is free.
OWN_PLACE = ("ignored", "no room", "gave way")
# What one is called, and what so many do.
WHY = {
    "ignored": ("Rides: farther off than what is ignored", "ride farther off than what is ignored"),
    "place taken": ("Two for one place: this one rides", "ride, for others are nearer to their places"),
    "no room": ("Rides: no room between its neighbours", "ride without room between their neighbours"),
    "gave way": ("Rides: a pull by hand went past it", "ride, for a pull by hand went past them"),
    "far": ("Goes more than a third of the grid", "go more than a third of the grid"),
}


def unplaced_places(state: SessionState, made: fits.TakeFit) -> list[Place]:
    """Worst first; nothing for a take that the rule places."""
    rules, beats = made.choice.rules, state.own_pace(made.take.id)
    if beats is None or made.follow is None:
        return []
    riding = [
        (float(time), why) for time, why in zip(made.fit.riding, made.fit.reasons, strict=True) if why in WHY
    ]
    line = state.need_map()
    times = np.array(
        [time for time, _ in riding] + [peg.take_s for peg in made.fit.pegs if peg.kind == "pulled"]
    )
    if not len(times):
        return []
    own = np.asarray(beats.to_quarters(take_times(times)))
    which, places = governed(rules, Quarters(own), line, state.under())
    goal = np.asarray(places)
    # What is laid onto a groove or moved by the bar is where it was wanted.
    plain = np.array([k != NONE and rules[k].groove is None and not rules[k].coarse for k in which])
    step_q = np.array([rules[max(k, 0)].places.step_quarters for k in which])
    off = np.asarray(line.to_seconds(Quarters(goal))) - made.follow(times)
    step_s = _step_s(goal, step_q, state)
    whys = [why for _, why in riding] + ["far"] * (len(times) - len(riding))
    found: list[tuple[str, Place]] = []
    for k, why in enumerate(whys):
        if not plain[k] or (why == "far" and abs(off[k]) <= FAR_SHARE * step_s[k]):
            continue
        # What it is not pulled to yet: its own place, or where that is taken or far, the next on its side.
        next_q = float(-step_q[k] if off[k] > 0 else step_q[k])
        to = float(goal[k]) + (0.0 if why in OWN_PLACE else next_q)
        found.append((why, _place(state, made, float(times[k]), why, float(off[k]), float(goal[k]), to)))
    many = {why for why, count in Counter(why for why, _ in found).items() if count > MOST_LISTED}
    listed = [place for why, place in found if why not in many]
    listed += [_summed(why, sum(one == why for one, _ in found)) for why in sorted(many)]
    return sorted(listed, key=lambda place: -place.worth)


def _step_s(goal: FloatArray, step: FloatArray, state: SessionState) -> FloatArray:
    """How long a step of the grid is about each place, seconds."""
    line = state.need_map()
    ends: FloatArray = np.asarray(line.to_seconds(Quarters(goal + step / 2)))
    return ends - np.asarray(line.to_seconds(Quarters(goal - step / 2)))


def _place(
    state: SessionState, made: fits.TakeFit, time_s: float, why: str, off_s: float, goal: float, to: float
) -> Place:
    line, take = state.need_map(), made.take.id
    sounds = float(made.fit.time_map.to_target(np.array([time_s]))[0])
    shown = words.place(line, to)
    return Place(
        words.place(line, line.place(sounds)),
        WHY[why][0],
        f"{1000 * abs(off_s):.0f} ms {'before' if off_s > 0 else 'after'} {words.place(line, goal)}",
        sounds,
        0.2 + min(0.7, abs(off_s)),
        Action(f"Pull it to {shown}", "peg", {"take": take, "take_s": time_s, "quarters": to}),
        Action("Let it ride", "ride", {"take": take, "times_s": [time_s]}),
        about="unplaced",
    )


def _summed(why: str, count: int) -> Place:
    return Place(
        "whole take",
        f"{count} onsets {WHY[why][1]}",
        "so many mean that the grid or what is ignored is not meant for this take",
        None,
        0.9,
        about="unplaced",
    )
