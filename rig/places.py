"""A data folder for one test, with takes that are read here and now."""

from __future__ import annotations

import atexit
import hashlib
import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.demo.performances import breathing_beats
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.session.state import SessionState, session_state
from combpace.settings import Settings
from combpace.stations import registry
from combpace.stations.station import Place
from combpace.stations.takes import importing
from combpace.store.history import Revision
from rig import heard
from rig.sounds import struck


def breathing(bars: int = 8, start: float = 1.0, rate: int = 44100) -> tuple[np.ndarray, Audio]:
    """(beats, sound): struck beats that breathe, a deep one on each downbeat."""
    beats = breathing_beats(np.random.default_rng(4), bars, start)
    return beats, struck(beats, float(beats[-1]) + 1.0, rate=rate, low_every=4)


def bring_in(folder: DataFolder, session_id: str, audio: Audio, name: str, keep: bool = True) -> str:
    """Import a sound through the same doors as an upload, without a worker; an arrival is kept at once, heard
    once. What a test of this process heard before is not listened to again.
    """
    path = folder.blobs.new_path(".wav")
    sf.write(path, audio.samples.T, audio.sample_rate_hz, subtype="PCM_24")
    heard.give(folder, hashlib.sha256(path.read_bytes()).hexdigest(), name)
    take_id = importing.add_upload(folder, session_id, path, name)
    heard.imported(folder, take_id)
    if keep and any(one.id == take_id for one in session_state(folder, session_id).document.arrivals):
        for decided, args in (("arrival-keep", {}), ("take", {"field": "times", "value": "1"})):
            decide(
                folder,
                session_id,
                decided,
                folder.open(session_id).revision.version,
                {"take": take_id, **args},
            )
    return take_id


_MADE: list[tuple[Path, str, str]] = []


def made_once() -> tuple[Path, str, str]:
    """(a data folder, its session, its lead), read and heard once in this process: tests work on copies."""
    if not _MADE:
        folder = Path(tempfile.mkdtemp())
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        place = DataFolder(replace(Settings(), data_dir=folder / "data"))
        place.prepare()
        session = shelf.create(place, "Copper night")
        lead = bring_in(place, session, breathing()[1], "tub kit.wav")
        place.close()
        _MADE.append((folder / "data", session, lead))
    return _MADE[0]


class PlaceTest(unittest.TestCase):
    """A workplace with one session and one breathing lead."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        made, self.session, self.lead = made_once()
        shutil.copytree(made, self.folder / "data")
        self.place = DataFolder(replace(Settings(), data_dir=self.folder / "data"))
        self.place.prepare()
        self.addCleanup(self.place.close)
        self.beats = breathing_beats(np.random.default_rng(4), 8, 1.0)

    def act(self, name: str, /, **args: object) -> Revision:
        """Take a decision on what the session is now, as a page does."""
        return decide(self.place, self.session, name, self.version, args)

    def seen(self) -> SessionState:
        return session_state(self.place, self.session)

    @property
    def version(self) -> int:
        return self.seen().opened.revision.version

    def line(self, bar_index: int) -> float:
        line = self.seen().need_map()
        return line.second(line.bar_line(bar_index))


def look(state: SessionState, station: str, focus: str | None = None) -> list[Place]:
    """What a station lists, worst first."""
    here = registry.station(station)
    return registry.places(state, here, registry.focus_of(state, focus, here))
