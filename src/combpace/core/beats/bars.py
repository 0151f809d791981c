"""Bars: which beats are downbeats, in what meter, and where bar 1 is.

A hidden Markov model over (meter, beat of the bar), one step per beat, as in the bar-pointer models of
Whiteley, Cemgil, Godsill (2006) and Krebs, Böck, Widmer (2015), but over beats that are known: all meters at
once, meters change at bar lines, and a bar may have a beat more or less. Decoded by the Viterbi algorithm;
posteriors by forward-backward.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.beats.activations import METERS
from combpace.core.beats.meter_network import Pattern, log_odds
from combpace.core.beats.track import Beats
from combpace.core.clocks import FloatArray, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, of_beats, parse_meter

# What is read where the user names no meter.
HEARD = tuple(parse_meter(name) for name in METERS)
NEVER = -1e9
# How much less than usual, in log odds, the beats of bar 1 may be heard.
TRUSTED = 1.0
# Two ways to bar a take are one where so many of their bars begin together.
SAME_BARS = 0.8


@dataclass(frozen=True, slots=True)
class BarWeights:
    """In nats; found on generated songs, see docs/decisions/ear.md.

    down    weight of the log odds of a downbeat, bounded by `most`
    meter   weight of what each beat says of the meter; neighbours say much the same
    change  cost of another meter from a bar line on
    slip    cost of a bar that is shorter or one beat longer than its meter
    common  share of 4/4 before anything is heard (common practice); the others share the rest
    stays   cost of a line that was heard without statements, times how sure it was, for each beat that it
            moves
    same    cost of each beat in another meter than was heard without statements
    """

    down: float = 1.0
    most: float = 4.0
    meter: float = 0.3
    change: float = 6.0
    slip: float = 9.0
    common: float = 0.5
    stays: float = 0.0
    same: float = 0.0


# Where a statement contradicts what was heard, the ear was wrong in the same way from bar to bar: what it
# says of downbeats counts for less, and two odd bars about one downbeat are less likely than bars that all
# begin elsewhere. Found on generated songs, see docs/decisions/bars.md.
STATED = BarWeights(down=0.2, slip=15.0, change=6.0, stays=0.3, same=0.4)


@dataclass(frozen=True, slots=True)
class BarHints:
    """What the user knows about bars, as indices of beats.

    meters     (from beat, meter): holds from there to the next one of these; None: as it is heard
    downbeats, others  beats that are downbeats, and that are not
    lines      (beat, 0-1): the lines that were heard without these, and how sure each was
    heard      the meter of each beat that was heard without these, or none of them
    unit       quarters of a beat that all meters share, or None
    """

    meters: tuple[tuple[int, Meter | None], ...] = ()
    downbeats: frozenset[int] = frozenset()
    others: frozenset[int] = frozenset()
    lines: tuple[tuple[int, float], ...] = ()
    heard: tuple[Meter, ...] = ()
    unit: float | None = None


@dataclass(frozen=True, slots=True)
class BarReading:
    """The bars of a take.

    starts      index of the beat that opens each bar, increasing; bar 1 is the first of them
    meters      of each of these bars
    sure        0-1 for every beat: posterior of its place in the bar and meter, as they were read
    in_meter    0-1 for every beat: posterior of its meter alone
    """

    starts: tuple[int, ...]
    meters: tuple[Meter, ...]
    sure: FloatArray
    in_meter: FloatArray

    @property
    def first(self) -> int:
        return self.starts[0]


def read_bars(
    pattern: Pattern,
    hints: BarHints | None = None,
    weights: BarWeights | None = None,
    trust: FloatArray | None = None,
    *,
    posterior: bool = True,
) -> BarReading:
    """Find meters, downbeats and bar 1.

    pattern  what the beats' pattern says
    trust    how well each beat is heard; bar 1 is the first of the bars whose beats are heard nearly as well
             as is usual
    posterior  False: how sure each beat is is not asked, and is 0
    Returns  for fewer than two beats: one bar that starts at the first of them, sure of nothing
    """
    hints, w = hints or BarHints(), weights or BarWeights()
    kinds, count = _kinds(hints), len(pattern.downbeat)
    if count < 2:
        return BarReading((0,), (kinds[0],), np.zeros(count), np.zeros(count))
    place, beat, score, move, prior = _model(pattern, hints, w)
    path = _viterbi(score, move, prior)
    starts = np.flatnonzero(beat[path] == 0)
    if trust is not None and not hints.downbeats:
        ends = np.append(starts[1:], count)
        good = [
            float(trust[a:b].mean()) >= float(np.median(trust)) - TRUSTED
            for a, b in zip(starts, ends, strict=True)
        ]
        starts = starts[int(np.argmax(good)) :]
    # A pickup is what comes before the first downbeat; with none at all the first beat opens the only bar.
    if not len(starts):
        starts = np.array([0])
    sure, in_meter = np.zeros(count), np.zeros(count)
    if posterior:
        sure, in_meter = _sure(score, move, prior, path, place)
    read = [kinds[place[path[a]]] for a in starts]
    meters = (
        *(
            of_beats(meter, int(b - a))
            for meter, (a, b) in zip(read[:-1], itertools.pairwise(starts), strict=True)
        ),
        read[-1],
    )
    return BarReading(tuple(int(s) for s in starts), meters, sure, in_meter)


def sure_of(pattern: Pattern, hints: BarHints, starts: Sequence[int], meters: Sequence[Meter]) -> BarReading:
    """How sure bars are that are in force, given what is stated.

    hints   what is stated of the beats of `pattern`; two of them at least
    starts  index of the beat that opens each bar; meters: of each
    Returns  these bars with the posterior of each beat's place in them
    """
    w, kinds, count = BarWeights(), _kinds(hints), len(pattern.downbeat)
    place, _, score, move, prior = _model(pattern, hints, w)
    found = _posterior(score, move, prior)
    of_meter = np.stack([found[:, place == k].sum(axis=1) for k in range(len(kinds))], axis=1)
    first_state = np.concatenate([[0], np.cumsum([kind.beats for kind in kinds])])[:-1]
    names = [str(kind) for kind in kinds]
    sure, in_meter = np.zeros(count), np.zeros(count)
    for k, (start, stop) in enumerate(zip(starts, [*starts[1:], count], strict=True)):
        # An odd bar is one of its own meter, or one of a neighbour's that is cut short or goes on.
        likely = dict.fromkeys(str(one) for one in meters[max(0, k - 1) : k + 2])
        ways = [names.index(str(meters[k]))] if str(meters[k]) in names else []
        ways += [at for name in likely if name in names and (at := names.index(name)) not in ways]
        best = -1.0
        for way in ways:
            inside = np.minimum(np.arange(stop - start), kinds[way].beats - 1)
            said = found[np.arange(start, stop), first_state[way] + inside]
            if float(said.mean()) > best:
                best = float(said.mean())
                sure[start:stop], in_meter[start:stop] = said, of_meter[start:stop, way]
    return BarReading(tuple(starts), tuple(meters), sure, in_meter)


def _kinds(hints: BarHints) -> list[Meter]:
    """The meters in which bars may be."""
    stated = [meter for _, meter in hints.meters if meter is not None]
    whole = any(at == 0 for at, _ in hints.meters) and len(stated) == len(hints.meters)
    usual = [one for one in HEARD if hints.unit is None or one.beat_quarters == hints.unit]
    return list(
        dict.fromkeys([*(Meter(1, m.numerator, m.denominator) for m in stated), *([] if whole else usual)])
    )


def _model(
    pattern: Pattern, hints: BarHints, w: BarWeights
) -> tuple[np.ndarray, np.ndarray, FloatArray, FloatArray, FloatArray]:
    """(which of the meters each state is in, its beat there, log evidence of each state at each beat, costs
    from state to state, log prior of each state).
    """
    kinds = _kinds(hints)
    place = np.array([k for k, meter in enumerate(kinds) for _ in range(meter.beats)])
    beat = np.array([p for meter in kinds for p in range(meter.beats)])
    score = _observed(pattern, kinds, w)[:, place]
    down = w.down * log_odds(pattern.downbeat.astype(np.float64), w.most)
    score += np.where(beat[None, :] == 0, down[:, None], 0.0)
    _as_hinted(score, hints, kinds, place, beat, w)
    stated = {str(meter) for _, meter in hints.meters if meter is not None}
    move = _moves(kinds, place, beat, w, len(stated))
    prior = np.array([np.log(w.common if str(kind) == "4/4" else (1 - w.common) / 4) for kind in kinds])[
        place
    ]
    return place, beat, score, move, prior


def _as_hinted(
    score: FloatArray,
    hints: BarHints,
    kinds: Sequence[Meter],
    place: np.ndarray,
    beat: np.ndarray,
    w: BarWeights,
) -> None:
    """What is stated leaves no other state, what was heard before costs where it moves; in place."""
    bounds = [*hints.meters, (len(score), None)]
    for (start, meter), (stop, _) in itertools.pairwise(bounds):
        if meter is not None:
            wanted = kinds.index(Meter(1, meter.numerator, meter.denominator))
            score[start:stop, place != wanted] = NEVER
    for index in hints.downbeats | {at for at, _ in hints.meters if 0 < at < len(score)}:
        score[index, beat != 0] = NEVER
    for index in hints.others:
        score[index, beat == 0] = NEVER
    away = np.minimum(beat, np.array([kinds[k].beats for k in place]) - beat)
    for index, sure in hints.lines:
        score[index] -= w.stays * sure * away
    names = [str(kind) for kind in kinds]
    for index, meter in enumerate(hints.heard):
        if str(meter) in names:
            score[index, place != names.index(str(meter))] -= w.same


def ways_to_bar(
    pattern: Pattern, taken: BarReading, weights: BarWeights | None = None
) -> list[tuple[BarReading, float]]:
    """Bars of one meter throughout, from each of its beats, beside the bars that were read.

    Returns  (bars, what speaks for them less what speaks for `taken`, in log odds a beat), the best first,
             without those that have the bars of `taken`
    """
    w, count = weights or BarWeights(), len(pattern.downbeat)
    if count < 4:
        return []
    meter_says = _observed(pattern, HEARD, w)
    down = w.down * log_odds(pattern.downbeat.astype(np.float64), w.most)
    index = np.arange(count)

    def said(kinds: np.ndarray, opens: np.ndarray) -> float:
        return float((meter_says[index, kinds].sum() + down[opens].sum()) / count)

    own_kinds, own_opens = np.zeros(count, int), np.array(taken.starts)
    names = [str(meter) for meter in HEARD]
    for meter, start, stop in zip(taken.meters, taken.starts, [*taken.starts[1:], count], strict=True):
        own_kinds[start:stop] = names.index(str(meter)) if str(meter) in names else 0
    own_kinds[: taken.first] = own_kinds[taken.first] if taken.first < count else 0
    usual = said(own_kinds, own_opens)
    found = []
    for kind, meter in enumerate(HEARD):
        prior = np.log(w.common if str(meter) == "4/4" else (1 - w.common) / 4) / count
        for phase in range(meter.beats):
            starts = np.arange(phase, count, meter.beats)
            same = len(np.intersect1d(starts, own_opens)) >= SAME_BARS * max(len(starts), len(own_opens))
            if not len(starts) or same:
                continue
            bars = BarReading(
                tuple(int(s) for s in starts),
                (meter,) * len(starts),
                np.full(count, 0.5),
                np.full(count, 0.5),
            )
            found.append((bars, said(np.full(count, kind), starts) + prior - usual))
    return sorted(found, key=lambda one: -one[1])


def in_one_unit(bars: BarReading, beats: FloatArray) -> BarReading:
    """Bars of eighths among bars of quarters whose beats are as long: all are named by the unit of most of
    these beats.

    Without it 5/4 after 7/8 at one pulse would be a tempo that doubles from one bar to the next. Where the
    meter does change from eighths to quarters, beats become twice as long, and the names stay. `beats` in
    seconds.

    beats    shape (n,), increasing
    Returns  the same bars; at most their units differ
    """
    edges = [*bars.starts, len(beats)]
    gaps = np.append(np.diff(beats), np.diff(beats)[-1:])
    of: dict[int, list[FloatArray]] = {4: [], 8: []}
    units = [{1.0: 4, 0.5: 8}.get(meter.beat_quarters) for meter in bars.meters]
    for unit, (a, b) in zip(units, itertools.pairwise(edges), strict=True):
        if unit:
            of[unit].append(gaps[a:b])
    quarters, eighths = (np.concatenate(found) if found else np.zeros(0) for found in of.values())
    if not len(quarters) or not len(eighths) or np.median(quarters) > np.sqrt(2) * np.median(eighths):
        return bars
    one = 4 if len(quarters) >= len(eighths) else 8
    meters = (Meter(1, m.numerator, one) if unit else m for unit, m in zip(units, bars.meters, strict=True))
    return replace(bars, meters=tuple(meters))


def _observed(pattern: Pattern, kinds: Sequence[Meter], w: BarWeights) -> FloatArray:
    """Log evidence for each of `kinds` at each beat."""
    said = np.log(np.maximum(pattern.meter.astype(np.float64), 1e-3))
    names = {name: k for k, name in enumerate(METERS)}
    # A meter of which nothing was learnt is as likely as an unlikely one.
    columns = [
        said[:, names[str(kind)]] if str(kind) in names else np.full(len(said), np.log(0.02))
        for kind in kinds
    ]
    return w.meter * np.stack(columns, axis=1)


def _moves(
    kinds: Sequence[Meter], place: np.ndarray, beat: np.ndarray, w: BarWeights, stated: int
) -> FloatArray:
    """Cost, as negative numbers, of going from a state (row) to another (column); the first `stated` kinds
    are the user's.
    """
    states = len(place)
    move = np.full((states, states), NEVER)
    for s in range(states):
        last = beat[s] == kinds[place[s]].beats - 1
        # Bars of a meter that is stated are whole, unless another statement leaves no room for that.
        slip = 10 * w.slip if place[s] < stated else w.slip
        for t in range(states):
            same = place[s] == place[t]
            if same and beat[t] == beat[s] + 1:
                move[s, t] = 0.0
            elif beat[t] == 0 and same:
                move[s, t] = 0.0 if last else -slip
            elif beat[t] == 0 and last:
                move[s, t] = -w.change
        if last and kinds[place[s]].beats > 1:
            # One beat more: the last is counted twice.
            move[s, s] = max(move[s, s], -slip)
    return move


def _viterbi(score: FloatArray, move: FloatArray, prior: FloatArray) -> np.ndarray:
    best = prior + score[0]
    back = np.zeros(score.shape, np.int16)
    states = np.arange(score.shape[1])
    for i in range(1, len(score)):
        into = best[:, None] + move
        back[i] = np.argmax(into, axis=0)
        best = into[back[i], states] + score[i]
    path = np.zeros(len(score), int)
    path[-1] = int(np.argmax(best))
    for i in range(len(score) - 1, 0, -1):
        path[i - 1] = back[i, path[i]]
    return path


def _posterior(score: FloatArray, move: FloatArray, prior: FloatArray) -> FloatArray:
    """Probability of each state at each beat, shape of `score`."""
    step = np.exp(move)
    seen = np.exp(np.maximum(score - score.max(axis=1, keepdims=True), -60.0))
    seen[score <= NEVER / 2] = 0.0
    forward, backward = np.zeros_like(seen), np.ones_like(seen)
    forward[0] = np.exp(prior) * seen[0]
    forward[0] /= forward[0].sum() + 1e-300
    for i in range(1, len(seen)):
        forward[i] = (forward[i - 1] @ step) * seen[i]
        forward[i] /= forward[i].sum() + 1e-300
    for i in range(len(seen) - 2, -1, -1):
        backward[i] = step @ (backward[i + 1] * seen[i + 1])
        backward[i] /= backward[i].sum() + 1e-300
    both = forward * backward
    result: FloatArray = both / (both.sum(axis=1, keepdims=True) + 1e-300)
    return result


def _sure(
    score: FloatArray, move: FloatArray, prior: FloatArray, path: np.ndarray, place: np.ndarray
) -> tuple[FloatArray, FloatArray]:
    """Posterior of each beat's place in the bar and meter on a path, and of its meter alone."""
    found = _posterior(score, move, prior)
    rows = np.arange(len(path))
    kinds = int(place.max()) + 1
    in_meter = np.stack([found[:, place == k].sum(axis=1) for k in range(kinds)], axis=1)[rows, place[path]]
    return found[rows, path], in_meter


