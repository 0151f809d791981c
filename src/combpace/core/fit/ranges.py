"""Several sentences of one take, each for its bars; where they overlap the later one counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from combpace.core.clocks import FloatArray, IntArray, Quarters, SessionTimes, session_times
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import GrooveGrid, fits_bars
from combpace.core.fit.rule import Rule, bars_words, read_bars
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, bar_number

Bars = tuple[int, int] | None
Rules = tuple[Rule, ...]
# So many sentences a take has.
MOST_RULES = 500
# An onset that no sentence is about.
NONE = -1


def spoken_to(rules: Rules) -> Rule:
    """The sentence that is meant where no bars are named: the one of all bars, or the only one. Raises
    ParameterError, naming the others.
    """
    whole = next((one for one in rules if one.bars is None), None)
    if whole is not None or len(rules) == 1:
        return whole or rules[0]
    named = " and ".join(bars_words(one.bars) for one in rules)
    raise ParameterError(
        f"{named[:1].upper()}{named[1:]} have sentences of their own; say which of them is meant."
    )


def base_of(rules: Rules) -> Rule:
    """The sentence of all bars, else the first: what others say only in part."""
    return next((one for one in rules if one.bars is None), rules[0])


def rule_of(rules: Rules, bars: Bars) -> Rule | None:
    """The sentence of exactly these bars, or None."""
    return next((one for one in rules if one.bars == bars), None)


def with_said(rules: Rules, bars: Bars, values: Mapping[str, object]) -> Rules:
    """The sentences with what is said of these bars: theirs is changed, or a new one made, which has the
    rest as the sentence of all bars has it. One of all bars comes first, so that each of the others still
    counts.
    """
    now = rule_of(rules, bars)
    made = (base_of(rules).but(bars=bars) if now is None else now).said(values)
    if made.groove is not None:
        made = made.but(groove_start=bar_index(made.bars[0]) if made.bars else 0)
    if now is None:
        kept = [one for one in rules if one.bars != made.bars]
        if len(kept) >= MOST_RULES:
            raise ParameterError(f"A take has {MOST_RULES} sentences at most; remove some first.")
        return (made, *kept) if made.bars is None else (*kept, made)
    # One whose bars became those of another takes its place.
    return tuple(made if one is now else one for one in rules if one is now or one.bars != made.bars)


def without(rules: Rules, bars: Bars) -> Rules:
    """The sentences without the one of these bars. Raises ParameterError where there is none."""
    if rule_of(rules, bars) is None:
        raise ParameterError(f"No sentence is about {bars_words(bars)}.")
    return tuple(one for one in rules if one.bars != bars)


def read_ranged(text: str, base: Rule) -> Rule:
    """ "9-12: strength=85, grid=1/16": a sentence of some bars, which has the rest as another. Raises
    ParameterError.
    """
    named, colon, said = text.partition(":")
    pairs = [one.partition("=") for one in said.split(",") if one.strip()]
    bars = read_bars(named) if colon else None
    if bars is None or not pairs or not all(equal and name.strip() for name, equal, _ in pairs):
        raise ParameterError(
            f"--rule takes bars and what is said of them, like “9-12: strength=85”, not “{text}”."
        )
    values = {name.strip().lower().replace("-", "_"): value.strip() for name, _, value in pairs}
    if "bars" in values:
        raise ParameterError(f"--rule names its bars before the colon; “{text}” names them twice.")
    return with_said((base.but(bars=None),), bars, values)[-1]


def governed(
    rules: Rules,
    own: Quarters,
    session_map: TempoMap[SessionTimes],
    under: TempoMap[SessionTimes] | None = None,
) -> tuple[IntArray, Quarters]:
    """Which sentence each onset is pulled by, and the place it is to go to.

    own      where the onsets are played, quarters of the session, shape (n,)
    under    what a groove is laid on: the pace under the lines where these are strokes, for what is late in
             both
             would be late twice; None where the lines are even
    Returns  (index of the rule, NONE outside all of them; place, shape (n,)): where no sentence is about an
             onset the place that the base would pull it to
    """
    at = np.asarray(own, dtype=np.float64)
    which = np.full(len(at), NONE, dtype=np.int64)
    if not len(at) or not rules:
        return which, Quarters(at)
    base = base_of(rules)

    def nearest(rule: Rule) -> FloatArray:
        found = rule.places.nearest(own, session_map)
        if rule.groove is not None and under is not None:
            found = session_map.to_quarters(session_times(under.to_seconds(found)))
        return np.asarray(found)

    goal = nearest(base).copy()
    for k, rule in enumerate(rules):
        places = bar_lines_near(own, session_map)[0] if rule.coarse else nearest(rule)
        here = np.ones(len(at), dtype=bool)
        if rule.bars is not None:
            first, end = span_of(rule.bars, session_map)
            # An early downbeat of the first bar belongs to the range, an early one of the bar after it does
            # not.
            here = (places >= first - 1e-9) & (places <= end - 1e-9)
        which[here], goal[here] = k, places[here]
    return which, Quarters(goal)


def span_of(bars: tuple[int, int], session_map: TempoMap[SessionTimes]) -> tuple[float, float]:
    """(line of the first bar, line after the last one), quarters."""
    return session_map.bar_line(bar_index(bars[0])), session_map.bar_line(bar_index(bars[1]) + 1)


def bar_lines_near(own: Quarters, session_map: TempoMap[SessionTimes]) -> tuple[FloatArray, FloatArray]:
    """(the bar line nearest to each place, an eighth of the bar there), quarters."""
    at = np.asarray(own)
    index = [session_map.bar_of(float(place)) for place in at]
    low = np.array([session_map.bar_line(k) for k in index])
    high = np.array([session_map.bar_line(k + 1) for k in index])
    return np.where(at - low <= high - at, low, high), (high - low) / 8.0


def refuse_beyond(
    rules: Sequence[Rule], session_map: TempoMap[SessionTimes], first: float, last: float
) -> None:
    """Raise ParameterError, naming them, where a sentence is about bars that a take does not have.

    first, last  where the take begins and ends, quarters of the session
    """
    low, high = session_map.bar_of(first), session_map.bar_of(max(first, last - 1e-6))
    for rule in rules:
        if rule.bars is None:
            continue
        begin, end = (bar_index(number) for number in rule.bars)
        if end > high or begin > high or end < low:
            named, lies = bars_words(rule.bars), "lies" if rule.bars[0] == rule.bars[1] else "lie"
            has = bars_words((bar_number(low), bar_number(high)))
            raise ParameterError(f"{named[:1].upper()}{named[1:]} {lies} beyond the take, which has {has}.")


def refuse_other_bars(
    rules: Sequence[Rule], session_map: TempoMap[SessionTimes], first: float, last: float
) -> None:
    """Raise ParameterError, naming the bar, where a groove meets bars of another length.

    first, last  where the take or part begins and ends, quarters of the session
    """
    for rule in rules:
        places = rule.places
        if isinstance(places, GrooveGrid):
            begin, end = rule.bars or map(bar_number, map(session_map.bar_of, (first, last)))
            said = fits_bars(places.groove, session_map, max(0, bar_index(begin)), bar_index(end))
            if said:
                raise ParameterError(said)


def counted_from(rule: Rule, start: int) -> Rule:
    """A rule whose groove counts from the bar of that index; others as they are."""
    places = rule.places
    return rule.on(replace(places, start=start)) if isinstance(places, GrooveGrid) else rule
