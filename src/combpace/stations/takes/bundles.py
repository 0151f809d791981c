"""Which takes look as if they were recorded together: the same strokes, heard by several microphones."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.session.document.model import TakeEntry
from combpace.session.state import SessionState
from combpace.store.models import TakeRow

# Sound takes 3 ms for a metre: the same stroke reaches two mics within this.
SAME_STROKE_S = 0.015
# Of the attacks of the mic that hears fewer, so many are also the other's.
MOST = 0.6
# Between two mics a stroke is late by the same way each time; players who double each other are not so
# steady.
STEADY_S = 0.004
LEAST_ATTACKS = 4


def proposed_bundle(state: SessionState, rows: Mapping[str, TakeRow]) -> list[TakeEntry]:
    """The largest group of takes of one length (to 1/100 s) and start that hear the same strokes, in no
    bundle yet.

    Loops, takes that are not listened to yet, and what was refused for good are left out.
    """
    free = [
        take
        for take in state.document.takes
        if not take.bundle and take.kind != "loop" and _span(take, rows) is not None
    ]
    groups: list[list[TakeEntry]] = []
    for take in free:
        joined = [group for group in groups if any(_together(state, rows, take, other) for other in group)]
        groups = [group for group in groups if group not in joined]
        groups.append([*(other for group in joined for other in group), take])
    best = max(groups, key=len, default=[])
    return [take for take in state.document.takes if take in best] if len(best) > 1 else []


def refusal_key(take_ids: list[str]) -> str:
    """How a refused proposal is kept."""
    return "+".join(sorted(take_ids))


def same_strokes(a: FloatArray, b: FloatArray) -> bool:
    """Whether two mics hear the same strokes: most attacks of one within 15 ms of one of the other, late by a
    steady amount.
    """
    few, many = (a, b) if len(a) <= len(b) else (b, a)
    if len(few) < LEAST_ATTACKS:
        return False
    away = np.array([many[int(np.argmin(np.abs(many - time)))] - time for time in few])
    near = away[np.abs(away) <= SAME_STROKE_S]
    if len(near) < MOST * len(few):
        return False
    return float(1.4826 * np.median(np.abs(near - np.median(near)))) <= STEADY_S


def _span(take: TakeEntry, rows: Mapping[str, TakeRow]) -> tuple[int, float] | None:
    row = rows.get(take.id)
    if row is None or row.state != "ready" or not row.frames or not row.sample_rate_hz:
        return None
    return round(100 * row.frames / row.sample_rate_hz), take.offset_s


def _together(state: SessionState, rows: Mapping[str, TakeRow], a: TakeEntry, b: TakeEntry) -> bool:
    if _span(a, rows) != _span(b, rows) or any(
        {a.id, b.id} <= set(key.split("+")) for key in state.document.refused
    ):
        return False
    return same_strokes(*(np.asarray(state.onsets(take.id).times, dtype=np.float64) for take in (a, b)))
