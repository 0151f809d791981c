"""A data folder for one test, with takes that are read here and now."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.demo.performances import breathing_beats
from combpace.services import sessions, takes
from combpace.services.workplace import SessionState, Workplace, session_state
from combpace.settings import Settings
from tests.support.sounds import struck


def breathing(bars: int = 8, start: float = 1.0, rate: int = 44100) -> tuple[np.ndarray, Audio]:
    """(beats, sound): struck beats that breathe, a deep one on each downbeat."""
    beats = breathing_beats(np.random.default_rng(4), bars, start)
    return beats, struck(beats, float(beats[-1]) + 1.0, rate=rate, low_every=4)


def bring_in(workplace: Workplace, session_id: str, audio: Audio, name: str) -> str:
    """Import a sound through the same doors as an upload, without a worker."""
    path = workplace.blobs.new_path(".wav")
    sf.write(path, audio.samples.T, audio.sample_rate_hz, subtype="PCM_24")
    take_id = takes.add_upload(workplace, session_id, path, name)
    takes.import_take(workplace, {"take": take_id}, lambda phase, share: None)
    return take_id


class PlaceTest(unittest.TestCase):
    """A workplace with one session and one breathing lead."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.place = Workplace(replace(Settings(), data_dir=self.folder / "data"))
        self.place.prepare()
        self.addCleanup(self.place.close)
        self.session = sessions.create(self.place, "Copper night")
        self.beats, audio = breathing()
        self.lead = bring_in(self.place, self.session, audio, "tub kit.wav")

    def seen(self) -> SessionState:
        return session_state(self.place, self.session)

    @property
    def version(self) -> int:
        return self.seen().opened.revision.version

    def line(self, bar_index: int) -> float:
        line = self.seen().need_map()
        return line.second(line.bar_line(bar_index))
