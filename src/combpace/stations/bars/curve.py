"""The map as a curve of tempo: bars set to a tempo or a ramp, steps or ramps between anchors, smoothed,
tidied.

What is edited here is the session's map alone: the lead keeps the pace that was heard, and can be fitted to
the map. A map that followed the lead, or was steady, becomes one of its own with the first edit.
"""

from __future__ import annotations

from typing import Any, Literal

from combpace.core.clocks import SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import curve as curves
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.recount import nearest_bar
from combpace.core.tempo.tidy import tidy as tidied
from combpace.session import words
from combpace.session.decisions import Args, Change, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart
from combpace.session.holding import with_what_holds_in
from combpace.session.map_changes import checked_bpm, effect_of
from combpace.session.saying import settled
from combpace.session.state import SessionState


class TempoArgs(Args):
    """bpm: counted beats a minute in these bars; by: so much more than now; to_bpm: where a ramp ends."""

    from_bar: int
    to_bar: int
    bpm: str | float | None = None
    by: float | None = None
    to_bpm: str | float | None = None
    nudged: bool = False


class ShapeArgs(Args):
    """shape: "steps" or "ramps" between the anchors, or "smooth"; without bars for all of it; within_ms: how
    near bar lines stay where there are no anchors to go between.
    """

    shape: Literal["steps", "ramps", "smooth"]
    from_bar: int | None = None
    to_bar: int | None = None
    within_ms: str | float = curves.WITHIN_MS


class TidyArgs(Args):
    within_ms: str | float = 10.0
    ramps: bool = False
    on_beats: bool = False


@decision("tempo", TempoArgs)
def tempo(state: SessionState, args: TempoArgs) -> Change:
    """Chosen bars at a tempo, or along a ramp; what follows goes along up to the next anchor, which takes up
    the difference.
    """
    line, (first, last) = _line(state), _bars(state, args.from_bar, args.to_bar)
    beat = line.meter_of(first).beat_quarters
    start, stop = line.bar_line(first), line.bar_line(last + 1)
    now = 60.0 * (stop - start) / (line.second(stop) - line.second(start)) / beat
    if (args.bpm is None) == (args.by is None):
        raise ParameterError("State a tempo for these bars, or by how much it changes. Nothing was changed.")
    bpm = (
        now + args.by
        if args.by is not None
        else words.read_number(args.bpm if args.bpm is not None else "", "The tempo", 5, 1000)
    )
    to_bpm = None if args.to_bpm is None else words.read_number(args.to_bpm, "The tempo at the end", 5, 1000)
    new = curves.with_tempo(
        line, first, last, checked_bpm(bpm * beat), None if to_bpm is None else checked_bpm(to_bpm * beat)
    )
    which = f"Bar {args.from_bar} runs" if first == last else f"Bars {args.from_bar} to {args.to_bar} run"
    what = f"{which} at {bpm:.2f} BPM" if to_bpm is None else f"{which} from {bpm:.2f} to {to_bpm:.2f} BPM"
    return _changed(
        state, line, new, what, gesture=f"tempo:{args.from_bar}:{args.to_bar}" if args.nudged else None
    )


@decision("curve", ShapeArgs)
def curve(state: SessionState, args: ShapeArgs) -> Change:
    """Between anchors one step or one ramp each, or the tempi of bars evened out; anchors and both ends stay
    exact. Without anchors between the fewest places that keep every bar line near where it is.
    """
    line, within = _line(state), words.read_number(args.within_ms, "The distance", 0.1, 1000)
    (first, last), all_of_it = (
        _bars(state, args.from_bar, args.to_bar),
        args.from_bar is None and args.to_bar is None,
    )
    where = "" if all_of_it else f" in bars {args.from_bar} to {args.to_bar}"
    if args.shape == "smooth":
        made = curves.smoothed(line, first, last, within)
        return _changed(state, line, made, f"The tempi are smoothed{where}")
    made = curves.shaped(line, first, last, args.shape, within)
    return _changed(state, line, made, f"The tempo runs in {args.shape}{where}")


@decision("tidy", TidyArgs)
def tidy(state: SessionState, args: TidyArgs) -> Change:
    """The fewest tempo changes that keep every bar line within some milliseconds of where it is; anchors stay
    exact.
    """
    line = _line(state)
    within = words.read_number(args.within_ms, "The distance", 0.1, 1000)
    new, said = tidied(
        line,
        float(line.times_s[0]),
        min(state.end_s(), float(line.times_s[-1])),
        within,
        ramps=args.ramps,
        on_beats=args.on_beats,
    )
    what = (
        f"{words.count(said.changes_before, 'tempo change')} became {said.changes}, every bar line "
        f"within {said.largest_ms:.1f} ms of where it was"
    )
    return _changed(state, line, new, what)


def _line(state: SessionState) -> TempoMap[SessionTimes]:
    """The session's map as a curve: of a steady one the part that is in the session."""
    line = state.need_map()
    if not line.is_steady:
        return line
    stop = max(4, line.bar_of(line.place(state.end_s())) + 1)
    first = line.bar_of(line.place(min(0.0, *(take.offset_s for take in state.document.takes))))
    knots = {
        place: Knot(line.second(place), place)
        for place in (min(0.0, line.bar_line(first)), line.bar_line(stop))
    }
    # What was stated is an anchor of the curve: it goes through each of these moments exactly.
    stated = state.map_choice().stated
    for moment in (*(time for time, _ in stated.bars), *stated.downbeats):
        place = line.bar_line(nearest_bar(line, line.place(moment)))
        knots[place] = Knot(moment, place, True)
    return TempoMap(tuple(knots[place] for place in sorted(knots)), line.meters)


def _bars(state: SessionState, from_bar: int | None, to_bar: int | None) -> tuple[int, int]:
    """Indices of the first and last bar; all of them that are in the session where none are named."""
    line = state.need_map()
    ends = line.bar_of(line.place(state.end_s()) - 1e-6)
    if line.knots and not line.is_steady:
        ends = min(ends, line.bar_of(float(line.quarters[-1]) - 1e-6))
    first = 0 if from_bar is None else bar_index(from_bar)
    last = ends if to_bar is None else bar_index(to_bar)
    if first > last:
        raise ParameterError(f"Bars {from_bar} to {to_bar} run backwards. Nothing was changed.")
    if last > ends + 1000:
        raise ParameterError(
            f"The session ends in bar {ends + 1}; bar {to_bar} lies far behind it. Nothing was changed."
        )
    return first, last


def _changed(
    state: SessionState,
    old: TempoMap[SessionTimes],
    new: TempoMap[SessionTimes],
    what: str,
    gesture: str | None = None,
) -> Change:
    """A map of its own; what is stated and does not hold in it leaves, named."""
    chosen = state.map_choice()
    pace: Any = TempoMap(new.knots, new.meters)
    kept, gone = with_what_holds_in(new, chosen)
    made: MapPart = settled(kept).model_copy(
        update={
            "kind": "given",
            "given": forms.pace_part(pace),
            "edited": chosen.kind != "given" or chosen.edited,
        }
    )
    own = "" if chosen.kind == "given" else " The map is one of its own from now on; the lead keeps its pace."
    return Change({"map": forms.map_part(made)}, f"{what}; {effect_of(old, new)}.{gone}{own}", gesture)