def own_pace(beats: Beats, bars: BarReading, sure: FloatArray | None = None) -> TempoMap[TakeTimes]:
    """The take's own pace: a found knot on every beat, musical time counted from bar 1.

    sure    0-1 for each bar; a knot on a bar line is as sure as the bar, where that is less than the beat
    Raises ParameterError for fewer than two beats.
    sure     shape (bars,)
    """
    if len(beats) < 2:
        raise ParameterError("No pulse was found in this take; tap one, or state a tempo.")
    places, meters = placed(len(beats), bars.starts, bars.meters)
    confidence = np.array(beats.confidence, np.float64)
    if sure is not None:
        at = np.array(bars.starts)
        confidence[at] = np.minimum(confidence[at], sure)
    knots = tuple(
        Knot(float(t), float(q), confidence=float(c))
        for t, q, c in zip(beats.times, places, confidence, strict=True)
    )
    return TempoMap(knots, meters)


def placed(
    count: int, starts: tuple[int, ...], meters: tuple[Meter, ...]
) -> tuple[FloatArray, tuple[Meter, ...]]:
    """Musical places of beats that are counted into bars, and the meters of a map of them.

    count    how many beats there are
    starts   index of the beat that opens each bar from bar 1 on; meters: of each of these bars
    Returns  (quarters, shape (count,); the meters where they change)
    """
    places = np.zeros(count)
    places[: starts[0]] = (np.arange(starts[0]) - starts[0]) * meters[0].beat_quarters
    changes: list[Meter] = []
    line = 0.0
    for number, (start, meter, stop) in enumerate(zip(starts, meters, [*starts[1:], count], strict=True), 1):
        if not changes or str(changes[-1]) != str(meter):
            changes.append(Meter(number, meter.numerator, meter.denominator))
        # A bar made of beats of another name (five eighths as part of 6/8) still has its beats evenly.
        share = meter.bar_quarters / (stop - start) if number < len(starts) else meter.beat_quarters
        places[start:stop] = line + np.arange(stop - start) * share
        line += meter.bar_quarters
    return places, tuple(changes)
