"""Look here: the places that deserve a human look, worst first, with the reason in words and what can be done."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from combpace.core.fit.pegs import FACTOR_LIMITS
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.services import fit, picture, words
from combpace.services.document import TakeEntry
from combpace.services.takes import proposed_bundle
from combpace.services.workplace import SessionState

MOST = 40
DOUBTFUL_MARK = 0.65


@dataclass(frozen=True, slots=True)
class Action:
    """What one button does: its outcome in words, the action's name and its arguments."""

    label: str
    name: str
    args: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Place:
    """A place to look at.

    where     "bar 12", "5·2.50" or a take's name
    time_s    session time to step to and play from, or None
    worth     how much it deserves the look; larger first
    """

    where: str
    title: str
    reason: str
    time_s: float | None
    worth: float
    do: Action | None = None
    keep: Action | None = None


def places(seen: SessionState, station: str, focus: str | None) -> list[Place]:
    """The list of a station, worst first."""
    finders = {"takes": _takes, "pace": _pace, "bars": _bars, "onsets": _onsets, "fit": _fit, "hand-off": _handoff}
    found = finders[station](seen, focus) if station in finders else []
    return sorted(found, key=lambda place: -place.worth)[:MOST]


def _takes(seen: SessionState, _: str | None) -> list[Place]:
    found = []
    for take in seen.document.takes:
        row = seen.rows.get(take.id)
        if row is None:
            continue
        if row.state == "failed":
            again = Action("Listen again", "listen-again", {"take": take.id})
            found.append(Place(take.name, "Could not be read", row.error or "", None, 10, again))
        for note in json.loads(row.notes):
            found.append(Place(take.name, "As it came", note, None, 5))
        heard = seen.analysis(take.id)
        if row.state == "ready" and heard is not None and heard.facts.get("version", 0) < ANALYSIS_VERSION:
            again = Action("Listen again", "listen-again", {"take": take.id})
            found.append(Place(take.name, "Heard by an earlier ear", "listening again keeps your bars and marks", None, 3, again))
        if row.state == "ready" and seen.own_pace(take.id) is None:
            found.append(Place(take.name, "No pulse found", "it can be heard and placed; state a tempo to fit it", None, 4))
    # What was made of a take here has its length, but was not recorded beside it.
    made = fit.render_shas(seen.workplace, seen.opened.row.id)
    together = proposed_bundle(seen.document.takes, {take_id: row for take_id, row in seen.rows.items() if row.source_sha not in made})
    if together:
        names = ", ".join(take.name for take in together)
        do = Action(f"Bundle these {len(together)}", "bundle", {"takes": [take.id for take in together], "name": _bundle_name(together)})
        found.append(Place(words.count(len(together), "take"), "The same length and start: recorded together?", names, None, 6, do))
    return found


def _bundle_name(together: list[TakeEntry]) -> str:
    """What all of their names begin with, or the first part of the first."""
    names = [take.name for take in together]
    return (words.shared_beginning(names) or names[0].split(" - ")[0].split(", ")[0])[:60]


