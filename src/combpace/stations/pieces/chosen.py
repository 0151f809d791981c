"""A chosen piece, or several: moved, made louder, faded, taken away; cut in two and joined again; made its
own.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

from pydantic import Field

from combpace.core.errors import ParameterError
from combpace.core.pieces.cutting import cut_frames
from combpace.media.decode import FileSource
from combpace.media.encode import write_sound
from combpace.session import pieces, words
from combpace.session.decisions import Args, Change, NewFile, Quarters, Seconds, TakeId, decision
from combpace.session.document.model import LaidPiece, TakePieces
from combpace.session.state import SessionState
from combpace.stations.pieces.now import changed, one_of, pieces_now

MOST_PIECES, MOST_FADE_MS, MOST_POINTS = 20_000, 20_000.0, 64


class PieceArgs(Args):
    """number: which piece, counted from 0 as they are stored."""

    take: TakeId
    number: int = Field(ge=0, le=MOST_PIECES)


class PieceMoveArgs(PieceArgs):
    """To a musical place, or freed to a moment of the session."""

    quarters: Quarters | None = None
    session_s: Seconds | None = None


class PieceSoundArgs(PieceArgs):
    """also: other pieces that change alike; only: these alone, not those that have the same sound."""

    also: list[int] = Field(default_factory=list, max_length=MOST_PIECES)
    only: bool = False


class PieceLengthArgs(PieceArgs):
    ms: float = Field(ge=5, le=3.6e6)


class PieceLevelArgs(PieceSoundArgs):
    level_db: float = Field(ge=-60, le=24)


Fade = Annotated[float, Field(ge=0, le=MOST_FADE_MS)] | Literal["all"] | None


class PieceFadesArgs(PieceSoundArgs):
    """Each fade within the piece, ms; "all": as the sentence has them for all; None: as it is."""

    fade_in_ms: Fade = None
    fade_out_ms: Fade = None


class PieceCurveArgs(PieceSoundArgs):
    """points: [ms after the piece's start, dB], in any order; none takes the curve away."""

    points: list[tuple[Annotated[float, Field(ge=0, le=3.6e6)], Annotated[float, Field(ge=-60, le=24)]]] = (
        Field(max_length=MOST_POINTS)
    )


class CutHereArgs(Args):
    """on_place: the moment is a place of the grid, and is cut to the frame."""

    take: TakeId
    session_s: Seconds
    on_place: bool = False


@decision("piece-move", PieceMoveArgs)
def piece_move(state: SessionState, args: PieceMoveArgs) -> Change:
    """Move one piece by hand: onto a place, where it keeps its bar, or freed to a moment, where it keeps its
    time.
    """
    made = pieces_now(state, args.take)
    piece, line = one_of(made, args.number), state.need_map()
    if (args.quarters is None) == (args.session_s is None):
        raise ParameterError("A piece goes to a place or to a moment. Nothing was changed.")
    home = piece.home
    if home is not None and (piece.quarters is None) != (args.quarters is None):
        # Where it was laid is said as where it lies is: a place, or a moment.
        home = line.place(home) if args.quarters is not None else line.second(home)
    new = replace(piece, quarters=args.quarters, session_s=args.session_s, home=home)
    at = line.second(args.quarters) if args.quarters is not None else float(args.session_s or 0.0)
    shown = words.place(line, args.quarters) if args.quarters is not None else words.clock(at)
    every = [new if k == args.number else one for k, one in enumerate(made.pieces)]
    return changed(
        state,
        args.take,
        made,
        every,
        f"A piece of {state.document.take(args.take).name} was moved to {shown}.",
    )


def _touched(made: TakePieces, args: PieceSoundArgs) -> list[int]:
    """Numbers of the pieces that a change of sound is about: those that are named, and unless it is for them
    only all that sound the same.
    """
    named = [args.number, *args.also]
    for number in named:
        one_of(made, number)
    every = named if args.only else [k for number in named for k in pieces.alike(made, number)]
    return sorted(set(every))


def _many(count: int, done: str) -> str:
    """ "A piece is +3 dB." or "14 pieces are touched: each is +3 dB." """
    return f"A piece {done}." if count == 1 else f"This touches {count} pieces: each {done}."


@decision("piece-length", PieceLengthArgs)
def piece_length(state: SessionState, args: PieceLengthArgs) -> Change:
    """Let one piece end earlier or later in its take's sound; where it begins stays."""
    made, rate = pieces_now(state, args.take), pieces.rate_of(state, args.take)
    piece = one_of(made, args.number)
    with _sound(state, args.take, piece) as source:
        end = source.frames + (piece.start if piece.own is not None else 0)
    stop = piece.start + round(args.ms * rate / 1000.0)
    if stop > end:
        longest = 1000.0 * (end - piece.start) / rate
        raise ParameterError(
            f"From there its sound lasts {longest:.0f} ms, so the piece cannot be longer. Nothing "
            "was changed."
        )
    fades = [None if ms is None else min(ms, args.ms) for ms in (piece.fade_in_ms, piece.fade_out_ms)]
    curve = tuple(point for point in piece.curve if point[0] <= args.ms)
    new = replace(piece, stop=stop, fade_in_ms=fades[0], fade_out_ms=fades[1], curve=curve)
    every = [new if k == args.number else one for k, one in enumerate(made.pieces)]
    return changed(
        state,
        args.take,
        made,
        every,
        f"A piece is {words.ms(args.ms)} long.",
        f"piece-length:{args.take}:{args.number}",
    )


@decision("piece-level", PieceLevelArgs)
def piece_level(state: SessionState, args: PieceLevelArgs) -> Change:
    """Make a piece louder or softer, dB; with it those of the same sound, unless it is for this one only.
    Each mic of a bundle has its own level.
    """
    made = pieces_now(state, args.take)
    touched = _touched(made, args)
    every = [
        replace(one, level_db=args.level_db) if k in touched else one for k, one in enumerate(made.pieces)
    ]
    note = _many(len(touched), f"is {args.level_db:+g} dB")
    return changed(
        state, args.take, made, every, note, f"piece-level:{args.take}:{args.number}:{len(touched)}"
    )


@decision("piece-fades", PieceFadesArgs)
def piece_fades(state: SessionState, args: PieceFadesArgs) -> Change:
    """Let a piece come in and go out over fades of its own, never beyond it; with it those of the same sound,
    unless it is for this one only.
    """
    made, rate = pieces_now(state, args.take), pieces.rate_of(state, args.take)
    touched = _touched(made, args)
    every = list(made.pieces)
    for k in touched:
        piece = every[k]
        length_ms = 1000.0 * (piece.stop - piece.start) / rate
        into, out = _fade(args.fade_in_ms, piece.fade_in_ms), _fade(args.fade_out_ms, piece.fade_out_ms)
        if max(into or 0.0, out or 0.0) > length_ms + 0.5:
            raise ParameterError(
                f"A piece is {length_ms:.0f} ms long, so its fade cannot be longer. Nothing was changed."
            )
        every[k] = replace(piece, fade_in_ms=into, fade_out_ms=out)
    first = every[args.number]
    said = [
        f"{what} over {ms:g} ms"
        for what, ms in (("comes in", first.fade_in_ms), ("goes out", first.fade_out_ms))
        if ms is not None
    ]
    done = " and ".join(said) if said else f"has the fades of {made.fade_ms:g} ms that all have"
    return changed(state, args.take, made, every, _many(len(touched), done))


@decision("piece-curve", PieceCurveArgs)
def piece_curve(state: SessionState, args: PieceCurveArgs) -> Change:
    """Give a piece a level that goes from point to point; with it those of the same sound, unless it is for
    this one only.
    """
    made, rate = pieces_now(state, args.take), pieces.rate_of(state, args.take)
    touched = _touched(made, args)
    points = tuple(sorted(args.points))
    if len({round(at, 3) for at, _ in points}) < len(points):
        raise ParameterError("Two points of a curve lie on the same moment. Nothing was changed.")
    longest_ms = min(1000.0 * (made.pieces[k].stop - made.pieces[k].start) / rate for k in touched)
    if points and points[-1][0] > longest_ms + 0.5:
        raise ParameterError(
            f"A piece is {longest_ms:.0f} ms long, so no point lies at {points[-1][0]:.0f} ms. "
            "Nothing was changed."
        )
    every = [replace(one, curve=points) if k in touched else one for k, one in enumerate(made.pieces)]
    done = f"has a level of {words.count(len(points), 'point')}" if points else "has lost its level curve"
    return changed(state, args.take, made, every, _many(len(touched), done))


@decision("piece-own", PieceArgs)
def piece_own(state: SessionState, args: PieceArgs) -> Change:
    """Copy just the sound of one piece, so that no change of others touches it; of a bundle that of each
    mic.
    """
    made = pieces_now(state, args.take)
    piece = one_of(made, args.number)
    if piece.own is not None:
        raise ParameterError("This piece has its own sound already. Nothing was changed.")
    owned, files = {}, []
    for take_id in (
        args.take,
        *(mate for mate in pieces.mates(state, args.take) if pieces.in_pieces(state, mate)),
    ):
        with pieces.base(state, take_id) as source:
            path = state.folder.blobs.new_path(".wav")
            try:
                write_sound(source, path, "wav32f", start=piece.start, stop=min(piece.stop, source.frames))
                size = path.stat().st_size
                owned[take_id] = state.folder.blobs.adopt(path)
            finally:
                path.unlink(missing_ok=True)
        files.append(
            NewFile(
                "piece",
                owned[take_id],
                f"A piece of {state.document.take(take_id).name}",
                owned[take_id],
                size,
            )
        )
    every = [
        replace(one, own=owned[args.take]) if k == args.number else one for k, one in enumerate(made.pieces)
    ]
    others = len(pieces.alike(made, args.number)) - 1
    said = (
        f"; {words.count(others, 'other piece')} of the same sound no longer "
        f"{'goes' if others == 1 else 'go'} with it"
        if others
        else ""
    )
    return changed(
        state, args.take, made, every, f"A piece has its own sound now{said}.", None, tuple(files), owned
    )


def _fade(said: Fade, known: float | None) -> float | None:
    """A fade after what was said of it, ms; None: as all."""
    return known if said is None else None if said == "all" else float(said)


@decision("piece-silence", PieceArgs)
def piece_silence(state: SessionState, args: PieceArgs) -> Change:
    """Take one piece away: nothing sounds there."""
    made = pieces_now(state, args.take)
    one_of(made, args.number)
    every = [one for k, one in enumerate(made.pieces) if k != args.number]
    if not every:
        raise ParameterError("The last piece stays; Drop gives the take back as it was. Nothing was changed.")
    return changed(
        state, args.take, made, every, f"A piece of {state.document.take(args.take).name} was taken away."
    )


def _sound(state: SessionState, take_id: str, piece: LaidPiece) -> FileSource:
    return FileSource(state.folder.blob(piece.own or state.document.pieces[take_id].sha))


@decision("cut-here", CutHereArgs)
def cut_here(state: SessionState, args: CutHereArgs) -> Change:
    """Cut the piece that sounds at a moment in two, at the zero crossing within 1 ms, or on a place of the
    grid just there; both stay where they are.
    """
    made, rate = pieces_now(state, args.take), pieces.rate_of(state, args.take)
    frame = round(args.session_s * rate)
    laid = pieces.laid(state, args.take)
    number = next(
        (k for k in reversed(range(len(laid))) if laid[k].at < frame < laid[k].at + laid[k].frames), None
    )
    if number is None:
        raise ParameterError(
            f"No piece sounds at {words.clock(args.session_s)}, so there is nothing to cut. Nothing "
            "was changed."
        )
    piece, line = made.pieces[number], state.need_map()
    with _sound(state, args.take, piece) as source:
        # Of its own sound the first frame is the piece's first.
        first = piece.start if piece.own is not None else 0
        moment = (piece.start - first + frame - laid[number].at) / rate
        found = next(iter(cut_frames(source, [moment], on_places=args.on_place)), None)
    cut = None if found is None else int(found) + first
    if cut is None or not piece.start < cut < piece.stop:
        raise ParameterError("That is too near to the end of the piece. Nothing was changed.")
    at = (laid[number].at + cut - piece.start) / rate
    free = piece.quarters is None
    second = replace(
        piece,
        start=int(cut),
        quarters=None if free else line.place(at),
        session_s=at if free else None,
        home=None,
        fade_in_ms=None,
    )
    every = [
        *made.pieces[:number],
        replace(piece, stop=int(cut), fade_out_ms=None),
        second,
        *made.pieces[number + 1 :],
    ]
    return changed(state, args.take, made, every, f"Cut at {words.place(line, line.place(at))}.")


@decision("piece-join", PieceArgs)
def piece_join(state: SessionState, args: PieceArgs) -> Change:
    """Join a piece with the one that follows it in the take's sound: the second comes to lie where the first
    goes on.
    """
    made = pieces_now(state, args.take)
    piece = one_of(made, args.number)
    following = next((k for k, one in enumerate(made.pieces) if one.start == piece.stop), None)
    if following is None:
        raise ParameterError(
            "What follows this piece in its take is not there, so there is nothing to join it "
            "with. Nothing was changed."
        )
    joined = replace(piece, stop=made.pieces[following].stop, fade_out_ms=made.pieces[following].fade_out_ms)
    every = [joined if k == args.number else one for k, one in enumerate(made.pieces) if k != following]
    return changed(state, args.take, made, every, "Two pieces are one again.")
