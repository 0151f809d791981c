"""Fit: the sentence that makes pegs, pegs by hand, and the render of the whole take."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import func, select

from combpace.core.clocks import Placement, take_times
from combpace.core.errors import ParameterError
from combpace.core.fit.pegs import Fit, fit
from combpace.core.fit.rule import HandPeg
from combpace.core.fit.time_map import TimeMap
from combpace.core.onsets.detect import ANALYSIS_VERSION, Onsets
from combpace.core.stretch import Choice, check_method, choose_method, far_stretched
from combpace.core.tempo.grid import Grid, parse_grid
from combpace.media.decode import FileSource
from combpace.media.encode import write_sound
from combpace.services import document as forms
from combpace.services import jobs, words
from combpace.services.document import RuleChoice, TakeEntry, TakePegs, default_rule
from combpace.services.sounding import stretched
from combpace.services.workplace import EDIT_REACH_S, SessionState, Workplace, session_state
from combpace.store.history import Revision
from combpace.store.models import FileRow, TakeRow

Progress = Callable[[str, float], None]
STRETCH_VERSION = 9


@dataclass(frozen=True, slots=True)
class TakeFit:
    """A take's fit as it stands now.

    take    whose marks and pace count: the bundle's timing take
    choice  the sentence; `stated` is false while it is only proposed
    method  the one that "auto" settled on, and why
    key     names exactly this result: source, map and method
    """

    take: TakeEntry
    choice: RuleChoice
    stated: bool
    fit: Fit
    method: str
    reason: str
    key: str


def take_fit(seen: SessionState, take_id: str) -> TakeFit:
    """Derive pegs and time map of a take from its marks, its rule and the maps."""
    timing = seen.document.timing_take(take_id)
    found: TakeFit = seen.workplace.once(("fit", timing, *seen.state), lambda: _derive(seen, timing))
    return found


def _derive(seen: SessionState, timing: str) -> TakeFit:
    entry = seen.document.take(timing)
    pace = seen.own_pace(timing)
    row = seen.rows.get(timing)
    if pace is None or row is None or row.decoded_sha is None:
        raise ParameterError(f"{entry.name} has no pulse yet, so there is nothing to fit: it is still being listened to, or none was found.")
    session_map = seen.need_map()
    stated = timing in seen.document.rules
    choice = seen.document.rules.get(timing, default_rule())
    pegs = seen.document.pegs.get(timing, TakePegs())
    marks = _without(seen.onsets(timing), pegs.rides)
    made = fit(marks, pace, session_map, Placement(timing, entry.offset_s), seen.duration_s(timing), choice.rule, pegs.pegs)
    method, reason = choice.method, ""
    if method == "auto":
        files, _ = bundle_files(seen.workplace, seen.document.bundle_of(timing), seen.rows, timing)
        mapped = (made.time_map.source_s.tobytes(), made.time_map.target_s.tobytes())
        found = _chosen(files or (seen.workplace.blob(row.decoded_sha),), *mapped, entry.kind)
        method, reason = found.method, found.reason
    reason = " ".join(part for part in (reason, far_stretched(made.time_map)) if part)
    shas = bundle_shas(seen.document.bundle_of(timing), seen.rows)
    return TakeFit(entry, choice, stated, made, method, reason, fit_key(row.decoded_sha, made.time_map, method, shas))


@lru_cache(maxsize=64)
def _chosen(files: tuple[Path, ...], source_s: bytes, target_s: bytes, kind: str) -> Choice:
    """The method for all mics of a bundle; remembered, for every two seconds of a preview ask for it.

    A close mic falls silent where the room still rings: what must not be cut in one of them is cut in none.
    """
    time_map = TimeMap(np.frombuffer(source_s), np.frombuffer(target_s))
    choices = []
    for file in files:
        with FileSource(file) as source:
            choices.append(choose_method(source, time_map, kind))
    return next((choice for choice in choices if choice.method != "cut"), choices[0])


def bundle_shas(together: Sequence[TakeEntry], rows: Mapping[str, TakeRow]) -> tuple[str, ...]:
    """The decoded files that are stretched as one with a take: all of its bundle that are there and share a sample rate, in the
    bundle's order; none where it is alone."""
    there = [rows[take.id] for take in together if take.id in rows and rows[take.id].decoded_sha]
    if len(there) < 2 or len({row.sample_rate_hz for row in there}) > 1:
        return ()
    return tuple(str(row.decoded_sha) for row in there)


