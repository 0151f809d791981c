"""Cut and lay: what becomes of a take in pieces."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from combpace.core.clocks import FloatArray, Quarters, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.pieces.cutting import cut_frames, grid_times, has_lead, places_apart
from combpace.core.pieces.laying import FILLS, MEETINGS
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.map import TempoMap
from combpace.session import fits, pieces, words
from combpace.session.decisions import Args, Change, Seconds, TakeArgs, TakeId, decision
from combpace.session.decisions import Quarters as QuartersArg
from combpace.session.document import parts as forms
from combpace.session.document.model import LaidPiece, TakePieces
from combpace.session.state import SessionState

ONSETS, BARS, BEATS = "onsets", "bars", "beats"
WHERE, BAR_PLACE = "where", "bar-place"
MOST_PIECES, MOST_FADE_MS = 5000, 20_000.0


class CutArgs(Args):
    """at: "onsets" (at least `stronger`), "bars", "beats" or a grid; lay: a grid, "bar-place" (its own place in the bar) or "where" it was."""

    take: TakeId
    at: str = Field(default=ONSETS, max_length=10)
    stronger: float = Field(default=0.0, ge=0, le=1)
    lay: str = Field(default="1/8", max_length=10)
    fill: Literal["nothing", "tail"] = "nothing"
    meeting: Literal["ends", "rings"] = "ends"
    fade_ms: float = Field(default=5.0, ge=0, le=500)


class PieceArgs(Args):
    """number: which piece, counted from 0 as they are stored."""

    take: TakeId
    number: int = Field(ge=0, le=MOST_PIECES)


class PieceMoveArgs(PieceArgs):
    """To a musical place, or freed to a moment of the session."""

    quarters: QuartersArg | None = None
    session_s: Seconds | None = None


class PieceLevelArgs(PieceArgs):
    level_db: float = Field(ge=-60, le=24)


Fade = Annotated[float, Field(ge=0, le=MOST_FADE_MS)] | Literal["all"] | None


class PieceFadesArgs(PieceArgs):
    """Each fade within the piece, ms; "all": as the sentence has them for all; None: as it is."""

    fade_in_ms: Fade = None
    fade_out_ms: Fade = None


class CutHereArgs(Args):
    take: TakeId
    session_s: Seconds


assert set(FILLS) == {"nothing", "tail"} and set(MEETINGS) == {"ends", "rings"}


@decision("cut-and-lay", CutArgs)
def cut_and_lay(state: SessionState, args: CutArgs) -> Change:
    """Cut a take and lay its pieces, without stretching; what was cut before is cut anew."""
    entry, row = state.document.take(args.take), state.rows.get(args.take)
    if row is None or row.decoded_sha is None or not row.sample_rate_hz:
        raise ParameterError(f"{entry.name} is still being read, so it cannot be cut yet. Nothing was changed.")
    line, pace, rate = state.need_map(), state.own_pace(args.take), row.sample_rate_hz
    if pace is None and (args.at != ONSETS or args.lay != WHERE):
        raise ParameterError(
            f"No pulse was found in {entry.name}: cut it at its onsets and leave it where it was, or state its tempo first. Nothing was changed."
        )
    # The mics of a bundle are cut at the strokes of all of them, together.
    marks = fits.marks_of(state, args.take) if entry.bundle and state.document.timing_take(args.take) == args.take else state.onsets(args.take)
    times: FloatArray
    if args.at == ONSETS:
        times = np.asarray(marks.times)[marks.strength >= args.stronger]
    else:
        assert pace is not None
        times = _grid_times(pace, args.at, state.duration_s(args.take))
    with state.folder.source(row) as source:
        cuts = [0, *(int(frame) for frame in cut_frames(source, times)), source.frames]
    if len(cuts) - 1 > MOST_PIECES:
        raise ParameterError(f"That is {len(cuts) - 1} pieces; at most {MOST_PIECES} are cut. Nothing was changed.")
    starts = np.array(cuts[:-1]) / rate
    made: list[LaidPiece] = []
    if args.lay == WHERE or pace is None:
        moments = np.asarray(state.moments(args.take, starts))
        made = [LaidPiece(a, b, None, float(at), float(at)) for a, b, at in zip(cuts, cuts[1:], moments, strict=False)]
    else:
        own = np.asarray(pace.to_quarters(take_times(starts)))
        goal = own.copy()
        if args.lay != BAR_PLACE:
            goal = np.asarray(parse_grid(args.lay).nearest(Quarters(own), line))
            # What lies before the first onset, or line of the grid, belongs to it: it keeps its distance.
            first = 1 if len(own) > 1 and has_lead(times) else 0
            goal[first:] = places_apart(own[first:], goal[first:])
            if first:
                goal[0] = line.place(line.second(float(goal[1])) - starts[1])
        made = [LaidPiece(a, b, float(q), None, float(q)) for a, b, q in zip(cuts, cuts[1:], goal, strict=False)]
    new = TakePieces(row.decoded_sha, tuple(made), args.fade_ms, args.fill, args.meeting)
    moved = _farthest_ms(state, args.take, new)
    parts = {f"pieces:{args.take}": forms.pieces_part(new)}
    for mate in pieces.mates(state, args.take):
        parts[f"pieces:{mate}"] = forms.pieces_part(pieces.for_mate(state, mate, new))
    laid = f"{entry.name} is in {words.count(len(made), 'piece')}, laid {_laid_words(args.lay)}"
    note = f"{laid}; the farthest moves by {moved:.0f} ms. Nothing is stretched."
    return Change(parts, note, f"pieces:{args.take}")


def _grid_times(pace: TempoMap[TakeTimes], at: str, length_s: float) -> FloatArray:
    if at not in (BARS, BEATS):
        return grid_times(pace, parse_grid(at), length_s)
    first, last = pace.bar_of(pace.place(0.0)), pace.bar_of(pace.place(length_s))
    places = []
    for index in range(first, last + 1):
        meter = pace.meter_of(index)
        places += [pace.bar_line(index) + k * meter.beat_quarters for k in range(1 if at == BARS else meter.beats)]
    times = np.asarray(pace.to_seconds(Quarters(np.array(places))))
    return times[(times >= -1e-9) & (times < length_s)]


def _laid_words(lay: str) -> str:
    return {WHERE: "where they were", BAR_PLACE: "on their own places in the bar"}.get(lay, f"on the nearest {lay}")


def _farthest_ms(state: SessionState, take_id: str, made: TakePieces) -> float:
    """How far the piece that moves most lies from where it was, ms."""
    line, rate = state.need_map(), state.rows[take_id].sample_rate_hz or 48_000
    starts = np.array([one.start / rate for one in made.pieces])
    was = np.asarray(state.moments(take_id, starts))
    now = np.array([line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0) for one in made.pieces])
    return 1000.0 * float(np.abs(now - was).max()) if len(starts) else 0.0


def _made(state: SessionState, take_id: str) -> TakePieces:
    state.document.take(take_id)
    made = state.document.pieces.get(take_id)
    if made is None or not pieces.in_pieces(state, take_id):
        raise ParameterError(f"{state.document.take(take_id).name} is not in pieces. Nothing was changed.")
    return made


def _one(made: TakePieces, number: int) -> LaidPiece:
    if number >= len(made.pieces):
        raise ParameterError("This piece is not there any more. Nothing was changed.")
    return made.pieces[number]


def _changed(state: SessionState, take_id: str, made: TakePieces, new: list[LaidPiece], note: str, gesture: str | None = None) -> Change:
    """The pieces of a take after a change; the mics of its bundle that were cut with it go along."""
    changed = replace(made, pieces=tuple(new))
    parts = {f"pieces:{take_id}": forms.pieces_part(changed)}
    for mate in pieces.mates(state, take_id):
        if pieces.in_pieces(state, mate):
            parts[f"pieces:{mate}"] = forms.pieces_part(pieces.for_mate(state, mate, changed))
    return Change(parts, note, gesture)


@decision("piece-move", PieceMoveArgs)
def piece_move(state: SessionState, args: PieceMoveArgs) -> Change:
    """Move one piece by hand: onto a place, where it keeps its bar, or freed to a moment, where it keeps its time."""
    made = _made(state, args.take)
    piece, line = _one(made, args.number), state.need_map()
    if (args.quarters is None) == (args.session_s is None):
        raise ParameterError("A piece goes to a place or to a moment. Nothing was changed.")
    new = replace(piece, quarters=args.quarters, session_s=args.session_s)
    at = line.second(args.quarters) if args.quarters is not None else float(args.session_s or 0.0)
    shown = words.place(line, args.quarters) if args.quarters is not None else words.clock(at)
    every = [new if k == args.number else one for k, one in enumerate(made.pieces)]
    return _changed(state, args.take, made, every, f"A piece of {state.document.take(args.take).name} was moved to {shown}.")


@decision("piece-level", PieceLevelArgs)
def piece_level(state: SessionState, args: PieceLevelArgs) -> Change:
    """Make one piece louder or softer, dB."""
    made = _made(state, args.take)
    new = replace(_one(made, args.number), level_db=args.level_db)
    every = [new if k == args.number else one for k, one in enumerate(made.pieces)]
    return _changed(state, args.take, made, every, f"A piece is {args.level_db:+g} dB.", f"piece-level:{args.take}:{args.number}")


@decision("piece-fades", PieceFadesArgs)
def piece_fades(state: SessionState, args: PieceFadesArgs) -> Change:
    """Let one piece come in and go out over fades of its own; a fade never reaches beyond the piece."""
    made, rate = _made(state, args.take), state.rows[args.take].sample_rate_hz or 48_000
    piece = _one(made, args.number)
    length_ms = 1000.0 * (piece.stop - piece.start) / rate
    into, out = _fade(args.fade_in_ms, piece.fade_in_ms), _fade(args.fade_out_ms, piece.fade_out_ms)
    if max(into or 0.0, out or 0.0) > length_ms + 0.5:
        raise ParameterError(f"The piece is {length_ms:.0f} ms long, so a fade of it is no longer. Nothing was changed.")
    new = replace(piece, fade_in_ms=into, fade_out_ms=out)
    every = [new if k == args.number else one for k, one in enumerate(made.pieces)]
    said = [f"{what} over {ms:g} ms" for what, ms in (("comes in", into), ("goes out", out)) if ms is not None]
    note = f"A piece {' and '.join(said)}." if said else f"A piece has the fades of {made.fade_ms:g} ms that all have."
    return _changed(state, args.take, made, every, note)


def _fade(said: Fade, known: float | None) -> float | None:
    """A fade after what was said of it, ms; None: as all."""
    return known if said is None else None if said == "all" else float(said)


@decision("piece-silence", PieceArgs)
def piece_silence(state: SessionState, args: PieceArgs) -> Change:
    """Take one piece away: nothing sounds there."""
    made = _made(state, args.take)
    _one(made, args.number)
    every = [one for k, one in enumerate(made.pieces) if k != args.number]
    if not every:
        raise ParameterError("The last piece stays; Drop gives the take back as it was. Nothing was changed.")
    return _changed(state, args.take, made, every, f"A piece of {state.document.take(args.take).name} was taken away.")


@decision("cut-here", CutHereArgs)
def cut_here(state: SessionState, args: CutHereArgs) -> Change:
    """Cut the piece that sounds at a moment in two, at the zero crossing within 1 ms; both stay where they are."""
    made, rate = _made(state, args.take), state.rows[args.take].sample_rate_hz or 48_000
    frame = round(args.session_s * rate)
    laid = pieces.laid(state, args.take)
    number = next((k for k in reversed(range(len(laid))) if laid[k].at < frame < laid[k].at + laid[k].frames), None)
    if number is None:
        raise ParameterError(f"No piece sounds at {words.clock(args.session_s)}, so there is nothing to cut. Nothing was changed.")
    piece, line = made.pieces[number], state.need_map()
    with state.folder.source(state.rows[args.take]) as source:
        cut = next(iter(cut_frames(source, [(piece.start + frame - laid[number].at) / rate])), None)
    if cut is None or not piece.start < cut < piece.stop:
        raise ParameterError("That is too near to the end of the piece. Nothing was changed.")
    at = (laid[number].at + cut - piece.start) / rate
    free = piece.quarters is None
    second = replace(piece, start=int(cut), quarters=None if free else line.place(at), session_s=at if free else None, home=None, fade_in_ms=None)
    every = [*made.pieces[:number], replace(piece, stop=int(cut), fade_out_ms=None), second, *made.pieces[number + 1 :]]
    return _changed(state, args.take, made, every, f"Cut at {words.place(line, line.place(at))}.")


@decision("piece-join", PieceArgs)
def piece_join(state: SessionState, args: PieceArgs) -> Change:
    """Join a piece with the one that follows it in the take's sound: the second comes to lie where the first goes on."""
    made = _made(state, args.take)
    piece = _one(made, args.number)
    following = next((k for k, one in enumerate(made.pieces) if one.start == piece.stop), None)
    if following is None:
        raise ParameterError("What follows this piece in its take is not there, so there is nothing to join it with. Nothing was changed.")
    joined = replace(piece, stop=made.pieces[following].stop, fade_out_ms=made.pieces[following].fade_out_ms)
    every = [joined if k == args.number else one for k, one in enumerate(made.pieces) if k != following]
    return _changed(state, args.take, made, every, "Two pieces are one again.")


@decision("pieces-drop", TakeArgs)
def pieces_drop(state: SessionState, args: TakeArgs) -> Change:
    """Give a take back as it was before it was cut."""
    _made(state, args.take)
    parts = {f"pieces:{take_id}": None for take_id in (args.take, *pieces.mates(state, args.take)) if take_id in state.document.pieces}
    return Change(parts, f"{state.document.take(args.take).name} is whole again.")
