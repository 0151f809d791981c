"""Takes in pieces, as they sound now: stored cuts, laid on the session's map."""

from __future__ import annotations

import hashlib
from dataclasses import replace

from combpace.core.audio import Source
from combpace.core.pieces.laying import Piece, Pieces
from combpace.session.document.model import TakePieces
from combpace.session.state import SessionState


def in_pieces(seen: SessionState, take_id: str) -> bool:
    """Whether a take sounds in pieces: they were cut from the sound that it has now."""
    made, row = seen.document.pieces.get(take_id), seen.rows.get(take_id)
    return made is not None and row is not None and made.sha == row.decoded_sha and seen.session_map() is not None


def laid(seen: SessionState, take_id: str) -> list[Piece]:
    """The pieces of a take in the order in which they are stored, each on its frame of the session's clock (frame 0 is session time 0)."""
    found: list[Piece] = seen.once("laid pieces", lambda: _laid(seen, take_id), take_id)
    return found


def _laid(seen: SessionState, take_id: str) -> list[Piece]:
    made, line, rate = seen.document.pieces[take_id], seen.need_map(), seen.rows[take_id].sample_rate_hz or 48_000
    frames = [round((line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)) * rate) for one in made.pieces]
    fades = [[None if ms is None else round(ms * rate / 1000.0) for ms in (one.fade_in_ms, one.fade_out_ms)] for one in made.pieces]
    return [Piece(one.start, one.stop, at, one.level_db, *own) for one, at, own in zip(made.pieces, frames, fades, strict=True)]


def source_of(seen: SessionState, take_id: str, opened: Source) -> Pieces:
    """How a take in pieces sounds, on the session's clock at its own rate; opened: the sound they were cut from."""
    made = seen.document.pieces[take_id]
    return Pieces(opened, laid(seen, take_id), fade_s=made.fade_ms / 1000.0, fill=made.fill, meeting=made.meeting)


def key_of(seen: SessionState, take_id: str) -> str:
    """Names exactly how a take in pieces sounds."""
    made = seen.document.pieces[take_id]
    digest = hashlib.sha256(f"{made.sha}:{made.fade_ms}:{made.fill}:{made.meeting}:".encode())
    for piece in laid(seen, take_id):
        digest.update(f"{piece.start},{piece.stop},{piece.at},{piece.level_db},{piece.fade_in},{piece.fade_out};".encode())
    return digest.hexdigest()[:16]


def mates(seen: SessionState, take_id: str) -> list[str]:
    """The other mics of a take's bundle that are cut and moved with it: those of its start and sample rate."""
    entry, row = seen.document.take(take_id), seen.rows.get(take_id)
    found = []
    for mate in seen.document.bundle_of(take_id):
        other = seen.rows.get(mate.id)
        if mate.id == take_id or row is None or other is None or other.decoded_sha is None:
            continue
        if (mate.offset_s, other.sample_rate_hz) == (entry.offset_s, row.sample_rate_hz):
            found.append(mate.id)
    return found


def for_mate(seen: SessionState, mate: str, made: TakePieces) -> TakePieces:
    """The same pieces of another mic, as far as that reaches."""
    row = seen.rows[mate]
    frames = row.frames or 0
    own = tuple(replace(one, stop=min(one.stop, frames)) for one in made.pieces if one.start < frames)
    return replace(made, sha=row.decoded_sha or "", pieces=own)