def bundle_files(workplace: Workplace, together: Sequence[TakeEntry], rows: Mapping[str, TakeRow], take_id: str) -> tuple[tuple[Path, ...], int]:
    """(files of all that are stretched as one with a take, which of them is its own); no files where it is alone."""
    shas = bundle_shas(together, rows)
    own = rows[take_id].decoded_sha
    return (tuple(workplace.blob(sha) for sha in shas), shas.index(own)) if own in shas else ((), 0)


def fit_key(decoded_sha: str, time_map: TimeMap, method: str, together: tuple[str, ...] = ()) -> str:
    """What a render is kept by: everything its sound depends on."""
    digest = hashlib.sha256(f"{decoded_sha}:{'+'.join(together)}:{method}:{STRETCH_VERSION}:{ANALYSIS_VERSION}:".encode())
    digest.update(np.ascontiguousarray(time_map.source_s).tobytes())
    digest.update(np.ascontiguousarray(time_map.target_s).tobytes())
    return digest.hexdigest()


def _without(onsets: Onsets, rides: tuple[float, ...]) -> Onsets:
    if not rides:
        return onsets
    times = np.asarray(onsets.times)
    keep = np.all(np.abs(times[:, None] - np.array(rides)[None, :]) > EDIT_REACH_S, axis=1)
    return Onsets(take_times(times[keep]), onsets.strength[keep], onsets.confidence[keep])


def change_rule(workplace: Workplace, session_id: str, version: int, take_id: str, field: str, value: str) -> Revision:
    """Change one field of the sentence."""
    seen = session_state(workplace, session_id)
    timing = seen.document.timing_take(take_id)
    choice = seen.document.rules.get(timing, default_rule())
    rule = choice.rule
    if field == "grid":
        rule = replace(rule, grid=parse_grid(value, rule.grid.swing))
    elif field == "swing":
        rule = replace(rule, grid=Grid(rule.grid.value, rule.grid.shape, words.read_number(value, "Swing", 50, 80) / 100))
    elif field == "strength":
        rule = replace(rule, strength=words.read_number(value, "Strength", 0, 100) / 100)
    elif field == "leave_alone":
        rule = replace(rule, leave_alone_ms=words.read_number(value, "“Leave alone”", 0, 1000))
    elif field == "ignore":
        nothing = str(value).strip().lower() in ("", "nothing", "0")
        rule = replace(rule, ignore_beyond_ms=None if nothing else words.read_number(value, "“Ignore”", 0.1, 10000))
    elif field == "bars":
        rule = replace(rule, bars=_bars(value))
    elif field == "method":
        choice = replace(choice, method=check_method(value))
    else:
        raise ParameterError(f"The sentence has no “{field}”. Nothing was changed.")
    choice = replace(choice, rule=rule)
    changes = {f"rule:{timing}": forms.rule_part(choice)}
    return workplace.decide(seen.opened, version, changes, f"{sentence(choice, seen.document.take(timing).name)}", f"rule:{timing}:{field}")


def _bars(text: str) -> tuple[int, int] | None:
    """ "all", "5" or "5-8"."""
    clean = text.strip().lower().replace("–", "-").replace("bars", "").replace("bar", "").strip()
    if clean in ("", "all"):
        return None
    first, dash, last = clean.partition("-")
    try:
        bars = (int(first), int(last) if dash else int(first))
    except ValueError as error:
        raise ParameterError(f"“{text}” names no bars; write 5, 5-8 or all. Nothing was changed.") from error
    if bars[0] > bars[1] or 0 in bars:
        raise ParameterError(f"Bars {bars[0]} to {bars[1]} do not exist in this order. Nothing was changed.")
    return bars


