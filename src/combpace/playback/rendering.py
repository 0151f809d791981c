"""A whole take along its fit, written as a file and kept; and sounds that were damaged, made again as they
were.
"""

from __future__ import annotations

import hashlib
import json
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.errors import MediaError
from combpace.core.fit.accents import Accented, Levels
from combpace.core.fit.pipeline import owners_of, proved
from combpace.core.fit.time_map import TimeMap
from combpace.media.decode import FileSource
from combpace.media.encode import write_sound
from combpace.playback.sound import stretched
from combpace.session import fits, pieces, renders
from combpace.session.data_folder import DataFolder
from combpace.session.keys import render_key
from combpace.session.renders import keep_render, render_of
from combpace.session.state import SessionState, session_state
from combpace.workers import elsewhere
from combpace.workers.errand import Errand, Tell

FUNCTION = "combpace.playback.rendering:render"
_CHUNK = 1 << 20


def render(inputs: Path, outputs: Path, args: dict[str, Any], tell: Tell) -> dict[str, Any]:
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


def rendered(folder: DataFolder, recipe: dict[str, Any], out: Path, tell: Tell) -> dict[str, Any]:
    """Do that errand, here or on the scheduler. recipe: its arguments, with the hashes of the sounds as
    `files`. Raises MediaError where one of them is damaged.
    """
    sounds = [folder.checked_blob(sha) for sha in recipe["files"]]
    names = tuple(path.relative_to(folder.blobs.root).as_posix() for path in sounds)
    errand = Errand(FUNCTION, folder.blobs.root, out, names, {**recipe, "files": list(names)})
    made: dict[str, Any] = elsewhere.run(errand, tell, folder.settings.scheduler, "rendering")
    return made


def render_args(
    state: SessionState, made: fits.TakeFit, takes: Sequence[str] | None = None
) -> dict[str, Any]:
    """What `render_fit` is given to render a fit as it stands now.

    takes  of its bundle those that are rendered; without, all. What is proved is proved of all of them.
    """
    together = [take.id for take in state.document.bundle_of(made.take.id)]
    chosen = together if takes is None else [one for one in together if one in takes]
    whole = len(chosen) == len(together)
    return {
        "session": state.opened.row.id,
        "takes": chosen,
        "sounds": _sounds(state, together),
        "mics": _mics(state, made) if whole else [],
        "source_s": [float(value) for value in made.fit.time_map.source_s],
        "target_s": [float(value) for value in made.fit.time_map.target_s],
        "method": made.method,
        "levels": [list(one) for one in made.levels],
        "timing": made.take.id,
        "pegs": [[peg.take_s, peg.target_s] for peg in made.fit.pegs if peg.kind != "held"] if whole else [],
    }


def _mics(state: SessionState, made: fits.TakeFit) -> list[str]:
    """Of each peg that is measured the take whose mark it is; of one by hand beside no mark the timing
    take.
    """
    marks, mics = fits.marks_and_mics(state, made.take.id)
    together = [take.id for take in state.document.bundle_of(made.take.id)]
    pegs = [peg.take_s for peg in made.fit.pegs if peg.kind != "held"]
    whose = [together.index(mic) for mic in mics]
    return [together[k] for k in owners_of(pegs, marks, whose, together.index(made.take.id))]


def render_fit(folder: DataFolder, args: dict[str, Any], tell: Callable[[str, float], None]) -> list[str]:
    """Render each take of a bundle along one time map into a float file that is kept by its key; what is
    there already is taken as it is. Returns the ids of their files.
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
        made.append(keep_render(folder, args["session"], key, f"{row.name} fitted", kept, size, details))
    return made


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


def whole_pieces(seen: SessionState, take_id: str, tell: Callable[[str, float], None]) -> None:
    """See to it that every sound of a take in pieces is there, byte for byte: the render that they are cut
    from, and sounds of their own, are made again where they are damaged. Raises MediaError, naming what
    cannot be.
    """
    made, name, folder = seen.document.pieces[take_id], seen.document.take(take_id).name, seen.folder
    if not folder.is_whole(made.sha) and made.first_frame is not None:
        recipe = renders.made_of(folder, seen.opened.row.id, made.sha)
        if recipe is None or not _same_again(
            folder, made.sha, lambda out: rendered(folder, recipe, out, tell)["written"]
        ):
            raise MediaError(
                f"The render that the pieces of {name} are cut from is damaged, and does not come out the "
                "same again. Nothing was written; drop its pieces, render it in Fit, and cut it again."
            )
    folder.checked_blob(made.sha, f"The sound of {name} is damaged. Nothing was written; listen to it again.")
    for sha in {one.own for one in made.pieces if one.own is not None}:
        if folder.is_whole(sha):
            continue
        spans = {(one.start, one.stop) for one in made.pieces if one.own == sha}
        if not any(_same_again(folder, sha, partial(_cut, seen, take_id, span)) for span in spans):
            raise MediaError(
                f"The own sound of a piece of {name} is damaged, and does not come out the same again. "
                "Nothing was written; remove that piece, or undo until before it had its own."
            )


def _cut(seen: SessionState, take_id: str, span: tuple[int, int], out: Path) -> str:
    """Frames of the sound that is cut, as a piece of its own has them; the file's name."""
    with pieces.base(seen, take_id) as source:
        write_sound(source, out / "own.wav", "wav32f", start=span[0], stop=min(span[1], source.frames))
    return "own.wav"


def _same_again(folder: DataFolder, sha: str, make: Callable[[Path], str]) -> bool:
    """Make a file again; it takes the place of the damaged one where it comes out byte for byte the same."""
    with tempfile.TemporaryDirectory(dir=folder.blobs.temporary, prefix="again-") as out:
        path = Path(out, make(Path(out)))
        digest = hashlib.sha256()
        with path.open("rb") as data:
            while chunk := data.read(_CHUNK):
                digest.update(chunk)
        if digest.hexdigest() != sha:
            return False
        folder.blobs.adopt(path)
        return True


__all__ = ["render", "render_args", "render_fit", "rendered", "whole_pieces"]
