"""Takes: the ledger of what came in."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.tempo.meters import bar_index
from combpace.drawing import picture
from combpace.session import fits, words
from combpace.session.document.model import KINDS, TakeEntry
from combpace.session.notes import file_parts
from combpace.session.state import SessionState
from combpace.stations.station import Action, Next, Place, Station, Step, look_first
from combpace.stations.takes import arriving, decisions, importing, opening, own_bars, parts
from combpace.stations.takes.bundles import proposed_bundle
from combpace.store import rows
from combpace.store.models import BEING_READ, WANTED, TakeRow

# A loop whose first attack lies farther than this before its bar 1 begins with something else, or was read
# wrongly.
BAR_1_S = 0.06

__all__ = ["TAKES", "arriving", "decisions", "importing", "opening", "own_bars", "parts", "take_lines"]


def finding(state: SessionState, focus: str | None) -> str:
    takes, lead = state.document.takes, state.document.lead
    bundle = [take for take in takes if lead and lead.bundle and take.bundle == lead.bundle]
    others = len(takes) - max(1, len(bundle))
    text = f"{len(bundle)} mics" if len(bundle) > 1 else "1 lead" if lead else "no take"
    text = f"{text}, {words.count(others, 'follower')}" if others else text
    text = f"{text}, {words.count(len(state.document.notes), 'part')}" if state.document.notes else text
    text = (
        f"{text}, {words.count(len(state.document.arrivals), 'arrival')}" if state.document.arrivals else text
    )
    states = [state.rows[take.id].state for take in takes if take.id in state.rows]
    reading, failed = sum(one in BEING_READ for one in states), states.count("failed")
    if missing := states.count(WANTED):
        text = f"{text}, {missing} without sound"
    return text + (f", {reading} being read" if reading else "") + (f", {failed} not read" if failed else "")


def places(state: SessionState, focus: str | None) -> list[Place]:
    found = []
    for take in state.document.takes:
        if row := state.rows.get(take.id):
            found += _of_take(state, take, row)
    return [*found, *_of_parts(state), *_bundle(state)]


def _of_take(state: SessionState, take: TakeEntry, row: TakeRow) -> list[Place]:
    found: list[Place] = []
    if row.state == WANTED:
        found.append(Place(take.name, "Its sound is not here", row.error or "", None, 9, about="wanted"))
    if row.state == "failed":
        again = Action("Listen again", "listen-again", {"take": take.id})
        found.append(Place(take.name, "Could not be read", row.error or "", None, 10, again, about="unread"))
    for note in json.loads(row.notes):
        found.append(Place(take.name, "As it came", note, None, 5, about="as-it-came"))
    heard = state.analysis(take.id)
    if row.state == "ready" and heard is not None and heard.facts.get("version", 0) < ANALYSIS_VERSION:
        again = Action("Listen again", "listen-again", {"take": take.id})
        found.append(
            Place(
                take.name,
                "Heard by an earlier ear",
                "listening again keeps your bars and marks",
                None,
                3,
                again,
                about="older-ear",
            )
        )
    late_s = _bar_1_after_first_attack_s(state, take)
    if late_s > BAR_1_S:
        reason = (
            f"its bar 1 was read {1000 * late_s:.0f} ms after its first attack, so it sounds early "
            "by that much"
        )
        found.append(Place(take.name, "Begins before its bar 1", reason, None, 4.5, about="early-loop"))
    if row.state == "ready" and state.own_pace(take.id) is None:
        found.append(
            Place(
                take.name,
                "No pulse found",
                "it can be heard and placed; state a tempo to fit it, or stretch it from one "
                "tempo to another",
                None,
                4,
                about="no-pulse",
            )
        )
    return found


def _of_parts(state: SessionState) -> list[Place]:
    found: list[Place] = []
    for part in state.document.notes:
        own = file_parts(state, part).line
        if (
            part.number == min(one.number for one in state.document.notes if one.sha == part.sha)
            and own is not None
            and len(own.knots) > 2
        ):
            do = Action("Take it as the session's map", "part-map", {"part": part.id})
            found.append(
                Place(
                    part.name,
                    "Its file has a tempo map of its own",
                    "the part follows the session's map now",
                    None,
                    3.5,
                    do,
                    about="part-map",
                )
            )
    return found


def _bar_1_after_first_attack_s(state: SessionState, take: TakeEntry) -> float:
    """How long before its own bar 1 a loop begins to sound; 0 where it does not follow at its own pace."""
    pace, onsets = state.own_pace(take.id), state.onsets(take.id)
    if take.kind != "loop" or take.role == "lead" or take.pace != "own" or pace is None or not len(onsets):
        return 0.0
    line = state.session_map()
    begins = line.bar_line(bar_index(take.first_bar)) if line else 0.0
    return pace.second(begins) - float(onsets.times[0])


def _bundle(state: SessionState) -> list[Place]:
    # What was made of a take here has its length, but was not recorded beside it.
    made = {file.sha for file in rows.files_like(state.folder.database, state.opened.row.id, "render")}
    together = proposed_bundle(
        state, {take_id: row for take_id, row in state.rows.items() if row.source_sha not in made}
    )
    if not together:
        return []
    ids = [take.id for take in together]
    do = Action(f"Bundle these {len(together)}", "bundle", {"takes": ids, "name": _bundle_name(together)})
    keep = Action("They were played apart", "bundle-refuse", {"takes": ids})
    return [
        Place(
            words.count(len(together), "take"),
            "The same attacks at the same moments: recorded together?",
            ", ".join(take.name for take in together),
            None,
            6,
            do,
            keep,
            about="bundle",
        )
    ]


def _bundle_name(together: list[TakeEntry]) -> str:
    """What all of their names begin with, or the first part of the first."""
    names = [take.name for take in together]
    return (words.shared_beginning(names) or names[0].split(" - ")[0].split(", ")[0])[:60]


def take_lines(state: SessionState) -> list[dict[str, Any]]:
    """The ledger: a line a take."""
    lines = []
    for take in state.document.takes:
        row = state.rows.get(take.id)
        facts: dict[str, Any] = {**picture.take_facts(state, take.id)}
        facts["tempo"] = _own_tempo(state, take)
        facts["length"] = words.clock(facts["duration_s"])[:-4] if facts["duration_s"] else ""
        facts["form"] = (
            _form(row.sample_rate_hz, row.channels) if row and row.sample_rate_hz and row.channels else ""
        )
        facts["start"] = words.clock(take.offset_s)
        facts["follows"] = take.role != "lead" and take.pace == "own" and state.own_pace(take.id) is not None
        facts["notes"] = json.loads(row.notes) if row else []
        facts["kinds"] = KINDS
        facts["own"] = own_bars.facts_of(state, take) if take.role != "lead" and take.pace == "own" else None
        facts["often"] = f"until {take.until_bar}" if take.until_bar is not None else f"{take.times}"
        facts["comes_round"] = facts["follows"] and fits.can_come_round(state, take)
        facts["keeps_now"] = take.keeps or (
            "bar" if facts["fitted"] and state.own_pace(take.id) is not None else "time"
        )
        facts["two_tempi"] = (
            (take.from_bpm, take.to_bpm)
            if row is not None and row.state == "ready" and state.own_pace(take.id) is None
            else None
        )
        facts["bundle_mates"] = len(state.document.bundle_of(take.id)) - 1
        lines.append(facts)
    return lines


def _form(rate: int, channels: int) -> str:
    form = {1: "mono", 2: "stereo"}.get(channels, f"{channels} channels")
    return f"{rate / 1000:g} kHz {form}"


def _own_tempo(state: SessionState, take: TakeEntry) -> str:
    """In words: "own tempo 103.4, follows the session"."""
    heard = state.analysis(take.id)
    if heard is None:
        return ""
    if heard.pace is None:
        return "no pulse found"
    fitted = state.steady(take.id)
    tempo = fitted["bpm"] if fitted else 0.0
    if take.role == "lead":
        return f"about {tempo:.1f} BPM, the map is read from it"
    if take.pace == "own":
        return f"own tempo {tempo:.1f}, follows the session"
    return f"played to the lead, {words.count(len(state.onsets(take.id)), 'onset')}"


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    return {"parts": parts.part_lines(state), "arriving_now": state.document.arriving}


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    if found:
        return look_first(found, "thing")
    bars = Step("See the bars", go="bars")
    left = fits.as_played(state)
    if left:
        return Next(
            f"{left[0].name} is as it was played. It can be pulled onto the bars.",
            Step("Pull it", go="fit", take=left[0].id),
            (bars,),
        )
    if any(fits.is_fitted(state, take.id) for take in state.document.takes):
        return Next("Everything goes with the bars now.", Step("Hand it off", go="hand-off"), (bars,))
    return Next(
        "The bars are laid out. See whether they lie on the downbeats, then bring in what is to follow.", bars
    )


TAKES = Station(
    "takes",
    "Takes",
    1,
    finding,
    places,
    "takes/side.html",
    values,
    ledger="takes/ledger.html",
    needs_map=False,
    empty="none yet: drop one",
    next=next_step,
)
