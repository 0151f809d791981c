"""Cut and lay: what becomes of a take in pieces."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from combpace.core.clocks import FloatArray, Quarters, SessionTimes, TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.pieces.cutting import cut_frames, grid_times, has_lead, places_apart
from combpace.core.pieces.laying import FILLS, MEETINGS
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.map import TempoMap
from combpace.session import fits, pieces, words
from combpace.session.decisions import Args, Change, TakeArgs, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import LaidPiece, OnsetEdits, TakePieces
from combpace.session.renders import render_of
from combpace.session.state import SessionState
from combpace.stations.pieces.now import Sound, changed, opened, pieces_now, sound_of

ONSETS, BARS, BEATS = "onsets", "bars", "beats"
WHERE, BAR_PLACE = "where", "bar-place"
MOST_PIECES = 5000
# A take half of whose own bar lines lie this near to the session's lies on them: what is between is how it
# was heard.
ON_THE_BARS_S = 0.010
# A cut that lies this near to where a mark was belongs to it: the mark, and the way to its zero crossing.
SAME_CUT_S = 0.0065


class CutArgs(Args):
    """at: "onsets" (at least `stronger`), "bars", "beats" or a grid; lay: a grid, "bar-place" (its own place
    in the bar) or "where" it was.
    """

    take: TakeId
    at: str = Field(default=ONSETS, max_length=10)
    stronger: float = Field(default=0.0, ge=0, le=1)
    lay: str = Field(default="1/8", max_length=10)
    fill: Literal["nothing", "tail"] = "nothing"
    meeting: Literal["ends", "rings"] = "ends"
    fade_ms: float = Field(default=5.0, ge=0, le=500)


assert set(FILLS) == {"nothing", "tail"} and set(MEETINGS) == {"ends", "rings"}


def _laid(
    state: SessionState, args: CutArgs, sound: Sound, cuts: list[int], times: FloatArray
) -> list[LaidPiece]:
    """The pieces between cuts (frames of the sound), each where the sentence lays it."""
    line, rate, starts = state.need_map(), sound.rate, np.array(cuts[:-1])
    pace = _bars_of(state, args.take, sound)
    new = TakePieces(sound.sha, (), args.fade_ms, args.fill, args.meeting, sound.first_frame)
    if args.lay == WHERE or pace is None:
        moments = pieces.was_s(state, args.take, new, starts)
        return [
            LaidPiece(a, b, None, float(at), float(at))
            for a, b, at in zip(cuts, cuts[1:], moments, strict=False)
        ]
    own = np.asarray(pace.to_quarters(take_times(starts / rate)))
    goal = own.copy()
    if args.lay != BAR_PLACE:
        goal = np.asarray(parse_grid(args.lay).nearest(Quarters(own), line))
        # What lies before the first onset, or line of the grid, belongs to it: it keeps its distance.
        first = 1 if len(own) > 1 and has_lead(times) else 0
        goal[first:] = places_apart(own[first:], goal[first:])
        if first:
            goal[0] = line.place(line.second(float(goal[1])) - starts[1] / rate)
    return [LaidPiece(a, b, float(q), None, float(q)) for a, b, q in zip(cuts, cuts[1:], goal, strict=False)]


@decision("cut-and-lay", CutArgs)
def cut_and_lay(state: SessionState, args: CutArgs) -> Change:
    """Cut a take as it sounds, or as it was played where it is not fitted, and lay its pieces without
    stretching; what was cut before is cut anew.
    """
    entry, sound = state.document.take(args.take), sound_of(state, args.take)
    pace = state.own_pace(args.take)
    state.need_map()
    if pace is None and (args.at != ONSETS or args.lay != WHERE):
        raise ParameterError(
            f"No pulse was found in {entry.name}: cut it at its onsets and leave it where it was, "
            "or state its tempo first. Nothing was changed."
        )
    times = _times(state, args, sound)
    with opened(state, sound) as source:
        frames = cut_frames(source, times, on_places=args.at != ONSETS)
        cuts = [0, *(int(frame) for frame in frames), source.frames]
    if len(cuts) - 1 > MOST_PIECES:
        raise ParameterError(
            f"That is {len(cuts) - 1} pieces; at most {MOST_PIECES} are cut. Nothing was changed."
        )
    new = TakePieces(sound.sha, (), args.fade_ms, args.fill, args.meeting, sound.first_frame)
    made = _laid(state, args, sound, cuts, times)
    made = _again(state, args.take, sound, made)
    new = replace(new, pieces=tuple(made), at=args.at, stronger=args.stronger, lay=args.lay)
    moved = _farthest_ms(state, args.take, new)
    parts = {f"pieces:{args.take}": forms.pieces_part(new)}
    for mate in pieces.mates(state, args.take):
        other = sound_of(state, mate) if sound.first_frame is not None else None
        given = (
            None
            if other is None or other.first_frame is None
            else (other.sha, other.frames, other.first_frame)
        )
        parts[f"pieces:{mate}"] = forms.pieces_part(pieces.for_mate(state, mate, new, given))
    laid = f"{entry.name} is in {words.count(len(made), 'piece')}, laid {_laid_words(args.lay)}"
    fitted = (
        " What is cut is its render: a change of its fit no longer changes it."
        if sound.first_frame is not None
        else ""
    )
    note = f"{laid}; the farthest moves by {moved:.0f} ms. Nothing is stretched.{fitted}"
    return Change(parts, note, f"pieces:{args.take}")


def _again(state: SessionState, take_id: str, sound: Sound, made: list[LaidPiece]) -> list[LaidPiece]:
    """The pieces of a loop that comes round, in each of its rounds; its last round ends where the loop does.
    Those of anything else once.
    """
    entry, pace = state.document.take(take_id), state.own_pace(take_id)
    if (
        not entry.comes_round
        or sound.first_frame is not None
        or pace is None
        or not fits.can_come_round(state, entry)
        or made[0].quarters is None
    ):
        return made
    line, size = state.need_map(), pace.place(sound.frames / sound.rate) - pace.place(0.0)
    end = line.place(float(fits.take_fit(state, take_id).fit.time_map.target_s[-1]))
    rounds = math.ceil((end - pace.place(0.0)) / size - 1e-6)
    if rounds * len(made) > MOST_PIECES:
        raise ParameterError(
            f"That is {rounds * len(made)} pieces; at most {MOST_PIECES} are cut. Nothing was changed."
        )
    every = [(float(one.quarters or 0.0) + turn * size, one) for turn in range(rounds) for one in made]
    return [replace(one, quarters=place, home=place) for place, one in every if place < end - 1e-6]


def _times(state: SessionState, args: CutArgs, sound: Sound) -> FloatArray:
    """Moments at which a sound is cut, in its own seconds."""
    length_s = sound.frames / sound.rate
    entry = state.document.take(args.take)
    if args.at == ONSETS:
        # The mics of a bundle are cut at the strokes of all of them, together; a fit goes by the clock of
        # the one by which it moves.
        marks = (
            fits.joint_marks(state, args.take)
            if sound.first_frame is None
            else fits.marks_of(state, state.document.timing_take(args.take))
        )
        times: FloatArray = np.asarray(marks.times)[marks.strength >= args.stronger]
        if sound.first_frame is None:
            return times
        made = fits.take_fit(state, args.take)
        file = render_of(state.folder, state.opened.row.id, fits.key_of(state, made, args.take), whole=True)
        if file is None or file.sha != sound.sha:
            raise ParameterError(
                f"The fit of {entry.name} was changed since it was cut, so its marks lie elsewhere "
                "now; drop its pieces, then cut it again. "
                "Nothing was changed."
            )
        times = made.fit.time_map.to_target(times) - sound.first_frame / sound.rate
        return times[(times >= 0) & (times < length_s)]
    pace = _bars_of(state, args.take, sound)
    assert pace is not None
    return _grid_times(pace, args.at, length_s)


def _bars_of(state: SessionState, take_id: str, sound: Sound) -> TempoMap[TakeTimes] | None:
    """The bars by which a sound is cut, on its own clock: the session's where it lies on them, as a render
    does, and as a take does that was played to a steady tempo; else the take's own.
    """
    pace, line = state.own_pace(take_id), state.need_map()
    if sound.first_frame is not None:
        return _from(line, sound.first_frame / sound.rate)
    entry = state.document.take(take_id)
    if pace is None or (entry.role != "lead" and entry.pace == "own"):
        return pace
    session = _from(line, entry.offset_s)
    first, last = pace.bar_of(pace.place(0.0)), pace.bar_of(pace.place(sound.frames / sound.rate))
    lines = pace.bar_lines(first, last - first + 1)
    off = np.abs(np.asarray(pace.to_seconds(lines)) - np.asarray(session.to_seconds(lines)))
    return session if float(np.median(off)) <= ON_THE_BARS_S else pace


def _from(line: TempoMap[SessionTimes], start_s: float) -> TempoMap[TakeTimes]:
    """The session's map on the clock of a sound that begins at a moment of the session."""
    return TempoMap(tuple(replace(knot, time_s=knot.time_s - start_s) for knot in line.knots), line.meters)


