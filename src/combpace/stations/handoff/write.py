"""Hand-off: audio of equal length that starts together, with what lies beside it, written by a job. The same
order writes the same bytes.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import session_times
from combpace.core.fit.pauses import parse_pauses
from combpace.core.fit.time_map import TimeMap
from combpace.jobs.registry import Progress, job
from combpace.media.cues import add_points
from combpace.media.decode import FileSource
from combpace.media.encode import FORMATS, Written, at_rate, finish_sound, needed_gain, write_rough
from combpace.media.mapfiles import map_document
from combpace.media.zips import write_zip
from combpace.playback.mixing import Mixed, Strip, Together
from combpace.playback.rendering import render_args, render_fit, whole_pieces
from combpace.playback.sound import Placed, sounding
from combpace.session import fits, needed, notes, pieces, words
from combpace.session.data_folder import DataFolder
from combpace.session.keys import render_key
from combpace.session.renders import render_of
from combpace.session.sounding import Sounding
from combpace.session.state import SessionState
from combpace.stations.handoff.ordering import (
    Names,
    Span,
    Wish,
    as_ordered,
    bar_frames,
    extras_of,
    span_of,
    stem_of,
)
from combpace.stations.handoff.writers import WRITERS, Contents
from combpace.store import rows
from combpace.store.models import FileRow, new_id


@dataclass(frozen=True, slots=True)
class Made:
    """One file that was written: where it lies, its name, what it is, facts to keep with it."""

    path: Path
    name: str
    kind: str
    details: dict[str, Any]


@job("handoff")
def write_handoff(folder: DataFolder, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: write all files of an order, and one zip of them."""
    with written(folder, args, tell) as files:
        order = new_id()
        kept = {"order": order, "version": args.get("version"), "revision": args["revision"]}
        # All of them or none: one that was cancelled leaves no part of itself.
        found = [_adopted(folder, args["session"], file, kept) for file in files]
        made = rows.add_files(folder.database, found, folder.job)
    if any(plan["fit"] for plan in args["takes"]):
        # What was rendered for it is there for the next order, and for the steps that need it.
        needed.keep(folder, args["session"])
    return {"files": made}


@contextmanager
def written(folder: DataFolder, args: dict[str, Any], tell: Progress) -> Iterator[list[Made]]:
    """All files of an order, the zip last; they are gone after use, but for those that were taken away."""
    seen, wish = as_ordered(folder, args), Wish.model_validate(args["wish"])
    span = span_of(seen, wish, args["takes"])
    names, files = Names(stem_of(seen, wish), wish.kind), list[Made]()
    try:
        files += _sounds(folder, seen, wish, args, span, names, tell)
        tell("writing what lies beside", 0.95)
        files += _beside(folder, seen, wish, span, names, tell)
        tell("packing", 0.97)
        archive = Made(
            folder.blobs.new_path(".zip"),
            names.beside("", ".zip"),
            "archive",
            {"files": len(files), "takes": wish.takes},
        )
        write_zip(archive.path, [(file.path, file.name) for file in files])
        files.append(archive)
        yield files
    finally:
        for file in files:
            file.path.unlink(missing_ok=True)


def _rough(
    folder: DataFolder,
    seen: SessionState,
    wish: Wish,
    args: dict[str, Any],
    span: Span,
    stack: ExitStack,
    number: int,
    tell: Progress,
) -> tuple[dict[str, Any], Path, Written]:
    """A take of an order in float, before anything is lowered; its file goes when `stack` is left."""
    plan, start = args["takes"][number], round(span.start_s * span.sample_rate_hz)
    path = folder.blobs.new_path(".float")
    stack.callback(path.unlink, missing_ok=True)

    def share(done: float) -> None:
        tell(f"rendering {plan['name']}", 0.8 * (number + done) / len(args["takes"]))

    def rendering(phase: str, done: float) -> None:
        share(0.9 * done)

    share(0.0)
    pauses = parse_pauses(wish.silence) if "attacks_s" in plan and wish.silence is not None else None
    with _sounding(folder, seen, plan, args, rendering) as source:
        at = at_rate(source, span.sample_rate_hz)
        if wish.levels == "as mixed":
            at = Mixed(at, Strip(*plan["strip"]))
        stop, attacks = start + span.frames, plan.get("attacks_s", ())
        return plan, path, write_rough(at, path, wish.kind, start, stop, pauses, attacks, share)


