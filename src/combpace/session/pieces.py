"""Takes in pieces, as they sound now: stored cuts, laid on the session's map."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray
from combpace.core.pieces.laying import OwnSound, Piece, Pieces
from combpace.media.decode import FileSource
from combpace.session.document.model import TakePieces
from combpace.session.keys import short
from combpace.session.state import SessionState
from combpace.store.models import WANTED


def in_pieces(seen: SessionState, take_id: str) -> bool:
    """Whether a take sounds in pieces: they were cut from the sound that it has now, or from a render of
    it.
    """
    made, row = seen.document.pieces.get(take_id), seen.rows.get(take_id)
    if made is None or row is None or row.state == WANTED or seen.session_map() is None:
        return False
    return made.first_frame is not None or made.sha == row.decoded_sha


def rate_of(seen: SessionState, take_id: str) -> int:
    """Frames a second of a take and of its pieces."""
    return seen.rows[take_id].sample_rate_hz or 48_000


def laid(seen: SessionState, take_id: str) -> list[Piece]:
    """The pieces of a take in the order in which they are stored, each on its frame of the session's clock
    (frame 0 is session time 0).

    Their own sounds are not opened here.
    """
    found: list[Piece] = seen.once("laid pieces", lambda: _laid(seen, take_id), take_id)
    return found


def _laid(seen: SessionState, take_id: str) -> list[Piece]:
    made, line, rate = seen.document.pieces[take_id], seen.need_map(), rate_of(seen, take_id)
    frames = [
        round((line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)) * rate)
        for one in made.pieces
    ]
    fades = [
        [None if ms is None else round(ms * rate / 1000.0) for ms in (one.fade_in_ms, one.fade_out_ms)]
        for one in made.pieces
    ]
    curves = [tuple((round(ms * rate / 1000.0), db) for ms, db in one.curve) for one in made.pieces]
    return [
        Piece(one.start, one.stop, at, one.level_db, own[0], own[1], curve)
        for one, at, own, curve in zip(made.pieces, frames, fades, curves, strict=True)
    ]


@contextmanager
def base(seen: SessionState, take_id: str) -> Iterator[FileSource]:
    """The sound that the pieces of a take are cut from."""
    with FileSource(seen.folder.checked_blob(seen.document.pieces[take_id].sha)) as source:
        yield source


@dataclass(frozen=True, slots=True)
class LaidSound:
    """All that a take in pieces sounds like, as plain values: whoever has the files can make it.

    source  the decoded sound that is cut
    pieces  as `laid`, of each the file that is its own, or None
    """

    source: Path
    pieces: tuple[tuple[Piece, Path | None], ...]
    fade_s: float
    fill: str
    meeting: str


def laid_sound(seen: SessionState, take_id: str) -> LaidSound:
    """How a take in pieces sounds. Raises NotFoundError, and MediaError where one of its files is damaged."""
    made, name = seen.document.pieces[take_id], seen.document.take(take_id).name
    damaged = (
        f"A sound that the pieces of {name} are made of is damaged. Nothing was changed; a hand-off or Keep "
        "makes it again where that can be."
    )
    blob = partial(seen.folder.checked_blob, damaged=damaged)
    owned = {one.own: blob(one.own) for one in made.pieces if one.own is not None}
    every = zip(made.pieces, laid(seen, take_id), strict=True)
    return LaidSound(
        blob(made.sha),
        tuple((piece, None if one.own is None else owned[one.own]) for one, piece in every),
        made.fade_ms / 1000.0,
        made.fill,
        made.meeting,
    )


@contextmanager
def opened_sound(sound: LaidSound) -> Iterator[Pieces]:
    """The same with its files open."""
    with ExitStack() as stack:
        source = stack.enter_context(FileSource(sound.source))
        owned: dict[tuple[Path, int], Source] = {}
        every = []
        for piece, own in sound.pieces:
            if own is None:
                every.append(piece)
                continue
            if (own, piece.start) not in owned:
                owned[own, piece.start] = OwnSound(stack.enter_context(FileSource(own)), piece.start)
            every.append(replace(piece, own=owned[own, piece.start]))
        yield Pieces(source, every, fade_s=sound.fade_s, fill=sound.fill, meeting=sound.meeting)


@contextmanager
def opened(seen: SessionState, take_id: str) -> Iterator[Pieces]:
    """How a take in pieces sounds, on the session's clock at its own rate. Raises as `laid_sound`."""
    with opened_sound(laid_sound(seen, take_id)) as made:
        yield made