def _grid_times(pace: TempoMap[TakeTimes], at: str, length_s: float) -> FloatArray:
    if at not in (BARS, BEATS):
        return grid_times(pace, parse_grid(at), length_s)
    first, last = pace.bar_of(pace.place(0.0)), pace.bar_of(pace.place(length_s))
    places = []
    for index in range(first, last + 1):
        meter = pace.meter_of(index)
        places += [
            pace.bar_line(index) + k * meter.beat_quarters for k in range(1 if at == BARS else meter.beats)
        ]
    times = np.asarray(pace.to_seconds(Quarters(np.array(places))))
    return times[(times >= -1e-9) & (times < length_s)]


def _laid_words(lay: str) -> str:
    return {WHERE: "where they were", BAR_PLACE: "on their own places in the bar"}.get(
        lay, f"on the nearest {lay}"
    )


def _farthest_ms(state: SessionState, take_id: str, made: TakePieces) -> float:
    """How far the piece that moves most lies from where it was, ms."""
    line = state.need_map()
    # Of a loop that comes round the first round tells: there the cuts still go on in the sound.
    again = next(
        (k for k in range(1, len(made.pieces)) if made.pieces[k].start <= made.pieces[k - 1].start),
        len(made.pieces),
    )
    first = made.pieces[:again]
    was = pieces.was_s(state, take_id, made, np.array([one.start for one in first]))
    now = np.array(
        [
            line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)
            for one in first
        ]
    )
    return 1000.0 * float(np.abs(now - was).max()) if len(was) else 0.0