def _sounds(
    folder: DataFolder,
    seen: SessionState,
    wish: Wish,
    args: dict[str, Any],
    span: Span,
    names: Names,
    tell: Progress,
) -> Iterator[Made]:
    """Takes and the mix. Each is rendered first, so that in integer formats all are lowered by the same where
    one would go over full scale.
    """
    if not args["takes"]:
        return
    suffix = FORMATS[wish.kind][2]
    with ExitStack() as stack:
        rough = [_rough(folder, seen, wish, args, span, stack, k, tell) for k in range(len(args["takes"]))]
        sounds: list[tuple[Path, str, Written, list[str]]] = []
        mix = _mixed(folder, stack, wish, rough, args["mixed"], span) if wish.written != "files" else None
        if wish.written != "mix":
            for plan, path, made in rough:
                said = [f"{words.count(len(made.pauses), 'pause')} silenced"] if made.pauses else []
                sounds.append((path, names.of_take(plan), made, said))
        if mix is not None:
            sounds.append((mix[0], names.of_mix(), mix[1], []))
        gain = min(needed_gain(made.peak, wish.kind) for _, _, made, _ in sounds)
        points = bar_frames(seen, span) if wish.markers and suffix == ".wav" else []
        for number, (path, name, made, said) in enumerate(sounds):
            tell(f"writing {name}", 0.8 + 0.15 * number / len(sounds))
            target = folder.blobs.new_path(suffix)
            finish_sound(path, target, wish.kind, gain)
            if points:
                add_points(target, points, None, span.sample_rate_hz)
            note = "; ".join([*_levels_said(gain, made.peak, len(sounds)), *said])
            yield Made(
                target, name, "audio", {"frames": span.frames, "rate": span.sample_rate_hz, "note": note}
            )


def _levels_said(gain: float, peak: float, count: int) -> list[str]:
    if gain < 10 ** (-0.05 / 20):
        who = "all lowered together" if count > 1 else "lowered"
        return [f"{who} by {-20 * np.log10(gain):.1f} dB, {'one' if count > 1 else 'it'} would have clipped"]
    return [f"peaks {20 * np.log10(peak):.1f} dB over full scale, kept in float"] if peak > 1.0 else []


def _mixed(
    folder: DataFolder,
    stack: ExitStack,
    wish: Wish,
    rough: list[tuple[dict[str, Any], Path, Written]],
    heard: list[str],
    span: Span,
) -> tuple[Path, Written]:
    """The sum of what was rendered, through the levels of the player."""
    sources: list[Source] = []
    for plan, path, _ in rough:
        if plan["take"] in heard:
            source: Source = stack.enter_context(FileSource(path))
            sources.append(source if wish.levels == "as mixed" else Mixed(source, Strip(*plan["strip"])))
    target = folder.blobs.new_path(".float")
    stack.callback(target.unlink, missing_ok=True)
    return target, write_rough(Together(sources, span.sample_rate_hz), target, wish.kind, 0, span.frames)


def _beside(
    folder: DataFolder, seen: SessionState, wish: Wish, span: Span, names: Names, tell: Progress
) -> Iterator[Made]:
    """Everything beside the audio, counted from the moment at which the files start."""
    line, lead = seen.need_map(), seen.document.lead
    moved = replace(
        line, knots=tuple(replace(knot, time_s=knot.time_s - span.start_s) for knot in line.knots)
    )
    attacks = (
        session_times(np.asarray(seen.onsets(lead.id).times) + lead.offset_s - span.start_s)
        if lead
        else session_times([])
    )
    document = {
        "version": 1,
        "session": seen.opened.row.name,
        "start": wish.start,
        "start_session_s": span.start_s,
        "duration_s": span.length_s,
    }
    document |= map_document(moved, 0.0, span.length_s, attacks)
    parts = [
        (
            part.name,
            [
                replace(note, start_s=note.start_s - span.start_s, end_s=note.end_s - span.start_s)
                for note in notes.heard(seen, part.id)
            ],
        )
        for part in seen.document.notes
    ]
    cut = [take.id for take in seen.document.takes if pieces.in_pieces(seen, take.id)]
    if "pieces" in wish.extras:
        for take_id in cut:
            whole_pieces(seen, take_id, tell)
    contents = Contents(
        moved,
        document,
        span.length_s,
        span.frames,
        span.sample_rate_hz,
        wish.kind,
        parts,
        seen,
        wish.markers,
        cut,
    )
    for name in extras_of(seen, wish):
        one = WRITERS[name]
        path = folder.blobs.new_path(one.ending(wish.kind))
        yield Made(path, names.beside(one.title, one.ending(wish.kind)), one.kind, one.write(contents, path))


