"""A take that is kept as it sounds carries the marks of its source: each where it is now, with what was
decided about it.

The attacks that were heard in the source are those of the kept take; so the sentence that chooses among them,
and what was added, moved, removed and locked by hand, mean the same there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray, IntArray, take_times
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.following import rounds_of
from combpace.session import fits, pieces
from combpace.session.analysis_store import read_analysis, with_marks
from combpace.session.data_folder import DataFolder
from combpace.session.document.model import OnsetEdits
from combpace.session.fits import TakeFit
from combpace.session.state import EDIT_REACH_S, SessionState

# Moments of a source, seconds, shape (n,) -> (which of them, where it is in the kept take), shapes (m,):
# none, one or several of each.
Where = Callable[[FloatArray], tuple[IntArray, FloatArray]]


def in_fit(state: SessionState, made: TakeFit, take_id: str, first_s: float) -> Where:
    """Where moments of a take are in its render, whose first frame lies at `first_s` of the session."""
    line, timing = made.fit.time_map, made.take
    late = state.document.take(take_id).offset_s - timing.offset_s
    length_s = state.duration_s(timing.id)
    rounds = rounds_of(line, length_s)

    def where(times: FloatArray) -> tuple[IntArray, FloatArray]:
        which = np.tile(np.arange(len(times)), rounds)
        at = np.concatenate([np.asarray(times) + late + turn * length_s for turn in range(rounds)])
        inside = (at >= line.source_s[0] - 1e-9) & (at < line.source_s[-1])
        return which[inside], np.asarray(line.to_target(at[inside])) - first_s

    return where


def in_pieces(state: SessionState, take_id: str, first_s: float) -> Where:
    """Where moments of a take are in its pieces, as they sound from `first_s` of the session on."""
    made, rate = state.document.pieces[take_id], pieces.rate_of(state, take_id)
    laid = sorted(pieces.laid(state, take_id), key=lambda piece: piece.at)
    through: Where | None = None
    if made.first_frame is not None:
        # What is cut is a render: from the take into it first, as far as its fit is still the same.
        fitted = fits.take_fit(state, take_id)
        through = in_fit(state, fitted, take_id, made.first_frame / rate)

    def where(times: FloatArray) -> tuple[IntArray, FloatArray]:
        which, own = (np.arange(len(times)), np.asarray(times)) if through is None else through(times)
        frames = np.round(own * rate)
        found: list[tuple[int, float]] = []
        for number, piece in enumerate(laid):
            end = piece.at + piece.frames
            if made.meeting == "ends" and number + 1 < len(laid):
                end = min(end, laid[number + 1].at)
            at = piece.at + frames - piece.start
            for k in np.flatnonzero((frames >= piece.start) & (frames < piece.stop) & (at < end)):
                found.append((int(which[k]), float(at[k]) / rate - first_s))
        return np.array([k for k, _ in found], dtype=np.int64), np.array([time for _, time in found])

    return where


def carried(state: SessionState, take_id: str, where: Where) -> tuple[OnsetEdits, dict[str, Any] | None]:
    """(what is decided about the marks of the kept take, its attacks as `marked` takes them).

    The attacks are None where the source was not heard.
    """
    edits = state.document.edits.get(take_id, OnsetEdits())

    def moved_to(times: tuple[float, ...]) -> tuple[float, ...]:
        return tuple(sorted(float(time) for time in where(np.array(times, dtype=np.float64))[1]))

    new = moved_to(tuple(one for _, one in edits.moved))
    made = replace(
        edits,
        added=moved_to(edits.added),
        removed=moved_to(edits.removed),
        locked=moved_to(edits.locked),
        moved=tuple((time, time) for time in new),
    )
    row, heard = state.rows[take_id], state.analysis(take_id)
    if heard is None:
        return made, None
    # Where a mark was moved by hand its attack is there now.
    times = np.asarray(heard.onsets.times).copy()
    for old, now in edits.moved:
        times[np.abs(times - old) <= EDIT_REACH_S] = now
    which, at = where(times)
    order = np.argsort(at, kind="stable")
    return made, {"of": row.analysis_sha, "which": which[order].tolist(), "at": at[order].tolist()}


def marked(folder: DataFolder, analysis_sha: str, marks: dict[str, Any]) -> str:
    """What was heard in a kept take, with the attacks of its source; its hash.

    marks  {of: hash of the source's analysis, which: numbers of its attacks, at: seconds of the kept take}
    """
    source = read_analysis(folder.blob(marks["of"]))
    which = np.array(marks["which"], dtype=np.int64)
    onsets = Onsets(
        take_times(np.array(marks["at"], dtype=np.float64)),
        source.onsets.strength[which],
        source.onsets.confidence[which],
    )
    target = folder.blobs.new_path(".npz")
    try:
        with_marks(
            folder.blob(analysis_sha), target, onsets, None if source.bands is None else source.bands[which]
        )
        return folder.blobs.adopt(target)
    finally:
        target.unlink(missing_ok=True)
