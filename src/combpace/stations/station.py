"""What a station is to the rest of the program: its words, its places to look at, what its template is
given.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from combpace.session.state import SessionState


def the_lead(state: SessionState) -> str | None:
    """The take that a station is about where nothing else was chosen."""
    return state.document.lead.id if state.document.lead else None


def nothing(state: SessionState, focus: str | None) -> dict[str, Any]:
    """What a template is given that needs nothing of its own."""
    return {}


@dataclass(frozen=True, slots=True)
class Action:
    """What one button does: its outcome in words, the decision's name and its arguments."""

    label: str
    name: str
    args: dict[str, Any]

    @property
    def wire(self) -> dict[str, Any]:
        return {"label": self.label, "name": self.name, "args": self.args}


@dataclass(frozen=True, slots=True)
class Place:
    """A place that deserves a human look.

    where     "bar 12", "5·2.50" or a take's name
    time_s    session time to step to and play from, or None
    worth     how much it deserves the look; larger first
    do, keep  what is proposed, and that it is right as it is
    choices   what may be chosen instead; none of them is taken by Enter
    about     its explanation, by its name in `explained`
    """

    where: str
    title: str
    reason: str
    time_s: float | None
    worth: float
    do: Action | None = None
    keep: Action | None = None
    choices: tuple[Action, ...] = ()
    about: str = ""

    @property
    def wire(self) -> dict[str, Any]:
        return {
            "where": self.where,
            "title": self.title,
            "reason": self.reason,
            "time_s": self.time_s,
            "worth": self.worth,
            "do": self.do.wire if self.do else None,
            "keep": self.keep.wire if self.keep else None,
            "choices": [one.wire for one in self.choices],
            "about": self.about,
        }


@dataclass(frozen=True, slots=True)
class Step:
    """What one button of a next step does.

    act      a decision that is taken; go: the station that is shown (then, or at once), take: the take that
             it is about
    command  one of the page's commands by its id, in their stead; href: a file that is fetched
    """

    label: str
    go: str = ""
    act: Action | None = None
    command: str = ""
    href: str = ""
    take: str = ""


@dataclass(frozen=True, slots=True)
class Next:
    """What is to be done now: a sentence, one button for most people, and at most two other ways."""

    sentence: str
    step: Step
    others: tuple[Step, ...] = ()


def no_next(state: SessionState, focus: str | None, places: Sequence[Place]) -> Next | None:
    """Of a station whose own button is the next step."""
    return None


def look_first(places: Sequence[Place], what: str) -> Next:
    """The next step where something deserves a look: to hear the first of it."""
    many = f"{len(places)} {what}s deserve" if len(places) > 1 else f"One {what} deserves"
    return Next(
        f"{many} a look. Each is heard with the click, and has a proposal.",
        Step("Hear the first", command="on"),
    )


@dataclass(frozen=True, slots=True)
class Station:
    """One of the seven.

    id, title, key  in its address, in the row at the top, and the digit that goes there
    finding    what it has to say in a few words, of a session with a lead; the second argument is the take in
               sight
    places     what deserves a look, in any order
    values     what its template is given
    template   the sentence at the side; more: what stands below the list; ledger: a list in the picture's
               stead
    focus      the take it is about where none was chosen
    needs_map  its finding waits for a tempo map
    next       what is to be done now in a session with a lead that was heard; None where the station's own
               button says it
    of_take    it corrects bars: the lead's, or those of a take with a pace of its own
    fitted     it draws how a take is fitted
    """

    id: str
    title: str
    key: int
    finding: Callable[[SessionState, str | None], str]
    places: Callable[[SessionState, str | None], list[Place]]
    template: str
    values: Callable[[SessionState, str | None], dict[str, Any]] = nothing
    more: str | None = None
    ledger: str | None = None
    focus: Callable[[SessionState], str | None] = the_lead
    needs_map: bool = True
    of_take: bool = False
    fitted: bool = False
    next: Callable[[SessionState, str | None, Sequence[Place]], Next | None] = no_next
    empty: str = "after a take is in"
