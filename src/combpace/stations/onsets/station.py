"""Onsets: every attack around its mark."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from combpace.core.onsets.doubt import Doubt, doubt
from combpace.session import words
from combpace.session.document.model import OnsetEdits, TakeEntry
from combpace.session.stack import DOUBLES, stacked
from combpace.session.state import SessionState
from combpace.stations.onsets import decisions
from combpace.stations.station import Action, Next, Place, Station, Step, look_first

__all__ = ["ONSETS", "decisions", "mic_name"]

DOUBTFUL_MARK = 0.65
# Who plays the same is compared on this grid; listed is what is farther apart than this, the worst so many.
STACK_ON, APART_S, MOST_SPREADS = "1/16", 0.025, 20
# What a doubtful mark is called, and why, by the kind of its doubt.
TITLES = {
    "decay": "A decay, hardly an attack",
    "legato": "A slide or a bound note",
    "level": "Hardly an attack",
    "slow": "A slow rise",
    "soft": "A soft attack",
}
REASONS = {
    "decay": "the sound gets softer here",
    "legato": "the pitch changes and the level hardly rises",
    "level": "it hardly gets louder here",
    "slow": "it gets louder over more than 25 ms",
    "soft": "it begins at once, but softly beside the others",
}
# Grids that marks are mostly kept on; any other may be named on the wire.
GRIDS = ("1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32")
KNOWN_PLACES = ("anywhere", "bars", "beats", *GRIDS)


def mic_name(take: TakeEntry) -> str:
    """A take's name, without that of its bundle where it begins with it and other words follow: there is
    little room.
    """
    rest = take.name.removeprefix(take.bundle) if take.bundle else ""
    return rest.strip(" -_.,:") if rest[:1] in tuple(" -_.,:") and rest.strip(" -_.,:") else take.name


def finding(state: SessionState, focus: str | None) -> str:
    marks = focus or state.need_lead().id
    doubtful = int((state.onsets(marks).confidence < DOUBTFUL_MARK).sum())
    # Whose they are: the station before and the one after may look at another take.
    whose = f" in {mic_name(state.document.take(marks))}" if len(state.document.takes) > 1 else ""
    return f"{len(state.onsets(marks))}, {doubtful} doubtful{whose}"


def places(state: SessionState, focus: str | None) -> list[Place]:
    lead = state.document.lead
    take_id = focus or (lead.id if lead else None)
    if take_id is None:
        return []
    take, onsets, session_map = state.document.take(take_id), state.onsets(take_id), state.session_map()
    found = []
    why = _reasons(
        state,
        take_id,
        [
            float(time)
            for time, sure in zip(onsets.times, onsets.confidence, strict=True)
            if sure < DOUBTFUL_MARK
        ],
    )
    for time, strength, sure in zip(onsets.times, onsets.strength, onsets.confidence, strict=True):
        if sure >= DOUBTFUL_MARK:
            continue
        at = float(time) + take.offset_s
        where = words.place(session_map, session_map.place(at)) if session_map else words.clock(at)
        args = {"take": take_id, "times_s": [float(time)]}
        found.append(
            Place(
                where,
                TITLES[why[float(time)].kind],
                f"{REASONS[why[float(time)].kind]}; strength {strength:.2f}, {sure * 100:.0f} % sure",
                at,
                1 - float(sure),
                Action("Remove this mark", "onset-remove", args),
                Action("It is right, lock it", "onset-lock", args),
                about="mark",
            )
        )
    return [*found, *_spreads(state, take_id)]


def _spreads(state: SessionState, take_id: str) -> list[Place]:
    """Where those who play the same as a take are far from it, the widest first."""
    line = state.session_map()
    if line is None:
        return []
    timing, above = state.document.timing_take(take_id), stacked(state, STACK_ON)
    here = above.at(timing)
    if here is None:
        return []
    found = []
    for other, take in enumerate(above.takes):
        if other == here or above.share(here, other) < DOUBLES:
            continue
        # The lead stays: what goes with it is brought to it.
        mover, to = (other, here) if above.takes[here].role == "lead" else (here, other)
        for note in above.notes:
            own, away = note.which[mover], note.off_s[other] - note.off_s[here]
            if note.which[here] is None or note.which[other] is None or own is None or abs(away) < APART_S:
                continue
            names = [above.takes[k].bundle or above.takes[k].name for k in (mover, to)]
            args = {
                "take": above.takes[mover].id,
                "to": above.takes[to].id,
                "on": STACK_ON,
                "times_s": [float(above.times[mover][own])],
            }
            found.append(
                Place(
                    words.place(line, note.quarters),
                    f"{take.bundle or take.name} {abs(1000 * away):.0f} ms "
                    f"{'later' if away > 0 else 'earlier'}",
                    f"than {above.takes[here].bundle or above.takes[here].name}, who plays the same here",
                    note.line_s,
                    min(0.3, abs(away)),
                    Action(f"Bring {names[0]} to {names[1]}", "bring", args),
                    about="apart",
                )
            )
    return sorted(found, key=lambda place: -place.worth)[:MOST_SPREADS]


def _reasons(state: SessionState, take_id: str, times_s: list[float]) -> dict[float, Doubt]:
    """Why marks are doubtful, by their moments; looked at once for each moment of a sound."""
    row = state.rows.get(take_id)
    if row is None or row.decoded_sha is None or not times_s:
        return {time: Doubt("soft", 0.0) for time in times_s}
    known: dict[float, Doubt] = state.folder.once(("doubts", row.decoded_sha), dict)
    if any(time not in known for time in times_s):
        with state.folder.source(row) as source:
            for time in times_s:
                if time not in known:
                    known[time] = doubt(source, time)
    return known


def values(state: SessionState, focus: str | None) -> dict[str, Any]:
    edits = state.document.edits.get(focus) if focus else None
    edits = edits or OnsetEdits()
    grids = [(grid, f"on {grid}") for grid in GRIDS]
    return {
        "threshold": f"{edits.threshold:.2f}",
        "listen": edits.listen,
        "apart": f"{edits.apart_ms:g}",
        "on": edits.on,
        "places_on": (
            ("anywhere", "anywhere"),
            ("bars", "on bars"),
            ("beats", "on beats"),
            *grids,
            *([] if edits.on in KNOWN_PLACES else [(edits.on, f"on {edits.on}")]),
        ),
        "hand_edits": edits.count,
        "mics": len(state.document.bundle_of(focus)) if focus else 0,
    }


def next_step(state: SessionState, focus: str | None, found: Sequence[Place]) -> Next | None:
    if found:
        return look_first(found, "mark")
    return Next(
        "No mark looks doubtful. What is marked can be pulled onto the bars.", Step("On to Fit", go="fit")
    )


ONSETS = Station(
    "onsets",
    "Onsets",
    4,
    finding,
    places,
    "onsets/side.html",
    values,
    more="onsets/more.html",
    next=next_step,
)
