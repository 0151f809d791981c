"""What the tests of this run heard already. A new data folder is given it as if it had heard it itself, so
that a sound which ten tests bring in is listened to once. Nothing heard is checked in: each run begins empty.
"""

from __future__ import annotations

import atexit
import hashlib
import os
import pickle
import shutil
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.audio import Source
from combpace.session import keys, known
from combpace.session.data_folder import DataFolder
from combpace.session.take_names import guessed_kind
from combpace.stations.takes import importing
from combpace.stations.takes.hearing import stated
from rig import HEARD_TOGETHER

Progress = Callable[[str, float], None] | None
_PLACE: list[Path] = []


def _place() -> Path:
    """The folder of what was heard: blobs by their hashes, and what they are of."""
    if not _PLACE:
        together = os.environ.get(HEARD_TOGETHER)
        _PLACE.append(Path(together or tempfile.mkdtemp()))
        if not together:
            atexit.register(shutil.rmtree, _PLACE[0], ignore_errors=True)
    return _PLACE[0]


def _named(source_sha: str, name: str) -> Path:
    """The file that says what was heard in some bytes under a name: what is stated there counts, too."""
    return _place() / f"{hashlib.sha256(f'{source_sha} {name}'.encode()).hexdigest()}.heard"


def _keep(path: Path, write: Callable[[Path], object]) -> None:
    """Write a file whole or not at all: another process may read it."""
    part = path.with_name(f"{path.name}.{os.getpid()}")
    write(part)
    part.rename(path)


def _key(sound: known.Sound, name: str) -> str:
    said = stated(sound.tagged_bpm, sound.padding, name)
    return keys.analyses_key([sound.decoded_sha], guessed_kind(name) == "loop", [said])


def give(folder: DataFolder, source_sha: str, name: str) -> None:
    """Let a data folder know what was heard in these bytes under this name, if any test here heard them."""
    try:
        sound, heard = pickle.loads(_named(source_sha, name).read_bytes())
    except FileNotFoundError:
        return
    for sha in (sound.decoded_sha, sound.peaks_sha, heard):
        if not folder.blobs.has(sha):
            copy = folder.blobs.new_path()
            # A copy, for tests damage what they have.
            shutil.copyfile(_place() / sha, copy)
            folder.blobs.adopt(copy)
    known.keep_sound(folder, source_sha, sound)
    known.keep_analyses(folder, _key(sound, name), [sound.decoded_sha], [heard])


def imported(folder: DataFolder, take_id: str) -> None:
    """Read and listen to a take that waits for it, here and now, and remember what was heard."""
    row = folder.take_row(take_id)
    if row.state != "ready":
        importing.import_take(folder, {"take": take_id}, lambda phase, share: None)
    sound = known.sound_of(folder, row.source_sha)
    heard = known.analyses_of(folder, _key(sound, row.name)) if sound is not None else None
    if sound is None or heard is None:
        return
    for sha in (sound.decoded_sha, sound.peaks_sha, heard[0]):
        if not (_place() / sha).exists():
            _keep(_place() / sha, partial(shutil.copyfile, folder.blobs.path(sha)))
    content = pickle.dumps((sound, heard[0]))
    _keep(_named(row.source_sha, row.name), lambda part: part.write_bytes(content))


_LISTENED: dict[str, Analysis] = {}


def analyse_once(
    source: Source, hints: Hints | None = None, *more: Any, on_progress: Progress = None
) -> Analysis:
    """`core.analysis.take.analyse`, once a process for the same sound and hints: commands have no data folder
    that would know it. It stands in their place in tests that are about something else.
    """
    samples = source.read(0, source.frames)
    digest = hashlib.sha256(samples.tobytes())
    digest.update(repr((source.sample_rate_hz, source.channels, hints, more)).encode())
    key = digest.hexdigest()
    if key not in _LISTENED:
        _LISTENED[key] = analyse(source, hints, *more, on_progress=on_progress)
    return _LISTENED[key]
