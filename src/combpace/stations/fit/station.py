"""Fit: pull onsets onto the grid, see what is stretched, render."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from combpace.core.clocks import Quarters, SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.fit.advice import SLIGHT_MS, advice
from combpace.core.fit.groove import Groove, GrooveGrid, in_words
from combpace.core.fit.holding import beyond
from combpace.core.fit.pegs import AS_PLAYED, FACTOR_LIMITS, Peg
from combpace.core.fit.proof import WITHIN_S
from combpace.core.fit.ranges import governed
from combpace.core.fit.rule import HAND_REACH_S, Rule
from combpace.core.fit.together import nearest_marks
from combpace.core.tempo.map import TempoMap
from combpace.drawing import picture
from combpace.session import fits, words
from combpace.session.grooves import GrooveLibrary
from combpace.session.page_forms import FitNumbers
from combpace.session.pieces import in_pieces
from combpace.session.stack import stacked
from combpace.session.state import SessionState
from combpace.stations.fit import decisions, rendering
from combpace.stations.fit.unplaced import unplaced_places
from combpace.stations.station import Action, Next, Place, Station, Step, the_lead

# Takes that share this part of their attacks are doubles.
SAME_PART = 0.7
# Doubles that are all pulled by this much or more sound as one; they are offered to differ by so much (common
# practice). %.
LEAST_PERCENT, APART_PERCENT = 70, 2
# What can be chosen as a grid.
GRIDS = (
    ("1/1", "1/1"),
    ("1/2", "1/2"),
    ("1/4", "1/4"),
    ("1/4t", "1/4 triplet"),
    ("1/8", "1/8"),
    ("1/8t", "1/8 triplet"),
    ("1/8d", "1/8 dotted"),
    ("1/16", "1/16"),
    ("1/16t", "1/16 triplet"),
    ("1/32", "1/32"),
    ("1/64", "1/64"),
)
# How the groove in force is named among the grids on offer.
OWN_GROOVE = "groove"
# What moves by less than this sounds as it did, ms.
SAME_MS = 0.5
# On its place within this, as `core.fit.proof` has it.
PROVED_MS = 1000 * WITHIN_S

__all__ = ["FIT", "decisions", "fit_sentence", "rendering"]


def focus(state: SessionState) -> str | None:
    """A take that is not fitted yet, else one that is, else the lead."""
    followers = (
        take.id
        for take in state.document.takes
        if take.role != "lead" and not take.bundle and state.own_pace(take.id)
    )
    return next((take.id for take in fits.as_played(state)), next(followers, the_lead(state)))


# Within these factors stretched sound is hardly heard (common practice).
HARDLY_HEARD = (0.9, 1.1)
# Less than this is no move that anybody asked for.
CARRIED_MS = 1.0


def finding(state: SessionState, focus: str | None) -> str:
    # The mics of a bundle move by the rule of one of them.
    ruled = [
        by
        for take in state.document.takes
        if (by := state.document.timing_take(take.id)) in state.document.rules
    ]
    if not ruled:
        return "nothing pulled yet"
    rule = state.document.rules[ruled[-1]].rule
    return f"{words.count(len(ruled), 'take')} to {rule.places}, {rule.strength:g} %"


def places(state: SessionState, focus: str | None) -> list[Place]:
    lead = state.document.lead
    take_id = focus or (lead.id if lead else None)
    session_map = state.session_map()
    if (
        take_id is None
        or session_map is None
        or state.own_pace(take_id) is None
        or state.rows[take_id].decoded_sha is None
    ):
        return []
    made = fits.take_fit(state, take_id)
    found = _differs(state, take_id)
    time_map = made.fit.time_map
    every = {round(peg.take_s, 6): peg for peg in made.fit.pegs}
    low, high = FACTOR_LIMITS
    for k in beyond(made.fit, FACTOR_LIMITS):
        factor = float(time_map.factors[k])
        source, target = float(time_map.source_s[k]), float(time_map.target_s[k])
        ends = [every.get(round(float(time_map.source_s[i]), 6)) for i in (k, k + 1)]
        do = _gives_way(take_id, session_map, [peg for peg in ends if peg is not None])
        word, limit = ("Squeezed", low) if factor < low else ("Spread", high)
        found.append(
            Place(
                words.place(session_map, session_map.place(target)),
                f"{word} to {factor:.2f}, limit {limit:g}",
                f"{1000 * (time_map.source_s[k + 1] - source):.0f} ms become "
                f"{1000 * (time_map.target_s[k + 1] - target):.0f} ms",
                target,
                1 + abs(float(np.log2(factor))),
                do,
                about="limit",
            )
        )
    return [*found, *_proof_places(state, made), *unplaced_places(state, made)]


def _gives_way(take_id: str, line: TempoMap[SessionTimes], ends: list[Peg]) -> Action | None:
    """What may give way at a stretch beyond the limits: the neighbour of a pull by hand, else what moved
    farther. A peg by hand gives way to none but another.
    """
    hand = [peg for peg in ends if peg.kind in ("hand", AS_PLAYED)]
    beside = [peg for peg in ends if peg.kind in ("pulled", "left alone")]
    if len(hand) == 1 and beside:
        label = f"Let {words.place(line, beside[0].quarters)} give way"
        return Action(label, "ride", {"take": take_id, "times_s": [beside[0].take_s]})
    movers = [peg for peg in ends if peg.kind in ("pulled", "hand")]
    if not movers:
        return None
    most = max(movers, key=lambda peg: abs(peg.target_s - peg.own_s))
    return Action("Let it ride", "ride", {"take": take_id, "times_s": [most.take_s]})


def _differs(state: SessionState, take_id: str) -> list[Place]:
    """That a sentence of an older version sounds different, said until it is heard or changed."""
    most = fits.differs_ms(state, take_id)
    if most < SAME_MS:
        return []
    name = state.document.take(state.document.timing_take(take_id)).name
    return [
        Place(
            "whole take",
            f"{name} sounds different from before, by up to {most:.0f} ms",
            "strength, leave alone, ignore and bars act on what lies beside its pace now, and no longer only "
            "between its beats; hear it",
            None,
            9.0,
            None,
            Action("It is right like this", "rule-heard", {"take": take_id}),
            about="differs",
        )
    ]


def _proof_places(state: SessionState, made: fits.TakeFit) -> list[Place]:
    """Attacks that do not lie on their place in the render; mostly their mark is late or early."""
    line, found = state.need_map(), []
    marks, mics = fits.marks_and_mics(state, made.take.id)
    for take_s, target, off in fits.proof_of(state, made) or []:
        if off is not None and abs(off) <= PROVED_MS:
            continue
        near = nearest_marks([take_s], marks, HAND_REACH_S)[0]
        mic = state.document.take(made.take.id if near is None else mics[near])
        at = {"station": "onsets", "take": mic.id, "time_s": take_s + made.take.offset_s - mic.offset_s}
        where = words.place(line, line.place(target))
        title = (
            "Not heard again in the render"
            if off is None
            else f"Lies {words.signed_ms(off)} ms from its place in the render"
        )
        args = {"take": made.take.id, "times_s": [take_s]}
        found.append(
            Place(
                where,
                title,
                "too soft beside what rings on, or its mark lies beside it"
                if off is None
                else "its mark is late or early",
                target,
                1.5 + abs(off or 20.0) / 20.0,
                # An alarm may be false: Enter looks, and lets nothing go.
                Action("See it in Onsets", "see", at),
                None,
                (Action("Let it ride", "ride", args),),
                about="proof",
            )
        )
    return found


def _proved(state: SessionState, made: fits.TakeFit) -> str:
    """ "112 of 114 within 3 ms of their place", of the render as it stands; "" where there is none."""
    found = fits.proof_of(state, made)
    if not found:
        return ""
    good = sum(off is not None and abs(off) <= PROVED_MS for _, _, off in found)
    rest = "" if good == len(found) else f"; {len(found) - good} off, listed below"
    return f"Measured again: {good} of {len(found)} within {PROVED_MS:g} ms of their place{rest}."


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    if not focus:
        return {"fit": None, "fit_missing": ""}
    if in_pieces(state, focus):
        said = (
            f"{state.document.take(focus).name} sounds in pieces; drop them in Pieces to fit it, or "
            "hand it off and bring it in again."
        )
        return {"fit": None, "fit_missing": said}
    try:
        return {"fit": fit_sentence(state, focus), "fit_missing": ""}
    except ParameterError as error:
        return {"fit": None, "fit_missing": str(error)}


def fit_sentence(state: SessionState, take_id: str) -> dict[str, Any]:
    """Fields of the Fit sentence and what they do, or why there is nothing to fit."""
    made = fits.take_fit(state, take_id)
    rule = made.choice.rule
    session_map = state.need_map()
    library = GrooveLibrary(state.folder).all()
    grid = rule.places
    numbers = picture.fit_numbers(state, made)
    half_step_ms = 1000 * 0.5 * grid.step_quarters * 60 / session_map.bpm_at(0.0)
    return {
        "take": made.take,
        "rule": rule,
        "stated": made.stated,
        "grid": OWN_GROOVE if isinstance(grid, GrooveGrid) else str(grid),
        "groove": grid.groove.name if isinstance(grid, GrooveGrid) else None,
        "groove_options": tuple(
            (f"{decisions.GROOVE}{one.id}", f"groove: {one.groove.name}")
            for one in library
            # The one in force stands there already.
            if not (isinstance(grid, GrooveGrid) and grid.groove == one.groove)
        ),
        "grooves": [
            {"id": one.id, "name": one.groove.name, "words": in_words(one.groove), "bars": _drawn(one.groove)}
            for one in library
        ],
        "swing": f"{grid.swing * 100:g}",
        "strength": f"{rule.strength:g}",
        "leave_alone": f"{rule.leave_alone_ms:g}",
        "ignore": _ignored(rule),
        "ignore_idle": rule.ignore_beyond_ms is not None and rule.ignore_beyond_ms >= half_step_ms,
        "half_step_ms": half_step_ms,
        "bars": _bars_field(rule),
        "own_bars": "" if rule.bars is None else f"{rule.bars[0]}-{rule.bars[1]}",
        "ranges": [_range_fields(one) for one in made.choice.rules if one is not rule and one.bars],
        "grids": GRIDS,
        "method": made.choice.method,
        "used": made.method,
        "reason": made.reason,
        "numbers": numbers,
        "heard": _heard(made, numbers),
        "rendered": fits.is_rendered(state, made),
        "proved": _proved(state, made),
        "spread_ms": _tightness(state, made),
        "carried_ms": carried_ms(made),
        "advice": _advice(state, made),
        "rides": _rides(state, made),
        "others": _others(state, made),
        "two_tempi": (made.take.from_bpm, made.take.to_bpm)
        if made.take.two_tempi and state.own_pace(take_id) is None
        else None,
        "accent": f"{rule.accent:g}",
        "keep_lag": "yes" if rule.keep_lag else "no",
        "own_pace": made.take.role != "lead" and made.take.pace == "own",
        "coarse": "yes" if rule.coarse else "no",
        "mates": len(state.document.bundle_of(take_id)) - 1,
        "order": _order(state, made.take.id),
    }


def _bars_field(rule: Rule) -> str:
    if rule.bars is None:
        return "all"
    return str(rule.bars[0]) if rule.bars[0] == rule.bars[1] else f"{rule.bars[0]}–{rule.bars[1]}"


def _range_fields(rule: Rule) -> dict[str, Any]:
    """The fields of a sentence of some bars; key: its bars as a decision names them."""
    places = rule.places
    first, last = rule.bars or (1, 1)
    return {
        "key": f"{first}-{last}",
        "bars": _bars_field(rule),
        "grid": OWN_GROOVE if isinstance(places, GrooveGrid) else str(places),
        "groove": places.groove.name if isinstance(places, GrooveGrid) else None,
        "strength": f"{rule.strength:g}",
        "leave_alone": f"{rule.leave_alone_ms:g}",
        "ignore": _ignored(rule),
    }


def carried_ms(made: fits.TakeFit) -> float:
    """How far the two tempo maps alone move attacks of a take that goes by the lead's bars, at most; 0 where
    the session goes as it was played.
    """
    if made.take.role != "lead" and made.take.pace == "own":
        return 0.0
    return max(
        (1000 * abs(peg.own_s - peg.take_s - made.take.offset_s) for peg in made.fit.pegs), default=0.0
    )


def _drawn(groove: Groove) -> list[list[dict[str, float]]]:
    """Each bar as a row of the close comb: a column a place, in it the lateness in half steps (-1 to 1) and
    how loud it is (0-1).
    """
    loud = [one.accent_db for row in groove.bars for one in row if one.struck]
    low, high = min(loud, default=0.0), max(loud, default=0.0)
    return [
        [
            {
                "late": round(2.0 * one.late, 3),
                "loud": round((one.accent_db - low) / (high - low), 3) if high > low else 1.0,
                "struck": one.struck,
            }
            for one in row
        ]
        for row in groove.bars
    ]


def _advice(state: SessionState, made: fits.TakeFit) -> list[dict[str, Any]]:
    """Sentences, each with the field of the rule that would answer it, or none."""
    pace, line = state.own_pace(made.take.id), state.need_map()
    if pace is None:
        return []
    rule = made.choice.rule
    if rule.groove is not None:
        # A groove is chosen for what it is: no other grid is offered for it.
        return _doubles(state, made)
    own = pace.to_quarters(fits.marks_of(state, made.take.id).times)
    # Of those that the sentence is about.
    which, _ = governed(made.choice.rules, own, line)
    mine = Quarters(np.asarray(own)[which == made.choice.rules.index(rule)])
    found, said = advice(mine, made.fit, rule, line), []
    if found.smallest is not None:
        text = (
            f"The smallest value played here is 1/{found.smallest}: a {rule.places} grid is finer than "
            "the playing."
        )
        said.append(
            {"text": text, "do": f"Take 1/{found.smallest}", "field": "grid", "value": f"1/{found.smallest}"}
        )
    if found.finer is not None:
        text = (
            f"{words.count(found.between, 'onset')} lie between the places of 1/{rule.places.value}, on "
            f"{found.finer}: with this grid they ride."
        )
        said.append({"text": text, "do": f"Take {found.finer}", "field": "grid", "value": str(found.finer)})
    if found.slight > 0.5:
        text = (
            f"{100 * found.slight:.0f} % of what is pulled moves less than {SLIGHT_MS:g} ms, which few "
            "will hear: it may be left as it was played."
        )
        said.append(
            {
                "text": text,
                "do": f"Leave alone up to {SLIGHT_MS:g} ms",
                "field": "leave_alone",
                "value": f"{SLIGHT_MS:g}",
            }
        )
    said += _doubles(state, made)
    for first, last in found.loose:
        text = (
            f"In bars {first}–{last} more than a third of the onsets are off by more than a sixteenth: "
            "playing them again may cost less."
        )
        said.append({"text": text, "do": ""})
    for first, last in found.adrift:
        text = (
            f"In bars {first}–{last} onsets lie anywhere between the places of {rule.places}, so that which "
            "one is meant is a guess: playing them again costs less."
        )
        said.append({"text": text, "do": ""})
    return said


def _heard(made: fits.TakeFit, numbers: FitNumbers) -> str:
    """What of a fit will be heard."""
    low, high = HARDLY_HEARD
    if numbers["beyond"]:
        return (
            f"{words.count(numbers['beyond'], 'stretch', 'stretches')} will be heard; they are listed below."
        )
    if not numbers["largest_ms"]:
        return "Nothing moves."
    if made.method == "cut":
        return "Nothing is stretched, so none of it is heard but the timing."
    if numbers["least_factor"] >= low and numbers["most_factor"] <= high:
        return "Stretched so little it is hardly heard."
    return "On held notes it may be heard; listen to where it is squeezed and spread most."


def _doubles(state: SessionState, made: fits.TakeFit) -> list[dict[str, Any]]:
    """Whoever plays the same and is pulled as much: a little less is offered, never taken by itself."""
    rule, said = made.choice.rule, []
    percent = round(rule.strength)
    if not made.stated or percent < LEAST_PERCENT:
        return []
    above = stacked(state, f"1/{rule.places.value}")
    own = above.at(made.take.id)
    for k, take in enumerate(above.takes):
        other = state.document.rules.get(take.id)
        if own is None or k == own or other is None or above.share(own, k) < SAME_PART:
            continue
        if other.rule.places == rule.places and round(other.rule.strength) == percent:
            less = percent - APART_PERCENT
            text = (
                f"{take.bundle or take.name} plays the same and is pulled as much: doubles a little "
                "apart sound like two players."
            )
            said.append(
                {"text": text, "do": f"Pull this one with {less} %", "field": "strength", "value": str(less)}
            )
    return said


def _rides(state: SessionState, made: fits.TakeFit) -> list[dict[str, str]]:
    """Onsets without a peg: where they will end up, and why they ride."""
    line = state.need_map()
    ends = made.fit.time_map.to_target(np.asarray(made.fit.riding))
    why = {
        "place taken": "another one is nearer to its place",
        "ignored": "too far from a place",
        "no room": "no room between its neighbours",
        "gave way": "a pull by hand went past it",
    }
    return [
        {"place": words.place(line, line.place(float(end))), "why": why.get(reason, reason)}
        for end, reason in zip(ends, made.fit.reasons, strict=True)
    ]


def _order(state: SessionState, timing: str) -> list[tuple[str, str, bool]]:
    """(id, name, whether its marks count) of a bundle's mics in the order in which they count; none where a
    take is alone.
    """
    order, out = fits.mics_in_order(state, timing), fits.left_out(state, timing)
    if len(order) < 2:
        return []
    rows = [(take_id, state.document.take(take_id).name, take_id not in out) for take_id in order]
    return sorted(rows, key=lambda row: not row[2])


def _others(state: SessionState, made: fits.TakeFit) -> list[dict[str, Any]]:
    """What else the rule can be given to: takes with a pace, bundles by their own name; which are ticked."""
    return [
        {"id": entry.id, "name": entry.bundle or entry.name, "ticked": decisions.ticked(state, entry)}
        for entry in decisions.other_takes(state, made.take.id)
    ]


def _ignored(rule: Rule) -> str:
    if rule.ignore_beyond is not None:
        return rule.ignore_beyond
    return "nothing" if rule.ignore_beyond_ms is None else f"{rule.ignore_beyond_ms:g}"


def _tightness(state: SessionState, made: fits.TakeFit) -> dict[str, int]:
    """Share of all onsets, pegged or not, that lie within 10 ms of the grid place nearest to where they were
    played: as played and as fitted.
    """
    pace, session_map, times = (
        state.own_pace(made.take.id),
        state.need_map(),
        fits.marks_of(state, made.take.id).times,
    )
    if pace is None or not len(times):
        return {"before": 0, "after": 0}
    own = pace.to_quarters(times)
    goal = session_map.to_seconds(governed(made.choice.rules, own, session_map, state.under())[1])
    lies = made.follow(times) if made.follow is not None else np.asarray(times) + made.take.offset_s
    before, after = lies - goal, made.fit.time_map.to_target(np.asarray(times)) - goal
    return {
        "before": round(100 * float(np.mean(np.abs(before) < 0.010))),
        "after": round(100 * float(np.mean(np.abs(after) < 0.010))),
    }


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    if focus is None or in_pieces(state, focus):
        return None
    try:
        made = fits.take_fit(state, focus)
    except ParameterError:
        return None
    name, lead = made.take.name, state.document.lead
    even: tuple[Step, ...] = ()
    if lead is not None and focus == lead.id and state.one_tempo is None:
        # Its own bars breathe with it: to be even it needs a tempo that does not.
        even = (Step("Pull it to one tempo instead", act=Action("", "steady", {})),)
    out = Step("Hand it off", go="hand-off")
    left = next((take for take in fits.as_played(state) if take.id != made.take.id), None)
    if made.stated:
        if left is None:
            return Next(f"{name} will be handed off like this. V compares it with the original.", out, even)
        sentence = f"{name} will be handed off like this; V compares. {left.name} is still as it was played."
        return Next(sentence, Step(f"Pull {left.name}", go="fit", take=left.id), (out, *even))
    pulled = any(peg.kind == "pulled" for peg in made.fit.pegs)
    if not pulled and carried_ms(made) < CARRIED_MS:
        return Next(
            f"{name} is on this grid already: nothing in it is farther off than what is left alone.",
            Step("Hand it off as played", go="hand-off"),
            even,
        )
    use = Action("", "rule", {"take": focus, "field": "strength", "value": f"{made.choice.rule.strength:g}"})
    how = "pulled" if pulled else "carried onto the bars"
    sentence = f"This is how {name} would be {how}; V compares. Use it, and it is handed off like this."
    use_out = Step("Use it, then hand off", go="hand-off", act=use)
    if lead is not None and focus == lead.id and state.one_tempo is not None and state.keeps_one_tempo(focus):
        # What is even already needs no pulling: its feel is the player's.
        sentence = (
            f"{name} keeps one tempo, and its feel is the player’s. Go on, or pull it like this; V compares."
        )
        if left is None:
            more = Step("Bring in more", command="choose-files")
            return Next(sentence, Step("Hand it off as played", go="hand-off"), (use_out, more))
        return Next(sentence, Step(f"Go on with {left.name}", go="fit", take=left.id), (use_out,))
    if left is None:
        return Next(sentence, use_out, even)
    return Next(
        sentence, Step(f"Use it, go on with {left.name}", go="fit", act=use, take=left.id), (use_out, *even)
    )


FIT = Station(
    "fit",
    "Fit",
    5,
    finding,
    places,
    "fit/side.html",
    values,
    more="fit/more.html",
    focus=focus,
    fitted=True,
    next=next_step,
)
