"""A picture in ranges: what grows with the music goes to a page as it is seen. A session of a song's length
is one range, given whole.

A range is so many of a take's own seconds as `Settings.range_s` says. The first one holds what comes before,
the last one what comes after.
"""

from __future__ import annotations

from base64 import b64encode
from bisect import bisect_left
from collections.abc import Iterable
from itertools import groupby
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.drawing import picture
from combpace.session.page_forms import BarRow, FitFacts, MapTable, NoFit
from combpace.session.state import SessionState

# A session no longer than so many ranges is given whole.
WHOLE_RANGES = 3
# Of what is drawn small, over the whole session, no more values than this are given: of a histogram evenly
# from the least to the greatest.
MOST_DRAWN = 4000
# Lists of a fit with one entry an onset, in order of the take's seconds.
ALONG = ("pegs", "riding")


def in_short(
    seen: SessionState, focus: str | None, wanted: Iterable[int] = (), *, fit: bool = True
) -> dict[str, Any]:
    """A picture for a page: as `picture` where the session is one range, else bars and map in short and only
    some ranges.

    wanted   indices of ranges to be given at once; the first one, and that of bar 1, are given in any case
    fit      whether the fit is drawn
    Returns  beside what a picture has: "ranged": {"s": length of a range, "count", "parts": {index: `part`}}
    """
    focus = picture.in_focus(seen, focus)
    if is_whole(seen):
        return {**picture.picture(seen, focus)}
    made: dict[str, Any] = {**picture.head(seen, focus)}
    line = seen.session_map()
    count = _count(seen, focus)
    first = {0}
    if line is not None and made["map"] is not None:
        made["map"], made["bars"] = short_map(made["map"]), short_bars(picture.shown_bars(seen))
        raw = picture.raw_tempo(seen)
        made["raw"] = raw[:: -(-len(raw) // MOST_DRAWN) or 1]
        made["names"] = [str(meter) for meter in line.meters]
        lead = seen.document.lead
        bar_1 = line.second(0.0) - (lead.offset_s if lead else 0.0)
        first.add(int(np.clip(bar_1 // size(seen), 0, count - 1)))
        made["fit"] = _fit_in_short(seen, focus, count) if fit and focus is not None else None
    wanted = sorted(first | {k for k in wanted if 0 <= k < count})
    made["ranged"] = {"s": size(seen), "count": count, "parts": parts(seen, focus, wanted, fit=fit)}
    return made


def parts(
    seen: SessionState, focus: str | None, wanted: Iterable[int], *, fit: bool
) -> dict[str, dict[str, Any]]:
    """Ranges of a picture by their indices: marks of all shown takes, and of the fit what lies there."""
    focus, found = picture.in_focus(seen, focus), {}
    count, long = _count(seen, focus), size(seen)
    drawn = fit and focus is not None and seen.session_map() is not None
    whole: FitFacts | NoFit = (
        picture.fit_facts(seen, focus) if drawn and focus is not None else {"missing": ""}
    )
    for k in wanted:
        if not 0 <= k < count:
            continue
        low, high = long * k if k else -np.inf, long * (k + 1) if k + 1 < count else np.inf
        part: dict[str, Any] = {
            "onsets": {
                take_id: _marks_in(seen, take_id, low, high) for take_id in picture.shown_takes(seen, focus)
            }
        }
        part["fit"] = None if "missing" in whole else _fit_in(whole, low, high)
        found[str(k)] = part
    return found


def size(seen: SessionState) -> float:
    """Seconds of a range."""
    return float(seen.folder.settings.range_s)


def is_whole(seen: SessionState) -> bool:
    """Whether a session is short enough to go to a page in one piece."""
    return picture.shown_end_s(seen) <= WHOLE_RANGES * size(seen)


def _count(seen: SessionState, focus: str | None) -> int:
    longest = max((seen.duration_s(take_id) for take_id in picture.shown_takes(seen, focus)), default=0.0)
    return max(1, int(np.ceil(longest / size(seen))))


def _marks_in(seen: SessionState, take_id: str, low: float, high: float) -> dict[str, list[float]]:
    facts: dict[str, list[float]] = seen.once(
        "marks as drawn", lambda: picture.marks_facts(seen, take_id), take_id
    )
    within = slice(bisect_left(facts["t"], low), bisect_left(facts["t"], high))
    return {name: values[within] for name, values in facts.items()}


def _fit_in(whole: FitFacts, low: float, high: float) -> dict[str, Any]:
    """What lies within, and the points of the time map on either side of it: between them it is as in the
    whole.
    """
    made: dict[str, Any] = {
        name: [row for row in dict(whole)[name] if low <= row[0] < high]  # type: ignore[attr-defined]
        for name in ALONG
    }
    source = whole["source"]
    a, b = max(0, bisect_left(source, low) - 1), bisect_left(source, high) + 1
    made["source"], made["target"] = source[a:b], whole["target"][a:b]
    made["pauses"] = [time for time in whole["pauses"] if low <= time < high]
    return made


def _fit_in_short(seen: SessionState, focus: str, count: int) -> dict[str, Any]:
    """A fit without its points; edges: session seconds at which its ranges begin."""
    whole = picture.fit_facts(seen, focus)
    if "missing" in whole:
        return {**whole}
    source, target = np.array(whole["source"]), np.array(whole["target"])
    made = {
        name: value
        for name, value in whole.items()
        if name not in (*ALONG, "source", "target", "pauses", "off_ms")
    }
    made["edges"] = np.round(np.interp(size(seen) * np.arange(1, count), source, target), 3).tolist()
    off = np.sort(np.array(whole["off_ms"]))
    picked = np.linspace(0, len(off) - 1, MOST_DRAWN).astype(int) if len(off) > MOST_DRAWN else slice(None)
    return {**made, "off_ms": off[picked].tolist()}


def short_map(table: MapTable) -> dict[str, Any]:
    """A map's table with its numbers packed: the same numbers to the last bit."""
    packed = {
        "times": packed_floats(np.array(table["times"])),
        "quarters": packed_steps(np.array(table["quarters"])),
    }
    bends = {"bends": packed_floats(np.array(table["bends"]))} if "bends" in table else {}
    return {**table, **packed, **bends}


def packed_floats(values: FloatArray) -> str:
    """Base64 of 64-bit floats, the least byte first (IEEE 754, RFC 4648)."""
    return b64encode(np.asarray(values, dtype="<f8").tobytes()).decode("ascii")


def packed_steps(values: FloatArray) -> dict[str, Any] | str:
    """Numbers that rise in even steps as {"from", "steps": [[step, how often], ...]}; as `packed_floats`
    where adding the steps up gives others.
    """
    if not len(values):
        return packed_floats(values)
    steps = np.diff(values)
    if not np.array_equal(np.cumsum(np.concatenate([values[:1], steps])), values):
        return packed_floats(values)
    runs = [[step, sum(1 for _ in same)] for step, same in groupby(steps.tolist())]
    return {"from": float(values[0]), "steps": runs} if 2 * len(runs) < len(values) else packed_floats(values)


def short_bars(rows: list[BarRow]) -> dict[str, Any]:
    """Rows of bars as columns; what follows from the map's meters is left out. `e` is the end of the last
    one.
    """
    if not rows:
        return {"i": 0, "s": [], "bpm": [], "drift": [], "sure": [], "e": 0.0}
    return {
        "i": rows[0]["i"],
        "e": rows[-1]["e"],
        **{name: [dict(row)[name] for row in rows] for name in ("s", "bpm", "drift", "sure")},
    }
