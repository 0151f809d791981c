"""The render of a whole take along its fit: ordered by a page, made by a job, kept by its key."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.playback.rendering import render_args, render_fit
from combpace.session import fits, needed
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change, record, state_at
from combpace.session.document import parts as forms


@dataclass(frozen=True, slots=True)
class Ordered:
    """The job of a render, the session's version with it, and what became a step with the order (None where
    nothing did).
    """

    job: str
    version: int
    note: str | None


def order_render(folder: DataFolder, session_id: str, version: int, take_id: str) -> Ordered:
    """Queue the render of a take and of all in its bundle. A proposed sentence becomes the user's with it: a
    step of its own, and said.
    """
    state = state_at(folder, session_id, version)
    made = fits.take_fit(state, take_id)
    now, note = state.opened.revision.version, None
    if not made.stated:
        parts = {f"rule:{made.take.id}": forms.rule_part(made.choice)}
        kept = record(state, version, Change(parts, fits.sentence(made.choice, made.take)))
        now, note = kept.version, f"The proposal is yours now: {kept.note}"
    args = render_args(state, made)
    return Ordered(enqueue(folder, session_id, "render", made.take.id, args), now, note)


@job("render")
def render_take(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: render each take of a bundle along one time map into a float file that is kept by its key. What is
    rendered is what was ordered, whatever is decided or listened to meanwhile.
    """
    made = render_fit(folder, args, tell)
    needed.keep(folder, args["session"])
    return {"files": made}