def _pace(seen: SessionState, _: str | None) -> list[Place]:
    lead = seen.document.lead
    facts = seen.steady(lead.id) if lead else None
    if not facts:
        return []
    found = []
    session_map = seen.session_map()
    if session_map is not None and seen.map_choice().kind == "steady":
        rows = [row for row in picture.picture(seen, None)["bars"] if row["drift"] is not None]
        if len(rows) >= 4:
            bars_, drifts = [row["i"] for row in rows], np.array([row["drift"] for row in rows])
            slope, start = np.polyfit(bars_, drifts, 1)
            end = start + slope * rows[-1]["i"]
            # A line says something only where it explains most of what is seen: else the playing breathes.
            straight = float(np.corrcoef(bars_, drifts)[0, 1] ** 2) > 0.5 if drifts.std() > 1e-9 else False
            if straight and abs(slope) > 0.3 and abs(end) > 12:
                beat = session_map.meters[0].beat_quarters
                bpm = session_map.bpm_at(0.0) / beat
                better = bpm * (1 - slope / 1000 / (rows[0]["e"] - rows[0]["s"]))
                way, fix = ("earlier", "too slow") if slope < 0 else ("later", "too fast")
                do = Action(f"Use {better:.3f} BPM", "steady", {"bpm": better})
                found.append(
                    Place(
                        "end",
                        f"Attacks come {abs(slope):.1f} ms {way} every bar",
                        f"the grid is {fix} by {abs(better - bpm):.3f} BPM",
                        rows[-1]["s"],
                        8,
                        do,
                    )
                )
        if facts["verdict"] != "steady":
            found.append(
                Place(
                    "whole take",
                    f"The playing {_verdict(facts['verdict'])}",
                    f"attacks scatter by {facts['scatter_ms']:.0f} ms about one tempo",
                    None,
                    7,
                    Action("Follow it as played", "breathing"),
                )
            )
    rest = [candidate for candidate in facts["candidates"] if candidate["relation"] in ("half", "double")]
    best = next((candidate for candidate in facts["candidates"] if candidate["relation"] == "as read"), None)
    for candidate in rest:
        if best and candidate["evidence"] > 0.93 * best["evidence"]:
            factor = 2 if candidate["relation"] == "double" else -2
            do = Action(f"Read it {'twice' if factor == 2 else 'half'} as fast", "scale", {"factor": factor})
            found.append(
                Place(
                    "whole take", f"Could be {candidate['bpm']:.2f} BPM", f"{candidate['relation']} explains the attacks about as well", None, 3, do
                )
            )
    return found


def _verdict(verdict: str) -> str:
    return "is steady" if verdict == "steady" else verdict


def _bars(seen: SessionState, _: str | None) -> list[Place]:
    session_map, lead = seen.session_map(), seen.document.lead
    if session_map is None or lead is None:
        return []
    # What lies beyond the last beat is no finding: the map only runs on there.
    end_s = min(seen.end_s() + 0.5, float(session_map.times_s[-1]) if not session_map.is_steady else np.inf)
    rows = [row for row in picture.picture(seen, None)["bars"] if row["i"] >= 0 and row["s"] <= end_s and row["e"] <= seen.end_s() + 0.5]
    pace = seen.own_pace(lead.id)
    steady = seen.map_choice().kind == "steady"
    fixed = {round(knot.quarters, 6) for knot in pace.knots if knot.fixed} if pace and not steady else set()
    drifts = np.array([abs(row["drift"]) for row in rows if row["drift"] is not None])
    usual = max(6.0, 3 * float(np.median(drifts))) if len(drifts) else 6.0
    # Quarters a minute: where the meter changes, what is counted changes, and the tempo need not.
    tempi = np.array([row["bpm"] * row["len"] / row["beats"] for row in rows])
    found = []
    for k, row in enumerate(rows):
        place = row["q"]
        if round(place, 6) in fixed:
            continue
        keep = None if steady else Action("It is right, lock it", "lock", {"quarters": place, "locked": True})
        near = tempi[max(0, k - 3) : k + 4]
        typical = float(np.median(near)) * row["beats"] / row["len"]
        jump = abs(row["bpm"] / typical - 1)
        where = f"bar {row['n']}"
        sure = f"{row['sure'] * 100:.0f} % sure"
        if row["drift"] is not None and abs(row["drift"]) > usual:
            way = "before the line" if row["drift"] < 0 else "after the line"
            do = Action(
                f"Move bar {row['n']} by {words.signed_ms(row['drift'])} ms", "pull", {"time_s": row["s"] + row["drift"] / 1000, "quarters": place}
            )
            found.append(
                Place(
                    where,
                    f"First attack {abs(row['drift']):.0f} ms {way}",
                    f"{sure}; most others lie within {usual:.0f} ms",
                    row["s"],
                    abs(row["drift"]) / usual,
                    None if steady else do,
                    keep,
                )
            )
        elif jump > 0.06 and not steady:
            before = rows[k - 1] if k else row
            even = before["s"] + (row["e"] - before["s"]) * (before["len"] / (before["len"] + row["len"]))
            do = Action(
                f"Even it out: move bar {row['n']} by {words.signed_ms(1000 * (even - row['s']))} ms",
                "pull",
                {"time_s": even, "quarters": place, "free": True},
            )
            found.append(
                Place(
                    where,
                    f"Tempo jumps to {row['bpm']:.1f} BPM",
                    f"its neighbours run at {typical:.1f}; {sure}",
                    row["s"],
                    0.5 + 8 * jump,
                    do if k else None,
                    keep,
                )
            )
        elif row["sure"] < 0.3:
            reason = "no attack on its line" if row["drift"] is None else "the pulse is uncertain here"
            found.append(Place(where, f"Only {sure}", reason, row["s"], 1 - row["sure"], None, keep))
    return found


