"""What a take is cut from, its pieces as they are now, and how a change of them is written."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from combpace.core.errors import ParameterError
from combpace.media.decode import FileSource
from combpace.session import fits, pieces
from combpace.session.decisions import Change, NewFile
from combpace.session.document import parts as forms
from combpace.session.document.model import LaidPiece, TakePieces
from combpace.session.renders import render_of
from combpace.session.state import SessionState


@dataclass(frozen=True, slots=True)
class Sound:
    """What a take is cut from: its own sound, or (with first_frame, on the session's clock) the render that
    it sounds as.
    """

    sha: str
    frames: int
    rate: int
    first_frame: int | None = None


def sound_of(state: SessionState, take_id: str, *, followers: bool = False) -> Sound:
    """The sound that a take is cut from.

    Pieces that are there are cut anew from what they were cut from. A fitted take is cut as it sounds, so it
    has to be rendered as it stands.
    followers  also a take that follows at its own pace and was given no rule is cut as it sounds; else as it
               was played
    Raises     ParameterError while it is being read, or not rendered
    """
    entry, row = state.document.take(take_id), state.rows.get(take_id)
    if row is None or row.decoded_sha is None or not row.sample_rate_hz or not row.frames:
        raise ParameterError(
            f"{entry.name} is still being read, so it cannot be cut yet. Nothing was changed."
        )
    known = state.document.pieces.get(take_id)
    if known is not None and known.first_frame is not None and pieces.in_pieces(state, take_id):
        with FileSource(state.folder.checked_blob(known.sha)) as source:
            return Sound(known.sha, source.frames, row.sample_rate_hz, known.first_frame)
    fitted = not pieces.in_pieces(state, take_id) and fits.is_fitted(state, take_id)
    if not fitted or not (followers or state.document.timing_take(take_id) in state.document.rules):
        return Sound(row.decoded_sha, row.frames, row.sample_rate_hz)
    made = fits.take_fit(state, take_id)
    file = render_of(state.folder, state.opened.row.id, fits.key_of(state, made, take_id), whole=True)
    if file is None:
        raise ParameterError(
            f"{entry.name} is fitted and not rendered as it stands; render it in Fit, then cut what "
            "sounds. Nothing was changed."
        )
    details = json.loads(file.details)
    return Sound(file.sha, int(details["frames"]), row.sample_rate_hz, int(details["first_frame"]))


@contextmanager
def opened(state: SessionState, sound: Sound) -> Iterator[FileSource]:
    with FileSource(state.folder.checked_blob(sound.sha)) as source:
        yield source


def pieces_now(state: SessionState, take_id: str) -> TakePieces:
    """The pieces of a take. Raises ParameterError where it is whole."""
    name = state.document.take(take_id).name
    made = state.document.pieces.get(take_id)
    if made is None or not pieces.in_pieces(state, take_id):
        raise ParameterError(f"{name} is not in pieces. Nothing was changed.")
    return made


def one_of(made: TakePieces, number: int) -> LaidPiece:
    if number >= len(made.pieces):
        raise ParameterError("This piece is not there any more. Nothing was changed.")
    return made.pieces[number]


def changed(
    state: SessionState,
    take_id: str,
    made: TakePieces,
    new: Sequence[LaidPiece],
    note: str,
    gesture: str | None = None,
    files: tuple[NewFile, ...] = (),
    owned: dict[str, str] | None = None,
) -> Change:
    """The pieces of a take after a change; the mics of its bundle that were cut with it go along.

    owned  of a piece that became its own: id of each mic -> sha of its own sound of it
    """
    now = replace(made, pieces=tuple(new))
    parts: dict[str, Any] = {f"pieces:{take_id}": forms.pieces_part(now)}
    for mate in pieces.mates(state, take_id):
        if not pieces.in_pieces(state, mate):
            continue
        theirs = pieces.for_mate(state, mate, now)
        if owned and mate in owned:
            fresh = {k for k, one in enumerate(now.pieces) if one.own == owned.get(take_id)}
            theirs = replace(
                theirs,
                pieces=tuple(
                    replace(one, own=owned[mate]) if k in fresh else one
                    for k, one in enumerate(theirs.pieces)
                ),
            )
        parts[f"pieces:{mate}"] = forms.pieces_part(theirs)
    return Change(parts, note, gesture, files=files)
