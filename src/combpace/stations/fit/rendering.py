"""The render of a whole take along its fit: ordered by a page, made by a job, kept by its key."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.fit.accents import Levels
from combpace.core.fit.pipeline import owners_of, proved
from combpace.core.fit.time_map import TimeMap
from combpace.jobs.queue import enqueue
from combpace.jobs.registry import Progress, job
from combpace.media.decode import FileSource
from combpace.playback.rendering import rendered
from combpace.session import fits, needed
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Change, record, state_at
from combpace.session.document import parts as forms
from combpace.session.keys import render_key
from combpace.session.renders import KIND, render_of
from combpace.session.state import SessionState, session_state
from combpace.store import rows


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
    state = state_at(folder, session_id, version)
    made = fits.take_fit(state, take_id)
    now, note = state.opened.revision.version, None
    if not made.stated:
        parts = {f"rule:{made.take.id}": forms.rule_part(made.choice)}
        kept = record(state, version, Change(parts, fits.sentence(made.choice, made.take)))
        now, note = kept.version, f"The proposal is yours now: {kept.note}"
    together = [take.id for take in state.document.bundle_of(take_id)]
    args = {
        "session": session_id,
        "takes": together,
        "sounds": _sounds(state, together),
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
    together = [take.id for take in state.document.bundle_of(made.take.id)]
    pegs = [peg.take_s for peg in made.fit.pegs if peg.kind != "held"]
    whose = [together.index(mic) for mic in mics]
    return [together[k] for k in owners_of(pegs, marks, whose, together.index(made.take.id))]


@job("render")
def render_take(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: render each take of a bundle along one time map into a float file that is kept by its key. What is
    rendered is what was ordered, whatever is decided or listened to meanwhile.
    """
    time_map = TimeMap(np.array(args["source_s"]), np.array(args["target_s"]))
    levels: Levels = tuple((moment, level) for moment, level in args.get("levels", ()))
    sounds = args.get("sounds") or _sounds(session_state(folder, args["session"]), args["takes"])
    together = tuple(sounds["together"])
    made: list[str] = []
    # The timing take comes last: what is proved of the fit is kept with it, and each attack is measured in
    # the mic whose mark it is.
    renders: dict[str, tuple[Path, int]] = {}
    ordered = sorted(args["takes"], key=lambda take_id: take_id == args.get("timing"))
    for number, take_id in enumerate(ordered):
        row, sha = folder.take_row(take_id), sounds["each"][take_id]
        key = render_key(sha, time_map, args["method"], together, levels)
        known = render_of(folder, args["session"], key, whole=True)
        if known is not None:
            made.append(known.id)
            renders[take_id] = folder.blob(known.sha), int(json.loads(known.details)["first_frame"])
            continue

        def share(phase: str, done: float, number: int = number, name: str = row.name) -> None:
            tell(f"rendering {name}", (number + done) / len(args["takes"]))

        with_others = sha in together
        recipe = {name: args[name] for name in ("source_s", "target_s", "method")}
        recipe["levels"] = [list(one) for one in levels]
        recipe["files"] = list(together) if with_others else [sha]
        recipe["own"] = together.index(sha) if with_others else 0
        with tempfile.TemporaryDirectory(dir=folder.blobs.temporary, prefix="fitted-") as out:
            share("", 0.0)
            written = rendered(folder, recipe, Path(out), share)
            target = Path(out, written["written"])
            size = target.stat().st_size
            renders[take_id] = target, written["first_frame"]
            proved = (
                _proof(folder, renders, args, sounds["each"], time_map)
                if take_id == args.get("timing")
                else None
            )
            kept = folder.blobs.adopt(target)
            renders[take_id] = folder.blob(kept), written["first_frame"]
        details = {
            "take": take_id,
            **{name: written[name] for name in ("first_frame", "frames", "peak")},
            "rate": row.sample_rate_hz,
            "made_of": recipe,
        }
        if proved is not None:
            details["proof"] = proved
        file = {
            "session_id": args["session"],
            "kind": KIND,
            "key": key,
            "name": f"{row.name} fitted",
            "sha": kept,
            "bytes": size,
            "details": json.dumps(details),
        }
        made += rows.add_files(folder.database, [file], folder.job)
    needed.keep(folder, args["session"])
    return {"files": made}


def _sounds(state: SessionState, take_ids: Sequence[str]) -> dict[str, Any]:
    """The decoded sounds that a render is made of: of each take its own, and those that are stretched as one,
    in the bundle's order.
    """
    takes = [state.document.take(take_id) for take_id in take_ids]
    return {
        "each": {take_id: state.rows[take_id].decoded_sha or "" for take_id in take_ids},
        "together": list(fits.bundle_shas(takes, state.rows)),
    }


def _proof(
    folder: DataFolder,
    renders: Mapping[str, tuple[Path, int]],
    args: dict[str, Any],
    sounds: Mapping[str, str],
    time_map: TimeMap,
) -> list[list[float | None]]:
    """[onset of the timing take, where it was to be, ms off (null where none was found)] of every peg, found
    again in the render of its mic by how it sounded in what was rendered.
    """
    pegs = args.get("pegs") or []
    mics = args.get("mics") or [args["timing"]] * len(pegs)
    names = list(renders)
    with ExitStack() as stack:

        def render_in(take_id: str) -> tuple[FileSource, float]:
            path, first_frame = renders[take_id]
            source = stack.enter_context(FileSource(path))
            return source, first_frame / source.sample_rate_hz

        def played_in(take_id: str) -> FileSource:
            return stack.enter_context(FileSource(folder.blob(sounds[take_id])))

        found = proved(
            [(take_s, target) for take_s, target in pegs],
            [names.index(take_id) for take_id in mics],
            [partial(render_in, take_id) for take_id in names],
            [partial(played_in, take_id) for take_id in names],
            time_map,
        )
    return [
        [round(take_s, 6), round(target, 6), None if one.off_ms is None else round(one.off_ms, 2)]
        for (take_s, target), one in zip(pegs, found, strict=True)
    ]