def was_s(seen: SessionState, take_id: str, made: TakePieces, frames: FloatArray) -> FloatArray:
    """Session seconds at which frames of the sound that is cut lay before it was cut."""
    rate = rate_of(seen, take_id)
    if made.first_frame is not None:
        return (np.asarray(frames) + made.first_frame) / rate
    return np.asarray(seen.moments(take_id, np.asarray(frames) / rate))


def key_of(seen: SessionState, take_id: str) -> str:
    """Names exactly how a take in pieces sounds, also slowed."""
    found: str = seen.once("key of pieces", lambda: _key_of(seen, take_id), take_id)
    return found


def _key_of(seen: SessionState, take_id: str) -> str:
    made = seen.document.pieces[take_id]
    each = [
        (
            piece.start,
            piece.stop,
            piece.at,
            piece.level_db,
            piece.fade_in,
            piece.fade_out,
            piece.curve,
            one.own,
        )
        for one, piece in zip(made.pieces, laid(seen, take_id), strict=True)
    ]
    return short("pieces", [made.sha, made.fade_ms, made.fill, made.meeting, rate_of(seen, take_id)], each)


def alike(made: TakePieces, number: int) -> list[int]:
    """All pieces that have the same sound as one, itself included; one that has its own is like no other."""
    one = made.pieces[number]
    if one.own is not None:
        return [number]
    return [
        k
        for k, other in enumerate(made.pieces)
        if other.own is None and (other.start, other.stop) == (one.start, one.stop)
    ]


def mates(seen: SessionState, take_id: str) -> list[str]:
    """The other mics of a take's bundle that are cut and moved with it: those of its start and sample
    rate.
    """
    entry, row = seen.document.take(take_id), seen.rows.get(take_id)
    found = []
    for mate in seen.document.bundle_of(take_id):
        other = seen.rows.get(mate.id)
        if mate.id == take_id or row is None or other is None or other.decoded_sha is None:
            continue
        if (mate.offset_s, other.sample_rate_hz) == (entry.offset_s, row.sample_rate_hz):
            found.append(mate.id)
    return found


def for_mate(
    seen: SessionState, mate: str, made: TakePieces, sound: tuple[str, int, int] | None = None
) -> TakePieces:
    """The same pieces of another mic, as far as that reaches.

    sound  (sha, frames, frame of the session's clock on which its first lies) of a render of the mic that is
           cut; None: its own sound, or what its pieces are cut from already
    Pieces of their own sound keep their own of that mic, too.
    """
    row, known = seen.rows[mate], seen.document.pieces.get(mate)
    frames = row.frames or 0
    sha, first_frame = row.decoded_sha or "", None
    if sound is not None:
        sha, frames, first_frame = sound
    elif known is not None and known.first_frame is not None and made.first_frame is not None:
        sha, first_frame = known.sha, known.first_frame
        frames = max(one.stop for one in known.pieces)
    owned = {(one.start, one.stop): one.own for one in (known.pieces if known else ()) if one.own is not None}
    theirs = list(known.pieces) if known else []
    own = []
    for one in made.pieces:
        if one.start >= frames:
            continue
        # Level and its curve are each mic's own, also in a part of a piece that was cut in two.
        same = next(
            (
                k
                for k, other in enumerate(theirs)
                if (other.start, min(other.stop, frames)) == (one.start, min(one.stop, frames))
            ),
            None,
        )
        if same is not None:
            level = theirs.pop(same)
        else:
            level = next((other for other in theirs if other.start <= one.start < other.stop), one)
        sound_ = owned.get((one.start, one.stop)) if one.own is not None else None
        own.append(
            replace(one, stop=min(one.stop, frames), own=sound_, level_db=level.level_db, curve=level.curve)
        )
    return replace(made, sha=sha, pieces=tuple(own), first_frame=first_frame)


def peaks_of(seen: SessionState, take_id: str) -> str | None:
    """The sha of the sound that pieces are drawn from where it is not the take's own; None where it is."""
    made = seen.document.pieces.get(take_id)
    return made.sha if made is not None and made.first_frame is not None else None
