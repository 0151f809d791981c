"""What a session is and what was done with its takes, as a report."""

from __future__ import annotations

from typing import Any

from combpace.core.tempo.measure import middle_tempo
from combpace.drawing import picture
from combpace.drawing.weave import weave_from
from combpace.media.report import Report, TakeReport
from combpace.session import fits, pieces, words
from combpace.session.page_forms import BarRow
from combpace.session.state import SessionState

# An onset that was moved by less is not listed, ms.
LEAST_MS = 0.05
# Columns of the weave.
COLUMNS = 120


def of_session(seen: SessionState) -> Report:
    """What a session is, and what was done with its takes."""
    line = seen.session_map()
    rows = [row for row in picture.shown_bars(seen) if row["i"] >= 0]
    shown = ("n", "s", "bpm", "meter", "drift", "sure")
    bars = tuple({name: dict(row)[name] for name in shown} for row in rows)
    said = [words.map_sentence(line, seen.map_choice().said, seen.end_s())]
    said.append(
        f"{words.count(len(seen.document.takes), 'take')}, "
        f"{words.count(len(seen.document.notes), 'part')}, {words.clock(seen.end_s())} long"
    )
    whose, before, after = _fitted(seen, rows)
    takes = tuple(_take(seen, take.id) for take in seen.document.takes)
    first, dark = weave_from(seen, COLUMNS)
    bpm = middle_tempo(line) if line is not None else None
    breathes = seen.one_tempo is None
    return Report(
        seen.opened.row.name, tuple(said), bars, whose, before, after, takes, dark, first, bpm, breathes
    )


Drifts = tuple[float | None, ...]


def _fitted(seen: SessionState, rows: list[BarRow]) -> tuple[str, Drifts, Drifts]:
    """(the first fitted take, how far its first attack of each bar lies from the line: before the rule pulled
    it, and after, ms).
    """
    fitted = next(
        (
            take
            for take in seen.document.takes
            if fits.is_fitted(seen, take.id) and seen.own_pace(take.id) is not None
        ),
        None,
    )
    if fitted is None:
        return "", (), ()
    made, pace = fits.take_fit(seen, fitted.id), seen.own_pace(fitted.id)
    assert pace is not None
    times = fits.marks_of(seen, made.take.id).times
    before = made.follow(times) if made.follow is not None else times + made.take.offset_s
    return (
        fitted.bundle or fitted.name,
        _first_of(before, rows),
        _first_of(made.fit.time_map.to_target(times), rows),
    )


def _first_of(times: Any, rows: list[BarRow]) -> Drifts:
    """How far the attack nearest to each line lies from it, of those within an eighth of its bar, ms."""
    found: list[float | None] = []
    for row in rows:
        near = times[abs(times - row["s"]) < (row["e"] - row["s"]) / 8]
        found.append(
            round(1000 * float(min(near, key=lambda one: abs(one - row["s"])) - row["s"]), 1)
            if len(near)
            else None
        )
    return tuple(found)


def _take(seen: SessionState, take_id: str) -> TakeReport:
    entry, line = seen.document.take(take_id), seen.session_map()
    role, long = "lead" if entry.role == "lead" else "follower", words.clock(seen.duration_s(take_id))
    marks = words.count(len(seen.onsets(take_id)), "onset")
    said = [f"{role}, {entry.kind}, {long} long, {marks}"]
    if pieces.in_pieces(seen, take_id):
        return TakeReport(
            entry.name,
            (
                *said,
                f"In {words.count(len(seen.document.pieces[take_id].pieces), 'piece')}; nothing is "
                "stretched.",
            ),
        )
    if line is None or not fits.is_fitted(seen, take_id):
        return TakeReport(entry.name, (*said, "As it was played."))
    made = fits.take_fit(seen, take_id)
    said.append(fits.sentence(made.choice, entry))
    said.append(f"Stretched by {made.method}. {made.reason}".strip())
    moved = tuple(
        (
            words.place(line, peg.quarters),
            round(1000 * (peg.target_s - peg.own_s), 2),
            "by hand" if peg.kind == "hand" else "pulled",
        )
        for peg in made.fit.pegs
        if peg.kind in ("pulled", "hand") and abs(1000 * (peg.target_s - peg.own_s)) >= LEAST_MS
    )
    ends = made.fit.time_map.to_target(made.fit.riding)
    left = [
        (words.place(line, line.place(float(end))), why)
        for end, why in zip(ends, made.fit.reasons, strict=True)
    ]
    alone = [
        (words.place(line, peg.quarters), "near enough") for peg in made.fit.pegs if peg.kind == "left alone"
    ]
    return TakeReport(entry.name, tuple(said), moved, tuple(left + alone), _proof(seen, made))


def _proof(seen: SessionState, made: Any) -> str:
    found = fits.proof_of(seen, made)
    if not found:
        return ""
    good = sum(off is not None and abs(off) <= 3.0 for _, _, off in found)
    return f"Rendered and measured again: {good} of {len(found)} onsets within 3 ms of their place."
