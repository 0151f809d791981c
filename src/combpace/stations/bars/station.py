"""Bars: the comb, where the tempo map is put right by hand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray, TakeTimes
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter, bar_index
from combpace.drawing import picture
from combpace.session import fits, words
from combpace.session.document.stated import BarStatement, DownbeatStatement, MomentStatement, name_of
from combpace.session.map_changes import MOST_NAMED, last_bar, odd_runs
from combpace.session.map_facts import map_facts
from combpace.session.marks import went_along
from combpace.session.page_forms import BarRow
from combpace.session.reaches import others, taken
from combpace.session.saying import statement_words
from combpace.session.state import SessionState
from combpace.stations.bars import anchoring, counting, curve, decisions, map_in
from combpace.stations.lead_drift import drift_places
from combpace.stations.lead_readings import doubt_places
from combpace.stations.station import Action, Next, Place, Station, Step, look_first

__all__ = ["BARS", "anchoring", "counting", "curve", "decisions", "map_in"]

# A line is moved to an attack within this of the moment that is proposed.
STRUCK_S = 0.012
# As in `tempo.lay`: what an attack is worth, and what an uneven beat costs, in shares of the beat.
STRUCK_WORTH, UNEVEN = 0.35, 0.06
# How much better a proposal must be than what stands.
BETTER = 0.3
SUPPORTED = "the attacks support it more than the line as it stands"
# Below this nothing is said for a line.
DOUBTFUL = 0.3
# Attacks that lie so far from most bar lines, of at least so many, are no matter of single bars.
BESIDE_MS, LEAST_BESIDE = 60.0, 3
# A bar whose tempo differs so much from its neighbours' is looked at.
JUMP = 0.06
# And by so many times what is usual in this playing.
PLAYED_JUMPS = 4.0
# A line this near to a confirmed moment is its line, also in a steady map.
SAME_LINE_S = 0.06
# A single odd bar, or another meter, that is less sure than this is looked at.
SURE_ODD, SURE_CHANGE = 0.9, 0.85


def finding(state: SessionState, focus: str | None) -> str:
    bars = [row for row in picture.shown_bars(state) if row["i"] >= 0]
    doubtful = len(places(state, None))
    return f"{words.count(len(bars), 'bar')}, " + (
        f"{doubtful} to look at" if doubtful else "nothing doubtful"
    )


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    return {"bars": map_facts(state), "stated": stated_rows(state)}


def stated_rows(state: SessionState) -> list[dict[str, Any]]:
    """What was stated of the map, the newest first, each with what takes it back; of the newest bar the other
    ways that it may have been meant.
    """
    named = {name_of(one): one for one in state.map_choice().statements}
    found: list[dict[str, Any]] = []
    asked = False
    for row in reversed(picture.statement_rows(state)):
        one, ways, said = named.get(row["id"]), list[dict[str, Any]](), row["words"]
        if not asked and isinstance(one, BarStatement | DownbeatStatement) and one.heard_s is None:
            asked = True
            way = taken(state, one)
            said += "" if way is None or one.reach is not None else f", {way}"
            bar = {"bar": one.bar} if isinstance(one, BarStatement) else {}
            ways = [
                {"words": reach, "do": one.what, "args": {"time_s": one.time_s, "reach": reach, **bar}}
                for reach in others(state, one)
            ]
        if isinstance(one, MomentStatement) and (was := went_along(state, one)) is not None:
            lead = state.need_lead()
            leave = {"take": lead.id, "from_s": one.time_s - lead.offset_s, "to_s": was, "alone": True}
            ways.append({"words": "leave its mark", "do": "onset-move", "args": leave})
        back: dict[str, Any] = {"words": "take back", "do": "take-back", "args": {"id": row["id"]}}
        if isinstance(one, MomentStatement) and one.locked:
            place = state.need_map().place(one.time_s)
            back = {"words": "unlock", "do": "lock", "args": {"quarters": place, "locked": False}}
        found.append({"back": back, **row, "words": said[:1].upper() + said[1:], "others": ways})
    return found


def places(state: SessionState, focus: str | None) -> list[Place]:
    found: list[Place] = state.once("places of bars", lambda: _places(state))
    return found


def _places(state: SessionState) -> list[Place]:
    line, lead = state.session_map(), state.document.lead
    if line is None or lead is None:
        return []
    found = [
        *_lost(state),
        *doubt_places(state),
        *drift_places(state),
        *_odd_bars(state, line),
        *_changes(state, line),
    ]
    if not found:
        found += _all_beside(state)
    if state.one_tempo is not None:
        return found
    # What lies beyond the last beat is no finding: the map only runs on there.
    end_s = min(state.end_s() + 0.5, float(line.times_s[-1]))
    rows = [
        row
        for row in picture.shown_bars(state)
        if row["i"] >= 0 and row["s"] <= end_s and row["e"] <= state.end_s() + 0.5
    ]
    fixed = {round(knot.quarters, 6) for knot in line.knots if knot.fixed}
    # Quarters a minute: where the meter changes, what is counted changes, and the tempo need not.
    tempi = np.array([row["bpm"] * row["len"] / row["beats"] for row in rows])
    about = np.array([np.median(tempi[max(0, k - 3) : k + 4]) for k in range(len(tempi))])
    # A player who hurries and holds back jumps in none of his bars.
    jump = max(JUMP, PLAYED_JUMPS * float(np.median(np.abs(tempi / about - 1)))) if len(tempi) else JUMP
    drifts = np.array([abs(row["drift"]) for row in rows if row["drift"] is not None])
    usual = max(6.0, 3 * float(np.median(drifts))) if len(drifts) else 6.0
    struck = state.struck(lead.id)
    attacks = Onsets(struck.times + lead.offset_s, struck.strength, struck.confidence)  # type: ignore[arg-type]
    # Where it is open how all of it is counted, that its lines are doubtful says nothing more.
    counted = not any(place.choices and place.time_s is None for place in found)
    unsure: list[BarRow] = []
    for k, row in enumerate(rows):
        if round(row["q"], 6) in fixed:
            continue
        typical = float(about[k]) * row["beats"] / row["len"]
        place = _of_bar(line, row, attacks, usual, typical, jump)
        if place is not None:
            found.append(place)
        elif row["sure"] < DOUBTFUL and counted:
            unsure.append(row)
    return [*found, *_unsure(unsure)]


def _lost(state: SessionState) -> list[Place]:
    """What is stated and does not hold: first of all, for all else was solved for without it."""
    lost = state.lost()
    if not lost:
        return []
    back = tuple(
        Action(f"Take back {statement_words(one)}", "take-back", {"id": name_of(one)})
        for one in lost
        if not (isinstance(one, MomentStatement) and one.locked)
    )
    many = "One thing" if len(lost) == 1 else f"{len(lost)} things"
    title = f"{many} that you stated {'does' if len(lost) == 1 else 'do'} not hold"
    said = words.listed([statement_words(one) for one in lost[:MOST_NAMED]])
    reason = f"what is heard now leaves no room for {said}; take it back, or state it anew"
    return [Place("whole map", title, reason, None, 3000.0, None, None, back, about="lost")]


def _all_beside(state: SessionState) -> list[Place]:
    """A map whose lines all lie beside the attacks: every row says so, and so does the list."""
    drifts = [row["drift"] for row in picture.shown_bars(state) if row["i"] >= 0 and row["drift"] is not None]
    if len(drifts) < LEAST_BESIDE or abs(typical := float(np.median(drifts))) < BESIDE_MS:
        return []
    way = "late" if typical > 0 else "early"
    return [
        Place(
            "whole map",
            f"Attacks lie {abs(typical):.0f} ms {way} against most bar lines",
            f"the middle one of {words.count(len(drifts), 'bar')}: lead and map do not belong together, or "
            "bar 1 lies elsewhere",
            None,
            8.0,
            about="drift",
        )
    ]


def _unsure(rows: list[BarRow]) -> list[Place]:
    """Bars that are only doubtful: those that follow each other are one place."""
    runs: list[list[BarRow]] = []
    for row in rows:
        if runs and row["i"] == runs[-1][-1]["i"] + 1:
            runs[-1].append(row)
        else:
            runs.append([row])
    found = []
    for run in runs:
        least, first, last = min(run, key=lambda row: float(row["sure"])), run[0], run[-1]
        silent = all(row["drift"] is None for row in run)
        reason = (
            "no attack on its line"
            if silent and len(run) == 1
            else "no attack on these lines: they were laid by their neighbours"
            if silent
            else "the pulse is uncertain here"
        )
        label = "It is right, lock it" if len(run) == 1 else f"Bar {least['n']} is right, lock it"
        keep = Action(label, "lock", {"quarters": least["q"], "locked": True})
        where = f"bar {first['n']}" if len(run) == 1 else f"bars {first['n']}–{last['n']}"
        found.append(
            Place(
                where,
                f"Only {100 * least['sure']:.0f} % sure",
                reason,
                first["s"],
                1 - least["sure"],
                None,
                keep,
                about="unsure-bar",
            )
        )
    return found


def _odd_bars(state: SessionState, line: TempoMap[Any]) -> list[Place]:
    """Bars of another length, that stand where the count between two downbeats does not come out."""
    chosen = state.document.map
    if not (chosen.stated.downbeats or chosen.stated.bars):
        return []
    confirmed = [*chosen.stated.downbeats, *(time for time, _ in chosen.stated.bars)]
    usual = chosen.stated.everywhere
    found = []
    for first, last, meter in odd_runs(line, chosen, last_bar(state, line)):
        start, end = (
            line.second(line.bar_line(bar_index(first))),
            line.second(line.bar_line(bar_index(last) + 1)),
        )
        # Where the meter was stated, the ear chose which bar before a downbeat is the odd one.
        if any(abs(end - time) < SAME_LINE_S or (usual and time > end) for time in confirmed):
            where, title = (
                (f"bar {first}", f"One bar of {meter}")
                if first == last
                else (f"bars {first}–{last}", f"Bars of {meter}")
            )
            found.append(
                Place(
                    where,
                    title,
                    "without it the bars before the downbeat that you confirmed do not add up",
                    start,
                    2.0,
                    about="odd-bar",
                )
            )
    return found


def _changes(state: SessionState, line: TempoMap[Any]) -> list[Place]:
    """Meters that were heard to change and are not sure to: a single odd bar, and where another meter begins.
    Nothing is taken by Enter.
    """
    fixed = {round(knot.quarters, 6) for knot in line.knots if knot.fixed}
    stated = [time for time, _ in state.stated.changes]
    sureness, given = np.array([knot.confidence for knot in line.knots]), state.sureness()
    found = []
    for k, meter in enumerate(line.meters[1:], 1):
        index, before = bar_index(meter.bar), line.meters[k - 1]
        place = line.bar_line(index)
        start = line.second(place)
        if round(place, 6) in fixed or any(abs(start - time) < SAME_LINE_S for time in stated):
            continue
        following = line.meters[k + 1] if k + 1 < len(line.meters) else None
        alone = following is not None and bar_index(following.bar) == index + 1
        if k > 1 and bar_index(before.bar) == index - 1 and str(line.meters[k - 2]) == str(meter):
            # The way back from a single odd bar is said with that bar.
            continue
        sure = _sure_about(line, index, sureness, given)
        if alone and following is not None and str(following) == str(before):
            if sure < SURE_ODD:
                found.append(_single_odd(meter, before, place, start, sure))
        elif sure < SURE_CHANGE:
            found.append(_other_meter(meter, before, place, start, sure))
    return found


def _single_odd(meter: Meter, before: Meter, place: float, start_s: float, sure: float) -> Place:
    """One bar with more or fewer beats than those about it."""
    like = {"bar": meter.bar, "beats": before.beats}
    other = Action(f"Bar {meter.bar} is {before} like the others", "odd-bar", like)
    keep = Action("It is right, lock it", "lock", {"quarters": place, "locked": True})
    title, where = f"A single bar of {meter}", f"bar {meter.bar}"
    reason = f"one bar of {meter} among {before}; {100 * sure:.0f} % sure; hear both ways"
    return Place(where, title, reason, start_s, 3.0 - sure, None, keep, (other,), about="odd-bar")


def _other_meter(meter: Meter, before: Meter, place: float, start_s: float, sure: float) -> Place:
    """Another number of beats from a bar on."""
    others = [Action(f"{before} goes on", "meter", {"meter": str(before), "bar": meter.bar})]
    others += [
        Action(f"One beat {way} from here", "one-beat", {"direction": way, "bar": meter.bar})
        for way in ("earlier", "later")
        if meter.bar > 1
    ]
    keep = Action("It is right, lock it", "lock", {"quarters": place, "locked": True})
    title, where = f"{meter} from here on", f"bar {meter.bar}"
    reason = f"{before} before it; {100 * sure:.0f} % sure where it changes"
    return Place(where, title, reason, start_s, 2.5 - sure, None, keep, tuple(others), about="meter")


def _sure_about(line: TempoMap[Any], index: int, sureness: FloatArray, given: FloatArray | None) -> float:
    """How sure the lines about a change of meter are, the least of three; sureness: that of every knot;
    given: of lines, given what was said.
    """
    if given is not None and 0 < index < len(given):
        return float(given[index - 1 : index + 2].min())
    at = line.to_seconds(line.bar_lines(index - 1, 2))
    return float(np.interp(at, line.times_s, sureness).min())


def _of_bar(
    line: TempoMap[Any], row: BarRow, attacks: Onsets, usual: float, typical: float, most: float
) -> Place | None:
    """What is doubtful of one bar's line, with a proposal only where more speaks for it than for what
    stands; most: by how much its tempo may differ from that about it.
    """
    where, sure, place = f"bar {row['n']}", f"{row['sure'] * 100:.0f} % sure", row["q"]
    keep = Action("It is right, lock it", "lock", {"quarters": place, "locked": True})
    if row["drift"] is not None and abs(row["drift"]) > usual:
        to = row["s"] + row["drift"] / 1000
        gain = _evidence(line, place, to, attacks) - _evidence(line, place, row["s"], attacks)
        way = "before the line" if row["drift"] < 0 else "after the line"
        if gain > BETTER:
            do = Action(
                f"Move bar {row['n']} by {words.signed_ms(row['drift'])} ms", "pull", _alone(to, place)
            )
            reason = f"{sure}; {SUPPORTED}, most others lie within {usual:.0f} ms"
            return Place(
                where,
                f"First attack {abs(row['drift']):.0f} ms {way}",
                reason,
                row["s"],
                abs(row["drift"]) / usual,
                do,
                keep,
                about="off-line",
            )
    jump = abs(row["bpm"] / typical - 1)
    if jump > most:
        even = _even(line, place)
        near = np.asarray(attacks.times)
        close = near[np.abs(near - even) < STRUCK_S] if even is not None else np.zeros(0)
        nearest = (
            even if even is None or not len(close) else float(close[int(np.argmin(np.abs(close - even)))])
        )
        gain = (
            -1.0
            if nearest is None
            else _evidence(line, place, nearest, attacks) - _evidence(line, place, row["s"], attacks)
        )
        even_out: Action | None = None
        if nearest is not None and gain > BETTER:
            even_out = Action(
                f"Even it out: move bar {row['n']} by {words.signed_ms(1000 * (nearest - row['s']))} ms",
                "pull",
                _alone(nearest, place),
            )
        reason = f"its neighbours run at {typical:.1f}; {sure}" + (f"; {SUPPORTED}" if even_out else "")
        return Place(
            where,
            f"Tempo jumps to {row['bpm']:.1f} BPM",
            reason,
            row["s"],
            0.5 + 8 * jump,
            even_out,
            keep,
            about="jump",
        )
    return None


def _alone(time_s: float, place: float) -> dict[str, Any]:
    return {"time_s": time_s, "quarters": place, "free": True, "alone": True}


def _evidence(line: TempoMap[Any], place: float, time_s: float, attacks: Onsets) -> float:
    """What speaks for a line at a moment: how strong the attack on it is, less what it costs that the beats
    beside it get uneven.
    """
    times = np.asarray(attacks.times)
    near = np.abs(times - time_s) <= STRUCK_S
    struck = STRUCK_WORTH + float(attacks.strength[near].max()) if near.any() else 0.0
    sides = _beats_beside(line, place)
    if sides is None:
        return struck
    before, after = sides
    share = (time_s - 0.5 * (before + after)) / (0.5 * (after - before))
    return struck - 2.0 * (share / UNEVEN) ** 2


def _even(line: TempoMap[Any], place: float) -> float | None:
    """Midway between the beats beside a line."""
    sides = _beats_beside(line, place)
    return None if sides is None else 0.5 * (sides[0] + sides[1])


def _beats_beside(line: TempoMap[TakeTimes] | TempoMap[Any], place: float) -> tuple[float, float] | None:
    """Moments of the beats before and after a line; None at either end of what was played."""
    beat: float = line.meter_of(line.bar_of(place)).beat_quarters
    ends: FloatArray = line.quarters
    if place - beat < ends[0] - 1e-6 or place + beat > ends[-1] + 1e-6:
        return None
    return line.second(place - beat), line.second(place + beat)


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    lead, left = state.document.lead, fits.as_played(state)
    if found or lead is None:
        return look_first(found, "place") if found else None
    if left:
        sentence = "No bar looks doubtful. Hear them with the click; then pull the other takes onto them."
        return Next(sentence, Step("Pull takes onto them", go="fit", take=left[0].id))
    if any(fits.is_fitted(state, take.id) for take in state.document.takes):
        return Next(
            "No bar looks doubtful, and everything goes with them. Hear it with the click.",
            Step("Hand it off", go="hand-off"),
        )
    out, more = Step("Hand off these bars", go="hand-off"), Step("Bring in more", command="choose-files")
    pull = Step(f"Pull {lead.name}", go="fit")
    if state.one_tempo is not None and state.keeps_one_tempo(lead.id):
        # What is even already needs no pulling: its feel is the player's.
        sentence = (
            f"No bar looks doubtful, and {lead.name} keeps one tempo. Hear it with the click; then take "
            "these bars along, or bring in what follows."
        )
        return Next(sentence, out, (more, pull))
    if state.one_tempo is not None:
        sentence = (
            f"No bar looks doubtful. Hear them with the click; then pull {lead.name} onto them, bring "
            "in what follows, or take them along."
        )
        return Next(sentence, pull, (out, more))
    sentence = (
        f"No bar looks doubtful: hear them with the click. Take these bars along, or make {lead.name} "
        "itself even."
    )
    even = Step(f"Pull {lead.name} to one tempo", go="fit", act=Action("", "steady", {}))
    return Next(sentence, out, (even, Step("Bring in what follows", command="choose-files")))


BARS = Station(
    "bars",
    "Bars",
    3,
    finding,
    places,
    "bars/side.html",
    values,
    more="bars/more.html",
    of_take=True,
    next=next_step,
)