def sentence(choice: RuleChoice, name: str) -> str:
    rule = choice.rule
    bars = "all bars" if rule.bars is None else f"bars {rule.bars[0]}–{rule.bars[1]}"
    ignored = "ignore nothing" if rule.ignore_beyond_ms is None else f"ignore what is farther than {rule.ignore_beyond_ms:g} ms"
    return (
        f"Onsets of {name} in {bars} go to the nearest {rule.grid} with {rule.strength * 100:g} % strength; "
        f"leave alone what is closer than {rule.leave_alone_ms:g} ms; {ignored}."
    )


def add_peg(
    workplace: Workplace, session_id: str, version: int, take_id: str, take_s: float, quarters: float | None, session_s: float | None
) -> Revision:
    """Pull one onset by hand, onto a place or, freed, to a moment."""
    seen = session_state(workplace, session_id)
    timing = seen.document.timing_take(take_id)
    pegs = seen.document.pegs.get(timing, TakePegs())
    peg = HandPeg(take_s, quarters, session_s)
    new = TakePegs(
        (*(other for other in pegs.pegs if abs(other.take_s - take_s) > EDIT_REACH_S), peg),
        tuple(time for time in pegs.rides if abs(time - take_s) > EDIT_REACH_S),
    )
    session_map = seen.need_map()
    target = session_map.second(quarters) if quarters is not None else float(session_s or 0.0)
    shown = words.place(session_map, quarters) if quarters is not None else words.clock(target)
    parts = {f"pegs:{timing}": forms.pegs_part(new), **_stated(seen, timing)}
    return workplace.decide(seen.opened, version, parts, f"The onset at {words.clock(take_s)} of the take is pulled to {shown}.")


def let_ride(workplace: Workplace, session_id: str, version: int, take_id: str, times_s: list[float]) -> Revision:
    """Remove pegs: the audio there goes back to riding between its neighbours."""
    seen = session_state(workplace, session_id)
    timing = seen.document.timing_take(take_id)
    pegs = seen.document.pegs.get(timing, TakePegs())

    def meant(time: float) -> bool:
        return any(abs(time - other) <= EDIT_REACH_S for other in times_s)

    kept = tuple(peg for peg in pegs.pegs if not meant(peg.take_s))
    new = TakePegs(kept, (*(time for time in pegs.rides if not meant(time)), *times_s))
    parts = {f"pegs:{timing}": forms.pegs_part(new), **_stated(seen, timing)}
    return workplace.decide(seen.opened, version, parts, f"{words.count(len(times_s), 'onset')} without a peg now.")


def _stated(seen: SessionState, timing: str) -> dict[str, Any]:
    """A proposed sentence becomes the user's with the first decision on it."""
    return {} if timing in seen.document.rules else {f"rule:{timing}": forms.rule_part(default_rule())}


def drop(workplace: Workplace, session_id: str, version: int, take_id: str) -> Revision:
    """Go back to the source: rule and pegs are gone, the take sounds as it was played."""
    seen = session_state(workplace, session_id)
    timing = seen.document.timing_take(take_id)
    parts = {f"rule:{timing}": None, f"pegs:{timing}": None}
    return workplace.decide(seen.opened, version, parts, f"The fit of {seen.document.take(timing).name} was dropped; it sounds as it was played.")


def keep(workplace: Workplace, session_id: str, version: int, take_id: str) -> Revision:
    """Make the render a take of its own, for all of a bundle; the source stays, as it was played, and is muted."""
    seen = session_state(workplace, session_id)
    made = take_fit(seen, take_id)
    together = seen.document.bundle_of(take_id)
    renders_of: list[tuple[TakeEntry, FileRow]] = []
    for mate in together:
        row = seen.rows[mate.id]
        file = rendered(workplace, session_id, fit_key(row.decoded_sha or "", made.fit.time_map, made.method, bundle_shas(together, seen.rows)))
        if file is None:
            raise ParameterError(f"{mate.name} is not rendered as it stands now; render it first, then keep it. Nothing was changed.")
        renders_of.append((mate, file))
    entries, ids = [], []
    with workplace.database.writing() as db:
        for mate, file in renders_of:
            row = TakeRow(session_id=session_id, name=f"{mate.name} fitted.wav", source_sha=file.sha, source_bytes=file.bytes)
            db.add(row)
            db.flush()
            details = json.loads(file.details)
            bundle = f"{mate.bundle} fitted" if mate.bundle else None
            offset_s = details["first_frame"] / details["rate"]
            entries.append(TakeEntry(row.id, f"{mate.name} fitted", mate.kind, "follower", "lead", bundle, offset_s))
            ids.append(row.id)
    changes: dict[str, Any] = {
        "takes": forms.takes_part((*seen.document.takes, *entries)),
        f"rule:{made.take.id}": None,
        f"pegs:{made.take.id}": None,
    }
    name = made.take.bundle or made.take.name
    revision = workplace.decide(seen.opened, version, changes, f"{name} is kept as a take of its own; the source stays as it was played, muted.")
    for new_id in ids:
        jobs.enqueue(workplace, session_id, "import", new_id, {"take": new_id})
    workplace.mute(session_id, [mate.id for mate in together])
    return revision


