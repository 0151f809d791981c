"""The render of a whole take along its fit: ordered by a page, made by a job, kept by its key."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.fit.accents import Accented, Levels
from combpace.core.fit.proof import proof
from combpace.core.fit.time_map import TimeMap
from combpace.core.fit.together import nearest_marks
from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.media.decode import FileSource
from combpace.media.encode import write_sound
from combpace.playback.sound import stretched
from combpace.session import fits
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change, record
from combpace.session.document import parts as forms
from combpace.session.state import EDIT_REACH_S, SessionState, session_state
from combpace.store import rows
from combpace.workers import elsewhere
from combpace.workers.errand import Errand

FUNCTION = "combpace.stations.fit.rendering:render"


@dataclass(frozen=True, slots=True)
class Ordered:
    """The job of a render, the session's version with it, and what became a step with the order (None where
    nothing did).
    """

    job: str
    version: int
    note: str | None


def order_render(folder: DataFolder, session_id: str, version: int, take_id: str) -> Ordered:
    """Queue the render of a take and of all in its bundle. A proposed sentence becomes the user's with it: a
    step of its own, and said.
    """
    state = session_state(folder, session_id)
    made = fits.take_fit(state, take_id)
    now, note = state.opened.revision.version, None
    if not made.stated:
        parts = {f"rule:{made.take.id}": forms.rule_part(made.choice)}
        kept = record(state, version, Change(parts, fits.sentence(made.choice, made.take.name)))
        now, note = kept.version, f"The proposal is yours now: {kept.note}"
    args = {
        "session": session_id,
        "takes": [take.id for take in state.document.bundle_of(take_id)],
        "mics": _mics(state, made),
        "source_s": [float(value) for value in made.fit.time_map.source_s],
        "target_s": [float(value) for value in made.fit.time_map.target_s],
        "method": made.method,
        "levels": [list(one) for one in made.levels],
        "timing": made.take.id,
        "pegs": [[peg.take_s, peg.target_s] for peg in made.fit.pegs if peg.kind != "held"],
    }
    return Ordered(enqueue(folder, session_id, "render", made.take.id, args), now, note)


def _mics(state: SessionState, made: fits.TakeFit) -> list[str]:
    """Of each peg that is measured the take whose mark it is; of one by hand beside no mark the timing
    take.
    """
    marks, mics = fits.marks_and_mics(state, made.take.id)
    pegs = [peg.take_s for peg in made.fit.pegs if peg.kind != "held"]
    return [made.take.id if k is None else mics[k] for k in nearest_marks(pegs, marks, EDIT_REACH_S)]


@job("render")
def render_take(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: render each take of a bundle along one time map into a float file that is kept by its key."""
    time_map = TimeMap(np.array(args["source_s"]), np.array(args["target_s"]))
    levels: Levels = tuple((moment, level) for moment, level in args.get("levels", ()))
    seen = session_state(folder, args["session"])
    together = [seen.document.take(take_id) for take_id in args["takes"]]
    made: list[str] = []
    # The timing take comes last: what is proved of the fit is kept with it, and each attack is measured in
    # the mic whose mark it is.
    renders: dict[str, tuple[Path, int]] = {}
    ordered = sorted(args["takes"], key=lambda take_id: take_id == args.get("timing"))
    for number, take_id in enumerate(ordered):
        row = folder.take_row(take_id)
        assert row.decoded_sha is not None
        files, own = fits.bundle_files(folder, together, seen.rows, take_id)
        shas = fits.bundle_shas(together, seen.rows)
        key = fits.fit_key(row.decoded_sha, time_map, args["method"], shas, levels)
        known = rows.render_of(folder.database, args["session"], key)
        if known is not None:
            made.append(known.id)
            renders[take_id] = folder.blob(known.sha), int(json.loads(known.details)["first_frame"])
            continue

        def share(done: float, number: int = number, name: str = row.name) -> None:
            tell(f"rendering {name}", (number + done) / len(args["takes"]))

        sounds = files or (folder.checked_blob(row.decoded_sha),)
        names = [path.relative_to(folder.blobs.root).as_posix() for path in sounds]
        sound = {name: args[name] for name in ("source_s", "target_s", "method")}
        sound["levels"] = [list(one) for one in levels]
        with tempfile.TemporaryDirectory(dir=folder.blobs.temporary, prefix="fitted-") as out:
            given = {"files": names, "own": own, **sound}
            errand = Errand(FUNCTION, folder.blobs.root, Path(out), tuple(names), given)
            share(0.0)
            written = elsewhere.run(errand, partial(_told, share), folder.settings.scheduler, "rendering")
            target = Path(out, written["written"])
            size = target.stat().st_size
            renders[take_id] = target, written["first_frame"]
            proved = _proof(renders, args) if take_id == args.get("timing") else None
            sha = folder.blobs.adopt(target)
            renders[take_id] = folder.blob(sha), written["first_frame"]
        details = {
            "take": take_id,
            **{name: written[name] for name in ("first_frame", "frames", "peak")},
            "rate": row.sample_rate_hz,
        }
        if proved is not None:
            details["proof"] = proved
        made.append(
            rows.add_file(
                folder.database,
                session_id=args["session"],
                kind="render",
                key=key,
                name=f"{row.name} fitted",
                sha=sha,
                bytes=size,
                details=json.dumps(details),
            )
        )
    return {"files": made}


def _told(share: Callable[[float], None], phase: str, done: float) -> None:
    share(done)


def render(inputs: Path, outputs: Path, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """An errand: {files, own, source_s, target_s, method, levels} -> {written, first_frame, frames, peak};
    files are those of a bundle.
    """
    time_map = TimeMap(np.array(args["source_s"]), np.array(args["target_s"]))
    levels: Levels = tuple((moment, level) for moment, level in args["levels"])
    files = tuple(inputs / name for name in args["files"])
    with FileSource(files[args["own"]]) as source:
        fitted = Accented(
            stretched(source, time_map, args["method"], files if len(files) > 1 else (), args["own"]), levels
        )
        first = fitted.first_frame
        written = write_sound(
            fitted,
            outputs / "fitted.wav",
            "wav32f",
            start=first,
            on_progress=lambda share: tell("rendering", share),
        )
    return {"written": "fitted.wav", "first_frame": first, "frames": written.frames, "peak": written.peak}


def _proof(renders: Mapping[str, tuple[Path, int]], args: dict[str, Any]) -> list[list[float | None]]:
    """[onset of the timing take, where it was to be, ms off (null where none was found)] of every peg,
    measured again in the render of its mic.
    """
    pegs = args.get("pegs") or []
    mics = args.get("mics") or [args["timing"]] * len(pegs)
    measured: list[float | None] = [None] * len(pegs)
    for take_id, (path, first_frame) in renders.items():
        mine = [k for k, mic in enumerate(mics) if mic == take_id]
        if mine:
            with FileSource(path) as rendered:
                found = proof(rendered, [pegs[k][1] for k in mine], first_frame / rendered.sample_rate_hz)
            for k, one in zip(mine, found, strict=True):
                measured[k] = one.off_ms
    return [
        [round(take_s, 6), round(target, 6), None if off is None else round(off, 2)]
        for (take_s, target), off in zip(pegs, measured, strict=True)
    ]
