"""The rule that makes pegs, and the time map that pegs make.

Which place an onset belongs to is read through the beats of its take; where it lies if no rule acts is
`follow`; the rule pulls what lies between that and its grid line. What no peg holds goes along with those
beside it. Pegs of a rule are derived anew each time and never stored.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.clocks import (
    FloatArray,
    Quarters,
    SessionTimes,
    TakeTimes,
    session_times,
    take_times,
)
from combpace.core.fit.follow import Follow
from combpace.core.fit.ranges import NONE, Rules, bar_lines_near, governed
from combpace.core.fit.rule import HAND_REACH_S, HandPeg, Rule
from combpace.core.fit.time_map import TimeMap
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import TempoMap

# A peg by hand that holds an onset where it lies if no rule acts.
AS_PLAYED = "as played"
# Why an onset rides that a rule of some bars does not ask.
OUTSIDE = "outside the bars"
# Beyond these factors a segment no longer sounds played: it is shown and listed.
FACTOR_LIMITS = (0.5, 2.0)
# Pegs that would leave less than this between them cannot both hold.
LEAST_GAP_S = 0.002
LEAST_FACTOR, MOST_FACTOR = 0.1, 10.0
# A moment at which the way of following turns is a point of the time map where no other is nearer than this.
TURNS_APART_S = 0.25


@dataclass(frozen=True, slots=True)
class Peg:
    """An onset tied to a target.

    own_s  where the onset lies if no rule acts
    kind   "pulled", "left alone", "hand", AS_PLAYED by hand, or "held" for the attacks beside a range
    rule   index of the sentence that made it, NONE for all others
    """

    take_s: float
    own_s: float
    target_s: float
    quarters: float
    kind: str
    strength: float = 0.0
    rule: int = NONE


@dataclass(frozen=True, slots=True)
class Fit:
    """What a rule and hand pegs do to one take.

    pegs      in order of time
    time_map  take time -> session time
    riding    onsets without a peg: take times
    reasons   why each of them rides: "ignored", "place taken", "outside the bars", "inside its bar", "no
              room", "gave way" (a peg by hand was pulled past it)
    pauses    take times at which a pause begins that takes the change, so that the note before it is as long
              as it was
    """

    pegs: tuple[Peg, ...]
    time_map: TimeMap
    riding: TakeTimes
    reasons: tuple[str, ...]
    pauses: tuple[float, ...] = ()

    @property
    def moves_ms(self) -> FloatArray:
        """How far each peg of the rule or hand moves its onset from where it lies if no rule acts, ms."""
        return np.array(
            [1000.0 * (peg.target_s - peg.own_s) for peg in self.pegs if peg.kind in ("pulled", "hand")]
        )


def fit(
    onsets: Onsets,
    beats: TempoMap[TakeTimes],
    follow: Follow,
    session_map: TempoMap[SessionTimes],
    duration_s: float,
    rules: Rule | Rules | None,
    hand: Sequence[HandPeg] = (),
    under: TempoMap[SessionTimes] | None = None,
) -> Fit:
    """Make pegs and the time map of one take.

    onsets      take time
    beats       when its beats were struck: they say which place an onset belongs to
    follow      where it lies if no rule acts
    rules       a sentence, or several of which the later counts where they overlap; None makes no pegs: the
                take only follows
    under       what grooves are laid on (`ranges.governed`)
    Returns     a strictly increasing map over [0, duration_s]; where it follows as it was played, nothing
                moves outside the pegs
    """
    every: Rules = () if rules is None else (rules,) if isinstance(rules, Rule) else tuple(rules)
    pulled, riding, reasons = _by_rules(onsets, beats, follow, session_map, every, under)
    by_hand = [_by_hand(peg, follow, session_map) for peg in hand]

    def free(time_s: float) -> bool:
        return all(abs(time_s - other.take_s) > HAND_REACH_S for other in by_hand)

    pulled = [peg for peg in pulled if free(peg.take_s)]
    kept = [(time, why) for time, why in zip(riding, reasons, strict=True) if free(time)]
    riding, reasons = [time for time, _ in kept], [why for _, why in kept]
    outside = np.array([time for time, why in zip(riding, reasons, strict=True) if why == OUTSIDE])
    even = _even_spans(every, pulled)
    pegs, crowded = _in_order([*by_hand, *pulled, *_beside(pulled, outside, follow, session_map)])
    riding += [peg.take_s for peg in crowded]
    reasons += [_why(peg, by_hand) for peg in crowded]
    struck = outside if every else np.asarray(onsets.times)
    pegs, points = _points(pegs, follow, struck, even, duration_s)
    order = sorted(range(len(riding)), key=riding.__getitem__)
    return Fit(
        tuple(pegs),
        TimeMap(np.array([source for source, _ in points]), np.array([target for _, target in points])),
        take_times([riding[i] for i in order]),
        tuple(reasons[i] for i in order),
    )


def _even_spans(rules: Rules, pulled: Sequence[Peg]) -> list[tuple[float, float]]:
    """Where a coarse sentence keeps the playing in proportion: all of a take that has no other, else from
    the first to the last bar line that it pulls.
    """
    if all(rule.coarse and rule.bars is None for rule in rules) and rules:
        return [(-np.inf, np.inf)]
    spans = []
    for k, rule in enumerate(rules):
        mine = [peg.take_s for peg in pulled if peg.rule == k]
        if rule.coarse and mine:
            spans.append((min(mine), max(mine)))
    return spans


def _by_rules(
    onsets: Onsets,
    beats: TempoMap[TakeTimes],
    follow: Follow,
    session_map: TempoMap[SessionTimes],
    rules: Rules,
    under: TempoMap[SessionTimes] | None,
) -> tuple[list[Peg], list[float], list[str]]:
    if not rules or not len(onsets):
        return [], [], []
    own = beats.to_quarters(onsets.times)
    which, goal = governed(rules, own, session_map, under)
    own_s, goal_s = follow(np.asarray(onsets.times)), session_map.to_seconds(goal)
    distance = np.asarray(goal_s - own_s)
    reason = np.full(len(own), "", dtype=object)
    reason[which == NONE] = OUTSIDE
    for k, rule in enumerate(rules):
        reason[(which == k) & (np.abs(distance) > _limit(rule, goal, distance, session_map))] = "ignored"
        if rule.coarse:
            # Every attack is asked of its bar line, and counts where it lies within an eighth of a bar of it.
            reach_q = bar_lines_near(own, session_map)[1]
            reason[(which == k) & (np.abs(goal - own) > reach_q)] = "inside its bar"
    pulls = np.array([k != NONE and (rules[k].share > 0.0 or rules[k].coarse) for k in which])
    _share_places(reason, goal, distance, onsets.strength, pulls)
    alone, strength = np.zeros(len(own), dtype=bool), np.zeros(len(own))
    for k, rule in enumerate(rules):
        here = which == k
        if rule.keep_lag and np.any(here & (reason == "")):
            # Early or late as a whole is how it was played: the scatter alone shrinks.
            distance[here] -= float(np.median(distance[here & (reason == "")]))
        alone[here] = np.abs(distance[here]) * 1000.0 < rule.leave_alone_ms
        strength[here] = 1.0 if rule.coarse else rule.share
    targets = np.where(alone, own_s, own_s + strength * distance)
    places = session_map.to_quarters(session_times(targets))
    pegs, riding, reasons = [], [], []
    for i in range(len(own)):
        if reason[i]:
            riding.append(float(onsets.times[i]))
            reasons.append(str(reason[i]))
            continue
        kind = "left alone" if alone[i] else "pulled"
        pegs.append(
            Peg(
                float(onsets.times[i]),
                float(own_s[i]),
                float(targets[i]),
                float(places[i]),
                kind,
                float(onsets.strength[i]),
                int(which[i]),
            )
        )
    return pegs, riding, reasons


def _limit(
    rule: Rule, goal: Quarters, distance: FloatArray, session_map: TempoMap[SessionTimes]
) -> FloatArray:
    """What a rule ignores, seconds, for each onset."""
    limit = np.full(len(goal), np.inf if rule.ignore_beyond_ms is None else rule.ignore_beyond_ms / 1000.0)
    if rule.ignore_quarters is not None:
        goal_s = session_map.to_seconds(goal)
        reach = session_map.to_seconds(Quarters(goal - np.sign(distance) * rule.ignore_quarters)) - goal_s
        limit = np.minimum(limit, np.where(distance == 0, np.inf, np.abs(reach)))
    return limit


def _share_places(
    reason: np.ndarray, goal: Quarters, distance: FloatArray, strength: FloatArray, pulls: np.ndarray
) -> None:
    """Say "place taken" of all but one of the onsets that go to the same place."""
    # Two onsets for one place: the nearer wins, then the stronger.
    taken: dict[float, int] = {}
    for i in sorted(range(len(goal)), key=lambda i: (round(abs(float(distance[i])), 6), -float(strength[i]))):
        if reason[i]:
            continue
        key = round(float(goal[i]), 6)
        # Where nothing is pulled there is nothing to share: all hold where they were played.
        if key in taken and pulls[i]:
            reason[i] = "place taken"
        else:
            taken[key] = i


def _by_hand(peg: HandPeg, follow: Follow, session_map: TempoMap[SessionTimes]) -> Peg:
    own_s = follow.at(peg.take_s)
    if peg.as_played:
        return Peg(peg.take_s, own_s, own_s, session_map.place(own_s), AS_PLAYED, 2.0)
    if peg.session_s is not None:
        return Peg(peg.take_s, own_s, peg.session_s, session_map.place(peg.session_s), "hand", 2.0)
    assert peg.quarters is not None
    return Peg(peg.take_s, own_s, session_map.second(peg.quarters), peg.quarters, "hand", 2.0)


def _beside(
    pulled: Sequence[Peg], outside: FloatArray, follow: Follow, session_map: TempoMap[SessionTimes]
) -> list[Peg]:
    """The last attack before a range and the first after it hold where they lie if no rule acts: only between
    these and the range is sound stretched.
    """
    if not pulled or not len(outside):
        return []
    rows = sorted([*((peg.take_s, True) for peg in pulled), *((float(time), False) for time in outside)])
    held = [
        time
        for k, (time, moved) in enumerate(rows)
        if not moved and any(rows[i][1] for i in (k - 1, k + 1) if 0 <= i < len(rows))
    ]
    return [
        Peg(time, follow.at(time), follow.at(time), session_map.place(follow.at(time)), "held", 0.0)
        for time in held
    ]


def _in_order(pegs: list[Peg]) -> tuple[list[Peg], list[Peg]]:
    """The pegs that can hold together; hand pegs first, then the stronger ones."""
    rank = {"hand": 0, AS_PLAYED: 0, "held": 1, "pulled": 2, "left alone": 2}
    kept: list[Peg] = []
    moments: list[float] = []
    crowded: list[Peg] = []
    for peg in sorted(pegs, key=lambda peg: (rank[peg.kind], -peg.strength, peg.take_s)):
        at = bisect_left(moments, peg.take_s)
        before, after = (kept[at - 1] if at else None), (kept[at] if at < len(kept) else None)
        if all(_room(a, b) for a, b in ((before, peg), (peg, after)) if a is not None and b is not None):
            kept.insert(at, peg)
            moments.insert(at, peg.take_s)
        elif peg.kind != "held":
            crowded.append(peg)
    return kept, crowded


def _why(peg: Peg, by_hand: Sequence[Peg]) -> str:
    """Why a peg cannot hold: one by hand was pulled past it, or there is no room."""
    passed = any(not (_room(one, peg) if one.take_s < peg.take_s else _room(peg, one)) for one in by_hand)
    return "gave way" if passed else "no room"


def _room(a: Peg, b: Peg) -> bool:
    source, target = b.take_s - a.take_s, b.target_s - a.target_s
    return source >= LEAST_GAP_S and target >= LEAST_GAP_S and LEAST_FACTOR <= target / source <= MOST_FACTOR


def _points(
    pegs: list[Peg],
    follow: Follow,
    struck: FloatArray,
    even: Sequence[tuple[float, float]],
    duration_s: float,
) -> tuple[list[Peg], list[tuple[float, float]]]:
    """Pegs, both ends, and what follows: attacks that no rule acts on, and where the way of following turns
    between them; within the spans of `even` what lies between pegs stays in proportion. What pegs move goes
    along between them, and dies away at both ends.
    """
    pegs = [peg for peg in pegs if 0 <= peg.take_s < duration_s]
    first, last = (0.0, follow.at(0.0)), (duration_s, follow.at(duration_s))
    while True:
        points = [(peg.take_s, peg.target_s) for peg in pegs if peg.take_s > 0]
        at_zero = [peg for peg in pegs if peg.take_s <= 0]
        start = (0.0, at_zero[0].target_s) if at_zero else first
        # A pull right beside an end takes the end along: there is nothing between them to stretch.
        if points and not _fair(start, points[0]):
            start = (0.0, points[0][1] - points[0][0])
        end = last
        if points and not _fair(points[-1], end):
            end = (duration_s, points[-1][1] + duration_s - points[-1][0])
        if end[1] > start[1] and end[0] > start[0]:
            break
        pegs = pegs[:-1]
    points = [start, *points, end]
    if not follow.as_played:
        firm = {peg.take_s for peg in pegs} | {0.0, duration_s}
        points = _monotone(sorted([*points, *_more(points, follow, struck, even, duration_s)]), firm)
    return pegs, points


def _more(
    points: Sequence[tuple[float, float]],
    follow: Follow,
    struck: FloatArray,
    even: Sequence[tuple[float, float]],
    duration_s: float,
) -> list[tuple[float, float]]:
    """Points between others at which a take that follows turns: attacks first, for there sound is joined
    best; each moved by what those beside it are.
    """
    times, targets = (np.array(values) for values in zip(*points, strict=True))
    moved = targets - follow(times)
    if len(follow.source_s) < 3:
        # One factor throughout.
        return []
    free = struck[(struck > 0) & (struck < duration_s)]
    free = free[np.abs(free[:, None] - times[None, :]).min(axis=1) > LEAST_GAP_S] if len(free) else free
    held = np.sort(np.concatenate([times, free]))
    turns = follow.source_s[1:-1]
    near = np.clip(np.searchsorted(held, turns), 1, len(held) - 1)
    apart = np.minimum(turns - held[near - 1], held[near] - turns)
    at = np.concatenate([free, turns[apart > TURNS_APART_S]])
    at = at[[all(not first <= time <= last for first, last in even) for time in at]]
    along = np.interp(at, times, moved)
    return list(zip(at.tolist(), (follow(at) + along).tolist(), strict=True))


def _fair(a: tuple[float, float], b: tuple[float, float]) -> bool:
    source, target = b[0] - a[0], b[1] - a[1]
    return source > 0 and target > 0 and (0.25 <= target / source <= 4.0)


def _monotone(points: list[tuple[float, float]], firm: set[float]) -> list[tuple[float, float]]:
    kept: list[tuple[float, float]] = []
    for point in points:
        while kept and kept[-1][0] not in firm and not _fair(kept[-1], point):
            kept.pop()
        if point[0] in firm or not kept or _fair(kept[-1], point):
            kept.append(point)
    return kept
