"""What the tests of this process heard already. A new data folder is given it as if it had heard it itself,
so that a sound which ten tests bring in is listened to once. Nothing heard is checked in: each process begins
empty.
"""

from __future__ import annotations

import atexit
import hashlib
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.audio import Source
from combpace.session import known
from combpace.session.data_folder import DataFolder
from combpace.session.take_names import guessed_kind
from combpace.stations.takes import importing
from combpace.stations.takes.hearing import stated

Progress = Callable[[str, float], None] | None
_BLOBS: list[Path] = []
_SOUNDS: dict[str, known.Sound] = {}
_HEARD: dict[tuple[str, str], str] = {}


def _key(sound: known.Sound, name: str) -> str:
    said = stated(sound.tagged_bpm, sound.padding, name)
    return known.analyses_key([sound.decoded_sha], guessed_kind(name) == "loop", [said])


def give(folder: DataFolder, source_sha: str, name: str) -> None:
    """Let a data folder know what was heard in these bytes under this name, if any test here heard them."""
    sound = _SOUNDS.get(source_sha)
    heard = _HEARD.get((source_sha, name))
    if sound is None or heard is None:
        return
    for sha in (sound.decoded_sha, sound.peaks_sha, heard):
        if not folder.blobs.has(sha):
            copy = folder.blobs.new_path()
            # A copy, for tests damage what they have.
            shutil.copyfile(_BLOBS[0] / sha, copy)
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
    if not _BLOBS:
        _BLOBS.append(Path(tempfile.mkdtemp()))
        atexit.register(shutil.rmtree, _BLOBS[0], ignore_errors=True)
    for sha in (sound.decoded_sha, sound.peaks_sha, heard[0]):
        if not (_BLOBS[0] / sha).exists():
            part = _BLOBS[0] / f"{sha}.{os.getpid()}"
            shutil.copyfile(folder.blobs.path(sha), part)
            part.rename(_BLOBS[0] / sha)
    _SOUNDS[row.source_sha] = sound
    _HEARD[row.source_sha, row.name] = heard[0]


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