@decision("pieces-drop", TakeArgs)
def pieces_drop(state: SessionState, args: TakeArgs) -> Change:
    """Give a take back as it was before it was cut; a fitted one as it was fitted."""
    pieces_now(state, args.take)
    parts = {
        f"pieces:{take_id}": None
        for take_id in (args.take, *pieces.mates(state, args.take))
        if take_id in state.document.pieces
    }
    return Change(parts, f"{state.document.take(args.take).name} is whole again.")


# -- cuts on marks that were moved since


def moved_cuts(state: SessionState, take_id: str) -> list[tuple[int, float]]:
    """Cuts of a take that lie where a mark was that has been moved since: (frame of the cut, the mark's
    second now).
    """
    made = state.document.pieces.get(take_id)
    if made is None or made.first_frame is not None or not pieces.in_pieces(state, take_id):
        return []
    rate = pieces.rate_of(state, take_id)
    edits = state.document.edits.get(take_id, OnsetEdits())
    starts = sorted({one.start for one in made.pieces if one.own is None})
    found = []
    for old, new in edits.moved:
        near = [
            frame
            for frame in starts
            if abs(frame / rate - old) <= SAME_CUT_S and abs(frame / rate - new) > abs(frame / rate - old)
        ]
        if near:
            found.append((min(near, key=lambda frame: abs(frame / rate - old)), new))
    return found


@decision("cuts-to-marks", TakeArgs)
def cuts_to_marks(state: SessionState, args: TakeArgs) -> Change:
    """Move cuts to where their marks are now; each piece stays on its place, with its new first frame
    there.
    """
    made, moved = pieces_now(state, args.take), moved_cuts(state, args.take)
    if not moved:
        raise ParameterError(
            f"All cuts of {state.document.take(args.take).name} lie on its marks. Nothing was changed."
        )
    rate, to = pieces.rate_of(state, args.take), {}
    with pieces.base(state, args.take) as source:
        for frame, new in moved:
            cut = next(iter(cut_frames(source, [new])), None)
            if cut is not None:
                to[frame] = int(cut)
    every = []
    for one in made.pieces:
        start, stop = (
            (one.start, one.stop)
            if one.own is not None
            else (to.get(one.start, one.start), to.get(one.stop, one.stop))
        )
        every.append(replace(one, start=start, stop=stop) if start < stop else one)
    farthest = max((abs(new - frame) for frame, new in to.items()), default=0)
    note = (
        f"{words.count(len(to), 'cut')} moved to where the marks are now, by up to "
        f"{1000 * farthest / rate:.0f} ms; every piece stays on its place."
    )
    return changed(state, args.take, made, every, note)
