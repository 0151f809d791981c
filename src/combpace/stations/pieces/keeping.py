"""A take in pieces kept as a take of its own: written as it sounds, and read like any other."""

from __future__ import annotations

from typing import Any

from combpace.core.errors import ParameterError, StaleError
from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.media.encode import write_sound
from combpace.playback.rendering import whole_pieces
from combpace.session import carried, pieces
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change, Job, NewTake, record, state_at
from combpace.session.document import parts as forms
from combpace.session.document.model import TakeEntry
from combpace.session.state import session_state
from combpace.session.take_names import kept_name
from combpace.store.models import new_id

# So many decisions may be taken in the moment in which it is put into the session.
MOST_MEETINGS = 20


def order_keep(folder: DataFolder, session_id: str, version: int, take_id: str) -> str:
    """Queue it. Returns the job's id. Raises ParameterError where the take is not in pieces, StaleError where
    the page has not seen how they lie.
    """
    seen = state_at(folder, session_id, version)
    entry = seen.document.take(take_id)
    if not pieces.in_pieces(seen, take_id):
        raise ParameterError(f"{entry.name} is not in pieces. Nothing was changed.")
    # Each mic of a bundle is kept as one of its own.
    together = [take_id, *(mate for mate in pieces.mates(seen, take_id) if pieces.in_pieces(seen, mate))]
    jobs = [
        enqueue(
            folder,
            session_id,
            "pieces",
            one,
            {"session": session_id, "take": one, "revision": seen.opened.revision.id},
        )
        for one in together
    ]
    return jobs[0]


@job("pieces")
def keep_pieces(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: write what was ordered, whatever is decided meanwhile, and put it into the session; the source
    stays, whole and muted.
    """
    seen, take_id = session_state(folder, args["session"], args["revision"]), args["take"]
    entry, row = seen.document.take(take_id), seen.rows[take_id]
    first = min(0, *(piece.at for piece in pieces.laid(seen, take_id)))
    target = folder.blobs.new_path(".wav")
    whole_pieces(seen, take_id, tell)
    try:
        with pieces.opened(seen, take_id) as made:
            write_sound(
                made,
                target,
                "wav32f",
                start=first,
                on_progress=lambda share: tell(f"writing {entry.name}", share),
            )
        size, sha = target.stat().st_size, folder.blobs.adopt(target)
    finally:
        target.unlink(missing_ok=True)
    new, first_s = new_id(), first / (row.sample_rate_hz or 48_000)
    edits, marks = carried.carried(seen, take_id, carried.in_pieces(seen, take_id, first_s))
    name = entry.name
    # The last moment in which it can be cancelled.
    tell("putting it into the session", 1.0)
    for _ in range(MOST_MEETINGS):
        now = session_state(folder, args["session"])
        name = kept_name(entry.name, "in pieces", {take.name for take in now.document.takes})
        kept = TakeEntry(new, name, entry.kind, "follower", "lead", None, first_s, source=take_id)
        change = Change(
            {
                "takes": forms.takes_part((*now.document.takes, kept)),
                f"pieces:{take_id}": None,
                f"onsets:{new}": forms.edits_part(edits),
            },
            f"{name} is kept as a take of its own, with its marks; the source stays as it was played, muted.",
            jobs=(Job("import", new, {"take": new, **({"marks": marks} if marks else {})}),),
            takes=(NewTake(new, f"{name}.wav", sha, size),),
            muted=(take_id,),
        )
        try:
            record(now, now.opened.revision.version, change)
            return {"take": new}
        except StaleError:
            continue
    raise ParameterError(
        f"{name} could not be put into the session: it is changed all the time. Keep it again."
    )