def _onsets(seen: SessionState, focus: str | None) -> list[Place]:
    lead = seen.document.lead
    take_id = focus or (lead.id if lead else None)
    if take_id is None:
        return []
    take = seen.document.take(take_id)
    onsets = seen.onsets(take_id)
    session_map = seen.session_map()
    found = []
    for time, strength, sure in zip(onsets.times, onsets.strength, onsets.confidence, strict=True):
        if sure >= DOUBTFUL_MARK:
            continue
        at = float(time) + take.offset_s
        where = words.place(session_map, session_map.place(at)) if session_map else words.clock(at)
        args = {"take": take_id, "times_s": [float(time)]}
        found.append(
            Place(
                where,
                "Hardly an attack" if strength < 0.15 else "Doubtful attack",
                f"strength {strength:.2f}, {sure * 100:.0f} % sure",
                at,
                1 - float(sure),
                Action("Remove this mark", "onset-remove", args),
                Action("It is right, lock it", "onset-lock", args),
            )
        )
    return found


def _fit(seen: SessionState, focus: str | None) -> list[Place]:
    lead = seen.document.lead
    take_id = focus or (lead.id if lead else None)
    session_map = seen.session_map()
    if take_id is None or session_map is None or seen.own_pace(take_id) is None or seen.rows[take_id].decoded_sha is None:
        return []
    made = fit.take_fit(seen, take_id)
    found = []
    time_map = made.fit.time_map
    pegged = {round(peg.take_s, 6): peg for peg in made.fit.pegs if peg.kind in ("pulled", "hand")}
    low, high = FACTOR_LIMITS
    for k, factor in enumerate(time_map.factors):
        if low <= factor <= high:
            continue
        source, target = float(time_map.source_s[k]), float(time_map.target_s[k])
        # The peg that moved farther is the one to let go.
        ends = [pegged.get(round(float(time_map.source_s[i]), 6)) for i in (k, k + 1)]
        movers = [peg for peg in ends if peg is not None]
        args = {"take": take_id, "times_s": [max(movers, key=lambda peg: abs(peg.target_s - peg.own_s)).take_s]} if movers else None
        word, limit = ("Squeezed", low) if factor < low else ("Spread", high)
        found.append(
            Place(
                words.place(session_map, session_map.place(target)),
                f"{word} to {factor:.2f}, limit {limit:g}",
                f"{1000 * (time_map.source_s[k + 1] - source):.0f} ms become {1000 * (time_map.target_s[k + 1] - target):.0f} ms",
                target,
                1 + abs(float(np.log2(factor))),
                Action("Let it ride", "ride", args) if args else None,
            )
        )
    return found


def _handoff(seen: SessionState, _: str | None) -> list[Place]:
    return [
        Place(take.name, "Still being read", "it is left out until it is there", None, 5)
        for take in seen.document.takes
        if seen.rows.get(take.id) is None or seen.rows[take.id].state not in ("ready", "listening")
    ]