def _adopted(folder: DataFolder, session_id: str, file: Made, order: dict[str, Any]) -> dict[str, Any]:
    """The row of a file that was written, with its bytes kept."""
    size = file.path.stat().st_size
    sha = folder.blobs.adopt(file.path)
    return {
        "session_id": session_id,
        "kind": f"handoff {file.kind}",
        "key": sha,
        "name": file.name,
        "sha": sha,
        "bytes": size,
        "details": json.dumps(file.details | order),
    }


@contextmanager
def _sounding(
    folder: DataFolder,
    seen: SessionState,
    plan: dict[str, Any],
    args: dict[str, Any],
    tell: Progress,
) -> Iterator[Source]:
    """A take on the session's clock at its own rate; a render that exists already is used. Every sound that
    it is made of is looked at byte for byte. Raises MediaError where one is damaged and cannot be made again.
    """
    take_id = plan["take"]
    if plan.get("part"):
        yield notes.source_of(seen, take_id)
        return
    sha = seen.rows[take_id].decoded_sha or ""
    if plan.get("pieces"):
        whole_pieces(seen, take_id, tell)
        with pieces.opened(seen, take_id) as made_of_pieces:
            yield made_of_pieces
        return
    if plan["fit"] is not None:
        render = _render(folder, seen, plan, args, tell)
        with FileSource(folder.blob(render.sha)) as source:
            yield Placed(source, json.loads(render.details)["first_frame"])
        return
    with FileSource(folder.checked_blob(sha, _damaged(plan["name"]))) as source:
        yield sounding(source, Sounding(plan["offset_s"]), source.sample_rate_hz)


def _render(
    folder: DataFolder,
    seen: SessionState,
    plan: dict[str, Any],
    order: dict[str, Any],
    tell: Progress,
) -> FileRow:
    """The render of a take as it was ordered: the one that is kept, or one that is made, proved and kept
    now, so that the next order finds it.

    order  its takes of the same bundle are rendered with this one
    """
    take_id, made, session_id = plan["take"], plan["fit"], order["session"]
    shas = fits.bundle_shas(seen.document.bundle_of(take_id), seen.rows)
    line = TimeMap(np.array(made["source_s"]), np.array(made["target_s"]))
    levels = tuple((moment, level) for moment, level in made.get("levels", ()))
    key = render_key(seen.rows[take_id].decoded_sha or "", line, made["method"], shas, levels)
    known = render_of(folder, session_id, key, whole=True)
    if known is not None:
        return known
    for sound in shas or (seen.rows[take_id].decoded_sha or "",):
        folder.checked_blob(sound, _damaged(plan["name"]))
    args = render_args(seen, fits.take_fit(seen, take_id), [one["take"] for one in order["takes"]])
    pinned = {name: made[name] for name in ("source_s", "target_s", "method")}
    render_fit(folder, {**args, **pinned, "levels": made.get("levels", [])}, tell)
    found = render_of(folder, session_id, key, whole=True)
    assert found is not None
    return found


def _damaged(name: str) -> str:
    return f"The sound of {name}, or of a mic beside it, is damaged. Nothing was written; listen to it again."


def files_of(folder: DataFolder, session_id: str) -> list[FileRow]:
    """Everything that was handed off from a session, newest first."""
    return rows.files_like(folder.database, session_id, "handoff %")
