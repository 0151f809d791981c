"""All stations, in the order of the work. Importing this registers every decision and every job."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from combpace.core.errors import NotFoundError
from combpace.session import foresight
from combpace.session import needed as _needed  # noqa: F401 - says what each step needs
from combpace.session.decisions import ALONG
from combpace.session.led import led_by
from combpace.session.state import SessionState
from combpace.stations import cleaning as _cleaning  # noqa: F401 - a job
from combpace.stations.bars.station import BARS
from combpace.stations.fit.station import FIT
from combpace.stations.handoff.station import HAND_OFF
from combpace.stations.onsets.station import ONSETS
from combpace.stations.pace.station import PACE
from combpace.stations.pieces.station import PIECES
from combpace.stations.station import Action, Next, Place, Station, Step
from combpace.stations.takes.station import TAKES
from combpace.store import rows
from combpace.store.models import BEING_READ

# Whatever is decided, what keeps its bar goes along.
assert foresight.with_kept_bars in ALONG
STATIONS: dict[str, Station] = {
    station.id: station for station in (TAKES, PACE, BARS, ONSETS, FIT, PIECES, HAND_OFF)
}
# Where a session opens: with takes in it, and without.
OPENS_AT, OPENS_EMPTY_AT = BARS.id, TAKES.id


def station(station_id: str) -> Station:
    """Raises NotFoundError, naming those there are."""
    if station_id not in STATIONS:
        *most, last = (one.title for one in STATIONS.values())
        raise NotFoundError(f"There is no such station. {', '.join(most)} and {last} are.")
    return STATIONS[station_id]


def focus_of(state: SessionState, wanted: str | None, here: Station) -> str | None:
    """The take a station is about: the one asked for, else the station's own choice."""
    return wanted if any(take.id == wanted for take in state.document.takes) else here.focus(state)


def seen_by(state: SessionState, here: Station, of: str | None) -> SessionState:
    """What a station shows: the session, or in one that corrects bars the session as if a take with a pace of
    its own led it.
    """
    return (
        led_by(state, of)
        if here.of_take
        and of is not None
        and any(
            take.id == of and take.pace == "own" for take in (*state.document.takes, *state.document.arrivals)
        )
        else state
    )


def places(state: SessionState, here: Station, focus: str | None) -> list[Place]:
    """The places of a station that deserve a look, worst first."""
    # A render that was made since may say more.
    renders = len(rows.files_like(state.folder.database, state.opened.row.id, "render"))
    found: list[Place] = state.once(
        "places",
        lambda: sorted(here.places(state, focus), key=lambda place: -place.worth),
        here.id,
        focus,
        renders,
    )
    return found


def next_step(state: SessionState, here: Station, focus: str | None, found: Sequence[Place]) -> Next | None:
    """What is to be done now, in whatever state the session is; None where the station's own button says
    it.
    """
    lead = state.document.lead
    if lead is None:
        if state.document.notes and here.id == HAND_OFF.id:
            return here.next(state, focus, found)
        return Next(
            "Bring in the take that sets the bars, mostly the drums. Several files may come at once.",
            Step("Choose files", command="choose-files"),
        )
    row = state.rows.get(lead.id)
    if row is not None and row.state in BEING_READ:
        return Next(
            f"{lead.name} is listened to; its bars stand here in a moment. It can be heard meanwhile.",
            Step("Play it", command="play"),
        )
    if row is not None and row.state == "failed":
        again = Action("", "listen-again", {"take": lead.id})
        return Next(
            f"{lead.name} was not read: {row.error}",
            Step("Listen again", act=again),
            (Step("Choose other files", command="choose-files"),),
        )
    if state.session_map() is None and here.id != PACE.id:
        return Next(
            f"No pulse was found in {lead.name}: its attacks are too soft or too few. State a "
            "tempo, or tap along.",
            Step("State its tempo", go=PACE.id),
        )
    return here.next(state, focus, found)


def heard(state: SessionState, here: Station, focus: str | None) -> bool:
    """Whether what this station shows was listened to; before, that nothing looks doubtful is not known."""
    row = state.rows.get(focus or "")
    if row is not None and row.state != "ready":
        return False
    return state.session_map() is not None or (row is not None and not here.needs_map)


def findings(state: SessionState, focus: str | None) -> list[dict[str, Any]]:
    """The row of stations, each with its own finding."""
    reading = [
        take
        for take in state.document.takes
        if take.id in state.rows and state.rows[take.id].state in BEING_READ
    ]
    no_map = state.session_map() is None
    found = []
    for one in STATIONS.values():
        if state.document.lead is None and (one.needs_map or not state.document.notes):
            text = one.empty
        elif no_map and one.needs_map:
            text = "listening" if reading else "no pulse: state a tempo"
        else:
            text = one.finding(state, focus)
        found.append({"id": one.id, "title": one.title, "key": one.key, "finding": text})
    return found