def order_render(workplace: Workplace, session_id: str, version: int, take_id: str) -> str:
    """Queue the render of a take and of all in its bundle. Returns the job's id."""
    seen = session_state(workplace, session_id)
    made = take_fit(seen, take_id)
    if not made.stated:
        parts = {f"rule:{made.take.id}": forms.rule_part(made.choice)}
        workplace.decide(seen.opened, version, parts, f"{sentence(made.choice, made.take.name)}")
    ids = [take.id for take in seen.document.bundle_of(take_id)]
    args = {
        "session": session_id,
        "takes": ids,
        "source_s": [float(value) for value in made.fit.time_map.source_s],
        "target_s": [float(value) for value in made.fit.time_map.target_s],
        "method": made.method,
    }
    return jobs.enqueue(workplace, session_id, "render", made.take.id, args)


def render_take(workplace: Workplace, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: render each take of a bundle along one time map into a float file that is kept by its key."""
    time_map = TimeMap(np.array(args["source_s"]), np.array(args["target_s"]))
    seen = session_state(workplace, args["session"])
    together = [seen.document.take(take_id) for take_id in args["takes"]]
    made: list[str] = []
    for number, take_id in enumerate(args["takes"]):
        row = workplace.take_row(take_id)
        assert row.decoded_sha is not None
        files, own = bundle_files(workplace, together, seen.rows, take_id)
        key = fit_key(row.decoded_sha, time_map, args["method"], bundle_shas(together, seen.rows))
        known = rendered(workplace, args["session"], key)
        if known is not None:
            made.append(known.id)
            continue

        def share(done: float, number: int = number, name: str = row.name) -> None:
            tell(f"rendering {name}", (number + done) / len(args["takes"]))

        with workplace.source(row) as source:
            fitted = stretched(source, time_map, args["method"], files, own)
            target = workplace.blobs.new_path(".wav")
            try:
                share(0.0)
                written = write_sound(fitted, target, "wav32f", start=fitted.first_frame, on_progress=share)
                size = target.stat().st_size
                sha = workplace.blobs.adopt(target)
            finally:
                target.unlink(missing_ok=True)
        details = {"take": take_id, "first_frame": fitted.first_frame, "frames": written.frames, "peak": written.peak, "rate": row.sample_rate_hz}
        with workplace.database.writing() as db:
            file = FileRow(
                session_id=args["session"], kind="render", key=key, name=f"{row.name} fitted", sha=sha, bytes=size, details=json.dumps(details)
            )
            db.add(file)
            db.flush()
            made.append(file.id)
    return {"files": made}


def rendered(workplace: Workplace, session_id: str, key: str) -> FileRow | None:
    """The render that a key names, if it was made."""
    with workplace.database.reading() as db:
        query = select(FileRow).where(FileRow.session_id == session_id, FileRow.kind == "render", FileRow.key == key)
        return db.scalars(query.order_by(FileRow.created.desc()).limit(1)).first()


def renders(workplace: Workplace, session_id: str) -> int:
    """How many renders a session has."""
    with workplace.database.reading() as db:
        return db.scalar(select(func.count()).select_from(FileRow).where(FileRow.session_id == session_id, FileRow.kind == "render")) or 0


def render_shas(workplace: Workplace, session_id: str) -> set[str]:
    """The bytes of every render of a session."""
    with workplace.database.reading() as db:
        return set(db.scalars(select(FileRow.sha).where(FileRow.session_id == session_id, FileRow.kind == "render")))
