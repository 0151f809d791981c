"""A steady tempo read from chosen takes and chosen bars: the part where the pulse is clear speaks for the
whole.
"""

from __future__ import annotations

import numpy as np
from pydantic import Field

from combpace.core.analysis.take import Hints, read
from combpace.core.beats.activations import FRAMES_PER_S, PAIR, Activations
from combpace.core.clocks import take_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.meters import bar_index
from combpace.session.decisions import Args, Change, TakeId, decision
from combpace.session.document.model import TakeEntry
from combpace.session.document.stated import TempoStatement
from combpace.session.map_changes import of_one_tempo, restated
from combpace.session.state import SessionState

# Shorter than this no tempo is read.
LEAST_S = 3.0


class PartArgs(Args):
    """takes: whose attacks are heard, the first one's pulse; from_bar, to_bar: both belong to it, None for
    the first and the last.
    """

    takes: list[TakeId] = Field(min_length=1, max_length=64)
    from_bar: int | None = None
    to_bar: int | None = None


def _edges(state: SessionState, args: PartArgs, first: TakeEntry) -> list[float]:
    """[from, to], seconds of a take: the bars that were chosen, else all of it."""
    edges = [0.0, state.duration_s(first.id)]
    if args.from_bar is not None or args.to_bar is not None:
        now = state.need_map()
        if args.from_bar is not None:
            edges[0] = now.second(now.bar_line(bar_index(args.from_bar))) - first.offset_s
        if args.to_bar is not None:
            edges[1] = now.second(now.bar_line(bar_index(args.to_bar) + 1)) - first.offset_s
    return edges


@decision("read-from", PartArgs)
def read_from(state: SessionState, args: PartArgs) -> Change:
    """One steady tempo as chosen takes have it in chosen bars; bar 1 stays the line nearest to where it
    was.
    """
    takes = [state.document.take(take_id) for take_id in args.takes]
    first = takes[0]
    row = state.rows.get(first.id)
    activations = (
        state.folder.activations(row) if row is not None and state.analysis(first.id) is not None else None
    )
    if activations is None:
        raise ParameterError(
            f"{first.name} has not been listened to, or by an earlier version; listen to it again "
            "in Takes. Nothing was changed."
        )
    line = state.session_map()
    length = state.duration_s(first.id)
    edges = _edges(state, args, first)
    low, high = max(0.0, edges[0]), min(length, edges[1])
    if high - low < LEAST_S:
        raise ParameterError(
            f"These bars hold less than {LEAST_S:g} s of {first.name}, too little for a tempo. "
            "Nothing was changed; choose more bars."
        )
    # Whole pairs of frames, so that what was heard is cut where its own windows are.
    pair = round(low * FRAMES_PER_S) // PAIR
    low = pair * PAIR / FRAMES_PER_S
    onsets = _struck(state, args.takes, low, high)
    _, pace, fitted, _ = read(
        _part(activations, pair, high), onsets, Hints(meter=state.stated.everywhere), high - low
    )
    if pace is None or fitted is None:
        raise ParameterError(f"No pulse was found in these bars of {first.name}. Nothing was changed.")
    chosen = state.map_choice()
    kept = tuple(one for one in chosen.statements if not isinstance(one, TempoStatement))
    gone = "" if len(kept) == len(chosen.statements) else " The tempo that you stated no longer holds."
    kind = state.kind_of(chosen)
    one_already = line is not None and kind is not None and not kind.breathes
    meters = line.meters if line is not None and one_already else pace.meters[:1]
    beat = pace.meters[0].beat_quarters
    bar_s = 60.0 / fitted.bpm / beat * pace.meters[0].bar_quarters
    start = fitted.first_downbeat_s + low + first.offset_s
    near = line.second(0.0) if line is not None else 0.0
    start += bar_s * round((near - start) / bar_s)
    chosen = chosen.model_copy(update={"statements": kept})
    chosen = of_one_tempo(state, chosen, fitted.bpm * beat, start, meters)
    where = (
        ""
        if args.from_bar is None and args.to_bar is None
        else f" in bars {args.from_bar or 1} to {args.to_bar or 'the last'}"
    )
    names = " and ".join(take.name for take in takes[:3]) + (
        f" and {len(takes) - 3} more" if len(takes) > 3 else ""
    )
    how = f"within {fitted.scatter_ms:.1f} ms of it"
    note = (
        f"Read from {names}{where}: a steady {{bpm}} BPM ± {fitted.plus_minus_bpm:.4f}, beats scatter "
        f"{how}; bar 1 {{bar_1}}"
    )
    return restated(state, chosen, note, gone)


def _struck(state: SessionState, take_ids: list[str], low: float, high: float) -> Onsets:
    """Attacks of all chosen takes between two moments of the first one's clock, from the first of them on."""
    first = state.document.take(take_ids[0])
    each = [
        (state.onsets(take_id), state.document.take(take_id).offset_s - first.offset_s)
        for take_id in take_ids
    ]
    times = np.concatenate([np.asarray(found.times) + offset - low for found, offset in each])
    strength, confidence = (
        np.concatenate([getattr(found, name) for found, _ in each]) for name in ("strength", "confidence")
    )
    order = np.argsort(times, kind="stable")
    order = order[(times[order] >= 0) & (times[order] <= high - low)]
    return Onsets(take_times(times[order]), strength[order], confidence[order])


def _part(heard: Activations, pair: int, high_s: float) -> Activations:
    """What was heard from a pair of frames on until a moment."""
    stop = int(np.ceil(high_s * FRAMES_PER_S / PAIR))
    frames = slice(pair * PAIR, stop * PAIR)
    return Activations(
        heard.beat[frames], heard.downbeat[frames], heard.meter[frames], heard.inputs[pair:stop]
    )
