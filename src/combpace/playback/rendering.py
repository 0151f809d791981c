"""A whole take along its fit, written as a file; and sounds that were damaged, made again as they were."""

from __future__ import annotations

import hashlib
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.errors import MediaError
from combpace.core.fit.accents import Accented, Levels
from combpace.core.fit.time_map import TimeMap
from combpace.media.decode import FileSource
from combpace.media.encode import write_sound
from combpace.playback.sound import stretched
from combpace.session import pieces, renders
from combpace.session.data_folder import DataFolder
from combpace.session.state import SessionState
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


__all__ = ["render", "rendered", "whole_pieces"]
