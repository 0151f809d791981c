"""Arrivals: loops that were just dropped into a session, heard in its time before they are kept.

Whether a file is a loop is known once it was listened to; until then it is a take that is being read. Nothing
of this is stored but that it came in and was not kept yet (`TakeEntry.arrival`): so it is still an arrival
after a restart.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from combpace.core.clocks import TakeTimes
from combpace.core.tempo.loops import MOST_BARS, loop_bars
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter
from combpace.session.data_folder import DataFolder
from combpace.session.document import parts as forms
from combpace.session.document.model import Document, TakeEntry
from combpace.store.models import BEING_READ, WANTED, TakeRow

# So many bars of four beats at 60 BPM; longer files sound as takes while they are listened to.
LONGEST_S = MOST_BARS * 4 * 60.0 / 60.0


def with_arrivals(document: Document, rows: Mapping[str, TakeRow], folder: DataFolder) -> Document:
    """The document with what is a loop among its new takes told apart; what is none is a take like any
    other.
    """
    if not any(take.arrival for take in document.takes):
        return document
    takes, arrivals = [], []
    paces = dict(document.paces)
    # What was recorded beside a take, or cut together with it, is as long as that, to the frame.
    beside = [
        take for take in document.takes if not take.arrival and take.pace == "lead" and take.kind != "loop"
    ]
    lengths = [_length(rows.get(take.id)) for take in beside]
    for take in document.takes:
        row = rows.get(take.id)
        if not take.arrival or take.role == "lead" or row is None:
            takes.append(replace(take, arrival=False))
        elif row.state in BEING_READ:
            # It is not heard before it is known: what is long is a take all the same.
            takes.append(replace(take, arrival=not _too_long(row)))
        elif _length(row) not in lengths and (pace := loop_pace(take, document, row, folder)) is not None:
            paces[take.id] = pace
            stays = document.arriving == "stay"
            kind = "loop" if take.kind == "unknown" else take.kind
            arrivals.append(
                replace(take, kind=kind, pace="own", keeps="time" if stays else "bar", bundle=None)
            )
        else:
            takes.append(replace(take, arrival=False))
    return replace(document, takes=tuple(takes), arrivals=tuple(arrivals), paces=paces)


def bars_of(pace: TempoMap[TakeTimes], row: TakeRow) -> int | None:
    """How many bars a take is long by a pace; None where it is no loop."""
    return loop_bars(pace, row.frames / row.sample_rate_hz) if row.frames and row.sample_rate_hz else None


def loop_pace(
    take: TakeEntry, document: Document, row: TakeRow, folder: DataFolder
) -> TempoMap[TakeTimes] | None:
    """The pace by which a take is a loop of whole bars: what was corrected by hand, what was heard first;
    None where it is none.

    Of a file whose name or header says that it is a loop, or its tempo, bars of four of the beats that were
    heard count too, and after them the likeliest other reading by which it is whole bars: whole bars are what
    it was cut to.
    """
    heard = folder.analysis(row) if row.state in ("ready", WANTED) else None
    pace = document.paces.get(take.id) or (heard.pace if heard else None)
    if pace is None or heard is None or bars_of(pace, row) is not None:
        return pace
    if take.id in document.paces or not (take.kind == "loop" or heard.facts.get("stated")):
        return None
    # A beat that was heard is a quarter then, whatever its meter called it.
    beat = pace.meters[0].beat_quarters
    in_four = replace(
        pace,
        knots=tuple(replace(knot, quarters=knot.quarters / beat) for knot in pace.knots),
        meters=(Meter(1, 4, 4),),
    )
    others = [in_four, *(forms.pace_from(one["pace"]) for one in heard.facts.get("readings") or ())]
    return next((other for other in others if bars_of(other, row) is not None), None)


def kept(entry: TakeEntry, until_bar: int, bar_1_s: float) -> TakeEntry:
    """The take that an arrival becomes: as it was heard, from bar 1 until a bar; one that stays as it is
    once, from the line of bar 1 on.
    """
    if entry.keeps == "time":
        return replace(entry, arrival=False, offset_s=bar_1_s, times=1, until_bar=None)
    return replace(entry, arrival=False, keeps="", times=1, until_bar=until_bar)


def _length(row: TakeRow | None) -> tuple[int, int] | None:
    return (row.frames, row.sample_rate_hz) if row is not None and row.frames and row.sample_rate_hz else None


def _too_long(row: TakeRow) -> bool:
    return bool(row.frames and row.sample_rate_hz and row.frames / row.sample_rate_hz > LONGEST_S)
