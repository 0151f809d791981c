"""A session as if another take led it: what corrects the lead's bars corrects that take's."""

from __future__ import annotations

from dataclasses import replace

from combpace.core.errors import ParameterError
from combpace.session.document import parts as forms
from combpace.session.document.model import FORMAT, MapPart
from combpace.session.document.stated import later
from combpace.session.document.upgrades import upgraded
from combpace.session.state import SessionState


def led_by(state: SessionState, take_id: str) -> SessionState:
    """The session as it would be if a take with a pace of its own led it: what corrects the lead's bars
    corrects that take's.

    Of a decision on it only the take's pace is kept. Raises ParameterError for a take that has none of its
    own.
    """
    entry = state.document.take(take_id)
    if entry.role == "lead":
        return state
    if entry.pace != "own":
        raise ParameterError(
            f"{entry.name} shares the lead's pace, so its bars are the lead's. Nothing was changed; "
            "give it its own in Takes first."
        )
    everything = (*state.document.takes, *state.document.arrivals)
    takes = tuple(
        replace(take, role="lead", pace="lead", first_bar=1, arrival=False)
        if take.id == take_id
        else replace(take, role="follower")
        for take in everything
    )
    document = replace(
        state.document,
        takes=takes,
        arrivals=(),
        map=MapPart(
            kind="own",
            limit_ms=state.document.map.limit_ms,
            statements=tuple(later(one, entry.offset_s) for one in state.document.said.get(take_id, ())),
        ),
    )
    parts = {
        **upgraded(state.opened.revision.parts, state.opened.revision.format),
        **{f"pace:{take_id}": forms.pace_part(pace) for take_id, pace in document.paces.items()},
        "takes": forms.takes_part(document.takes),
        "map": forms.map_part(document.map),
    }
    revision = replace(state.opened.revision, parts=parts, format=FORMAT)
    opened = replace(state.opened, revision=revision, document=document)
    return replace(state, opened=opened, led=take_id, behind=state.heard_as)
